package cli

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"time"
)

// onceID is where the identity of what is asked for stands in a context.
type onceID struct{}

// once gives what is asked for an identity, so that it is done once though a connection drops and it is asked again.
func once(ctx context.Context) context.Context { return context.WithValue(ctx, onceID{}, rand.Text()) }

// errDropped says that nobody knows whether what was asked for was done.
var errDropped = errors.New(
	"the connection dropped, and it is not known whether it was done: look before you ask again")

// asker sends requests; one that has an identity it sends again where the connection drops, or it is being done.
type asker struct {
	base http.RoundTripper
	say  func(format string, args ...any)
}

// onceWaits is how long is waited before each time that a request is sent again.
var onceWaits = []time.Duration{time.Second, 2 * time.Second, 4 * time.Second, 8 * time.Second}

func (a *asker) RoundTrip(r *http.Request) (*http.Response, error) {
	id, _ := r.Context().Value(onceID{}).(string)
	if id == "" {
		return a.base.RoundTrip(r)
	}
	dropped, why := false, ""
	for _, wait := range append([]time.Duration{0}, onceWaits...) {
		if wait > 0 {
			a.say("%s; asking again in %s…\n", why, wait)
			select {
			case <-r.Context().Done():
				return nil, errDropped
			case <-time.After(wait):
			}
		}
		again, err := withBody(r, id)
		if err != nil {
			return nil, err
		}
		resp, err := a.base.RoundTrip(again)
		switch {
		case err == nil && !underWay(resp):
			return resp, nil
		case err == nil:
			why = "It is being done"
			continue
		case !dropped && neverSent(err), r.Context().Err() != nil && !dropped:
			return nil, err
		}
		dropped, why = true, "The connection dropped"
	}
	return nil, errDropped
}

// withBody is a request that can be sent, whatever was sent of it before.
func withBody(r *http.Request, id string) (*http.Request, error) {
	again := r.Clone(r.Context())
	again.Header.Set("Idempotency-Key", id)
	if r.GetBody == nil {
		return again, nil
	}
	var err error
	if again.Body, err = r.GetBody(); err != nil {
		return nil, fmt.Errorf("send it again: %w", err)
	}
	return again, nil
}

// neverSent reports whether a request did not reach anybody.
func neverSent(err error) bool {
	var op *net.OpError
	return errors.As(err, &op) && op.Op == "dial"
}

// underWay reports whether an answer says that the same is being done. The answer can still be read.
func underWay(r *http.Response) bool {
	if r.StatusCode != http.StatusConflict {
		return false
	}
	b, err := io.ReadAll(io.LimitReader(r.Body, 64<<10))
	r.Body.Close() //nolint:errcheck // it was read
	r.Body = io.NopCloser(bytes.NewReader(b))
	return err == nil && bytes.Contains(b, []byte(`"under-way"`))
}
