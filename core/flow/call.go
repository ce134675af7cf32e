package flow

import (
	"fmt"
	"maps"
	"slices"

	"urgentis/core/reading"
	"urgentis/core/runbook"
)

// call walks another runbook, or a part, as a part of this run.
func (w *walker) call(f *frame, s *runbook.Step, place Place, st *stepState) result {
	callee := f.book.Callee(s.Callee)
	if callee == nil {
		return w.broken(place, s, fmt.Errorf("there is no runbook %s", s.Callee))
	}
	if st.call == nil {
		sc := w.scope(f, place, "")
		given := map[string]any{}
		for k, t := range s.Given {
			v, err := t.Value(sc)
			if err != nil {
				return w.broken(place, s, fmt.Errorf("input %s: %w", k, err))
			}
			given[k] = v
		}
		inputs, err := callee.AcceptAll(given)
		if err != nil {
			return w.broken(place, s, err)
		}
		w.emit(place, CallBegun{Runbook: callee.Name, Revision: callee.Revision, Inputs: inputs})
	}
	if r := w.called(w.callFrame(f, s, place), st); r != goOn {
		return r
	}
	e := st.callEnded
	if e.State == Done {
		return goOn
	}
	return w.fail(place, Troubled{Because: e.Because, To: e.To, Stop: e.State == StateFail})
}

// called walks what is called to its end.
func (w *walker) called(g *frame, st *stepState) result {
	if st.callEnding == nil && st.callEnded == nil {
		if w.calleeGivesUp(g, st) || w.awaitOthers(g) == blocked {
			return blocked
		}
	}
	if st.callEnding == nil && st.callEnded == nil {
		if r := w.callee(g); r == blocked || r == goBack {
			return blocked
		}
	}
	if st.callEnded == nil {
		return w.finishCall(g, st)
	}
	return goOn
}

// calleeGivesUp ends a call whose own time is over. It reports whether that waits for what is being undone.
func (w *walker) calleeGivesUp(g *frame, st *stepState) (waits bool) {
	after := g.book.Limits.GiveUpAfter
	if after == 0 {
		return false
	}
	until := st.beganAt.Add(after)
	if w.now.Before(until) {
		w.wake(until)
		return false
	}
	if w.s.undoes() {
		return false
	}
	waits = !w.landed(g.block)
	for _, in := range w.s.OpenAttempts() {
		if w.s.PlaceOf(in.Attempt).In(g.block) {
			if !in.Touches() {
				w.plan.Cancel = append(w.plan.Cancel, in.Attempt)
			}
			waits = true
		}
	}
	if !waits {
		w.endCall(g, Ended{
			State: HandedOver, To: g.book.OnCall(),
			Because: fmt.Sprintf("The runbook %q gives up after %s.", g.book.Title, after),
		})
	}
	return waits
}

// callFrame is what surrounds the steps of what is called.
func (w *walker) callFrame(f *frame, s *runbook.Step, place Place) *frame {
	g := *f
	g.outer = slices.Concat(f.outer, f.book.GatesAround(s))
	g.book, g.call, g.block, g.asking = f.book.Callee(s.Callee), place, place.Call(), false
	return &g
}

// callee walks the called steps until they block or say how the call ends.
func (w *walker) callee(f *frame) result {
	r := w.followAlert(f)
	if r == goOn {
		r = w.list(f, f.book.Steps, f.call.Call())
	}
	if first := r; r.failed() {
		if r = w.catch(f, first, f.book.OnError, f.call.Call()); r == goOn {
			r = first
		}
	}
	switch {
	case r == goOn:
		return w.endCall(f, Ended{State: Done})
	case r.failed():
		t := r.trouble
		if t.Stop {
			return w.endCall(f, Ended{State: StateFail, Because: t.Because})
		}
		return w.endCall(f, Ended{State: HandedOver, To: whom(f, t), Because: t.Because})
	}
	return r
}

// endCall says how a call ends; its finally comes before. What it asked is asked no more.
func (w *walker) endCall(f *frame, e Ended) result {
	w.askNoMore(f)
	if f.book.Finally != nil {
		w.emit(f.call, Ending(e))
		return ended
	}
	w.emitCallEnded(f, e)
	return ended
}

// askNoMore withdraws the gates and the questions of a call that ends. What became of a change is still asked.
func (w *walker) askNoMore(f *frame) {
	because := fmt.Sprintf("“%s”, which asked, is over", f.book.Title)
	for _, place := range slices.SortedFunc(maps.Keys(w.s.waits), byText) {
		if !place.In(f.block) {
			continue
		}
		for _, g := range w.s.step(place).allGates() {
			if g.open() {
				w.emit(place, GateExpired{Gate: g.raised.Gate, Because: because})
			}
		}
		for _, q := range w.s.step(place).asks {
			if q.open() {
				w.emit(place, QuestionExpired{Question: q.raised.Question, Because: because})
			}
		}
	}
}

// emitCallEnded ends a call, and with it its turn.
func (w *walker) emitCallEnded(f *frame, e Ended) {
	w.emit(f.call, w.callEnded(f, e))
	if p := f.book.Limits.OneAtATime; p != nil {
		if v, err := p.Eval(w.scope(f, f.call.Call(), "")); err == nil && w.s.locks[turnOf(f, v)] {
			w.emit(Place{}, LocksGivenBack{Keys: []string{turnOf(f, v)}})
		}
	}
}

func (w *walker) callEnded(f *frame, e Ended) CallEnded {
	out := CallEnded{State: e.State, Outcome: e.Outcome, Because: e.Because, To: e.To}
	sc := w.scope(f, f.call.Call(), "")
	for _, r := range f.book.Results {
		v, err := r.Value.Value(sc)
		if err == nil {
			v, err = reading.Convert(v, r.Type)
		}
		if err != nil {
			if out.Unsaid == nil {
				out.Unsaid = map[string]string{}
			}
			out.Unsaid[r.Name] = unsure(err)
			continue
		}
		if out.Results == nil {
			out.Results = map[string]any{}
		}
		out.Results[r.Name] = v
	}
	return out
}

func (w *walker) finishCall(f *frame, st *stepState) result {
	e := Ended(*st.callEnding)
	switch r := w.list(f, f.book.Finally, f.call.Call().List("finally")); {
	case r == goOn, r == ended:
	case r.failed():
		e.Because += " And then: " + r.trouble.Because
		if e.State == Done {
			e.State, e.To = HandedOver, f.book.OnCall()
		}
	default:
		return blocked
	}
	if st.callEnded == nil {
		w.emitCallEnded(f, e)
	}
	return goOn
}
