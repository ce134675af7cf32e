package flow

import (
	"cmp"
	"errors"
	"fmt"
	"strings"
	"time"

	"urgentis/core/expr"
	"urgentis/core/leave"
	"urgentis/core/runbook"
)

// block walks the steps of a block, behind its gate if it has one: one yes for all changes in it.
func (w *walker) block(f *frame, s *runbook.Step, place Place, st *stepState, walk func(*frame) result) result {
	if st.done {
		return goOn
	}
	g := *f
	if s.Gate != nil && f.approval == nil {
		ap, r := w.blockGate(f, s, place, st)
		if ap == nil {
			return r
		}
		g.approval = ap
	}
	r := walk(&g)
	if r == goOn {
		w.emit(place, StepEnded{})
	}
	return r
}

// planned is one change of a block as it would run.
type planned struct {
	f       *frame
	step    *runbook.Step
	place   Place
	targets []string
}

// blockGate raises and follows the gate of a block. nil: it is not approved, or not yet.
func (w *walker) blockGate(f *frame, s *runbook.Step, place Place, st *stepState) (*approval, result) {
	if len(st.gates) == 0 {
		if !w.over(st.pause) {
			return nil, blocked
		}
		var list []planned
		if err := w.planned(f, s, place, st, &list); err != nil {
			return nil, w.broken(place, s, err)
		}
		n := len(st.leaves)
		if n == 0 || !w.s.openLeaves[st.leaves[n-1].seq] {
			ask := AskLeave{Place: place, HasGate: true}
			for _, p := range list {
				ask.add(p.step, p.targets)
			}
			w.plan.AskLeave = append(w.plan.AskLeave, ask)
			return nil, blocked
		}
		return nil, w.raiseBlock(f, s, place, st, list)
	}
	g := st.gates[len(st.gates)-1]
	if r, ok := w.decision(f, s, place, g); !ok {
		if r == goOn && !st.done {
			// Refused or unanswered, and the runbook provides for that: the block is passed over.
			w.emit(place, StepEnded{})
		}
		return nil, r
	}
	if start := g.startAt(); w.now.Before(start) {
		if p := st.pause; p == nil || p.on != OnStart {
			w.emit(place, Waits{On: OnStart, Until: start})
		}
		w.wake(start)
		return nil, blocked
	}
	return &approval{
		proposal: g.raised.Proposal, digest: g.raised.Digest, id: g.raised.Gate, by: by(g.approvals),
		until: g.until(), within: g.within(),
	}, goOn
}

func by(list []GateDecided) string {
	var names []string
	for _, d := range list {
		names = append(names, d.By)
	}
	return strings.Join(names, " and ")
}

func (w *walker) raiseBlock(f *frame, s *runbook.Step, place Place, st *stepState, list []planned) result {
	given := st.leaves[len(st.leaves)-1].LeaveGiven
	if given.Verdict == leave.No {
		if given.Halted {
			until := w.now.Add(haltRetry)
			w.emit(place, Waits{On: OnHalt, Until: until})
			w.wake(until)
			return blocked
		}
		return w.notAllowed(s, place, given)
	}
	until := w.now.Add(gateOf(s).Within).Truncate(time.Second)
	p := leave.Proposal{Runbook: f.book.Name, Revision: f.book.Revision, Path: place.String(), Until: untilText(until)}
	for _, c := range list {
		for _, t := range c.targets {
			r, err := w.requestFor(c.f, c.step, c.place, t, given, true)
			if err != nil {
				return w.broken(place, s, fmt.Errorf("%s: %w", c.step.Title, err))
			}
			r.Step = c.place.String()
			p.Requests = append(p.Requests, r)
		}
	}
	if len(p.Requests) == 0 {
		return w.broken(place, s, errors.New("nothing to approve: the selector matches no target"))
	}
	d, err := p.Digest()
	if err != nil {
		return w.broken(place, s, err)
	}
	return w.emitGate(f, s, place, st, p, d, until, given.Reasons)
}

// planned lists the changes within a block, on every path through it.
func (w *walker) planned(f *frame, s *runbook.Step, place Place, st *stepState, out *[]planned) error {
	switch s.Verb {
	case runbook.Each:
		each := st.each
		if each == nil {
			items, err := w.items(f, s, place)
			if err != nil {
				return err
			}
			each = &EachBegun{Items: items}
		}
		for i := range each.Items {
			g, prefix := w.itemFrame(f, s, place, each, i)
			if err := w.plannedIn(g, s.Steps, prefix, out); err != nil {
				return err
			}
		}
		return nil
	case runbook.Together:
		for _, b := range s.Branches {
			if err := w.plannedIn(f, b.Steps, place.Branch(b.Name), out); err != nil {
				return err
			}
		}
		return nil
	}
	return w.plannedIn(f, s.Steps, place.List("do"), out)
}

func (w *walker) plannedIn(f *frame, steps []*runbook.Step, in Place, out *[]planned) error {
	for i, s := range steps {
		place := in.Step(i + 1)
		if s.Verb == runbook.Change && s.Do != nil {
			targets, err := w.targets(f, s.Where, place)
			if err != nil {
				return fmt.Errorf("%s: %w", s.Title, err)
			}
			*out = append(*out, planned{f, s, place, targets})
		}
		if s.Verb == runbook.Each || s.Verb == runbook.Together || s.Verb == runbook.Change && s.Do == nil {
			if err := w.planned(f, s, place, w.s.step(place), out); err != nil {
				return err
			}
		}
		for _, l := range []struct {
			name  string
			steps []*runbook.Step
		}{{"passes", s.Passes.Steps}, {"fails", s.Fails.Steps}, {"unsure", s.Unsure.Steps}, {"otherwise",
			s.Otherwise}, {"on_error", s.OnError.Steps}} {
			if err := w.plannedIn(f, l.steps, place.List(l.name), out); err != nil {
				return err
			}
		}
	}
	return nil
}

// items gives what an each goes over, frozen when it begins.
func (w *walker) items(f *frame, s *runbook.Step, place Place) ([]Item, error) {
	it := s.Each
	var out []Item
	if it.Over != nil {
		v, err := it.Over.Eval(w.scope(f, place, ""))
		if err != nil {
			return nil, err
		}
		list, ok := v.([]any)
		if !ok {
			return nil, fmt.Errorf("%s is no list", it.Over.Source)
		}
		for _, x := range list {
			item := Item{Label: expr.Say(x), Value: x}
			if name, ok := x.(string); ok && w.s.target(name) != nil {
				item.Target = name
			}
			out = append(out, item)
		}
	} else {
		targets, err := w.targets(f, it.Where, place)
		if err != nil {
			return nil, err
		}
		peers := []string{""}
		if it.Peers != nil {
			if peers, err = w.targets(f, it.Peers, place); err != nil {
				return nil, err
			}
		}
		for _, t := range targets {
			for _, p := range peers {
				switch {
				case p == "":
					out = append(out, Item{Label: t, Target: t})
				case p != t:
					out = append(out, Item{Label: t + " → " + p, Target: t, Peer: p})
				}
			}
		}
	}
	if len(out) > runbook.MaxItems {
		return nil, fmt.Errorf("there are %d items, %d are allowed", len(out), runbook.MaxItems)
	}
	return out, nil
}

// itemFrame is what surrounds the steps of one item, and the prefix of their places.
func (w *walker) itemFrame(f *frame, s *runbook.Step, place Place, each *EachBegun, i int) (*frame, Place) {
	item := each.Items[i]
	g := *f
	g.block, g.asking = place.Item(i), false
	g.names = map[string]any{}
	for k, v := range f.names {
		g.names[k] = v
	}
	if item.Target != "" {
		g.target = item.Target
		g.names["target"] = w.s.target(item.Target)
	}
	if item.Peer != "" {
		g.names["peer"] = w.s.target(item.Peer)
	}
	if s.Each.Over != nil {
		g.names[s.Each.Named] = item.Value
	} else if s.Each.Named != "item" {
		g.names[s.Each.Named] = w.s.target(item.Target)
	}
	return &g, g.block
}

func (w *walker) each(f *frame, s *runbook.Step, place Place, st *stepState) result {
	if st.done {
		return goOn
	}
	if st.each == nil {
		items, err := w.items(f, s, place)
		if err != nil {
			return w.broken(place, s, err)
		}
		n := s.Each.AtOnce
		if s.Each.Percent {
			n = max(1, len(items)*n/100)
		}
		w.emit(place, EachBegun{Items: items, AtOnce: n})
	}
	if len(st.each.Items) == 0 {
		w.emit(place, StepEnded{})
		return goOn
	}
	return w.block(f, s, place, st, func(g *frame) result { return w.eachItem(g, s, place, st) })
}

// eachItem walks the items, so many at once. It stops beginning items when too many have failed, and lets
// those under way end.
func (w *walker) eachItem(f *frame, s *runbook.Step, place Place, st *stepState) result {
	share := 0
	running, bad, unsaid := 0, 0, false
	var first *Troubled
	for i := range st.items {
		item := &st.items[i]
		if s.Each.Between != nil && i > 0 && i%st.each.AtOnce == 0 {
			if running > 0 || bad > s.Each.Tolerate {
				break
			}
			if r := w.list(f, s.Each.Between, place.Round("between", share)); r != goOn {
				return r
			}
			share++
		}
		g, prefix := w.itemFrame(f, s, place, st.each, i)
		if !item.over {
			if !item.begun {
				set(w.s, &item.begun, w.s.step(g.block).begun != nil)
			}
			if !item.begun && (running >= st.each.AtOnce || bad > s.Each.Tolerate) {
				continue
			}
			if !item.begun {
				if r := w.mayBegin(place); r != goOn {
					return r
				}
				w.emit(g.block, ItemBegun{})
				set(w.s, &item.begun, true)
			}
			r := goOn
			if w.s.step(g.block).passed == nil {
				r = w.list(g, s.Steps, prefix)
			}
			switch {
			case r == goOn, r == passed:
				set(w.s, &item.over, true)
			case r.failed():
				set(w.s, &item.over, true)
				set(w.s, &item.failed, r.trouble)
			case r == blocked:
				running++
			default:
				w.err = fmt.Errorf("item %s of step %s ended the run", st.each.Items[i].Label, place)
				return blocked
			}
		}
		if item.failed != nil {
			bad++
			unsaid = unsaid || item.failed.Unsaid
			if first == nil || item.failed.Final && !first.Final {
				t := *item.failed
				t.Because = st.each.Items[i].Label + ": " + t.Because
				first = &t
			}
		}
	}
	switch {
	case running > 0:
		return blocked
	case bad > s.Each.Tolerate || unsaid: // failures are tolerated, not what nobody can say
		first.Because = fmt.Sprintf("%d of %d failed in %q. %s", bad, len(st.items), s.Title, first.Because)
		return trouble(first, place)
	}
	return w.someNeeded(s, place, len(st.items), bad)
}

// someNeeded is what an each comes to that is over: a trouble where none of its items came to its end as no other
// needed it any more, so that what follows does not speak of a change that was none.
func (w *walker) someNeeded(s *runbook.Step, place Place, items, bad int) result {
	var first *ItemPassed
	passed := 0
	for i := range items {
		if p := w.s.step(place.Item(i)).passed; p != nil {
			passed++
			first = cmp.Or(first, p)
		}
	}
	if passed == 0 || passed+bad < items {
		return goOn
	}
	because := fmt.Sprintf("Nothing was changed in %q, which nothing needs any more", s.Title)
	if bad > 0 {
		because = fmt.Sprintf("None came to its end in %q: %d failed, and %d need it no more", s.Title, bad, passed)
	}
	return w.fail(place, Troubled{Because: because + ": " + first.Because + "."})
}

func (w *walker) together(f *frame, s *runbook.Step, place Place, st *stepState) result {
	return w.block(f, s, place, st, func(f *frame) result {
		running := false
		first := goOn
		for _, b := range s.Branches {
			g := *f
			g.block, g.asking = place.Branch(b.Name), false
			switch r := w.list(&g, b.Steps, g.block); {
			case r == blocked:
				running = true
			case r.failed():
				if first == goOn || r.trouble.Final && !first.trouble.Final {
					first = r
				}
			case r == goOn:
			default:
				w.err = fmt.Errorf("branch %s of step %s ended the run", b.Name, place)
				return blocked
			}
		}
		switch {
		case running:
			return blocked
		}
		return first
	})
}
