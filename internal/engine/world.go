package engine

import (
	"fmt"
	"sync"
	"time"

	"urgentis/core/access"
	"urgentis/core/calendar"
	documents "urgentis/core/estate"
	"urgentis/core/library"
	"urgentis/core/message"
	"urgentis/core/reads"
	"urgentis/core/route"
	"urgentis/internal/store"
)

// World is who can be told of something, and how, as it is configured now.
type World struct {
	*route.World
	Connections map[string]*message.Connection
	// Reads is what is known to only read.
	Reads *reads.Set
}

// World reads who can be told; it is kept as long as the configuration is the same.
func (e *Engine) World(tx *store.Tx) (*World, error) {
	v, err := tx.ConfigVersion()
	if err != nil {
		return nil, err
	}
	return e.worldUnder(tx, v)
}

// Connection finds a connection by its name; nil where there is none.
func (e *Engine) Connection(tx *store.Tx, name string) (*message.Connection, error) {
	w, err := e.World(tx)
	if err != nil {
		return nil, err
	}
	return w.Connections[name], nil
}

// World is who can be told, as the sheet's transaction sees it.
func (s *Sheet) World() (*World, error) {
	v, err := s.Config()
	if err != nil {
		return nil, err
	}
	return s.e.worldUnder(s.tx, v)
}

func (e *Engine) worldUnder(tx *store.Tx, version int64) (*World, error) {
	k := &e.known
	defer k.under(version)()
	if k.world == nil {
		w, err := readWorld(tx, e)
		if err != nil {
			return nil, fmt.Errorf("read who can be told: %w", err)
		}
		k.world = w
	}
	return k.world, nil
}

// foreseenMonths is how long before now it is reckoned whose turn it was, as the configuration is read; and eight times
// as long after it.
const foreseenMonths = 3

func readWorld(tx *store.Tx, e *Engine) (*World, error) {
	w := &World{
		World: &route.World{
			Teams: map[string]*route.Team{}, StandIns: map[string][]calendar.StandIn{},
			People: map[string]*route.Person{}, Calendars: map[string]*calendar.Calendar{},
		},
		Connections: map[string]*message.Connection{}, Reads: shipped().Clone(),
	}
	rows, err := tx.DocumentsOf(documents.Team, documents.Route, documents.Connection, documents.Calendar,
		documents.Reader)
	if err != nil {
		return nil, err
	}
	for _, row := range rows {
		docs, found := documents.Parse([]documents.File{{Name: row.Name, Text: row.Text}})
		if len(docs) != 1 {
			// Others are told all the same; it was sound when it was pushed.
			e.Log.Error("a document cannot be read", "kind", row.Kind, "name", row.Name, "finding", found[0].Sentence())
			continue
		}
		if err := w.add(docs[0]); err != nil {
			e.Log.Error("a document cannot be used", "kind", row.Kind, "name", row.Name, "error", err)
		}
	}
	for name, t := range w.Teams {
		if err := e.fill(tx, t, e.Now()); err != nil {
			return nil, err
		}
		if t.Rota != nil {
			t.Rota.Foresee(e.Now().AddDate(0, -foreseenMonths, 0), e.Now().AddDate(0, 8*foreseenMonths, 0))
		}
		in, err := tx.StandIns(name, e.Now())
		if err != nil {
			return nil, err
		}
		w.StandIns[name] = store.InRota(in)
	}
	return w, w.addPeople(tx, e)
}

// shipped is what is known to only read where nobody says more.
var shipped = sync.OnceValue(library.Reads)

// Reads is what is known to only read now.
func (e *Engine) Reads(tx *store.Tx) (*reads.Set, error) {
	w, err := e.World(tx)
	if err != nil {
		return nil, err
	}
	return w.Reads, nil
}

func (w *World) add(d *documents.Document) error {
	switch {
	case d.Reader != nil:
		return w.Reads.Extend(d.Reader)
	case d.Team != nil:
		w.Teams[d.Name] = d.Team
	case d.Route != nil:
		w.Routes = append(w.Routes, d.Route)
	case d.Calendar != nil:
		w.Calendars[d.Name] = d.Calendar
	case d.Connection != nil:
		w.Connections[d.Name] = d.Connection
		for word, list := range map[string]*[]string{"room": &w.Rooms, "connection": &w.Sinks, "ticket": &w.Desks} {
			if d.Connection.Is().NamedBy(word) {
				*list = append(*list, d.Name)
			}
		}
	}
	return nil
}

// addPeople adds those who sign in, with the ways that they proved and that lead somewhere.
func (w *World) addPeople(tx *store.Tx, e *Engine) error {
	people, err := tx.PeopleQuiet()
	if err != nil {
		return err
	}
	for _, p := range people {
		q, err := route.ParseQuiet(p.Quiet, p.QuietZone)
		if err != nil {
			e.Log.Error("quiet hours cannot be read", "person", p.Name, "error", err)
		}
		who := access.PersonWith(p.Name, p.Roles)
		w.People[p.Name] = &route.Person{Name: p.Name, Quiet: q,
			Responds: access.Can(who, access.Respond, access.Installation) == nil,
			Decides:  access.Can(who, access.Decide, access.Installation) == nil}
		if who.Has(access.Admin) {
			w.Admins = append(w.Admins, p.Name)
		}
	}
	ways, err := tx.Contacts("")
	if err != nil {
		return err
	}
	for _, x := range ways {
		p := w.People[x.Person]
		if p != nil && x.VerifiedAt != nil && w.Connections[x.Connection] != nil {
			p.Contacts = append(p.Contacts, route.Contact{Connection: x.Connection, Address: x.Address})
		}
	}
	return nil
}

// FeedBefore is how much of the past a calendar is kept for.
const FeedBefore = 31 * 24 * time.Hour

// fill puts what calendars said into the lines of a rota that are read from them.
func (e *Engine) fill(tx *store.Tx, t *route.Team, at time.Time) error {
	if len(t.Feeds) == 0 {
		return nil
	}
	rows, err := tx.RotaFeeds(t.Name)
	if err != nil {
		return fmt.Errorf("read what the calendars of %s said: %w", t.Name, err)
	}
	for _, r := range rows {
		f := t.Feeds[r.Line]
		if f == nil || r.Line >= len(t.Rota.Lines) {
			continue // its document was changed
		}
		if f.Trouble = r.Trouble; r.ReadAt == nil {
			continue
		}
		f.ReadAt = *r.ReadAt
		turns, _, err := t.Turns(r.Line, r.Text, at.Add(-FeedBefore))
		if err != nil {
			e.Log.Error("what a calendar said can be read no more", "team", t.Name, "line", r.Line, "error", err)
			continue
		}
		t.Rota.Lines[r.Line] = turns
	}
	return nil
}
