package telling

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"urgentis/core/expr"
	"urgentis/core/incident"
	"urgentis/core/message"
	"urgentis/core/plain"
	"urgentis/core/runbook"
	"urgentis/core/source"
	"urgentis/core/story"
	"urgentis/internal/store"
)

const (
	// deskEvery is how often it is looked what desks are to be told.
	deskEvery = time.Second
	// maxTickets bounds how many tickets of a desk are looked at in one transaction.
	maxTickets = 50
	// maxTitle bounds the title of a ticket, in characters.
	maxTitle = 200
	// maxCopied bounds how many entries go over to a desk as one comment.
	maxCopied = 50
)

// DeskWord is what a desk is told, as it stands in the outbox.
type DeskWord struct {
	Do string `json:"do"` // DeskOpen and the like
	// Text is the comment; Inner says that it is for those who work on it.
	Text  string `json:"text,omitempty"`
	Inner bool   `json:"inner,omitempty"`
}

// What desks are told.
const (
	DeskOpen    = "open"
	DeskComment = "comment"
	DeskUpdate  = "update"
	DeskResolve = "resolve"
	// DeskFollowUp files what is left to do after an incident that was mitigated and not cured.
	DeskFollowUp = "follow_up"
)

// desksOnce lets the tickets of desks follow the records.
func (e *Teller) desksOnce(ctx context.Context) error {
	w, err := e.World(e.Store.In(ctx))
	if err != nil {
		return err
	}
	for _, name := range w.Desks {
		c := w.Connections[name]
		if err := e.write(ctx, func(s *sheet) error { return s.openTickets(c) }); err != nil {
			return fmt.Errorf("open tickets at %s: %w", name, err)
		}
		if err := e.write(ctx, func(s *sheet) error { return s.followTickets(c) }); err != nil {
			return fmt.Errorf("follow tickets at %s: %w", name, err)
		}
	}
	return nil
}

// openTickets asks for tickets of incidents that want one and have none.
func (s *sheet) openTickets(c *message.Connection) error {
	list, err := s.Tx().Ticketless(c.Name, maxTickets)
	if err != nil {
		return err
	}
	for i := range list {
		inc := &list[i]
		wanted, err := s.wantsTicket(c, inc)
		if err != nil {
			return err
		}
		state := store.TicketWanted
		if !wanted {
			state = store.TicketNone
		}
		fresh, err := s.Tx().AddTicket(inc.Number, c.Name, state)
		if err != nil || !fresh || !wanted {
			if err != nil {
				return err
			}
			continue
		}
		if err := s.tellDesk(c.Name, inc.Number, DeskWord{Do: DeskOpen}, "open"); err != nil {
			return err
		}
	}
	return nil
}

// wantsTicket judges the desk's condition. One that cannot be judged does not keep a ticket from being opened.
func (s *sheet) wantsTicket(c *message.Connection, inc *store.Incident) (bool, error) {
	if c.Desk.When == nil {
		return true, nil
	}
	names, err := s.e.DeskNames(s.Tx(), inc)
	if err != nil {
		return false, err
	}
	ok, err := c.Desk.When.Bool(&expr.Scope{Names: names})
	if err != nil {
		s.e.Log.Warn("judge whether a ticket is wanted", "desk", c.Name, "incident", inc.Number, "error", err)
		return true, nil
	}
	return ok, nil
}

// DeskNames are the values of an incident that a desk's requests see.
func (e *Teller) DeskNames(tx *store.Tx, inc *store.Incident) (map[string]any, error) {
	about := map[string]any{
		"number": inc.Number, "title": message.Foreign(inc.Title, maxTitle),
		"severity": inc.Severity, "service": inc.Service, "state": inc.State,
		"outcome": inc.Outcome, "because": message.Foreign(inc.Because, message.MostLine),
		"waiting_on": inc.WaitingOn, "holder": inc.Holder,
		"opened_at": inc.OpenedAt.UTC().Format(time.RFC3339),
		"link":      fmt.Sprintf("%s/incidents/%d", e.Link, inc.Number),
		"reference": Reference(e.Link, inc.Number), "owner": "", "harm": "", "labels": map[string]any{},
		"repaired": inc.Outcome != "not-repaired",
	}
	service, err := tx.Service(inc.Service)
	if err != nil {
		return nil, err
	}
	if service != nil {
		about["owner"], about["harm"] = service.Owner, service.Harm
	}
	left, err := tx.LeftOf(inc.Number)
	if err != nil {
		return nil, err
	}
	about["handed_over"], about["left"] = len(left) > 0, strings.Join(left, "; ")
	worst, err := tx.WorstAlert(inc.Number)
	if err != nil {
		return nil, err
	}
	if worst != nil {
		labels := map[string]any{}
		for k, v := range worst.Labels {
			labels[k] = v
		}
		about["labels"] = labels
	}
	return map[string]any{"incident": about}, nil
}

// Reference is by what a desk can know a ticket of ours again: it names this installation and the incident.
func Reference(link string, incident int64) string {
	return fmt.Sprintf("urgentis:%s/incidents/%d", link, incident)
}

// followTickets copies what went on in the records to their tickets, and resolves those whose incidents are over.
func (s *sheet) followTickets(c *message.Connection) error {
	list, err := s.Tx().TicketsBehind(c.Name, maxTickets)
	if err != nil {
		return err
	}
	for i := range list {
		if err := s.followTicket(c, &list[i]); err != nil {
			return err
		}
	}
	return nil
}

func (s *sheet) followTicket(c *message.Connection, t *store.Ticket) error {
	inc, err := s.Tx().Incident(t.Incident)
	if err != nil {
		return err
	}
	if err := s.comment(c, t); err != nil {
		return err
	}
	left, err := s.Tx().LeftOf(inc.Number)
	if err != nil {
		return err
	}
	shown := strings.Join([]string{
		inc.Severity, inc.Title, inc.WaitingOn, inc.Holder, inc.State, strings.Join(left, "; "),
	}, "\x1f")
	t.State = store.TicketOpen // it may have been resolved, and its incident be open again
	over := inc.State == "closed" && t.Copied >= inc.Entries
	if shown != t.Shown && c.Desk.Update != nil && !over {
		key := store.NewID("update:") // it may change twice between two entries
		if err := s.tellDesk(c.Name, inc.Number, DeskWord{Do: DeskUpdate}, key); err != nil {
			return err
		}
	}
	t.Shown = shown
	if over {
		if err := s.fileFollowUp(c, inc); err != nil {
			return err
		}
		t.State = store.TicketResolving
		if c.Desk.Resolve != nil {
			key := fmt.Sprintf("resolve:%d", inc.Entries)
			if err := s.tellDesk(c.Name, inc.Number, DeskWord{Do: DeskResolve}, key); err != nil {
				return err
			}
		} else {
			t.State = store.TicketResolved // nothing there says so
		}
	}
	return s.Tx().FollowTicket(t)
}

// mitigated is the outcome of an incident that may return.
const mitigated = "mitigated"

// fileFollowUp asks a desk for a ticket about what is left to do, each time that an incident is closed as mitigated.
func (s *sheet) fileFollowUp(c *message.Connection, inc *store.Incident) error {
	if inc.Outcome != mitigated || c.Desk.FollowUp == nil || inc.ClosedAt == nil {
		return nil
	}
	// What is written down of it makes the record longer, and the ticket is followed again.
	key := fmt.Sprintf("follow-up:%d", inc.ClosedAt.UnixMicro())
	if known, err := s.Tx().DeliveryKnown(deskKey(inc.Number, c.Name, key)); err != nil || known {
		return err
	}
	text, err := s.leftToDo(inc)
	if err != nil {
		return err
	}
	return s.tellDesk(c.Name, inc.Number, DeskWord{Do: DeskFollowUp, Text: text}, key)
}

func deskKey(incident int64, desk, key string) string {
	return fmt.Sprintf("i%d:%s:%s", incident, desk, key)
}

// leftToDo tells what a follow-up rests on: why it was closed so, what was changed, and how often it was there before.
func (s *sheet) leftToDo(inc *store.Incident) (string, error) {
	lines := []string{"Mitigated, not cured: " + inc.Because}
	entries, err := s.Tx().EntriesOf(inc.Number, 0, []string{string(incident.ChangeBegun), string(incident.UndoBegun)})
	if err != nil {
		return "", err
	}
	var did []string
	for _, e := range entries {
		if !slices.Contains(did, e.Title) && len(did) < maxCopied {
			did = append(did, e.Title)
		}
	}
	if len(did) > 0 {
		lines = append(lines, "What was done: "+strings.Join(did, "; "))
	}
	before, err := s.Tx().Returns(inc)
	if err != nil {
		return "", err
	}
	if n := len(before); n > 0 {
		not := 0
		for _, p := range before {
			if p.Outcome == mitigated {
				not++
			}
		}
		lines = append(
			lines,
			fmt.Sprintf("Happened %d times before (%d mitigated, last: incident %d)",
				n, not, before[0].Number),
		)
	}
	return strings.Join(append(lines, fmt.Sprintf("The record: %s/incidents/%d", s.e.Link, inc.Number)), "\n"), nil
}

// tellDesk puts a word for a desk into the outbox, once per key.
func (s *sheet) tellDesk(desk string, incident int64, word DeskWord, key string) error {
	body, err := json.Marshal(word)
	if err != nil {
		return fmt.Errorf("write a word for a desk: %w", err)
	}
	s.Send(store.Delivery{
		Key: deskKey(incident, desk, key), Kind: store.DeliveryDesk, Connection: desk, Body: string(body),
		Incident: &incident, State: "queued", QueuedAt: s.e.Now(),
	})
	return nil
}

// comment sends what went on in the record since a ticket was told as comments: what people wrote for others as one of
// its own, which whoever sees the ticket may read.
func (s *sheet) comment(c *message.Connection, t *store.Ticket) error {
	entries, err := s.Tx().EntriesAfter(t.Incident, t.Copied, maxCopied)
	if err != nil || len(entries) == 0 {
		return err
	}
	from, now := t.Copied, s.e.Now().UTC()
	inner := chosen(entries, c.Desk.Copies)
	t.Copied, t.ToldAt = entries[len(entries)-1].Seq, &now
	if len(c.Desk.Copies) == 0 {
		err = s.e.Stories.Read(s.Tx(), t.Incident, func(f *story.Folder) { inner = copied(f.Rows(from), t.Copied) })
	}
	if err != nil || c.Desk.Comment == nil {
		return err
	}
	for _, w := range []DeskWord{{Text: inner, Inner: true}, {Text: openly(entries, c.Desk.Copies)}} {
		if w.Do = DeskComment; w.Text == "" {
			continue
		}
		key := fmt.Sprintf("%s:%d", map[bool]string{true: "comment", false: "openly"}[w.Inner], from)
		if err := s.tellDesk(c.Name, t.Incident, w, key); err != nil {
			return err
		}
	}
	return nil
}

// ofDesks are the kinds of what desks said themselves, and of what is only about messages: they are not sent back.
var ofDesks = []incident.Kind{incident.TicketMade, incident.TicketNews, incident.DeliveryFailed, incident.Outward}

// copied is rows as a comment: those that whoever was not there wants to read, and that are not still under way. A row
// that begins after the last entry that is copied comes with the next comment; one that was sent, and went on since, is
// sent as it is now.
func copied(rows []story.Row, last int64) string {
	var b strings.Builder
	for _, r := range rows {
		if r.Weight != story.Tell || r.State == story.Going || r.First > last || slices.Contains(ofDesks, r.Kind) {
			continue
		}
		fmt.Fprintf(&b, "%s  %s  %s\n", r.At.UTC().Format("15:04:05 MST"), r.Word, plain.Line(r.Headline()))
		for _, l := range r.Below {
			b.WriteString("    " + plain.Line(l.String()) + "\n")
		}
	}
	return strings.TrimSuffix(b.String(), "\n")
}

// chosen is entries of the kinds that a desk's document chooses, as a comment; what a runbook tells the ticket is there
// whatever was chosen.
func chosen(entries []store.Entry, kinds []string) string {
	var b strings.Builder
	for _, row := range entries {
		e := row.Sealed()
		if slices.Contains(ofDesks, e.Kind) ||
			!e.Among(kinds) && !e.For(runbook.TicketWord) && !e.For(runbook.TicketOpenly) {
			continue
		}
		entryLines(&b, &e)
	}
	return strings.TrimSuffix(b.String(), "\n")
}

// openly is what is for others than those who work on it, as a comment.
func openly(entries []store.Entry, kinds []string) string {
	var b strings.Builder
	for _, row := range entries {
		e := row.Sealed()
		if e.Kind == incident.Outward && (len(kinds) == 0 || e.Among(kinds) || e.For(runbook.TicketOpenly)) {
			entryLines(&b, &e)
		}
	}
	return strings.TrimSuffix(b.String(), "\n")
}

// entryLines writes an entry with what it says, in lines below it.
func entryLines(b *strings.Builder, e *incident.Entry) {
	word, says := story.Line(e)
	fmt.Fprintf(b, "%s  %s: %s  (%s)\n", e.At.UTC().Format("15:04:05 MST"), word, plain.Line(e.Title), e.Actor)
	for _, l := range says {
		b.WriteString("    " + plain.Line(l.String()) + "\n")
	}
}

// TicketNews writes what a desk told of a ticket into the record of its incident.
func TicketNews(
	tx *store.Tx, w *store.RecordWriter, t *store.Ticket, i *store.Incident, news source.TicketNews,
) error {
	by := ""
	if news.By != "" {
		by = " by " + news.By
	}
	title := strings.TrimSuffix(fmt.Sprintf("Ticket %s at %s%s: %s", t.Number, t.Connection, by, news.Text), ": ")
	if news.Closed {
		if title = fmt.Sprintf("Ticket %s was closed at %s%s", t.Number, t.Connection, by); i.State == "open" {
			title += "; the incident is still open here"
		}
		if err := tx.TicketIs(t, store.TicketClosed); err != nil {
			return err
		}
	}
	if r := []rune(title); len(r) > 300 {
		title = string(r[:299]) + "…"
	}
	return w.Write(i, store.NewEntry{
		At: tx.Time(), Kind: incident.TicketNews, Actor: t.Connection, Title: title,
		Content: incident.TicketContent{Desk: t.Connection, By: news.By, Text: news.Text, Number: t.Number,
			Closed: news.Closed},
	})
}
