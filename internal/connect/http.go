package connect

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"
	"time"

	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"

	"urgentis/core/message"
)

// maxAnswer bounds how much of an answer is read.
const maxAnswer = 256 << 10

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
	status, _, err := o.do(ctx, c.Name, call, m.Key)
	if err != nil {
		return "", err
	}
	return fmt.Sprintf("answered %d", status), nil
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
	at := time.Now()
	signature, err := hook.Sign(m.Key, at, []byte(call.Body))
	if err != nil {
		return fmt.Errorf("%s: sign: %w", c.Name, err)
	}
	call.Headers[standardwebhooks.HeaderWebhookID] = m.Key
	call.Headers[standardwebhooks.HeaderWebhookTimestamp] = fmt.Sprint(at.Unix())
	call.Headers[standardwebhooks.HeaderWebhookSignature] = signature
	return nil
}

// do makes a call, with a key by which the other side may know one that comes twice. name is what the address is
// called where it must not be said. An answer that is no 2xx is an error, and given all the same.
func (o *Outbox) do(ctx context.Context, name string, call *message.Call, key string) (int, string, error) {
	req, err := o.request(ctx, call)
	if err != nil {
		return 0, "", fmt.Errorf("%s: %w", name, err)
	}
	req.Header.Set("Idempotency-Key", key)
	res, err := o.client.Do(req)
	if err != nil {
		return 0, "", fmt.Errorf("%s: %w", name, withoutAddress(err))
	}
	defer res.Body.Close()
	body, err := io.ReadAll(io.LimitReader(res.Body, maxAnswer))
	if err != nil {
		return res.StatusCode, "", fmt.Errorf("%s: its answer broke off: %w", name, err)
	}
	if res.StatusCode < 200 || res.StatusCode > 299 {
		return res.StatusCode, string(body), fmt.Errorf("%s answered %s", name, res.Status)
	}
	return res.StatusCode, string(body), nil
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
