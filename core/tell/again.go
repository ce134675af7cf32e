package tell

import (
	"slices"
	"time"

	"urgentis/core/flow"

	"urgentis/core/expr"
	"urgentis/core/reading"
	"urgentis/core/runbook"
)

// LooksAgain lists, for a ground, the newest attempt of its look on each target: what is to be done to take it anew,
// with the words that the run used. None for a look that is costly, or one only by the runbook's word.
func LooksAgain(s *flow.State, g Ground) []flow.Intent {
	if g.Look.Costly || g.Look.OnlyReads != "" {
		return nil
	}
	return newestOf(s, func(in flow.Intent) bool { return in.Look == g.Place })
}

// newestOf lists the newest attempt on each target among those of looks that are meant.
func newestOf(s *flow.State, meant func(flow.Intent) bool) []flow.Intent {
	var out []flow.Intent
	for _, a := range slices.Backward(s.Tried()) {
		in := a.Intent
		if in.Touches() || !meant(in) ||
			slices.ContainsFunc(out, func(o flow.Intent) bool { return o.Target == in.Target && o.Look == in.Look }) {
			continue
		}
		out = append(out, in)
	}
	slices.Reverse(out)
	return out
}

// LookTaken is a look that a run took, and what it read first.
type LookTaken struct {
	Step *runbook.Step
	// Path is its place in the run; Again what is to be done to take it anew, the newest words of each target.
	Place flow.Place
	Again []flow.Intent
	At    time.Time // when it was first taken
	// First holds what was read first, by target and reading.
	First map[string]map[string]expr.Sample
}

// LooksTaken lists the looks that a run took and that read something, in the order in which it came to them. A look
// that is one only by the runbook's word is left out: nobody but the run takes it.
func LooksTaken(s *flow.State) []*LookTaken {
	var out []*LookTaken
	byPath := map[flow.Place]*LookTaken{}
	for _, a := range s.Tried() {
		in := a.Intent
		if in.Touches() || in.Look.IsZero() {
			continue
		}
		t := byPath[in.Look]
		if t == nil {
			step, _ := flow.Find(s.Book(), in.Look)
			if step == nil || step.OnlyReads != "" || len(step.Read) == 0 {
				continue
			}
			t = &LookTaken{Step: step, Place: in.Look, At: a.At, First: map[string]map[string]expr.Sample{}}
			t.Again = newestOf(s, func(x flow.Intent) bool { return x.Look == in.Look })
			byPath[in.Look] = t
			out = append(out, t)
		}
		if a.Outcome != nil && t.First[in.Target] == nil && len(a.Outcome.Readings) > 0 {
			t.First[in.Target] = a.Outcome.Readings
		}
	}
	return out
}

// Named reports whether a look is called so: by its id or by its place in the runbook.
func (t *LookTaken) Named(name string) bool {
	return name == t.Place.String() || t.Step.ID == name && name != "" || t.Place.Static() == name
}

// Compared is one reading then and now.
type Compared struct {
	Target, Name, Unit string
	// Then and Now are the values; nil where there is none.
	Then, Now any
	ThenAt    time.Time
	Missing   string // why there is none now
	Says      string // better, worse, the same, other, or gone
}

// Compare holds what a look reads now against what it read first. What is sealed is left out.
func (t *LookTaken) Compare(now map[string]flow.Outcome) []Compared {
	var out []Compared
	for _, in := range t.Again {
		o := now[in.Target]
		for _, spec := range t.Step.Read {
			if spec.Sealed {
				continue
			}
			c := Compared{Target: in.Target, Name: spec.Name, Unit: spec.Unit}
			first, was := t.First[in.Target][spec.Name]
			if was {
				c.Then, c.ThenAt = first.Value, first.At
			}
			taken, is := o.Readings[spec.Name]
			switch {
			case !is:
				if c.Says, c.Missing = Gone, o.Missing[spec.Name]; c.Missing == "" {
					c.Missing = o.Reason()
				}
			case !was:
				c.Now, c.Says = taken.Value, Other
			default:
				c.Now, c.Says = taken.Value, compare(spec.Good, first.Value, taken.Value)
			}
			out = append(out, c)
		}
	}
	return out
}

// What a comparison of then and now says.
const (
	Better = "better"
	Worse  = "worse"
	Alike  = "the same"
	Other  = "other"
	Gone   = "not to be had"
)

// CompareNumbers judges a number by which way is better (low or high), where that is said.
func CompareNumbers(good string, then, now float64) string {
	return compare(reading.Good(good), then, now)
}

// compare judges a value by which way is better, where that is said.
func compare(good reading.Good, then, now any) string {
	a, number := expr.AsNumber(then)
	b, still := expr.AsNumber(now)
	switch {
	case expr.Say(then) == expr.Say(now):
		return Alike
	case !number || !still || good != reading.Low && good != reading.High:
		return Other
	case (b < a) == (good == reading.Low):
		return Better
	}
	return Worse
}
