package tell

import (
	"slices"
	"time"

	"urgentis/core/expr"
	"urgentis/core/flow"
	"urgentis/core/reading"
	"urgentis/core/runbook"
)

// Leading is the reading that tells the most of how bad a trouble is.
type Leading struct {
	Reading, Unit string
	// Look is the title of what takes it, and Place where that stands in its run; "" where only an objective names it.
	Look  string
	Place flow.Place
	Good  reading.Good // which way is better; "" where nothing says so
	// Wanted is what it must fulfil; nil where nothing says so.
	Wanted *expr.Limit
}

// LeadingOf picks it from a run: the first number that the newest open gate rests on, else the first that the newest
// check or gate did; nil where there is none.
func LeadingOf(book *runbook.Book, log []flow.Event) (*Leading, error) {
	s, err := flow.Fold(book, log)
	if err != nil {
		return nil, err
	}
	var list []Ground
	for _, open := range []bool{true, false} {
		for _, e := range slices.Backward(log) {
			switch b := e.Body.(type) {
			case flow.GateRaised:
				if raised, _, _ := s.OpenGate(b.Gate); open && raised == nil {
					continue
				}
			case flow.Judged:
				if open {
					continue
				}
			default:
				continue
			}
			if list = Grounds(s, e.Place); len(list) > 0 {
				return list[0].leading(), nil
			}
		}
	}
	return nil, nil
}

// leading is what a ground is about. What held as a change was proposed and must no longer is what must not hold.
func (g *Ground) leading() *Leading {
	l := &Leading{Reading: g.Reading, Unit: g.Unit, Good: g.Good, Wanted: g.Wanted}
	if g.Look != nil {
		l.Look, l.Place = g.Look.Title, g.Place
	}
	if l.Wanted == nil && g.Held != nil {
		l.Wanted = g.Held.Opposite()
	}
	return l
}

// Line is what one target gave of a reading over time, the oldest first.
type Line struct {
	Target string
	Points []Point
}

// Add takes in points; of one time the first that came stays.
func (l *Line) Add(points ...Point) {
	l.Points = append(l.Points, points...)
	slices.SortStableFunc(l.Points, func(a, b Point) int { return a.At.Compare(b.At) })
	l.Points = slices.CompactFunc(l.Points, func(a, b Point) bool { return a.At.Equal(b.At) })
}

// Worse reports whether one value is worse than another.
func (l *Leading) Worse(a, b float64) bool {
	g := Ground{Good: l.Good, Wanted: l.Wanted}
	return g.worse(a, b)
}

// Standing is how bad a trouble is, by its leading reading.
type Standing struct {
	Leading
	// Worst is the worst of the newest values of all targets.
	Worst Point
	// Then is the worst as the trouble was opened; nil where nothing was read then.
	Then *Point
	// Trend is where the worst target is going; nil where too little was read.
	Trend *Slope
	// Beyond is since when the worst target has missed what is wanted; zero where it does not.
	Beyond time.Time
	// Bad is how many of the targets miss what is wanted, Of how many there are.
	Bad, Of int
	// Every is how often the worst target is read; 0 where it was read once.
	Every time.Duration
}

const (
	// thenWithin is how long before the opening, or after it, what was read counts as how it was then.
	thenWithin = 15 * time.Minute
	// goodFor is for how long a value counts as new that is read once.
	goodFor = 10 * time.Minute
	// gapAfter is after how many of its intervals a missing value is a gap.
	gapAfter = 2.5
)

// StandingOf tells how bad it is, of what targets gave. opened is when the trouble was opened, changed when it was
// changed last, zero for never. nil where nothing was read.
func StandingOf(l Leading, lines []Line, opened, changed time.Time) *Standing {
	g := Ground{Reading: l.Reading, Good: l.Good, Wanted: l.Wanted}
	out := &Standing{Leading: l}
	then := map[string]Point{}
	newest := map[string]Point{}
	for _, line := range lines {
		if len(line.Points) == 0 {
			continue
		}
		newest[line.Target] = line.Points[len(line.Points)-1]
		if p := thenOf(line.Points, opened); p != nil {
			then[line.Target] = *p
		}
	}
	if len(newest) == 0 {
		return nil
	}
	out.Of, out.Worst = len(newest), g.worstOf(newest)
	if len(then) > 0 {
		p := g.worstOf(then)
		out.Then = &p
	}
	if l.Wanted != nil {
		for _, p := range newest {
			if !fulfils(p.Value, *l.Wanted) {
				out.Bad++
			}
		}
	}
	for _, line := range lines {
		if line.Target == out.Worst.Target {
			out.Trend, out.Every = SlopeOf(line.Points, changed), EveryOf(line.Points)
			out.Beyond = beyond(line.Points, l.Wanted)
		}
	}
	return out
}

// thenOf is what a target gave next to a time, before or after it.
func thenOf(points []Point, at time.Time) *Point {
	n := slices.IndexFunc(points, func(p Point) bool { return p.At.After(at) })
	switch {
	case n < 0:
		n = len(points) - 1
	case n > 0 && at.Sub(points[n-1].At) < points[n].At.Sub(at):
		n--
	}
	if points[n].At.Sub(at).Abs() > thenWithin {
		return nil
	}
	return &points[n]
}

// beyond is since when the newest points miss what is wanted; zero where the last one does not.
func beyond(points []Point, wanted *expr.Limit) (since time.Time) {
	if wanted == nil {
		return since
	}
	for _, p := range slices.Backward(points) {
		if fulfils(p.Value, *wanted) {
			return since
		}
		since = p.At
	}
	return since
}

// EveryOf is how often points were taken: the median of what lies between them; 0 for fewer than two.
func EveryOf(points []Point) time.Duration {
	var apart []time.Duration
	for i := 1; i < len(points); i++ {
		apart = append(apart, points[i].At.Sub(points[i-1].At))
	}
	if len(apart) == 0 {
		return 0
	}
	slices.Sort(apart)
	return apart[len(apart)/2]
}

// Old reports whether the value is too old to be called that of now: twice as old as it is apart from the one before,
// a minute at the least.
func (s *Standing) Old(now time.Time) bool {
	if s.Every == 0 {
		return now.Sub(s.Worst.At) > goodFor
	}
	return now.Sub(s.Worst.At) > max(2*s.Every, time.Minute)
}

// Is tells whether it gets better or worse; "" where too little was read.
func (s *Standing) Is() string {
	if s.Trend == nil {
		return ""
	}
	return s.Trend.Is(s.Good, s.Wanted, s.Worst.Value)
}

// Says is the value in words, without its age.
func (s *Standing) Says() string {
	out := s.Reading + " " + Number(s.Worst.Value, s.Unit)
	if s.Worst.Target != "" {
		out += " on " + s.Worst.Target
	}
	if s.Wanted != nil {
		out += " (target " + s.Wanted.String() + ")"
	}
	return out
}

// Number is a number with its unit.
func Number(v float64, unit string) string {
	if unit == "" {
		return expr.Say(v)
	}
	return expr.Say(v) + " " + unit
}

// Gaps lists the places in points, the oldest first, before which values are missing.
func Gaps(points []Point) []int {
	every := EveryOf(points)
	var out []int
	for i := 1; i < len(points); i++ {
		if float64(points[i].At.Sub(points[i-1].At)) > gapAfter*float64(every) {
			out = append(out, i)
		}
	}
	return out
}
