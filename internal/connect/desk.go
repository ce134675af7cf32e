package connect

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"urgentis/core/alert"
	"urgentis/core/incident"
	"urgentis/core/message"
	"urgentis/internal/store"
	"urgentis/internal/telling"
)

// DeskNames gives the values of an incident that a desk's requests see.
type DeskNames func(tx *store.Tx, inc *store.Incident) (map[string]any, error)

// toDesk tells a ticket desk one word about an incident. before says that it may have been told already.
func (o *Outbox) toDesk(ctx context.Context, c *message.Connection, d *store.Delivery, before bool) (string, error) {
	var word telling.DeskWord
	if err := json.Unmarshal([]byte(d.Body), &word); err != nil || d.Incident == nil || c.Desk == nil {
		return "", fmt.Errorf("%w: %s is told nothing that can be read", errForGood, c.Name)
	}
	tx := o.store.In(ctx)
	inc, err := tx.Incident(*d.Incident)
	if err != nil {
		return "", err
	}
	t, err := tx.Ticket(inc.Number, c.Name)
	if err != nil {
		return "", err
	}
	names, err := o.deskNames(tx, inc)
	if err != nil {
		return "", err
	}
	names["ticket"] = map[string]any{"number": t.Number, "link": t.Link}
	names["comment"] = map[string]any{"text": word.Text, "internal": word.Inner, "key": d.Key}
	switch word.Do {
	case telling.DeskOpen:
		return o.openTicket(ctx, c, d, t, names, before)
	case telling.DeskFollowUp:
		return o.fileFollowUp(ctx, c, d, inc.Number, names)
	}
	r := map[string]*message.Request{
		telling.DeskComment: c.Desk.Comment, telling.DeskUpdate: c.Desk.Update, telling.DeskResolve: c.Desk.Resolve,
	}[word.Do]
	if r == nil {
		return "", fmt.Errorf("%w: %s is not told of %q any more", errForGood, c.Name, word.Do)
	}
	if _, err := o.ask(ctx, c, r, names, d.Key); err != nil {
		return "", err
	}
	if word.Do == telling.DeskResolve {
		return "ticket " + t.Number + " is resolved", tx.TicketIs(t, store.TicketResolved)
	}
	return "ticket " + t.Number, nil
}

// openTicket opens a ticket, and notes its number. Where it may have been opened before, the desk is asked first.
func (o *Outbox) openTicket(ctx context.Context, c *message.Connection, d *store.Delivery, t *store.Ticket,
	names map[string]any, before bool,
) (string, error) {
	if t.Number != "" {
		return "ticket " + t.Number, nil
	}
	if before && c.Desk.Find != nil {
		found, err := o.ask(ctx, c, c.Desk.Find, names, d.Key)
		if err == nil {
			return o.ticketMade(ctx, c, t, found, "found again")
		}
		if !errors.Is(err, errNoAnswer) {
			return "", err // nobody knows whether there is one
		}
	}
	made, err := o.ask(ctx, c, c.Desk.Open, names, d.Key)
	if errors.Is(err, errNoAnswer) && c.Desk.Find == nil {
		// It said yes, and nobody knows what it made. Asking again might make a second one.
		return "", fmt.Errorf("%w: %w; a ticket may have been opened: look there, and send this again if not",
			errForGood, err)
	}
	if err != nil {
		return "", err
	}
	return o.ticketMade(ctx, c, t, made, "opened")
}

// fileFollowUp files what is left to do, and notes in the record where.
func (o *Outbox) fileFollowUp(ctx context.Context, c *message.Connection, d *store.Delivery, number int64,
	names map[string]any,
) (string, error) {
	if c.Desk.FollowUp == nil {
		return "", fmt.Errorf("%w: %s takes no follow-ups any more", errForGood, c.Name)
	}
	read, err := o.ask(ctx, c, c.Desk.FollowUp, names, d.Key)
	if errors.Is(err, errNoAnswer) {
		return "", fmt.Errorf("%w: %w; a follow-up may have been filed: look there, and send this again if not",
			errForGood, err)
	}
	if err != nil {
		return "", err
	}
	says := fmt.Sprintf("Follow-up %s at %s, filed", read["number"], c.Name)
	return says, o.store.Tx(context.WithoutCancel(ctx), func(tx *store.Tx) error {
		r := store.NewRecordWriter(tx)
		i, err := r.Incident(number)
		if err != nil {
			return err
		}
		if err := r.Write(i, store.NewEntry{At: time.Now(), Kind: incident.TicketMade, Actor: "urgentis", Title: says,
			Content: map[string]any{"desk": c.Name, "number": read["number"], "link": read["link"]}}); err != nil {
			return err
		}
		return r.Flush()
	})
}

// errNoAnswer says that what must be read of an answer is not there.
var errNoAnswer = errors.New("its answer cannot be read")

// ask makes a request of a desk, and reads what is to be kept of the answer.
func (o *Outbox) ask(ctx context.Context, c *message.Connection, r *message.Request, names map[string]any, key string,
) (map[string]string, error) {
	call, err := r.Render(names, nil)
	if err != nil {
		return nil, errors.Join(errForGood, fmt.Errorf("%s: %w", c.Name, err))
	}
	status, body, err := o.do(ctx, c.Name, call, key)
	if err != nil {
		return nil, err
	}
	out, err := r.ReadAnswer(status, body)
	if err != nil {
		return nil, fmt.Errorf("%s: %w: %w", c.Name, errNoAnswer, err)
	}
	return out, nil
}

// ticketMade notes a ticket's number and link, in the record too.
func (o *Outbox) ticketMade(ctx context.Context, c *message.Connection, t *store.Ticket, read map[string]string,
	how string,
) (string, error) {
	ctx = context.WithoutCancel(ctx) // it is there
	t.Number = read["number"]
	if l := read["link"]; strings.HasPrefix(l, "https://") || strings.HasPrefix(l, "http://") {
		t.Link = l
	}
	says := fmt.Sprintf("Ticket %s at %s, %s", t.Number, c.Name, how)
	return says, o.store.Tx(ctx, func(tx *store.Tx) error {
		if err := tx.TicketMade(t); err != nil {
			return err
		}
		r := store.NewRecordWriter(tx)
		i, err := r.Incident(t.Incident)
		if err != nil {
			return err
		}
		if err := r.Write(i, store.NewEntry{At: time.Now(), Kind: incident.TicketMade, Actor: "urgentis", Title: says,
			Content: map[string]any{"desk": c.Name, "number": t.Number, "link": t.Link}}); err != nil {
			return err
		}
		if err := earlyNews(tx, r, t, i); err != nil {
			return err
		}
		return r.Flush()
	})
}

// earlyNews writes down what the desk told of a ticket before it had said its number.
func earlyNews(tx *store.Tx, r *store.RecordWriter, t *store.Ticket, i *store.Incident) error {
	early, err := tx.TakeEarly(t.Connection, t.Number)
	if err != nil {
		return err
	}
	for _, text := range early {
		var news alert.TicketNews
		if err := json.Unmarshal([]byte(text), &news); err != nil {
			return fmt.Errorf("read what was kept of ticket %s: %w", t.Number, err)
		}
		if err := telling.TicketNews(tx, r, t, i, news); err != nil {
			return err
		}
	}
	return nil
}
