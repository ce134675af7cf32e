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
// the change. Of a target that the change is made on it holds once it was made there.
type Assumption struct {
	after map[*runbook.Step][]flow.Given
	made  map[string][]happened // by reading; of the changes that were assumed so far, the newest last
}

// happened is what holds since a change was made on a target.
type happened struct {
	flow.Given
	on     string
	actsOn []string // all targets that the change is made on, sooner or later
}

func (h happened) of(target string) (v any, ok bool, err error) {
	if target != h.on && slices.Contains(h.actsOn, target) {
		return nil, false, nil
	}
	return h.Of(target)
}

// Assume reads what somebody assumes: by the id or the path of a change, values by reading; each for every target, or
// for each that is named. What names no change, no reading or no target is refused.
func Assume(book *runbook.Book, begun flow.Begun, what map[string]map[string]any) (*Assumption, error) {
	out := &Assumption{after: map[*runbook.Step][]flow.Given{}, made: map[string][]happened{}}
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

// Happened says that a change, at its place in a log, was assumed to have happened on a target: what it makes true
// holds from now on.
func (a *Assumption) Happened(change *runbook.Step, place flow.Place, target string, log []flow.Event) {
	for _, g := range a.after[change] {
		a.made[g.Name] = append(a.made[g.Name], happened{g, target, actsOn(place, log)})
	}
}

// actsOn lists the targets that a change is made on: in all items of the each around it, as far as a log knows.
func actsOn(change flow.Place, log []flow.Event) []string {
	var out []string
	each, _, inItem := change.ItemOf()
	for _, e := range log {
		switch b := e.Body.(type) {
		case flow.EachBegun:
			if inItem && e.Place == each {
				for _, i := range b.Items {
					out = append(out, i.Target)
				}
			}
		case flow.StepBegun:
			if e.Place.Static() == change.Static() {
				out = append(out, b.Targets...)
			}
		}
	}
	return out
}

// of is the newest value that is assumed of a reading on a target.
func (a *Assumption) of(name, target string) (v any, ok bool, err error) {
	for _, h := range slices.Backward(a.made[name]) {
		if v, ok, err = h.of(target); ok || err != nil {
			return v, ok, err
		}
	}
	return nil, false, nil
}

// Said reports whether anything is assumed of a change.
func (a *Assumption) Said(change *runbook.Step) bool { return len(a.after[change]) > 0 }

// Whole reports whether every reading that a look takes on a target is assumed, so that it need not be taken.
func (a *Assumption) Whole(look *runbook.Step, target string) bool {
	for _, r := range look.Read {
		if _, ok, err := a.of(r.Name, target); !ok || err != nil {
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
		v, ok, err := a.of(r.Name, target)
		if err != nil {
			return nil, err
		}
		if !ok {
			continue
		}
		if o.Readings == nil {
			o.Readings = map[string]expr.Sample{}
		}
		o.Readings[r.Name] = expr.Sample{Value: v, Target: target, At: now, Unit: r.Unit}
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
