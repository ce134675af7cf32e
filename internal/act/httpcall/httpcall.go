// Package httpcall makes HTTP calls, only to addresses that the administrator allowed.
package httpcall

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"strings"
	"syscall"
	"time"

	"urgentis/core/flow"
	"urgentis/internal/act"
)

// Allowed lists the networks that calls may go to. The address is compared after the name was looked
// up, when the connection is made, so that a name cannot point elsewhere in between.
type Allowed []netip.Prefix

// ParseAllowed reads networks such as 10.1.0.0/16, or single addresses.
func ParseAllowed(list []string) (Allowed, error) {
	var out Allowed
	for _, s := range list {
		p, err := netip.ParsePrefix(s)
		if err != nil {
			a, err := netip.ParseAddr(s)
			if err != nil {
				return nil, fmt.Errorf("%q is no network such as 10.1.0.0/16 and no address", s)
			}
			p = netip.PrefixFrom(a, a.BitLen())
		}
		out = append(out, p.Masked())
	}
	return out, nil
}

var errNotAllowed = errors.New("the address is not allowed")

func (a Allowed) control(_, address string, _ syscall.RawConn) error {
	ap, err := netip.ParseAddrPort(address)
	if err != nil {
		return err
	}
	for _, p := range a {
		if p.Contains(ap.Addr().Unmap()) {
			return nil
		}
	}
	return fmt.Errorf("%w: %s; the administrator can allow it with --allow-net", errNotAllowed, ap.Addr())
}

// Client makes an HTTP client that reaches only allowed addresses, follows no redirects and uses no proxy.
func (a Allowed) Client(timeout time.Duration) *http.Client {
	d := &net.Dialer{Timeout: 10 * time.Second, Control: a.control}
	return &http.Client{Timeout: timeout, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
		Transport: &http.Transport{DialContext: d.DialContext, TLSHandshakeTimeout: 10 * time.Second, MaxResponseHeaderBytes: 64 << 10, IdleConnTimeout: 30 * time.Second}}
}

// Hand makes HTTP calls.
type Hand struct{ client *http.Client }

// New makes a hand that reaches only these networks.
func New(a Allowed) *Hand { return &Hand{a.Client(0)} }

// Do implements act.Hand. The body of the answer is the output, the status its exit.
func (h *Hand) Do(ctx context.Context, job act.Job) act.Result {
	r := job.Request
	ctx, cancel := context.WithTimeout(ctx, time.Duration(r.Timeout)*time.Second)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, r.Method, r.URL, strings.NewReader(r.Body))
	if err != nil {
		return act.Failed("the call cannot be made: " + err.Error())
	}
	for k, v := range r.Headers {
		req.Header.Set(k, v)
	}
	if r.Body != "" && req.Header.Get("Content-Type") == "" {
		req.Header.Set("Content-Type", "application/json")
	}
	// RFC draft idempotency-key: servers that know it carry a change out once.
	req.Header.Set("Idempotency-Key", job.Attempt)
	res, err := h.client.Do(req)
	if err != nil {
		var op *net.OpError
		if errors.Is(err, errNotAllowed) || errors.As(err, &op) && op.Op == "dial" {
			return act.Failed(err.Error())
		}
		return act.Result{State: flow.Unknown, Error: err.Error()}
	}
	defer res.Body.Close()
	out, _ := act.Streams(job)
	_, err = io.Copy(out, io.LimitReader(res.Body, 4*act.KeptOutput))
	result := ended(res.StatusCode, r.Accept)
	result.Stdout = out.Taken()
	if err != nil {
		result.State, result.Error = flow.Unknown, "the answer broke off: "+err.Error()
	}
	return result
}

func ended(status int, accept []int) act.Result {
	if len(accept) > 0 {
		return act.Ended(status, accept)
	}
	r := act.Result{State: flow.OK, Exit: &status}
	if status < 200 || status > 299 {
		r.State = flow.Failed
	}
	return r
}
