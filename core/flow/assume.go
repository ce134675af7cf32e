package flow

import (
	"fmt"
	"maps"
	"slices"
	"time"

	"urgentis/core/expr"
	"urgentis/core/reading"
	"urgentis/core/runbook"
)

// given is the value of a reading that somebody gave by hand: for every target, or for each that is named.
type given struct {
	name     string
	typ      expr.Type
	value    any
	byTarget map[string]any // nil: value holds for every target
}

// giveReading reads a value given by hand. An object whose keys are targets has a value for each.
func giveReading(book *runbook.Book, begun Begun, name string, v any) (given, error) {
	look, typ := book.TypeOf(name)
	if look == nil {
		return given{}, fmt.Errorf("no look takes the reading %s; there is %s", name, list(book.ReadingNames()))
	}
	g := given{name: name, typ: typ, value: v}
	object, is := v.(map[string]any)
	if !is {
		return g, nil
	}
	unknown := ""
	for _, t := range slices.Sorted(maps.Keys(object)) {
		known := slices.ContainsFunc(begun.Estate, func(x Target) bool { return x.Name == t })
		if known {
			g.byTarget = object
		} else {
			unknown = t
		}
	}
	if unknown != "" && (g.byTarget != nil || typ != expr.JSON) {
		return given{}, fmt.Errorf("reading %s: the service has no target %s", name, unknown)
	}
	return g, nil
}

// of is the value for one target, of the reading's type. ok: there is one.
func (g given) of(target string) (v any, ok bool, err error) {
	v = g.value
	if g.byTarget != nil {
		if v, ok = g.byTarget[target]; !ok {
			return nil, false, nil
		}
	}
	if v, err = reading.Convert(v, g.typ); err != nil {
		return nil, false, fmt.Errorf("reading %s: %w", g.name, err)
	}
	return v, true, nil
}

// round is a taking of the reading on every target that has a value.
func (g given) round(book *runbook.Book, begun Begun, now time.Time) (*expr.Round, error) {
	r := &expr.Round{Path: book.Takes(g.name).Path, Takings: map[string]expr.Taking{}}
	targets := []string{""}
	if len(begun.Estate) > 0 {
		targets = nil
	}
	for _, t := range begun.Estate {
		targets = append(targets, t.Name)
	}
	for _, t := range targets {
		v, ok, err := g.of(t)
		if err != nil {
			return nil, err
		}
		if ok {
			r.Asked = append(r.Asked, t)
			r.Takings[t] = expr.Taking{Value: v, Target: t, At: now}
		}
	}
	return r, nil
}

// Assumption is what a rehearsal takes for true once a change was assumed to have happened: values of readings, by
// the change.
type Assumption struct {
	after map[*runbook.Step][]given
	made  map[string]given // by reading; of the changes that were assumed so far
}

// Assume reads what somebody assumes: by the id or the path of a change, values by reading; each for every target, or
// for each that is named. What names no change, no reading or no target is refused.
func Assume(book *runbook.Book, begun Begun, what map[string]map[string]any) (*Assumption, error) {
	out := &Assumption{after: map[*runbook.Step][]given{}, made: map[string]given{}}
	for _, id := range slices.Sorted(maps.Keys(what)) {
		step := book.Named(id)
		if step == nil || step.Verb != runbook.Change {
			return nil, fmt.Errorf("there is no change %s; there is %s", id, list(changesOf(book)))
		}
		for _, name := range slices.Sorted(maps.Keys(what[id])) {
			g, err := giveReading(book, begun, name, what[id][name])
			if err != nil {
				return nil, err
			}
			out.after[step] = append(out.after[step], g)
		}
	}
	return out, nil
}

// Happened says that a change was assumed to have happened: what it makes true holds from now on.
func (a *Assumption) Happened(change *runbook.Step) {
	for _, g := range a.after[change] {
		a.made[g.name] = g
	}
}

// Said reports whether anything is assumed of a change.
func (a *Assumption) Said(change *runbook.Step) bool { return len(a.after[change]) > 0 }

// Whole reports whether every reading that a look takes on a target is assumed, so that it need not be taken.
func (a *Assumption) Whole(look *runbook.Step, target string) bool {
	for _, r := range look.Read {
		g, ok := a.made[r.Name]
		if !ok {
			return false
		}
		if _, ok, err := g.of(target); !ok || err != nil {
			return false
		}
	}
	return len(look.Read) > 0
}

// Put sets what is assumed in the outcome of a look, and lists the readings that it set.
func (a *Assumption) Put(o *Outcome, look *runbook.Step, target string, now time.Time) (names []string, err error) {
	for _, r := range look.Read {
		g, ok := a.made[r.Name]
		if !ok {
			continue
		}
		v, ok, err := g.of(target)
		if err != nil {
			return nil, err
		}
		if !ok {
			continue
		}
		if o.Readings == nil {
			o.Readings = map[string]expr.Taking{}
		}
		o.Readings[r.Name] = expr.Taking{Value: v, Target: target, At: now, Unit: r.Unit}
		delete(o.Missing, r.Name)
		names = append(names, r.Name)
	}
	return names, nil
}

// changesOf names the changes of a runbook: by their ids, or by their paths where they have none.
func changesOf(book *runbook.Book) []string {
	var out []string
	for _, s := range book.All() {
		switch {
		case s.Verb != runbook.Change:
		case s.ID != "":
			out = append(out, s.ID)
		default:
			out = append(out, s.Path)
		}
	}
	return out
}

// list writes names for people.
func list(names []string) string {
	if len(names) == 0 {
		return "none"
	}
	const most = 12
	out := ""
	for i, n := range names {
		if i == most {
			return out + fmt.Sprintf(" and %d more", len(names)-most)
		}
		if i > 0 {
			out += ", "
		}
		out += n
	}
	return out
}
