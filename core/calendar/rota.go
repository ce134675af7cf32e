package calendar

import (
	"fmt"
	"slices"
	"time"

	"github.com/teambition/rrule-go"
)

// Rota is who of a team is on call when: the first line, the second, and so on.
type Rota struct {
	Zone  *time.Location
	Lines [][]Turn
}

// Turn is duty that comes again and again, to one after the other.
type Turn struct {
	// Rule says when it begins, by the clock on the wall of the rota's zone (RFC 5545); nil where Set or Once does.
	Rule *rrule.RRule
	Set  *rrule.Set
	Once time.Time
	// Zone is that of its length; nil for the rota's.
	Zone *time.Location
	// Days and Time are how long it lasts by that clock; both 0: until it begins anew.
	Days   int
	Time   time.Duration
	People []string
	// foreseen are its beginnings in a stretch of time; nil: they are reckoned from its first one each time.
	foreseen *foreseen
}

// foreseen are the beginnings of a turn from one moment to another, with the last one before and the first one after,
// as far as there are any. first is the how manieth the first of them is, from 0.
type foreseen struct {
	from, until time.Time
	begins      []time.Time
	first       int
}

// Foresee reckons when all turns begin from one moment to another, once: whoever asks about that time has not to go
// through all that was before it.
func (r *Rota) Foresee(from, until time.Time) {
	for _, line := range r.Lines {
		for i := range line {
			line[i].foreseen = line[i].foresee(from, until)
		}
	}
}

func (t *Turn) foresee(from, until time.Time) *foreseen {
	f := &foreseen{from: from, until: until}
	next := t.begins()
	for n := range maxOccurring {
		b, more := next()
		if !more {
			return f
		}
		if !b.After(from) {
			f.begins, f.first = append(f.begins[:0], b), n
			continue
		}
		if len(f.begins) == 0 {
			f.first = n
		}
		if f.begins = append(f.begins, b); b.After(until) {
			return f
		}
	}
	return nil
}

// StandIn is somebody who is on call instead of whoever would be.
type StandIn struct {
	ID          int64
	Line        int // from 0
	From, Until time.Time
	Person      string
	For         string // only instead of this person; "" for whoever it is
}

// Duty is a stretch of time in which one person is on call.
type Duty struct {
	Person      string
	From, Until time.Time
	Instead     string // who would be on call without a stand-in; "" without one
}

// LineNames are what the lines of a rota are called.
var LineNames = []string{"first", "second", "third"}

// Bounds of a rota.
const (
	MaxLines     = 5
	MaxTurns     = 20
	MaxPeople    = 100
	maxOccurring = 50_000 // how often one turn may have begun before somebody asks
)

// ParseTurn reads when a turn begins: its first begin, as 2026-01-05 09:00 by the clock on the wall, and a rule of RFC
// 5545 for those after it, as FREQ=WEEKLY;BYDAY=MO.
func ParseTurn(zone *time.Location, from, every string) (*rrule.RRule, error) {
	begin, err := time.ParseInLocation("2006-01-02 15:04", from, zone)
	if err != nil {
		return nil, fmt.Errorf("%q is no time such as 2026-01-05 09:00", from)
	}
	o, err := rrule.StrToROptionInLocation(every, zone)
	if err != nil {
		return nil, fmt.Errorf("%q is no rule of RFC 5545, such as FREQ=WEEKLY;BYDAY=MO: %w", every, err)
	}
	switch {
	case !o.Dtstart.IsZero():
		return nil, fmt.Errorf("the rule must not say DTSTART; from does")
	case o.Freq > rrule.DAILY:
		return nil, fmt.Errorf("a turn begins once a day at most: FREQ is YEARLY, MONTHLY, WEEKLY or DAILY")
	case len(o.Byhour)+len(o.Byminute)+len(o.Bysecond) > 0:
		return nil, fmt.Errorf(
			"from says at what time of the day a turn begins: leave BYHOUR, BYMINUTE and BYSECOND out",
		)
	}
	if never(o) {
		return nil, fmt.Errorf("%q never comes about: there is no such day", every)
	}
	o.Dtstart = begin
	r, err := rrule.NewRRule(*o)
	if err != nil {
		return nil, fmt.Errorf("%q cannot be followed: %w", every, err)
	}
	return r, nil
}

// OnCall tells who is on call in a line (from 0) at a moment, from when and until when. ok: somebody is. Of turns at
// the same time the one that stands first holds.
func (r *Rota) OnCall(line int, at time.Time, standIns []StandIn) (d Duty, ok bool) {
	if line < 0 || line >= len(r.Lines) {
		return d, false
	}
	from, until := time.Time{}, farAway(at)
	for _, t := range r.Lines[line] {
		turn := t.at(r.Zone, at)
		if turn.person != "" {
			d, ok = Duty{turn.person, later(from, turn.from), earlier(until, turn.until), ""}, true
			break
		}
		// What stands before it was over by then, and takes over when it begins again.
		from, until = later(from, turn.from), earlier(until, turn.until)
	}
	if !ok {
		d = Duty{From: from, Until: until}
	}
	return stoodIn(line, at, d, standIns)
}

// farAway is later than anything that is asked about a moment.
func farAway(at time.Time) time.Time { return at.AddDate(100, 0, 0) }

// stretch is a time in which a turn is somebody's, or nobody's.
type stretch struct {
	person      string
	from, until time.Time
}

// at tells whose turn it is at a moment.
func (t Turn) at(zone *time.Location, at time.Time) stretch {
	if t.Zone != nil {
		zone = t.Zone
	}
	begun, after, n := t.around(at)
	if n < 0 {
		return stretch{until: after}
	}
	until := after
	if end := t.end(zone, begun); !end.IsZero() {
		until = earlier(until, end)
	}
	if !at.Before(until) {
		return stretch{from: until, until: after}
	}
	return stretch{t.People[n%len(t.People)], begun, until}
}

// around gives the last beginning until a moment and how manieth it is, from 0, or -1; and the first one after it.
func (t Turn) around(at time.Time) (begun, after time.Time, n int) {
	after, n = farAway(at), -1
	if f := t.foreseen; f != nil && !at.Before(f.from) && at.Before(f.until) {
		i, _ := slices.BinarySearchFunc(f.begins, at, func(b, at time.Time) int {
			if b.After(at) {
				return 1
			}
			return -1
		})
		if i < len(f.begins) {
			after = f.begins[i]
		}
		if i > 0 {
			begun, n = f.begins[i-1], f.first+i-1
		}
		return begun, after, n
	}
	next := t.begins()
	for range maxOccurring {
		b, more := next()
		if !more {
			break
		}
		if b.After(at) {
			return begun, b, n
		}
		begun = b
		n++
	}
	return begun, after, n
}

// never reports whether a rule names only days that its months do not have, such as 30 February: to look for one would
// take until the year 9999.
func never(o *rrule.ROption) bool {
	if len(o.Bymonth) == 0 || len(o.Bymonthday) == 0 {
		return false
	}
	most := []int{31, 29, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31}
	for _, m := range o.Bymonth {
		for _, d := range o.Bymonthday {
			if d < 0 {
				d = -d
			}
			if m >= 1 && m <= 12 && d >= 1 && d <= most[m-1] {
				return false
			}
		}
	}
	return true
}

// begins gives, one after the other, when a turn begins.
func (t Turn) begins() func() (time.Time, bool) {
	switch {
	case t.Rule != nil:
		return t.Rule.Iterator()
	case t.Set != nil:
		return t.Set.Iterator()
	}
	more := true
	return func() (time.Time, bool) {
		defer func() { more = false }()
		return t.Once, more
	}
}

// end is when a turn that began at a moment is over, by the clock on the wall; zero where the next one ends it.
func (t Turn) end(zone *time.Location, begun time.Time) time.Time {
	if t.Days == 0 && t.Time == 0 {
		return time.Time{}
	}
	b := begun.In(zone)
	h, m := int(t.Time/time.Hour), int(t.Time%time.Hour/time.Minute)
	return time.Date(b.Year(), b.Month(), b.Day()+t.Days, b.Hour()+h, b.Minute()+m, b.Second(), 0, zone)
}

// stoodIn puts the stand-in of a moment in the place of whoever would be on call. Of several, the one that was entered
// last holds.
func stoodIn(line int, at time.Time, d Duty, list []StandIn) (Duty, bool) {
	would := d.Person
	for _, s := range list {
		if s.Line != line {
			continue
		}
		for _, edge := range []time.Time{s.From, s.Until} {
			if edge.After(at) {
				d.Until = earlier(d.Until, edge)
			} else {
				d.From = later(d.From, edge)
			}
		}
		if !at.Before(s.From) && at.Before(s.Until) && (s.For == "" || s.For == would) {
			if d.Person, d.Instead = s.Person, would; s.Person == would {
				d.Instead = ""
			}
		}
	}
	return d, d.Person != ""
}

func earlier(a, b time.Time) time.Time {
	if b.Before(a) {
		return b
	}
	return a
}

func later(a, b time.Time) time.Time {
	if b.After(a) {
		return b
	}
	return a
}

// Duties lists who is on call in a line from one moment to another, in order; where nobody is, the person is "".
func (r *Rota) Duties(line int, from, until time.Time, standIns []StandIn) []Duty {
	var out []Duty
	for at := from; at.Before(until) && len(out) < maxDuties; {
		d, _ := r.OnCall(line, at, standIns)
		d.From, d.Until = later(d.From, at), earlier(d.Until, until)
		if n := len(out) - 1; n >= 0 && out[n].Person == d.Person && out[n].Instead == d.Instead {
			out[n].Until = d.Until
		} else {
			out = append(out, d)
		}
		at = d.Until
	}
	return out
}

// maxDuties bounds how many stretches are listed at once.
const maxDuties = 2000

// Holes lists the stretches of time in which nobody is on call in a line.
func (r *Rota) Holes(line int, from, until time.Time, standIns []StandIn) []Duty {
	return slices.DeleteFunc(r.Duties(line, from, until, standIns), func(d Duty) bool { return d.Person != "" })
}

// Twice is a stretch of time in which one person is on call in two lines, so that escalating from the one to the other
// reaches nobody else. Lines count from 0.
type Twice struct {
	Person      string
	Line, Other int
	From, Until time.Time
}

// Twice lists when one person is on call in two lines.
func (r *Rota) Twice(from, until time.Time, standIns []StandIn) []Twice {
	lines := make([][]Duty, len(r.Lines))
	for i := range lines {
		lines[i] = r.Duties(i, from, until, standIns)
	}
	var out []Twice
	for i := range lines {
		for j := i + 1; j < len(lines); j++ {
			out = append(out, both(i, j, lines[i], lines[j])...)
		}
	}
	return out
}

// both lists where the duties of two lines are the same person's.
func both(i, j int, one, other []Duty) (out []Twice) {
	for a, b := 0, 0; a < len(one) && b < len(other); {
		x, y := one[a], other[b]
		from, until := later(x.From, y.From), earlier(x.Until, y.Until)
		if x.Person != "" && x.Person == y.Person && from.Before(until) {
			if n := len(out) - 1; n >= 0 && out[n].Person == x.Person && out[n].Until.Equal(from) {
				out[n].Until = until
			} else {
				out = append(out, Twice{x.Person, i, j, from, until})
			}
		}
		if x.Until.After(y.Until) {
			b++
		} else {
			a++
		}
	}
	return out
}

// People lists everybody who has a turn, each once.
func (r *Rota) People() []string {
	var out []string
	for _, line := range r.Lines {
		for _, t := range line {
			for _, p := range t.People {
				if !slices.Contains(out, p) {
					out = append(out, p)
				}
			}
		}
	}
	return out
}
