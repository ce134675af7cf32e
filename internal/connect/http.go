package connect

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"
	"sync/atomic"
	"time"

	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"

	"urgentis/core/message"
)

const (
	// maxAnswer bounds how much of an answer is read, callTime how long a call takes.
	maxAnswer = 256 << 10
	callTime  = 10 * time.Second
)

// overHTTP posts a message to a room, to a sender of text messages or to a program.
func overHTTP(ctx context.Context, o *Outbox, c *message.Connection, m *message.Message) (string, error) {
	names, err := c.NamesFor(m)
	if err != nil {
		return "", errors.Join(errForGood, err)
	}
	call, err := c.Send.Render(names, names["message"])
	if err != nil {
		return "", errors.Join(errForGood, err)
	}
	if c.Kind == message.Webhook {
		if err := o.sign(ctx, c, m, call); err != nil {
			return "", err
		}
	}
	a, err := o.do(ctx, c.Name, call, m.Key)
	if err != nil {
		return "", err
	}
	return fmt.Sprintf("answered %d", a.Status), nil
}

// sign signs a call as https://www.standardwebhooks.com says.
func (o *Outbox) sign(ctx context.Context, c *message.Connection, m *message.Message, call *message.Call) error {
	key, err := o.filled(ctx, c.Sign)
	if err != nil {
		return fmt.Errorf("%s: open what it is signed with: %w", c.Name, err)
	}
	hook, err := standardwebhooks.NewWebhook(key)
	if err != nil {
		return fmt.Errorf("%s: its signing secret cannot be used; it is whsec_ and base64", c.Name)
	}
	at := o.store.Clock.Now()
	signature, err := hook.Sign(m.Key, at, []byte(call.Body))
	if err != nil {
		return fmt.Errorf("%s: sign: %w", c.Name, err)
	}
	call.Headers[standardwebhooks.HeaderWebhookID] = m.Key
	call.Headers[standardwebhooks.HeaderWebhookTimestamp] = fmt.Sprint(at.Unix())
	call.Headers[standardwebhooks.HeaderWebhookSignature] = signature
	return nil
}

// answered is what the other side said to a call.
type answered struct {
	Status     int
	Said, Body string // Said is the status with its words
	// Cut says that the answer broke off: its status holds, what it said is not all there.
	Cut bool
}

// good reports whether the other side took a call.
func (a answered) good() bool { return a.Status >= 200 && a.Status <= 299 }

// errUnsure says that a call may have arrived: it left, and nothing that settles it came back.
var errUnsure = errors.New("whether it arrived is not known")

// unsure reports whether a status leaves open what became of a call: a gateway answers so in the place of the one that
// it asked (RFC 9110, 15.6.3 and 15.6.5).
func unsure(status int) bool {
	return status == http.StatusBadGateway || status == http.StatusGatewayTimeout
}

// call makes a call, at most once, with a key by which the other side may know one that comes twice. name is what the
// address is called where it must not be said. Whatever status comes back is an answer. Where none comes, the error is
// errUnsure unless it is certain that nothing left.
func (o *Outbox) call(ctx context.Context, name string, call *message.Call, key string) (answered, error) {
	req, err := o.request(ctx, call)
	if err != nil {
		return answered{}, fmt.Errorf("%s: %w", name, err)
	}
	req.Header.Set("Idempotency-Key", key)
	ctx, cancel := context.WithTimeout(ctx, callTime)
	defer cancel()
	client, sent := o.client, &atomic.Bool{}
	if req.Method != http.MethodGet && req.Method != http.MethodHead {
		client, sent = o.allowed.Once(nil)
		defer client.CloseIdleConnections()
	}
	res, err := client.Do(req.WithContext(ctx))
	if err != nil {
		if err = withoutAddress(err); sent.Load() {
			err = fmt.Errorf("%w: %w", errUnsure, err)
		}
		return answered{}, fmt.Errorf("%s: %w", name, err)
	}
	defer res.Body.Close()
	body, err := io.ReadAll(io.LimitReader(res.Body, maxAnswer))
	return answered{Status: res.StatusCode, Said: res.Status, Body: string(body), Cut: err != nil}, nil
}

// do makes a call, of whose answer only that it was taken matters: one that is no 2xx is an error.
func (o *Outbox) do(ctx context.Context, name string, call *message.Call, key string) (answered, error) {
	a, err := o.call(ctx, name, call, key)
	if err != nil || a.good() {
		return a, err
	}
	if err = fmt.Errorf("%s answered %s", name, a.Said); unsure(a.Status) {
		err = fmt.Errorf("%w: %w", errUnsure, err)
	}
	return a, err
}

var errAddress = errors.New("its address cannot be used")

func (o *Outbox) request(ctx context.Context, call *message.Call) (*http.Request, error) {
	address := call.URL
	if call.Secret != "" {
		var err error
		if address, err = o.secrets.Value(ctx, call.Secret); err != nil {
			return nil, fmt.Errorf("open its address: %w", err)
		}
	}
	req, err := http.NewRequestWithContext(ctx, call.Method, address, strings.NewReader(call.Body))
	if err != nil {
		return nil, errAddress
	}
	if call.ContentType != "" {
		req.Header.Set("Content-Type", call.ContentType)
	}
	for k, v := range call.Headers {
		if v, err = o.fill(ctx, v); err != nil {
			return nil, fmt.Errorf("open its header %s: %w", k, err)
		}
		req.Header.Set(k, v)
	}
	return req, nil
}
