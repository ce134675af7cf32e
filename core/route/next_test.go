package route

import (
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"urgentis/core/calendar"
	"urgentis/core/expr"
)

var night = time.Date(2026, 11, 25, 3, 0, 0, 0, time.UTC)

func weekly(t require.TestingT, from string, people ...string) calendar.Turn {
	rule, err := calendar.ParseTurn(time.UTC, from, "FREQ=WEEKLY;BYDAY=MO")
	require.NoError(t, err)
	return calendar.Turn{Rule: rule, People: people}
}

func condition(t require.TestingT, text string) *expr.Program {
	c, err := expr.NewCompiler(expr.Schema{})
	require.NoError(t, err)
	p, err := c.Compile(text, expr.InReport.With("notice", ""))
	require.NoError(t, err)
	return p
}

func person(name string, kinds ...string) *Person {
	p := &Person{Name: name, Responds: true, Decides: true}
	for _, k := range kinds {
		p.Contacts = append(p.Contacts, Contact{k, name + "@" + k})
	}
	return p
}

func quayside(t require.TestingT) *World {
	return &World{
		Teams: map[string]*Team{"quayside": {
			Name: "quayside", Members: []string{"mara", "jonas", "iva"}, Room: "quay",
			Rota: &calendar.Rota{Zone: time.UTC, Lines: [][]calendar.Turn{
				{weekly(t, "2026-01-05 09:00", "mara")}, {weekly(t, "2026-01-05 09:00", "jonas")},
			}},
		}},
		People: map[string]*Person{
			"mara": person("mara", "text", "mail"), "jonas": person("jonas", "text"), "iva": person("iva", "mail"),
			"otto": person("otto", "text"),
		},
		Rooms: []string{"quay", "office"},
		Calendars: map[string]*calendar.Calendar{"staffed": {
			Name: "staffed", Zone: time.UTC, Weekly: []calendar.Hours{
				{Days: [7]bool{true, true, true, true, true, true, true}, From: 7 * 60, To: 19 * 60},
			},
		}},
		Routes: []*Route{{Name: "harbour-office", Last: true, Tell: []string{"person/otto", "room/office"}}},
	}
}

// play looks at a notice whenever it wants to be looked at, until nothing is to come or somebody takes it. fails says
// what does not arrive. It gives what was sent, as minutes and receivers.
func play(n *Notice, w *World, at time.Time, fails func(Send) bool, taken func(told []Told) bool,
) (sent []string, told []Told, last Decision) {
	var stood Stood
	begin := at
	for range 1000 {
		d := Next(n, stood, told, w, at)
		stood, last = d.Stood, d
		again := false
		for _, s := range d.Send {
			sent = append(sent, fmt.Sprintf("%d %s by %s", int(at.Sub(begin).Minutes()), s.To, s.Contact.Connection))
			told = append(told, Told{To: s.To, Contact: s.Contact, Rung: s.Rung, At: at, Failed: fails(s)})
			again = again || fails(s)
		}
		switch {
		case taken(told):
			return sent, told, last
		case again: // what failed is looked at again at once
		case d.LookAt.IsZero():
			return sent, told, last
		default:
			at = d.LookAt
		}
	}
	panic("it goes on for ever")
}

func none[T any](T) bool { return false }

func TestUrgentNoticesEscalate(t *testing.T) {
	w := quayside(t)
	gate := &Notice{Kind: ApprovalNeeded, Urgent: true, To: "on-call/quayside", Owner: "quayside", At: night}
	sent, _, _ := play(gate, w, night, none, none)
	assert.Equal(t, []string{
		"0 room/quay by quay", "0 mara by text", "1 mara by mail", "5 jonas by text", "10 iva by mail",
		"15 otto by text", "15 room/office by office",
	}, sent)
}

func TestWhatFailsIsToldAnotherWayAtOnce(t *testing.T) {
	gate := &Notice{Kind: ApprovalNeeded, Urgent: true, Owner: "quayside", At: night}
	sent, _, _ := play(gate, quayside(t), night, func(s Send) bool { return s.Contact.Connection == "text" }, none)
	assert.Equal(t, []string{
		"0 room/quay by quay", "0 mara by text", "0 mara by mail", "5 jonas by text", "5 iva by mail",
		"10 otto by text", "10 room/office by office",
	}, sent, "jonas cannot be reached: the team follows at once")
}

func TestByDayTheRoomFirst(t *testing.T) {
	w := quayside(t)
	w.Routes = append(w.Routes, &Route{Name: "by-day", Hours: "staffed", Inside: true, EscalateAfter: 2 * time.Minute,
		When: condition(t, `notice.owner == "quayside"`), Tell: []string{"room/quay"}})
	gate := &Notice{Kind: ApprovalNeeded, Urgent: true, Owner: "quayside", At: night}
	day := night.Add(8 * time.Hour)
	sent, _, _ := play(gate, w, day, none, func(told []Told) bool { return len(told) == 3 })
	assert.Equal(t, []string{"0 room/quay by quay", "2 mara by text", "3 mara by mail"}, sent)
	sent, _, _ = play(&Notice{Kind: Said, Owner: "quayside"}, w, day, none, none)
	assert.Equal(t, []string{"0 room/quay by quay"}, sent, "what is not urgent disturbs nobody else")
	sent, _, d := play(&Notice{Kind: Said, Owner: "signals"}, w, day, none, none)
	assert.Equal(t, []string{"0 room/quay by quay", "0 room/office by office"}, sent, "nobody is named: every room")
	assert.False(t, d.Nobody)
}

// Whom a runbook names is told, in the place of whoever routes and teams would tell.
func TestWhomARunbookNamesIsTold(t *testing.T) {
	w := quayside(t)
	w.Sinks = []string{"quay", "office", "log-host"}
	w.Routes = append(w.Routes, &Route{Name: "all", Tell: []string{"room/quay"}})
	for to, want := range map[string][]string{
		"team/quayside":       {"0 mara by text", "0 jonas by text", "0 iva by mail"},
		"on-call/quayside":    {"0 mara by text"},
		"person/otto":         {"0 otto by text"},
		"room/office":         {"0 room/office by office"},
		"connection/log-host": {"0 room/log-host by log-host"},
		"":                    {"0 room/quay by quay"},
		"connection/mail":     nil,
	} {
		sent, _, d := play(&Notice{Kind: Said, To: to, Owner: "quayside"}, w, night.Add(8*time.Hour), none, none)
		assert.Equal(t, want, sent, to)
		assert.Equal(t, want == nil, d.Nobody, to)
	}
}

func TestQuietHoursHoldWhatCanWait(t *testing.T) {
	w := quayside(t)
	w.Teams["quayside"].Room = ""
	w.People["mara"].Quiet = &calendar.Calendar{Zone: time.UTC, Weekly: []calendar.Hours{
		{Days: [7]bool{true, true, true, true, true, true, true}, From: 22 * 60, To: 6 * 60}}}
	sent, _, _ := play(&Notice{Kind: Said, Owner: "quayside", To: "on-call/quayside"}, w, night, none, none)
	assert.Equal(t, []string{"180 mara by text"}, sent)
	sent, _, _ = play(&Notice{Kind: ApprovalNeeded, Urgent: true, Owner: "quayside"}, w, night, none,
		func(told []Told) bool { return true })
	assert.Equal(t, []string{"0 mara by text"}, sent)
}

func TestARotaWithAHole(t *testing.T) {
	w := quayside(t)
	w.Teams["quayside"].Rota.Lines[0] = []calendar.Turn{weekly(t, "2030-01-07 09:00", "mara")}
	gate := &Notice{Kind: ApprovalNeeded, Urgent: true, Owner: "quayside", At: night}
	sent, _, _ := play(gate, w, night, none, func(told []Told) bool { return len(told) == 2 })
	assert.Equal(t, []string{"0 room/quay by quay", "0 jonas by text"}, sent)
	w.Teams["quayside"].Rota.Lines = w.Teams["quayside"].Rota.Lines[:1]
	d := Next(gate, Stood{}, nil, w, night)
	assert.Equal(t, []string{"nobody of quayside is on call"}, d.None)
}

func TestNobodyAtAllIsSaid(t *testing.T) {
	d := Next(&Notice{Kind: HandOver, Urgent: true, To: "on-call/signals"}, Stood{}, nil, &World{}, night)
	assert.True(t, d.Nobody)
	w := quayside(t)
	w.Routes = append(w.Routes, &Route{Name: "not-of-tests", Nobody: true, When: condition(t, `notice.service == "x"`)})
	d = Next(&Notice{Kind: Said, Service: "x"}, Stood{}, nil, w, night)
	assert.Equal(t, "not-of-tests", d.Silent)
	assert.Empty(t, d.Send)
}

// anyWorld makes a world of up to three teams and six people, with ways, rotas with holes, quiet hours and routes.
func anyWorld(t *rapid.T) *World {
	w := &World{Teams: map[string]*Team{}, People: map[string]*Person{}, Calendars: map[string]*calendar.Calendar{}}
	names := []string{"ada", "ben", "cleo", "dan", "eve", "fay"}
	some := func(label string) []string {
		return rapid.SliceOfNDistinct(rapid.SampledFrom(names), 1, 4, rapid.ID).Draw(t, label)
	}
	for _, name := range names {
		ways := rapid.SliceOfNDistinct(rapid.SampledFrom([]string{"mail", "text", "hook"}), 0, 3, rapid.ID).
			Draw(t, name)
		p := person(name, ways...)
		if rapid.Bool().Draw(t, "shares an address") && len(p.Contacts) > 0 {
			p.Contacts[0].Address = "everybody"
		}
		p.Decides = rapid.IntRange(0, 2).Draw(t, "decides") > 0
		if p.Decides && rapid.IntRange(0, 4).Draw(t, "administers") == 0 {
			w.Admins = append(w.Admins, name)
		}
		if rapid.IntRange(0, 3).Draw(t, "quiet") == 0 {
			p.Quiet = &calendar.Calendar{Zone: time.UTC, Weekly: []calendar.Hours{
				{Days: [7]bool{true, true, true, true, true, true, true}, From: 60, To: 7 * 60}}}
		}
		w.People[name] = p
	}
	w.Rooms = rapid.SliceOfNDistinct(rapid.SampledFrom([]string{"a", "b"}), 0, 2, rapid.ID).Draw(t, "rooms")
	for _, name := range rapid.SliceOfNDistinct(rapid.SampledFrom([]string{"x", "y"}), 0, 2, rapid.ID).Draw(t, "teams") {
		team := &Team{Name: name, Members: some("members")}
		if rapid.Bool().Draw(t, "has a room") {
			team.Room = "a"
		}
		if lines := rapid.IntRange(0, 3).Draw(t, "lines"); lines > 0 {
			team.Rota = &calendar.Rota{Zone: time.UTC}
			for range lines {
				from := rapid.SampledFrom([]string{"2026-01-05 09:00", "2031-01-06 09:00"}).Draw(t, "hole")
				team.Rota.Lines = append(team.Rota.Lines, []calendar.Turn{weekly(t, from, some("turns")...)})
			}
		}
		w.Teams[name] = team
	}
	words := []string{"room/a", "room/gone", "team/x", "on-call/y", "on-call/gone", "person/ada", "person/nobody"}
	for i := range rapid.IntRange(0, 3).Draw(t, "routes") {
		r := &Route{Name: fmt.Sprint("r", i), Last: rapid.Bool().Draw(t, "last"),
			Tell: rapid.SliceOfN(rapid.SampledFrom(words), 1, 3).Draw(t, "tell")}
		if rapid.Bool().Draw(t, "has a condition") {
			r.When = condition(t, `notice.severity == "major"`)
		}
		w.Routes = append(w.Routes, r)
	}
	return w
}

// reachable reports whether anybody of the ladder can be reached by anything that does not fail.
func reachable(n *Notice, w *World, at time.Time, fails func(Send) bool) bool {
	rungs, _, _ := w.ladder(n, at)
	for i, r := range rungs {
		for _, word := range r.words {
			people, rooms, _ := w.who(word, at)
			for _, room := range rooms {
				if !fails(Send{To: "room/" + room, Contact: Contact{Connection: room}, Rung: i}) {
					return true
				}
			}
			for _, name := range people {
				if byAny(name, w, n, fails) {
					return true
				}
			}
		}
	}
	return n.Urgent && slices.ContainsFunc(w.Admins, func(name string) bool { return byAny(name, w, n, fails) })
}

func byAny(name string, w *World, n *Notice, fails func(Send) bool) bool {
	p := w.People[name]
	return p != nil && w.May(name, n.Kind) &&
		slices.ContainsFunc(p.Contacts, func(x Contact) bool { return !fails(Send{To: name, Contact: x}) })
}

// Who may not decide a gate is not called for it, and that is said; where nobody else can be, administrators are.
func TestOnlyWhoMayIsCalled(t *testing.T) {
	w := quayside(t)
	w.Routes, w.Rooms = nil, nil
	w.Teams["quayside"].Room = ""
	for _, name := range []string{"mara", "jonas", "iva"} {
		w.People[name].Decides = false
	}
	gate := &Notice{Kind: ApprovalNeeded, Urgent: true, To: "on-call/quayside", Owner: "quayside", At: night}
	_, told, last := play(gate, w, night, none, none)
	assert.Empty(t, told)
	assert.True(t, last.Nobody)
	assert.Contains(t, last.None, "mara may not decide it")
	w.Admins = []string{"otto"}
	_, told, last = play(gate, w, night, none, none)
	require.Len(t, told, 1)
	assert.Equal(t, "otto", told[0].To)
	assert.False(t, last.Nobody)
	w.People["mara"].Decides = true
	_, told, _ = play(gate, w, night, none, none)
	assert.Equal(t, "mara", told[0].To)
}

func TestNoUrgentNoticeIsToldToNobodyAndNoneTwiceByOneWay(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		w := anyWorld(t)
		bad := rapid.SliceOf(rapid.SampledFrom([]string{"mail", "text", "hook", "a", "b"})).Draw(t, "broken")
		fails := func(s Send) bool { return slices.Contains(bad, s.Contact.Connection) }
		n := &Notice{
			Kind: ApprovalNeeded, Urgent: true, At: night,
			To:       rapid.SampledFrom([]string{"", "on-call/x", "team/y", "person/ben"}).Draw(t, "to"),
			Owner:    rapid.SampledFrom([]string{"", "x", "y", "z"}).Draw(t, "owner"),
			Severity: rapid.SampledFrom([]string{"major", "minor"}).Draw(t, "severity"),
			Holder:   rapid.SampledFrom([]string{"", "eve"}).Draw(t, "holder"),
		}
		if rapid.Bool().Draw(t, "can wait") {
			n.Kind, n.Urgent = Said, false
		}
		_, told, last := play(n, w, night, fails, none)
		seen := map[Contact]bool{}
		heard := false
		for _, x := range told {
			if seen[x.Contact] {
				t.Fatalf("%v was told twice", x.Contact)
			}
			seen[x.Contact] = true
			heard = heard || !x.Failed
		}
		if heard == last.Nobody {
			t.Fatalf("heard %v, and Nobody %v", heard, last.Nobody)
		}
		if n.Urgent && !heard && reachable(n, w, night, fails) {
			t.Fatalf("somebody could have been told: %v", told)
		}
	})
}

func TestAnUrgentNoticeThatNobodyTakesComesToTheLastResort(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		w := anyWorld(t)
		w.People["last"] = person("last", "pager")
		w.Routes = append(w.Routes, &Route{Name: "end", Last: true, Tell: []string{"person/last"}})
		n := &Notice{Kind: HandOver, Urgent: true, To: "on-call/x", Owner: "y", At: night}
		_, told, _ := play(n, w, night, none, none)
		if !slices.ContainsFunc(told, func(x Told) bool { return x.To == "last" }) {
			t.Fatalf("the last resort was not told: %v", told)
		}
	})
}
