package connect

import (
	"context"
	"errors"
	"fmt"

	"urgentis/core/expr"
	"urgentis/core/message"
)

// sender carries a message over one kind of connection, and says what the other side answered.
type sender func(ctx context.Context, o *Outbox, c *message.Connection, m *message.Message) (answer string, err error)

// registry is every kind of connection that carries messages. A desk is told of incidents, not of messages: see
// desk.go.
var registry = map[string]sender{
	message.Room:    overHTTP,
	message.Text:    overHTTP,
	message.Webhook: overHTTP,
	message.Mail:    byMail,
	message.Syslog:  toSyslog,
}

// errForGood says that trying again is of no use.
var errForGood = errors.New("it will not be taken")

// Secrets opens secrets by their names.
type Secrets interface {
	Value(ctx context.Context, name string) (string, error)
}

// fill puts the values of secrets into the places of their marks.
func (o *Outbox) fill(ctx context.Context, text string) (string, error) {
	return expr.FillSecrets(text, func(kind, name string) (string, error) {
		if kind != "secret" {
			return "", fmt.Errorf("there is no %s to open here", kind)
		}
		return o.secrets.Value(ctx, name)
	})
}

// filled renders a text that is nothing but a secret, or the like; "" for nil.
func (o *Outbox) filled(ctx context.Context, t *expr.Template) (string, error) {
	if t == nil {
		return "", nil
	}
	text, err := t.Text(&expr.Scope{})
	if err != nil {
		return "", err
	}
	return o.fill(ctx, text)
}
