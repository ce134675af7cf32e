package telling

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"urgentis/core/incident"
	"urgentis/core/message"
	"urgentis/core/route"
	"urgentis/internal/engine"
	"urgentis/internal/meter"
	"urgentis/internal/store"
)

const (
	// maxNotices bounds how many notices are looked at in one transaction.
	maxNotices = 200
	// noticeEvery is how often it is looked for notices that are due.
	noticeEvery = 200 * time.Millisecond
	// apart is how long it is at least between two messages by one way about one incident, unless one is urgent.
	apart = 30 * time.Second
	// again is after how long a notice is looked at again that the program failed on.
	again = time.Minute
)

// TellDue judges who must be called, looks for notices that are due, and puts the messages that follow into the outbox.
func (e *Teller) TellDue(ctx context.Context) error {
	if err := e.attend(ctx); err != nil {
		return err
	}
	for {
		n := 0
		err := e.write(ctx, func(s *sheet) error {
			due, err := s.Tx().DueNotices(maxNotices)
			n = len(due)
			if err != nil || n == 0 {
				return err
			}
			return s.tell(due)
		})
		if err != nil && !store.Transient(err) && n > 0 {
			err = e.tellEach(ctx)
		}
		if err != nil || n < maxNotices {
			return err
		}
	}
}

// tellEach looks at each notice that is due by itself, so that one on which the program fails holds up no other.
func (e *Teller) tellEach(ctx context.Context) error {
	for range maxNotices {
		var at *store.Notice
		err := e.write(ctx, func(s *sheet) error {
			due, err := s.Tx().DueNotices(1)
			if err != nil || len(due) == 0 {
				return err
			}
			at = &due[0]
			return s.tell(due)
		})
		if at == nil {
			return err
		}
		if err == nil {
			continue
		}
		e.Log.Error("tell people of one thing", "notice", at.ID, "kind", at.Kind, "error", err)
		if err := e.Store.Tx(ctx, func(tx *store.Tx) error { return tx.SetNotice(at, again) }); err != nil {
			return err
		}
	}
	return nil
}

// tell decides about notices that are due: those of one incident together.
func (s *sheet) tell(due []store.Notice) error {
	w, err := s.World()
	if err != nil {
		return err
	}
	ids := make([]int64, len(due))
	for i, n := range due {
		ids[i] = n.ID
	}
	told, err := s.Tx().ToldOf(ids)
	if err != nil {
		return err
	}
	var order []int64
	groups := map[int64][]*store.Notice{}
	for i := range due {
		n := &due[i]
		number := -n.ID // each that belongs to no incident by itself
		if n.Incident != nil {
			number = *n.Incident
		}
		if groups[number] == nil {
			order = append(order, number)
		}
		groups[number] = append(groups[number], n)
	}
	slices.Sort(order) // several lock incidents in one order
	for _, number := range order {
		g := &telling{sheet: s, world: w, told: told, now: s.e.Now(), ways: map[route.Contact]*parcel{}}
		if err := g.group(number, groups[number]); err != nil {
			return err
		}
	}
	return nil
}

// telling is the notices of one incident, or of none, at a moment.
type telling struct {
	sheet *sheet
	world *engine.World
	told  map[int64][]route.Told
	now   time.Time
	inc   *store.Incident // nil for none
	order []route.Contact
	ways  map[route.Contact]*parcel
}

// parcel is what goes by one way.
type parcel struct {
	send    route.Send
	urgent  bool
	notices []*decided
	sent    bool // it went into the outbox now
}

// decided is a notice, and what follows for it.
type decided struct {
	row  *store.Notice
	says *message.Message
	route.Decision
}

func (g *telling) group(number int64, rows []*store.Notice) error {
	if number > 0 {
		var err error
		if g.inc, err = g.sheet.Tx().Incident(number); err != nil {
			return fmt.Errorf("read incident %d: %w", number, err)
		}
	}
	var open []*decided
	for _, row := range rows {
		if over := g.over(row); over != "" {
			row.State = over
			if err := g.sheet.Tx().SetNotice(row, -1); err != nil {
				return err
			}
			continue
		}
		d, err := g.decide(row)
		if err != nil {
			return err
		}
		open = append(open, d)
	}
	if err := g.pack(); err != nil {
		return err
	}
	for _, d := range open {
		if err := g.keep(d); err != nil {
			return err
		}
	}
	return nil
}

// over tells what became of a notice that is told once, before it was told; "" where it stands. Of calls it is judged
// elsewhere (see attend).
func (g *telling) over(n *store.Notice) string {
	if n.Urgent || g.inc == nil || g.inc.State == "open" {
		return ""
	}
	switch n.Kind {
	case route.IncidentClosed, route.Said, route.LateNews:
		return ""
	}
	return store.NoticeOver
}

// decide asks core/route what follows for a notice, and collects it by ways.
func (g *telling) decide(row *store.Notice) (*decided, error) {
	n, err := g.notice(row)
	if err != nil {
		return nil, err
	}
	d := &decided{row: row}
	if row.Kind == route.IncidentClosed {
		// Whoever heard of it hears that it is over, and nobody else: of a false alarm nobody ever hears.
		told, err := g.sheet.Tx().ToldAbout(g.inc.Number)
		if err != nil {
			return nil, err
		}
		for _, t := range told {
			has := slices.ContainsFunc(g.told[row.ID], func(x route.Told) bool { return x.Contact == t.Contact })
			if !t.Failed && !has {
				d.Send = append(d.Send, route.Send{To: t.To, Contact: t.Contact, Why: "you were told of it before"})
			}
		}
	} else {
		var since time.Time
		if row.RungSince != nil {
			since = *row.RungSince
		}
		d.Decision = route.Next(n, route.Stood{Rung: row.Rung, Since: since}, g.told[row.ID], g.world.World, g.now)
	}
	if len(d.Send) == 0 {
		return d, nil
	}
	if d.says, err = g.sheet.compose(row, n, g.inc); err != nil {
		return nil, err
	}
	for _, s := range d.Send {
		p := g.ways[s.Contact]
		if p == nil {
			p = &parcel{send: s}
			g.ways[s.Contact] = p
			g.order = append(g.order, s.Contact)
		}
		p.notices = append(p.notices, d)
		p.urgent = p.urgent || n.Urgent
	}
	return d, nil
}

// notice is a row as core/route and the words of messages see it.
func (g *telling) notice(row *store.Notice) (*route.Notice, error) {
	n := &route.Notice{Kind: row.Kind, To: row.Asked, Urgent: row.Urgent, Text: row.Text, Thing: row.Thing, At: row.At}
	if g.inc == nil {
		return n, nil
	}
	if err := g.sheet.About(n, g.inc); err != nil {
		return nil, err
	}
	worst, err := g.sheet.Tx().WorstAlert(g.inc.Number)
	if err != nil || worst == nil {
		return n, err
	}
	n.Labels = worst.Labels
	return n, nil
}

// pack makes a message of what goes by each way. What can wait and would follow another too soon waits.
func (g *telling) pack() error {
	for _, way := range g.order {
		p := g.ways[way]
		c := g.world.Connections[way.Connection]
		if c == nil {
			continue // it is removed since
		}
		list := make([]*message.Message, len(p.notices))
		for i, d := range p.notices {
			list[i] = d.says
		}
		m := message.Fold(list)
		m.To, m.Address, m.Why = p.send.To, way.Address, p.send.Why
		if g.inc != nil {
			last, err := g.sheet.Tx().LastMessage(g.inc.Number, way)
			if err != nil {
				return err
			}
			if g.wait(p, m, last) {
				continue
			}
		}
		if err := g.sheet.send(c, way, p, m); err != nil {
			return err
		}
		p.sent = true
	}
	return nil
}

// wait reports whether a message is not sent now: it says what the last one said, or comes too soon after it. The
// closing of an incident waits for nothing.
func (g *telling) wait(p *parcel, m *message.Message, last *store.Delivery) bool {
	if last == nil {
		return false
	}
	var before message.Message
	if err := json.Unmarshal([]byte(last.Body), &before); err == nil && before.SameAs(m) && g.lately(p, last) {
		for _, d := range p.notices {
			g.sheet.Carried(last.ID, d.row.ID, p.send.Rung)
		}
		return true
	}
	left := apart - g.now.Sub(last.QueuedAt)
	if p.urgent || m.Kind == route.IncidentClosed || left <= 0 {
		return false
	}
	for _, d := range p.notices {
		if at := g.now.Add(left); d.LookAt.IsZero() || at.Before(d.LookAt) {
			d.LookAt = at
		}
		d.Nobody = false
	}
	return true
}

// sameFor is for how long the same words are not said again.
const sameFor = 10 * time.Minute

// lately reports whether a message was sent so that it says what a parcel would: since all of its calls began, and not
// long ago.
func (g *telling) lately(p *parcel, last *store.Delivery) bool {
	return g.now.Sub(last.QueuedAt) < sameFor && !slices.ContainsFunc(p.notices, func(d *decided) bool {
		return d.row.Since != nil && last.QueuedAt.Before(*d.row.Since)
	})
}

// send puts a message into the outbox.
func (s *sheet) send(c *message.Connection, way route.Contact, p *parcel, m *message.Message) error {
	m.Key = store.NewID("m")
	body, err := json.Marshal(m)
	if err != nil {
		return fmt.Errorf("write a message: %w", err)
	}
	d := store.Delivery{
		Key: m.Key, Kind: c.Kind, Connection: c.Name, Body: string(body), Receiver: p.send.To, Address: way.Address,
		Urgent: p.urgent, State: "queued", QueuedAt: s.e.Now(),
	}
	if m.Incident != 0 {
		d.Incident = &m.Incident
	}
	place := s.Send(d)
	for _, x := range p.notices {
		s.Carries(place, x.row.ID, p.send.Rung)
	}
	return nil
}

// keep writes down how far a notice is, and who was called, or could not be.
func (g *telling) keep(d *decided) error {
	n := d.row
	wait := time.Duration(-1)
	if !d.LookAt.IsZero() {
		wait = max(0, d.LookAt.Sub(g.now))
	} else {
		n.State = store.NoticeDone
	}
	switch {
	case d.Silent != "" && n.Urgent:
		n.State = store.NoticeDone
	case d.Silent != "", n.Kind == route.IncidentClosed && len(d.Send)+len(g.told[n.ID]) == 0:
		n.State = store.NoticeOver
	}
	n.Rung = d.Stood.Rung
	if !d.Stood.Since.IsZero() {
		n.RungSince = &d.Stood.Since
	}
	if err := g.record(d); err != nil {
		return err
	}
	return g.sheet.Tx().SetNotice(n, wait)
}

// record tells the incident's record whom something urgent was told, and who could not be.
func (g *telling) record(d *decided) error {
	missed := strings.Join(d.None, "; ")
	if d.Silent != "" && d.row.Urgent {
		missed = "the route " + d.Silent + " tells nobody"
	}
	if d.Nobody {
		missed = strings.Join(append([]string{"nobody could be told"}, d.None...), ": ")
		meter.Unreached.WithLabelValues().Inc()
		g.sheet.e.Log.Error("nobody could be told", "of", d.row.Text, "because", strings.Join(d.None, "; "))
	}
	again := missed == d.row.Missed
	d.row.Missed = missed
	if g.inc == nil || !d.row.Urgent && !d.Nobody {
		return nil
	}
	if missed != "" && !again {
		title := "Not everybody could be told: "
		switch {
		case d.Nobody && d.row.Kind == route.ApprovalNeeded:
			title = "Nobody who may decide this could be told: "
		case d.Nobody, d.Silent != "":
			title = "Nobody was told: "
		}
		err := g.enter(store.NewEntry{
			At: g.now, Kind: incident.Unreached, Actor: "urgentis", Title: title + d.row.Text,
			Content: incident.PeopleContent{Because: missed, Notice: string(d.row.Kind), Thing: d.row.Thing},
		})
		if err != nil {
			return err
		}
	}
	return g.called(d)
}

// called writes down who is called for something urgent. That a message arrived is not said: only that it was sent off.
func (g *telling) called(d *decided) error {
	var names []string
	for _, s := range d.Send {
		if p := g.ways[s.Contact]; p != nil && p.sent && route.Room(s.To) == "" {
			names = append(names, s.To+" by "+s.Contact.Connection)
		}
	}
	if len(names) == 0 || !d.row.Urgent {
		return nil
	}
	return g.enter(store.NewEntry{
		At: g.now, Kind: incident.CalledOut, Actor: "urgentis", Title: "Calls " + strings.Join(names, ", "),
		Content: incident.PeopleContent{Why: d.Send[0].Why, Rung: d.Stood.Rung + 1, Of: d.row.Text, Thing: d.row.Thing},
	})
}

// enter writes an entry into the incident's record. The incident is locked only now, after the notices: whoever locks
// an incident first waits for no notice.
func (g *telling) enter(entry store.NewEntry) error {
	i, err := g.sheet.Incident(g.inc.Number)
	if err != nil {
		return err
	}
	g.sheet.Changed(store.Feed{Topic: "incident", Ref: fmt.Sprint(i.Number), Incident: &i.Number, Service: i.Service})
	return g.sheet.RecordWriter.Write(i, entry)
}
