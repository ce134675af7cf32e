package flow

import (
	"fmt"
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

// awaitOthers waits until no other run of the same key is under way.
func (w *walker) awaitOthers(f *frame) result {
	p := f.book.Limits.OneAtATime
	if p == nil || w.olderRules(2) {
		return goOn
	}
	v, err := p.Eval(w.scope(f, "", ""))
	if err != nil {
		w.end(
			f,
			Ended{
				State:   HandedOver,
				To:      f.book.OnCall(),
				Because: fmt.Sprintf("The key of one_at_a_time cannot be said: %s.", err),
			},
			"",
		)
		return ended
	}
	key := fmt.Sprintf("turn:%s:%v", f.book.Name, v)
	if w.s.locks[key] {
		return goOn
	}
	w.plan.WantLocks = &WantLocks{Keys: []string{key}}
	return blocked
}

// followAlert follows what the runbook provides for an alert that cleared or worsened meanwhile. A change
// under way ends first.
func (w *walker) followAlert(f *frame) result {
	for _, t := range w.s.turned {
		b := f.book.IfCleared
		if t.To == "if_worse" {
			b = f.book.IfWorse
		}
		if r := w.branch(f, b, t.To, t.To+".", "The alert changed while the runbook was at work."); r != goOn {
			return r
		}
	}
	a := w.s.alert
	if a == nil {
		return goOn
	}
	for _, c := range []struct {
		is bool
		to string
		b  runbook.Branch
	}{{a.Cleared, "if_cleared", f.book.IfCleared}, {a.Worse && !a.Cleared, "if_worse", f.book.IfWorse}} {
		if !c.is || c.b.Word == "" && c.b.Steps == nil || w.alertIs(c.to) {
			continue
		}
		for _, in := range w.s.OpenAttempts() {
			if in.Change {
				return blocked
			}
		}
		w.emit("", Turned{To: c.to})
		return w.followAlert(f)
	}
	return goOn
}

func (w *walker) alertIs(to string) bool {
	for _, t := range w.s.turned {
		if t.To == to {
			return true
		}
	}
	return false
}

// end says how the run, or the call that the frame is in, is to end.
func (w *walker) end(f *frame, e Ended, path string) result {
	if f.call != "" {
		return w.endCall(f, e)
	}
	if f.book.Finally == nil && len(w.s.open) == 0 {
		w.emit(path, e)
	} else {
		w.emit("", Ending(e))
	}
	return ended
}

// finish ends the run once nothing of it is under way and its finally is done.
func (w *walker) finish(f *frame) {
	e := Ended(*w.s.ending)
	if open := w.s.OpenAttempts(); len(open) > 0 && !w.finallyBegun() {
		for _, in := range open {
			if !in.Change || e.State == Cancelled {
				w.plan.Cancel = append(w.plan.Cancel, in.Attempt)
			}
		}
		return
	}
	// The way here must not wake the run again.
	w.plan.Wake = time.Time{}
	switch r := w.list(f, f.book.Finally, "finally."); {
	case r == goOn, r == ended:
	case r.failed():
		e.Because += " And then: " + r.trouble.Because
		if e.State == Done {
			e.State, e.Outcome, e.To = HandedOver, "", f.book.OnCall()
		}
	default:
		return
	}
	w.emit("", e)
}

func (w *walker) finallyBegun() bool {
	for path := range w.s.steps {
		if inside(path, "finally.") {
			return true
		}
	}
	return false
}

// cancelled ends what is under way, takes back what was asked to be, and says how the run ends.
func (w *walker) cancelled(f *frame) {
	c := w.s.cancel
	if open := w.s.OpenAttempts(); len(open) > 0 && w.s.step("cancel").undo == nil {
		for _, in := range open {
			w.plan.Cancel = append(w.plan.Cancel, in.Attempt)
		}
		return
	}
	because := "Cancelled by " + c.By
	if c.Because != "" {
		because += ": " + c.Because
	}
	if c.Undo {
		switch r := w.undo(f, "cancel", ""); {
		case r == blocked:
			return
		case r.failed():
			because += ". " + strings.TrimSuffix(r.trouble.Because, ".")
		default:
			if !w.olderRules(4) {
				because += ". " + strings.TrimSuffix(w.s.TakenBack("cancel"), ".")
			}
		}
	}
	if n := w.unknowns(); n > 0 {
		because += fmt.Sprintf(". The outcome of %d change(s) is unknown", n)
	}
	w.emit("", Ending{State: Cancelled, Because: because + "."})
}

// unknowns counts changes whose outcome nobody has said.
func (w *walker) unknowns() int {
	n := 0
	for _, a := range w.s.order {
		if !a.intent.Change || !a.unknown() {
			continue
		}
		if q := w.s.step(a.path).questions[questionOf(a.intent.Attempt)]; q == nil || q.answered == nil {
			n++
		}
	}
	return n
}
