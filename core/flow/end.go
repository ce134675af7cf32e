package flow

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"urgentis/core/runbook"
)

// whom is who is handed a trouble over to.
func whom(f *frame, t *Troubled) string {
	if t.To != "" {
		return t.To
	}
	return f.book.OnCall()
}

// awaitOthers waits until no other run of the same key is under way: as a run, or as what a call begins, at path.
func (w *walker) awaitOthers(f *frame) result {
	p := f.book.Limits.OneAtATime
	if p == nil {
		return goOn
	}
	v, err := p.Eval(w.scope(f, f.call.Call(), ""))
	if err != nil {
		return w.end(
			f,
			Ended{
				State:   HandedOver,
				To:      f.book.OnCall(),
				Because: fmt.Sprintf("`one_at_a_time` could not be evaluated: %s.", err),
			},
			Place{},
		)
	}
	key := turnOf(f, v)
	if w.s.locks[key] {
		return goOn
	}
	if x := w.s.step(f.call).awaits[""]; x != nil {
		w.wake(w.now.Add(lockRetry))
	}
	w.plan.WantLocks = append(w.plan.WantLocks, WantLocks{Place: f.call, Keys: []string{key}})
	return blocked
}

// turnOf is the lock on a turn.
func turnOf(f *frame, key any) string { return fmt.Sprintf("turn:%s:%v", f.book.Name, key) }

// followAlert follows what the runbook, or the one that is called, provides for an alert that cleared or worsened while
// it was at work. A change under way ends first.
func (w *walker) followAlert(f *frame) result {
	for _, to := range w.s.step(f.call).turned {
		b := f.book.IfCleared
		if to == "if_worse" {
			b = f.book.IfWorse
		}
		at := f.call.Call().List(to)
		if r := w.branch(f, b, at, at, "The alert changed while the runbook was at work."); r != goOn {
			return r
		}
	}
	a := w.s.alert
	if a == nil || w.s.alertSeq < w.s.step(f.call).calledAt || w.s.undoes() || w.s.stayed() {
		return goOn // what is being undone is undone first; where something stayed, people are needed
	}
	for _, c := range []struct {
		is bool
		to string
		b  runbook.Branch
	}{{a.Cleared, "if_cleared", f.book.IfCleared}, {a.Worse && !a.Cleared, "if_worse", f.book.IfWorse}} {
		if !c.is || c.b.Word == "" && c.b.Steps == nil || slices.Contains(w.s.step(f.call).turned, c.to) {
			continue
		}
		if !w.landed(f.block) {
			return blocked
		}
		w.emit(f.call, Turned{To: c.to})
		return w.followAlert(f)
	}
	return goOn
}

// end says how the run, or the call that the frame is in, is to end.
func (w *walker) end(f *frame, e Ended, place Place) result {
	if !f.call.IsZero() {
		return w.endCall(f, e)
	}
	if f.book.Finally == nil && w.landed(Place{}) && len(w.s.open) == 0 {
		w.emitEnd(place, e)
	} else {
		w.emit(Place{}, Ending(e))
	}
	return ended
}

// emitEnd ends the run, with what became of all that it changed. Nothing closes an incident of which nobody can say
// what became of a change, or in which something stayed that was to be undone: that is handed over.
func (w *walker) emitEnd(place Place, e Ended) {
	unsaid := slices.ContainsFunc(w.s.touchOrder, (*Touch).Unsaid)
	if e.State == Done && e.Outcome != "" && (unsaid || w.s.stayed()) {
		what := "nobody can say what became of all that it changed"
		if !unsaid {
			what = "not all that was to be undone is"
		}
		because := strings.TrimSuffix(e.Because, ".")
		e = Ended{
			State: HandedOver, To: w.s.book.OnCall(),
			Because: fmt.Sprintf("It would have closed as %s (%s), but %s.", e.Outcome, because, what),
		}
	}
	e.Changes = w.s.Changes()
	if e.State != Done || !w.s.plainly() || w.s.putBack != nil {
		e.Because = strings.TrimSpace(stopped(e.Because) + " " + w.s.Changed())
	}
	w.emit(place, e)
}

// finish ends the run once nothing of it is under way and its finally is done. A cancel during it cuts it off.
func (w *walker) finish(f *frame) {
	e := Ended(*w.s.ending)
	if open := w.s.OpenAttempts(); !w.finallyBegun() && (!w.landed(Place{}) || len(open) > 0) {
		for _, in := range open {
			if !in.Touches() || e.State == Cancelled {
				w.plan.Cancel = append(w.plan.Cancel, in.Attempt)
			}
		}
		return
	}
	// The way here must not wake the run again.
	w.plan.Wake = time.Time{}
	if w.s.finallyCut() {
		w.emitEnd(Place{}, e)
		return
	}
	switch r := w.list(f, f.book.Finally, Place{}.List("finally")); {
	case r == goOn, r == ended:
	case r.failed():
		e.Because += " And then: " + r.trouble.Because
		if e.State == Done {
			e.State, e.Outcome, e.To = HandedOver, "", f.book.OnCall()
		}
	default:
		return
	}
	w.emitEnd(Place{}, e)
}

// finallyCut reports whether the run was cancelled while it was on its way to its end.
func (s *State) finallyCut() bool {
	return s.cancel != nil && s.endingSeq > 0 && s.cancelSeq > s.endingSeq
}

func (w *walker) finallyBegun() bool {
	for place := range w.s.steps {
		if place.In(Place{}.List("finally")) {
			return true
		}
	}
	return false
}

// cancelled stops what is under way, lets what is being undone be undone, undoes the rest where that was asked, and
// says how the run ends.
func (w *walker) cancelled(f *frame) {
	c, waits := w.s.cancel, false
	for _, in := range w.s.OpenAttempts() {
		if !in.Undoes() && in.Purpose.For != ForUndone {
			w.plan.Cancel = append(w.plan.Cancel, in.Attempt)
			waits = true
		}
	}
	landed := w.landed(Place{}) // changes with no time left, so that they are stopped
	if !w.goOnUndoing() || waits || !landed {
		return
	}
	if c.Undo && w.undo(Place{}.List("cancel"), within(Place{})) == blocked {
		if !w.s.step(Place{}.List("cancel")).undone {
			return
		}
	}
	because := "Cancelled by " + c.By
	if c.Because != "" {
		because += ": " + c.Because
	}
	if w.s.ending != nil {
		was := w.s.ending.Outcome
		if was == "" {
			was = w.s.ending.State
		}
		because = stopped(because) + fmt.Sprintf(" It was about to end as %s: %s", was, w.s.ending.Because)
	}
	w.emit(Place{}, Ending{State: Cancelled, Because: stopped(because)})
}

// stopped ends a sentence that has no end.
func stopped(says string) string {
	if says = strings.TrimSpace(says); says == "" || strings.ContainsAny(says[len(says)-1:], ".!?") {
		return says
	}
	return says + "."
}

// handOverOlder ends a run that was begun under older rules: it begins nothing any more. What is unknown is asked
// first.
func (w *walker) handOverOlder(book *runbook.Book) {
	if open := w.s.OpenAttempts(); len(open) > 0 {
		for _, in := range open {
			if !in.Touches() {
				w.plan.Cancel = append(w.plan.Cancel, in.Attempt)
			}
		}
		return
	}
	said := true
	for _, t := range w.s.Touches() {
		for _, e := range []*Effect{&t.Change, &t.Undo} {
			step, own := Find(w.s.book, t.Place)
			if step != nil && e.Open() && !w.asked(own, step, t, e == &t.Undo, false) {
				said = false
			}
		}
	}
	if !said {
		return
	}
	w.emitEnd(Place{}, Ended{State: HandedOver, To: book.OnCall(), Because: fmt.Sprintf(
		"The run was begun under version %d of the rules, and this program begins nothing under them any more.",
		w.s.Begun.Rules)})
}
