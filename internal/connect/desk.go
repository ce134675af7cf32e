package connect

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strings"

	"urgentis/core/incident"
	"urgentis/core/message"
	"urgentis/core/source"
	"urgentis/internal/store"
	"urgentis/internal/telling"
)

// DeskNames gives the values of an incident that a desk's requests see.
type DeskNames func(tx *store.Tx, inc *store.Incident) (map[string]any, error)

// toDesk tells a ticket desk one word about an incident.
func (o *Outbox) toDesk(ctx context.Context, c *message.Connection, d *store.Delivery) (string, error) {
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
		return o.openTicket(ctx, c, d, t, names)
	case telling.DeskFollowUp:
		return o.fileFollowUp(ctx, c, d, inc.Number, names)
	}
	r := map[string]*message.Request{
		telling.DeskComment: c.Desk.Comment, telling.DeskUpdate: c.Desk.Update, telling.DeskResolve: c.Desk.Resolve,
	}[word.Do]
	if r == nil {
		return "", fmt.Errorf("%w: %s is not told of %q any more", errForGood, c.Name, word.Do)
	}
	if _, _, err := o.ask(ctx, c, r, names, d.Key); err != nil {
		return "", err
	}
	if word.Do == telling.DeskResolve {
		return "ticket " + t.Number + " is resolved", tx.TicketIs(t, store.TicketResolved)
	}
	return "ticket " + t.Number, nil
}

// TryDesk opens a ticket at a desk that says that it is a try, writes to it, looks for it, and resolves it, as far as
// the desk's document says how. It tells what was done; with an error too, as a ticket may stay there.
func (o *Outbox) TryDesk(ctx context.Context, c *message.Connection, inc *store.Incident) (string, error) {
	key := store.NewID("try")
	names, err := o.deskNames(o.store.In(ctx), inc)
	if err != nil {
		return "", err
	}
	about := names["incident"].(map[string]any)
	about["link"], about["reference"] = o.link, "urgentis:"+o.link+"/tries/"+key
	_, made, err := o.ask(ctx, c, c.Desk.Open, names, key+":open")
	if err != nil {
		return "", fmt.Errorf("open a ticket: %w", err)
	}
	names["ticket"] = map[string]any{"number": made["number"], "link": made["link"]}
	names["comment"] = map[string]any{"text": "This note is a try.", "internal": true, "key": key + ":comment"}
	says := []string{"opened ticket " + made["number"]}
	for _, step := range []struct {
		name, says string
		r          *message.Request
	}{
		{"find", "found it again", c.Desk.Find}, {"comment", "wrote to it", c.Desk.Comment},
		{"update", "updated it", c.Desk.Update}, {"resolve", "resolved it", c.Desk.Resolve},
	} {
		if step.r == nil {
			continue
		}
		if step.name == "resolve" {
			about["state"], about["outcome"], about["because"] = "closed", "false-alarm", "It was a try."
		}
		_, read, err := o.ask(ctx, c, step.r, names, key+":"+step.name)
		if err == nil && step.name == "find" && read["number"] != made["number"] {
			err = fmt.Errorf("it found %s", read["number"])
		}
		if err != nil {
			return strings.Join(says, ", "), fmt.Errorf("%s, then %s: %w", strings.Join(says, ", "), step.name, err)
		}
		says = append(says, step.says)
	}
	if c.Desk.Resolve == nil {
		says = append(says, "and left it open: the desk's document does not say how one is resolved")
	}
	return strings.Join(says, ", "), nil
}

// openTicket opens a ticket, and notes its number. That it is asked for is written down before it is, so that a try
// whose end nobody knows leaves a ticket of which nobody knows: message.Asked says what comes next then.
func (o *Outbox) openTicket(ctx context.Context, c *message.Connection, d *store.Delivery, t *store.Ticket,
	names map[string]any,
) (string, error) {
	if t.Number != "" {
		return "ticket " + t.Number, nil
	}
	known := message.Asked{As: t.Asked, NoneAt: t.NoneAt}
	if known.Next(c.Desk.Find != nil) == message.FindIt {
		found, err := o.findTicket(ctx, c, names, d.Key)
		if err != nil {
			return "", err // nobody knows whether there is one
		}
		if found != nil {
			return o.ticketMade(ctx, c, t, found, "found again")
		}
		known = known.None(o.store.Clock.Now().UTC())
		if err := o.asked(ctx, t, known); err != nil {
			return "", err
		}
	}
	switch known.Next(c.Desk.Find != nil) {
	case message.LeaveIt:
		return "", fmt.Errorf("%w: %s", errForGood, mayBeThere(c, "a ticket may have been opened", known))
	case message.FindIt:
		return "", errors.New(mayBeThere(c, "it knows no such ticket yet", known))
	}
	if err := o.asked(ctx, t, message.Asked{As: message.AskedUnsure}); err != nil {
		return "", err
	}
	a, made, err := o.ask(ctx, c, c.Desk.Open, names, d.Key)
	if err == nil {
		return o.ticketMade(ctx, c, t, made, "opened")
	}
	now := message.AskedWith(a.Status)
	if errors.Is(err, errUnsure) {
		now.As = message.AskedUnsure
	}
	if noted := o.asked(ctx, t, now); noted != nil {
		return "", errors.Join(err, noted)
	}
	if now.Next(c.Desk.Find != nil) == message.LeaveIt {
		err = fmt.Errorf("%w: %s: %w", errForGood, mayBeThere(c, "a ticket may have been opened", now), err)
	}
	return "", err
}

// mayBeThere says what is known of a ticket without a number, and what a person does about it.
func mayBeThere(c *message.Connection, what string, a message.Asked) string {
	if a.As == message.AskedTaken {
		what += ": " + c.Name + " said that it took it, and gave no number"
	}
	return what + "; look there, and send this again if there is none"
}

// asked writes down what is known of a ticket, whatever ends meanwhile.
func (o *Outbox) asked(ctx context.Context, t *store.Ticket, a message.Asked) error {
	return o.store.In(context.WithoutCancel(ctx)).TicketAsked(t, a)
}

// findTicket asks a desk whether it has a ticket; nil where it says that it has none, which many say with 404. What it
// says with another status that is no 2xx settles nothing, unless a number can be read of it.
func (o *Outbox) findTicket(ctx context.Context, c *message.Connection, names map[string]any, key string,
) (map[string]string, error) {
	a, found, err := o.askAny(ctx, c, c.Desk.Find, names, key)
	if err == nil {
		return found, nil
	}
	if a.Cut || !a.good() && a.Status != http.StatusNotFound {
		return nil, err
	}
	return nil, nil
}

const mayBeFiled = "a follow-up may have been filed: look there, and send this again if not"

// fileFollowUp files what is left to do, and notes in the record where.
func (o *Outbox) fileFollowUp(ctx context.Context, c *message.Connection, d *store.Delivery, number int64,
	names map[string]any,
) (string, error) {
	if c.Desk.FollowUp == nil {
		return "", fmt.Errorf("%w: %s takes no follow-ups any more", errForGood, c.Name)
	}
	if d.Unsure {
		return "", fmt.Errorf("%w: %s", errForGood, mayBeFiled)
	}
	a, read, err := o.ask(ctx, c, c.Desk.FollowUp, names, d.Key)
	if err != nil {
		if errors.Is(err, errUnsure) || message.AskedWith(a.Status).As != message.AskedNever {
			err = fmt.Errorf("%w: %w; %s", errForGood, err, mayBeFiled)
		}
		return "", err
	}
	says := fmt.Sprintf("Follow-up %s at %s, filed", read["number"], c.Name)
	return says, o.store.Tx(context.WithoutCancel(ctx), func(tx *store.Tx) error {
		r := store.NewRecordWriter(tx)
		i, err := r.Incident(number)
		if err != nil {
			return err
		}
		if err := r.Write(i, store.NewEntry{At: tx.Time(), Kind: incident.TicketMade, Actor: "urgentis", Title: says,
			Content: incident.TicketContent{Desk: c.Name, Number: read["number"], Link: read["link"]}}); err != nil {
			return err
		}
		return r.Flush()
	})
}

// ask makes a request of a desk, and reads what is to be kept of an answer that says yes. With an error stands the
// answer that there was, if there was one.
func (o *Outbox) ask(ctx context.Context, c *message.Connection, r *message.Request, names map[string]any, key string,
) (answered, map[string]string, error) {
	a, out, err := o.askAny(ctx, c, r, names, key)
	if err == nil && !a.good() {
		err = fmt.Errorf("%s answered %s", c.Name, a.Said)
	}
	return a, out, err
}

// askAny is ask, where what can be read of an answer counts with any status.
func (o *Outbox) askAny(ctx context.Context, c *message.Connection, r *message.Request, names map[string]any,
	key string,
) (answered, map[string]string, error) {
	call, err := r.Render(names, nil)
	if err != nil {
		return answered{}, nil, errors.Join(errForGood, fmt.Errorf("%s: %w", c.Name, err))
	}
	a, err := o.call(ctx, c.Name, call, key)
	if err != nil {
		return a, nil, err
	}
	out, err := r.ReadAnswer(a.Status, a.Body)
	switch {
	case err == nil:
		return a, out, nil
	case !a.good():
		return a, nil, fmt.Errorf("%s answered %s", c.Name, a.Said)
	}
	return a, nil, fmt.Errorf("%s: its answer cannot be read: %w", c.Name, err)
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
		if err := r.Write(i, store.NewEntry{At: tx.Time(), Kind: incident.TicketMade, Actor: "urgentis", Title: says,
			Content: incident.TicketContent{Desk: c.Name, Number: t.Number, Link: t.Link}}); err != nil {
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
		var news source.TicketNews
		if err := json.Unmarshal([]byte(text), &news); err != nil {
			return fmt.Errorf("read what was kept of ticket %s: %w", t.Number, err)
		}
		if err := telling.TicketNews(tx, r, t, i, news); err != nil {
			return err
		}
	}
	return nil
}
