package flow

import (
	"maps"
	"slices"
	"time"

	"urgentis/core/expr"
	"urgentis/core/plain"
	"urgentis/core/reading"
	"urgentis/core/runbook"
)

// Title is how a runbook names the incident of a run.
type Title struct {
	Text string
	// Value is the first number of a reading in it; nil without one.
	Value *float64
	// Good is which way that is better; "" where nothing says so.
	Good reading.Good
}

// Newer are samples that were taken beside a run, by reading and target.
type Newer map[string]map[string]expr.Sample

// TitleOf names the incident of a run by what its readings are now, those of newer in the place of its own; Text is ""
// where the runbook does not name it, or what the name rests on is not known.
func TitleOf(s *State, now time.Time, newer Newer) Title {
	t := s.book.IncidentTitle
	if t == nil || s.Begun == nil {
		return Title{}
	}
	w := &walker{s: s, now: now}
	scope := w.scope(&frame{book: s.book}, Place{}, "")
	scope.Readings = newer.over(scope.Readings)
	text, err := t.Prose(scope)
	if err != nil {
		return Title{}
	}
	out := Title{Text: plain.Line(text)}
	for _, h := range t.Holes() {
		names := h.Refers("readings")
		if len(names) == 0 {
			continue
		}
		v, err := h.Eval(scope)
		if err != nil {
			return Title{}
		}
		if n, is := expr.AsNumber(v); is {
			out.Value, out.Good = &n, goodOf(s.book, names[0])
			break
		}
	}
	return out
}

// over puts newer samples in the place of those of the newest rounds; what they are put over stays as it is.
func (n Newer) over(readings map[string]*expr.Series) map[string]*expr.Series {
	if len(n) == 0 {
		return readings
	}
	out := maps.Clone(readings)
	for name, samples := range n {
		was := readings[name]
		if was == nil || len(was.Rounds) == 0 {
			continue
		}
		is := *was
		is.Rounds = slices.Clone(was.Rounds)
		last := &is.Rounds[len(is.Rounds)-1]
		last.Samples = maps.Clone(last.Samples)
		for target, sample := range samples {
			if slices.Contains(last.Asked, target) {
				last.Samples[target] = sample
			}
		}
		out[name] = &is
	}
	return out
}

// goodOf is which way a reading is better, as the look says that takes it.
func goodOf(b *runbook.Book, name string) reading.Good {
	if look := b.Takes(name); look != nil {
		for _, spec := range look.Read {
			if spec.Name == name {
				return spec.Good
			}
		}
	}
	return ""
}

// Worse reports whether a name tells of something worse than an earlier number did; what has no number is as bad as
// any.
func (t Title) Worse(than *float64) bool {
	switch {
	case t.Value == nil || than == nil:
		return true
	case t.Good == reading.High:
		return *t.Value <= *than
	}
	return *t.Value >= *than
}
