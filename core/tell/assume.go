package tell

import (
	"fmt"
	"maps"
	"slices"
	"time"

	"urgentis/core/expr"
	"urgentis/core/flow"
	"urgentis/core/runbook"
)

// Assumption is what a rehearsal takes for true once a change was assumed to have happened: values of readings, by
// the change.
type Assumption struct {
	after map[*runbook.Step][]flow.Given
	made  map[string]flow.Given // by reading; of the changes that were assumed so far
}

// Assume reads what somebody assumes: by the id or the path of a change, values by reading; each for every target, or
// for each that is named. What names no change, no reading or no target is refused.
func Assume(book *runbook.Book, begun flow.Begun, what map[string]map[string]any) (*Assumption, error) {
	out := &Assumption{after: map[*runbook.Step][]flow.Given{}, made: map[string]flow.Given{}}
	for _, id := range slices.Sorted(maps.Keys(what)) {
		step := book.Named(id)
		if step == nil || step.Verb != runbook.Change {
			return nil, fmt.Errorf("there is no change %s; there is %s", id, flow.Listed(changesOf(book)))
		}
		for _, name := range slices.Sorted(maps.Keys(what[id])) {
			g, err := flow.GiveReading(book, begun, name, what[id][name])
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
		a.made[g.Name] = g
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
		if _, ok, err := g.Of(target); !ok || err != nil {
			return false
		}
	}
	return len(look.Read) > 0
}

// Put sets what is assumed in the outcome of a look, and lists the readings that it set.
func (a *Assumption) Put(
	o *flow.Outcome, look *runbook.Step, target string, now time.Time,
) (names []string, err error) {
	for _, r := range look.Read {
		g, ok := a.made[r.Name]
		if !ok {
			continue
		}
		v, ok, err := g.Of(target)
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
