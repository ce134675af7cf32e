package route

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"urgentis/core/calendar"
	"urgentis/core/expr"
)

// Person is somebody who can be told of something.
type Person struct {
	Name string
	// Contacts are how they can be reached, in the order in which they want to be; only what was proven is here.
	Contacts []Contact
	// Quiet are the hours in which they are not told of what can wait; nil: none.
	Quiet *calendar.Calendar
	// Responds and Decides are the rights to answer, and to decide gates.
	Responds, Decides bool
}

// May reports whether somebody has the right to what a kind of notice asks for. Nobody who is not known has any.
func (w *World) May(name string, k Kind) bool {
	p := w.People[name]
	switch {
	case p == nil:
		return false
	case k == ApprovalNeeded:
		return p.Decides
	case k.Asks() || k == NobodyStarted:
		return p.Responds
	}
	return true
}

// Contact is a connection and an address there: a mail address, a number, a name in a room.
type Contact struct {
	Connection string `json:"connection"`
	Address    string `json:"address"`
}

// Route says who is told of some notices. All routes that fit a notice count; where none does, its team is told.
type Route struct {
	Name string
	// When is judged on the notice; nil: of all.
	When *expr.Program
	// Hours are those in which it holds; nil: at any time. Inside says whether within or outside of them.
	Hours  string
	Inside bool
	// Tell are rooms, teams, on-calls and people, told at once.
	Tell []string
	// EscalateAfter is how long an urgent notice waits on each rung; 0: DefaultEscalation.
	EscalateAfter time.Duration
	// Page is how long a runbook may work on a bad incident before somebody is called; 0: DefaultPage.
	Page time.Duration
	// Last names the last resort: it is told of what nobody took, and of what nobody else can be told.
	Last bool
	// Quiet routes tell nobody: for what is not to be told.
	Nobody bool
}

// The words for whoever is told, beside teams.
const (
	roomPrefix   = "room/"
	personPrefix = "person/"
	// connectionPrefix is for whatever carries messages to no single person: rooms, signed webhooks, logs.
	connectionPrefix = "connection/"
)

// Connection is the connection that a word such as connection/log-host names; "" for a word that names none.
func Connection(word string) string { return after(word, connectionPrefix) }

// IsWord reports whether a word names somebody or something that can be told: room/, team/, on-call/, person/ or
// connection/ and a name.
func IsWord(word string) bool {
	team, _ := TeamOf(word)
	return team != "" || Room(word) != "" || PersonOf(word) != "" || Connection(word) != ""
}

// Room is the room that a word such as room/quayside-room names; "" for a word that names none.
func Room(word string) string { return after(word, roomPrefix) }

// PersonOf is the person that a word such as person/mara names; "" for a word that names none.
func PersonOf(word string) string { return after(word, personPrefix) }

func after(word, prefix string) string {
	if name, ok := strings.CutPrefix(word, prefix); ok {
		return name
	}
	return ""
}

// World is who there is, as it is when a notice is looked at.
type World struct {
	Routes   []*Route
	Teams    map[string]*Team
	StandIns map[string][]calendar.StandIn // by team
	People   map[string]*Person
	Rooms    []string // the connections that are rooms
	// Sinks are the connections that carry messages to no single person, rooms among them.
	Sinks     []string
	Calendars map[string]*calendar.Calendar
	// Desks are the connections to ticket desks. They are told of incidents, by no route.
	Desks []string
	// Admins are those who have all rights: who is called for what nobody else could be.
	Admins []string
}

// Empty reports whether there is nobody at all whom anything could be told.
func (w *World) Empty() bool {
	return len(w.Sinks)+len(w.Rooms) == 0 && len(w.Teams) == 0 && len(w.Routes) == 0 && len(w.Desks) == 0
}

// How urgent notices escalate.
const (
	// DefaultEscalation is how long each rung has.
	DefaultEscalation = 5 * time.Minute
	// DefaultPage is how long a runbook may work on a bad incident before somebody is called.
	DefaultPage = 10 * time.Minute
	// nextContact is how long somebody has on one way before the next is tried too.
	nextContact = time.Minute
)

// rung is those who are told together, and why.
type rung struct {
	words []string
	why   string
}

// matching are the routes that fit a notice at a moment, but for last resorts. A condition that cannot be judged on it
// does not hold.
func (w *World) matching(n *Notice, at time.Time) []*Route {
	var out []*Route
	scope := &expr.Scope{Names: map[string]any{"notice": n.Names()}, Now: at}
	for _, r := range w.Routes {
		if r.Last {
			continue
		}
		if c := w.Calendars[r.Hours]; r.Hours != "" && (c == nil || c.Inside(at) != r.Inside) {
			continue
		}
		if r.When != nil {
			if ok, err := r.When.Bool(scope); err != nil || !ok {
				continue
			}
		}
		out = append(out, r)
	}
	return out
}

// PageAfter is how long a runbook may work on a bad incident before somebody is called: as the routes say that fit when
// it is opened, the shortest of them.
func (w *World) PageAfter(n *Notice, at time.Time) time.Duration {
	var out time.Duration
	for _, r := range w.matching(n, at) {
		if r.Page != 0 && (out == 0 || r.Page < out) {
			out = r.Page
		}
	}
	if out == 0 {
		out = DefaultPage
	}
	return out
}

// ladder is who is told of a notice, rung by rung, and how long each rung has. silent says which route tells nobody; ""
// where somebody is told.
func (w *World) ladder(n *Notice, at time.Time) (rungs []rung, escalate time.Duration, silent string) {
	if n.Kind == Said && n.To != "" {
		return []rung{{[]string{n.To}, "the runbook says so"}}, DefaultEscalation, ""
	}
	routes := w.matching(n, at)
	escalate = DefaultEscalation
	var first rung
	for _, r := range routes {
		if r.Nobody {
			return nil, escalate, r.Name
		}
		first.words = append(first.words, r.Tell...)
		first.why = "route " + r.Name
		if r.EscalateAfter != 0 {
			escalate = min(escalate, r.EscalateAfter)
		}
	}
	team, onCall := TeamOf(n.To)
	if team == "" {
		team, onCall = n.Owner, true
	}
	t := w.Teams[team]
	var above []rung
	switch {
	case t == nil:
	case len(routes) == 0:
		first.why = "team " + t.Says()
		if t.Room != "" {
			first.words = append(first.words, roomPrefix+t.Room)
		}
		if n.Urgent || t.Room == "" {
			first.words = append(first.words, firstOf(t, onCall))
		}
		above = w.rungs(t, 1)
	case slices.Contains(first.words, onCallPrefix+t.Name):
		above = w.rungs(t, 1)
	default:
		// By day a room may be told first; whoever is on call comes after it.
		above = w.rungs(t, 0)
	}
	if p := PersonOf(n.To); p != "" {
		first.words, first.why = append(first.words, n.To), cmp.Or(first.why, "it is asked of them")
	}
	has := n.Holder != "" && n.Urgent
	if has && !n.Kind.whole() {
		first.words = append(first.words, personPrefix+n.Holder)
	}
	if len(first.words) == 0 {
		for _, r := range w.Rooms {
			first.words = append(first.words, roomPrefix+r)
		}
		first.why = "no route and no team is for it"
	}
	if has && n.Kind.whole() {
		rungs = append(rungs, rung{[]string{personPrefix + n.Holder}, "you have it"})
		if n.Former != "" {
			rungs = append(rungs, rung{[]string{personPrefix + n.Former}, "you had it before"})
		}
	}
	rungs = append(rungs, first)
	if n.Urgent {
		rungs = append(rungs, above...)
	}
	return append(rungs, w.last()...), escalate, ""
}

func firstOf(t *Team, onCall bool) string {
	if onCall && t.Rota != nil {
		return onCallPrefix + t.Name
	}
	return teamPrefix + t.Name
}

// rungs are those of a team from a line of its rota on: each line, then all of it.
func (w *World) rungs(t *Team, line int) []rung {
	var out []rung
	if t.Rota != nil {
		for ; line < len(t.Rota.Lines); line++ {
			out = append(out, rung{[]string{onCallLine(t.Name, line)}, "on call for " + t.Says()})
		}
	}
	return append(out, rung{[]string{teamPrefix + t.Name}, "team " + t.Says()})
}

// last is the last resort.
func (w *World) last() []rung {
	var out rung
	for _, r := range w.Routes {
		if r.Last {
			out.words = append(out.words, r.Tell...)
		}
	}
	if len(out.words) == 0 {
		return nil
	}
	out.why = "the last resort"
	return []rung{out}
}

// onCallLine is the word for whoever is on call in one line: on-call/quayside#2 for the second.
func onCallLine(team string, line int) string {
	if line == 0 {
		return onCallPrefix + team
	}
	return onCallPrefix + team + "#" + string(rune('1'+line))
}

// who resolves a word to people and rooms at a moment. None are told of as sentences: what could not be found.
func (w *World) who(word string, at time.Time) (people, rooms []string, none string) {
	if room := Room(word); room != "" {
		if !slices.Contains(w.Rooms, room) {
			return nil, nil, "there is no room " + room
		}
		return nil, []string{room}, ""
	}
	if c := Connection(word); c != "" {
		if !slices.Contains(w.Sinks, c) {
			return nil, nil, "there is no connection " + c + " that carries messages by itself"
		}
		return nil, []string{c}, ""
	}
	if p := PersonOf(word); p != "" {
		return []string{p}, nil, ""
	}
	name, onCall := TeamOf(word)
	name, number, _ := strings.Cut(name, "#")
	t := w.Teams[name]
	switch {
	case name == "":
		return nil, nil, word + " names nobody"
	case t == nil:
		return nil, nil, "there is no team " + name
	case !onCall || t.Rota == nil:
		return t.Members, nil, ""
	}
	lines := t.OnCall(at, w.StandIns[name])
	if number != "" {
		line := int(number[0] - '1')
		if line < 0 || line >= len(lines) || lines[line].Person == "" {
			return nil, nil, "nobody of " + t.Says() + " is on call in line " + number
		}
		return []string{lines[line].Person}, nil, ""
	}
	for _, d := range lines {
		if d.Person != "" {
			return []string{d.Person}, nil, ""
		}
	}
	return nil, nil, "nobody of " + t.Says() + " is on call"
}
