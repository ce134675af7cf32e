package tell

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"urgentis/core/flow"

	"urgentis/core/expr"
	"urgentis/core/reading"
	"urgentis/core/runbook"
)

// Ground is a number that a change rests on: what decided that it is proposed, and what will decide whether it helped.
type Ground struct {
	Reading, Unit string
	Good          reading.Good // which way is better; "" where nothing says so
	Look          *runbook.Step
	Place         flow.Place // where the look stands, as it is seen from the change
	// Wanted is what the reading must fulfil for the change to count as a success, Held what it fulfilled when the
	// change was proposed; nil where nothing says so.
	Wanted, Held *expr.Limit
	Points       []Point // oldest first
}

// Point is one taking of a ground.
type Point struct {
	At     time.Time
	Target string
	Value  float64
	// ForGate says that it was taken only to keep the gate informed: the run has not seen it.
	ForGate bool
}

// Bounds of what is kept of a gate's grounds.
const (
	maxGrounds = 4
	maxPoints  = 400
)

// Grounds lists the numbers that the change at a place rests on, the most telling first.
func Grounds(s *flow.State, place flow.Place) []Ground {
	step, book := flow.Find(s.Book(), place)
	if step == nil {
		return nil
	}
	inputs := s.Inputs(place)
	var out []Ground
	add := func(name string) *Ground {
		if i := slices.IndexFunc(out, func(g Ground) bool { return g.Reading == name }); i >= 0 {
			return &out[i]
		}
		look, typ := book.TypeOf(name)
		if look == nil || typ != expr.Integer && typ != expr.Number || len(out) == maxGrounds {
			return nil
		}
		g := Ground{Reading: name, Look: look, Place: place.Seen(look)}
		for _, r := range look.Read {
			if r.Name == name {
				g.Unit, g.Good = r.Unit, r.Good
			}
		}
		out = append(out, g)
		return &out[len(out)-1]
	}
	for _, check := range append(book.ProofsOf(step), step) {
		if check.That == nil {
			continue // it compares with known facts
		}
		for _, l := range check.That.Limits(inputs) {
			if g := add(l.Reading); g != nil && g.Wanted == nil {
				g.Wanted = &l
			}
		}
	}
	for _, cond := range heldBefore(s, book, step, place) {
		for _, l := range cond.Limits(inputs) {
			if g := add(l.Reading); g != nil && g.Held == nil {
				g.Held = &l
			}
		}
	}
	for i := range out {
		out[i].settle(s.Rounds(place, out[i].Reading))
	}
	return slices.DeleteFunc(out, func(g Ground) bool { return len(g.Points) == 0 })
}

// heldBefore lists the conditions that hold as the change is proposed: checks that passed before it, the newest first,
// and its own reasons.
func heldBefore(s *flow.State, book *runbook.Book, step *runbook.Step, place flow.Place) []*expr.Program {
	var out []*expr.Program
	for _, c := range step.Changes() {
		if c.Still != nil {
			out = append(out, c.Still)
		}
	}
	type passed struct {
		at   time.Time
		that *expr.Program
	}
	var checks []passed
	for _, at := range s.Places() {
		st := s.Progress(at)
		check, b := flow.Find(s.Book(), at)
		if b != book || check == nil || check.Verb != runbook.Check || check.That == nil || st.Judged == nil ||
			!place.Sees(at) {
			continue
		}
		if st.Judged.Final && st.Judged.Result == flow.Passes {
			checks = append(checks, passed{st.JudgedAt, check.That})
		}
	}
	slices.SortFunc(checks, func(a, b passed) int { return b.at.Compare(a.at) })
	for _, c := range checks {
		out = append(out, c.that)
	}
	return out
}

// settle takes over the rounds, and which way is better where only the wanted limit says so.
func (g *Ground) settle(rounds []*expr.Round) {
	if g.Good == "" && g.Wanted != nil {
		g.Good = GoodOf(g.Wanted)
	}
	for _, r := range rounds {
		for _, t := range r.Samples {
			if v, ok := expr.AsNumber(t.Value); ok {
				g.Points = append(g.Points, Point{At: t.At, Target: t.Target, Value: v})
			}
		}
	}
	g.order()
}

// GoodOf is which way is better, where a limit is what is wanted; "" where it does not say.
func GoodOf(wanted *expr.Limit) reading.Good {
	switch wanted.Op {
	case "<", "<=":
		return reading.Low
	case ">", ">=":
		return reading.High
	case "==":
		return reading.Near
	}
	return ""
}

// Add takes in what was taken for the gate alone.
func (g *Ground) Add(points ...Point) {
	g.Points = append(g.Points, points...)
	g.order()
}

func (g *Ground) order() {
	slices.SortFunc(g.Points, func(a, b Point) int {
		if c := a.At.Compare(b.At); c != 0 {
			return c
		}
		return strings.Compare(a.Target, b.Target)
	})
	if n := len(g.Points) - maxPoints; n > 0 {
		g.Points = g.Points[n:]
	}
}

// Worst is the worst of the newest values of all targets, and the worst of the oldest ones, with when they were taken.
func (g *Ground) Worst() (first, last Point) {
	oldest, newest := map[string]Point{}, map[string]Point{}
	for _, p := range g.Points {
		if _, ok := oldest[p.Target]; !ok {
			oldest[p.Target] = p
		}
		newest[p.Target] = p
	}
	return g.worstOf(oldest), g.worstOf(newest)
}

func (g *Ground) worstOf(points map[string]Point) Point {
	var out Point
	first := true
	for _, p := range points {
		if first || g.worse(p.Value, out.Value) || p.Value == out.Value && p.At.After(out.At) {
			out, first = p, false
		}
	}
	return out
}

// worse reports whether one value is worse than another.
func (g *Ground) worse(a, b float64) bool {
	switch {
	case g.Good == reading.High:
		return a < b
	case g.Good == reading.Near && g.Wanted != nil:
		return distance(a, g.Wanted.Value) > distance(b, g.Wanted.Value)
	}
	return a > b
}

func distance(a, b float64) float64 { return max(a, b) - min(a, b) }

// Gone says that what held as the change was proposed no longer does; "" where it still does.
func (g *Ground) Gone() string {
	if g.Held == nil || len(g.Points) == 0 {
		return ""
	}
	newest := map[string]Point{}
	for _, p := range g.Points {
		newest[p.Target] = p
	}
	for _, p := range newest {
		if fulfils(p.Value, *g.Held) {
			return ""
		}
	}
	_, last := g.Worst()
	return fmt.Sprintf("%s is %s now; it was %s when this was asked, and is so no longer", g.Reading,
		expr.Say(last.Value), g.Held.Says())
}

func fulfils(v float64, l expr.Limit) bool {
	switch l.Op {
	case "<":
		return v < l.Value
	case "<=":
		return v <= l.Value
	case ">":
		return v > l.Value
	case ">=":
		return v >= l.Value
	case "==":
		return v == l.Value
	}
	return v != l.Value
}

// Says tells the trend in a line: what it was and is, what is wanted, and whether it gets better or worse.
func (g *Ground) Says() string {
	first, last := g.Worst()
	out := fmt.Sprintf("%s %s", g.Reading, expr.Say(last.Value))
	if first.At.Before(last.At) {
		out = fmt.Sprintf("%s %s → %s", g.Reading, expr.Say(first.Value), expr.Say(last.Value))
	}
	if g.Unit != "" {
		out += " " + g.Unit
	}
	if g.Wanted != nil {
		out += fmt.Sprintf(" (target %s)", g.Wanted)
	}
	switch t := g.Trend(); {
	case t != "":
		out += ", " + t
	case !first.At.Before(last.At):
		out += ", taken once"
	}
	return out
}

// Trend is getting worse, getting better, or steady, of the target that is worst now; "" where nothing tells.
func (g *Ground) Trend() string {
	first, last := g.Worst()
	if g.Good == "" || !first.At.Before(last.At) {
		return ""
	}
	var own []Point
	for _, p := range g.Points {
		if p.Target == last.Target {
			own = append(own, p)
		}
	}
	if s := SlopeOf(own, time.Time{}); s != nil {
		return s.Is(g.Good, g.Wanted, last.Value)
	}
	switch {
	case g.worse(last.Value, first.Value):
		return Worsens
	case g.worse(first.Value, last.Value):
		return Improves
	}
	return Stays
}
