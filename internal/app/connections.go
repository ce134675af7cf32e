package app

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"

	"urgentis/core/access"
	"urgentis/core/estate"
	"urgentis/core/message"
	"urgentis/core/route"
	"urgentis/internal/store"
)

// Connection is a way out as it is listed. Its document says the rest.
type Connection struct{ Name, Kind, Where string }

// Connections lists the connections.
func (a *App) Connections(ctx context.Context, who *access.Principal) ([]Connection, error) {
	if err := administer(who, "connection", ""); err != nil {
		return nil, err
	}
	tx := a.store.In(ctx)
	w, err := a.engine.World(tx)
	if err != nil {
		return nil, err
	}
	docs, err := tx.DocumentsOf(estate.Connection)
	if err != nil {
		return nil, err
	}
	out := make([]Connection, 0, len(docs))
	for _, d := range docs {
		c := w.Connections[d.Name]
		if c == nil {
			out = append(out, Connection{d.Name, "", "its document cannot be read"})
			continue
		}
		out = append(out, Connection{d.Name, c.Kind, c.Where()})
	}
	return out, nil
}

// AddConnection is a short way through the door of documents: a room, at an address.
func (a *App) AddConnection(ctx context.Context, who *access.Principal, name, kind, address string) error {
	if err := administer(who, "connection", name); err != nil {
		return err
	}
	if err := web("url", address); err != nil {
		return err
	}
	quoted, err := json.Marshal(address) // JSON's texts are YAML's
	if err != nil {
		return err
	}
	_, err = a.Push(ctx, who, Pushing{Message: "connection add", Files: []estate.File{{
		Name: name, Text: fmt.Sprintf("urgentis: connection/1\nname: %s\nkind: %s\nurl: %s\n", name, kind, quoted)}}})
	return err
}

// TryConnection sends a message that says that it is a try; to is where, for those that reach single people.
func (a *App) TryConnection(ctx context.Context, who *access.Principal, name, to string) (Tried, error) {
	if err := administer(who, "connection", name); err != nil {
		return Tried{}, err
	}
	c, err := a.engine.Connection(a.store.In(ctx), name)
	if err != nil {
		return Tried{}, err
	}
	if c == nil {
		return Tried{}, named(store.ErrNotFound, "connection %s", name)
	}
	if c.Kind == message.Desk {
		return a.tryDesk(ctx, who, c)
	}
	if to == "" && c.Is().Addressed {
		return Tried{}, invalid("to", "say to whom the try goes: a %s needs an address", c.Kind)
	}
	answer, err := a.outbox.Send(ctx, c, &message.Message{
		Key: store.NewID("try"), Subject: "This is a try by " + who.Name + ": messages of Urgentis arrive here.",
		To: to, Address: to, At: a.Now(), Link: a.link,
	})
	if err != nil {
		return Tried{Says: strings.TrimPrefix(err.Error(), name+": ")}, nil
	}
	return Tried{OK: true, Says: "it took the message: " + answer}, nil
}

// tryDesk opens a ticket that says that it is a try, and resolves it.
func (a *App) tryDesk(ctx context.Context, who *access.Principal, c *message.Connection) (Tried, error) {
	says, err := a.outbox.TryDesk(ctx, c, &store.Incident{
		Title: "A try of Urgentis by " + who.Name, Severity: "minor", State: "open", WaitingOn: "nobody",
		OpenedAt: a.Now(),
	})
	if err != nil {
		return Tried{Says: strings.TrimPrefix(err.Error(), c.Name+": ")}, nil
	}
	return Tried{OK: true, Says: says}, nil
}

// WordedMessage is what a connection would carry of an incident, in its own words. Nothing is sent.
type WordedMessage struct {
	Message *message.Message
	Text    string // in the connection's words
	Short   string
}

// ShowMessage tells how a notice of a kind about an incident would be worded on a connection; "" is the newest one that
// there was.
func (a *App) ShowMessage(ctx context.Context, who *access.Principal, name string, incident int64, kind string,
) (*WordedMessage, error) {
	if err := administer(who, "connection", name); err != nil {
		return nil, err
	}
	tx := a.store.In(ctx)
	c, err := a.engine.Connection(tx, name)
	if err != nil {
		return nil, err
	}
	if c == nil {
		return nil, named(store.ErrNotFound, "connection %s", name)
	}
	n, err := tx.NoticeAbout(incident, route.Kind(kind))
	if err != nil {
		return nil, named(err, "notice about incident %d that could be worded", incident)
	}
	m, err := a.teller.Compose(ctx, n)
	if err != nil {
		return nil, err
	}
	text, err := c.Worded(m)
	if err != nil {
		return nil, invalid("words", "the words of %s cannot be filled in: %s", name, err)
	}
	return &WordedMessage{Message: m, Text: text, Short: m.Short(max(c.Most, message.DefaultMost))}, nil
}

// RemoveConnection takes a connection out of use; what is on its way there is not sent.
func (a *App) RemoveConnection(ctx context.Context, who *access.Principal, name string) error {
	if err := administer(who, "connection", name); err != nil {
		return err
	}
	return a.tx(ctx, func(tx *store.Tx) error {
		if err := tx.LockDocuments(); err != nil {
			return err
		}
		if _, err := tx.Document(estate.Connection, name); err != nil {
			return named(err, "connection %s", name)
		}
		if err := tx.RemoveDocument(estate.Connection, name); err != nil {
			return err
		}
		return tx.Audit(who.Name, "connection.remove", name, "")
	})
}
