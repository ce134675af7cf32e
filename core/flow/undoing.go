package flow

import (
	"fmt"
	"slices"

	"urgentis/core/runbook"
)

// undoes reports whether something is being undone: until that is over, nothing else turns the run.
func (s *State) undoes() bool { return len(s.undoings) > 0 }

// undoStep undoes what the instances of a step changed that can be seen from a place.
func (w *walker) undoStep(f *frame, s *runbook.Step, place Place, st *stepState) result {
	of := f.book.ByID(s.UndoOf)
	r := w.undo(place, w.s.ofStep(place, of))
	if r.failed() {
		return w.fail(place, Troubled{Final: true, Because: fmt.Sprintf("Not all of %q was undone.", of.Title)})
	}
	return r
}

// undo undoes, newest first, what stands of the touches that are meant. What became of an unknown change is asked
// first. goOn: all of it is undone, or there was nothing; failed: something stays.
func (w *walker) undo(place Place, meant func(*Touch) bool) result {
	st := w.s.step(place)
	if st.undoing == nil {
		list := w.s.inForce(meant)
		if !w.allSaid(list) {
			return blocked
		}
		w.emit(place, toUndo(w.s.inForce(meant)))
	}
	if !st.undone {
		if !w.carryUndo(st) {
			return blocked
		}
		w.emit(place, Undone{})
		w.anew = true
		return blocked
	}
	for _, k := range st.undoing.Touches {
		if t := w.s.touches[k]; !t.Undone() || t.UndoDoubt != "" {
			return trouble(&Troubled{Final: true}, place)
		}
	}
	if len(st.undoing.Left) > 0 {
		return trouble(&Troubled{Final: true}, place)
	}
	return goOn
}

// toUndo sorts what stands by whether it can be undone.
func toUndo(list []*Touch) Undoing {
	u := Undoing{Touches: []TouchKey{}}
	for _, t := range list {
		undo, why := t.request.intent.Request.Undo, ""
		switch {
		case t.Change.unknown():
			why = "its outcome is unknown"
		case undo == nil:
			why = "it has no undo in this runbook"
		case undo.OnlyIfDone && t.Change.Fate != WasDone:
			why = "its undo is only for what was done whole"
		case t.Undo.Fate == WasDone:
			why = "it was not undone as often as it was done" // late reports; the words of both tell the rest
		case t.Undo.Fate == DoneInPart || t.Undo.Fate == FailedAfter || t.Undo.Fate == NotKnown:
			why = "its undo was begun before, and is not begun a second time" // the words of its undo tell the rest
		}
		if why != "" {
			u.Left = append(u.Left, UndoLeft{t.TouchKey, why})
			continue
		}
		u.Touches = append(u.Touches, t.TouchKey)
	}
	return u
}

// allSaid asks people about every unknown change of a list, all at once. It reports false while an answer, or the end
// of a change, is waited for.
func (w *walker) allSaid(list []*Touch) bool {
	said := true
	for _, t := range list {
		step, book := Find(w.s.book, t.Place)
		switch {
		case step == nil:
		case t.Change.Fate == UnderWay:
			w.followOn(t, &t.Change, t.Place)
			said = false
		case t.Change.Open() && !w.asked(book, step, t, false, false):
			said = false
		}
	}
	return said
}

// carryUndo undoes what an undoing lists: the newest first, as many at once as the each around goes over, and past what
// waits. It reports whether all of it is over. What could not be undone keeps only older changes on its address.
func (w *walker) carryUndo(st *stepState) (over bool) {
	over = true
	kept, waits := map[string]string{}, map[string]bool{} // by address: which change stays there, and where one waits
	flying, of := 0, ""
	for _, k := range st.undoing.Touches {
		t := w.s.touches[k]
		step, book := Find(w.s.book, t.Place)
		if step == nil {
			continue
		}
		at := w.s.addressOf(t)
		switch {
		case t.Undo.Fate == UnderWay:
			w.followOn(t, &t.Undo, t.Place)
			over, flying, of = false, flying+1, t.Place.Static()
			waits[at] = true
			continue
		case t.Undo.Open():
			if w.settle(nil, book, step, t, true) == blocked {
				over = false
				waits[at] = true
				continue
			}
		}
		switch {
		case t.Undo.Fate == WasDone:
			if !w.judgeUndo(book, step, t) {
				over = false
				waits[at] = true
			}
		case t.Left != "" || !t.Undo.MayBegin():
			kept[at] = step.Title
		case keptBy(kept, at) != "":
			w.emit(t.Place, UndoLeft{t.TouchKey, fmt.Sprintf("the newer change %q stays there", keptBy(kept, at))})
			kept[at] = step.Title
		case waits[at] || waits[""] || at == "" && len(waits) > 0:
			over = false
			waits[at] = true
		case flying > 0 && (of != t.Place.Static() || flying >= w.undoesAtOnce(t)):
			over = false
			waits[at] = true
		default:
			x := &touching{w: w, step: step, place: t.Place, st: w.s.step(t.Place), target: t.Target, undo: t}
			x.along(undoWay())
			if t.Left != "" {
				kept[at] = step.Title
				continue
			}
			over = false
			waits[at] = true
			if t.Undo.Fate == UnderWay {
				flying, of = flying+1, t.Place.Static()
			}
		}
	}
	return over
}

// judgeUndo takes the readings anew that tell whether what was undone is as it must be then, and judges it, once. It
// reports false while that is under way.
func (w *walker) judgeUndo(book *runbook.Book, s *runbook.Step, t *Touch) bool {
	if s.UndoThat == nil || t.UndoProof != "" {
		return true
	}
	f := w.frameAt(book, t.Place)
	if t.Target != "" {
		f.target = t.Target
	}
	for i, look := range w.looksOf(f, s.UndoThat.Refers("readings")) {
		place, begun := w.instance(t.Place, look)
		if begun == nil {
			continue // what it reads is unsure
		}
		p := Purpose{For: ForUndone, Lap: int(w.s.attempts[t.Undo.Newest()].seq), Look: i}
		if over, r := w.round(f, t.Place, p, look, place, asked(f, begun)); r == goOn && !over {
			return false
		}
	}
	holds, values, err := s.UndoThat.Explain(w.scope(f, t.Place, t.Target))
	j := UndoJudged{TouchKey: t.TouchKey, Result: judged(holds, err), Expr: s.UndoThat.Source, Values: values}
	if err != nil {
		j.Unsure = unsure(err)
	}
	w.emit(t.Place, j)
	return true
}

// doubt is what is said of an undo that ended well; "" where what must hold then does.
func (j UndoJudged) doubt() string {
	switch j.Result {
	case Passes:
		return ""
	case Fails:
		return "but " + j.Expr + " does not hold"
	}
	return "but whether " + j.Expr + " holds is unsure: " + j.Unsure
}

// frameAt is what surrounds a place, with what the items around it are called.
func (w *walker) frameAt(book *runbook.Book, place Place) *frame {
	each, i, is := place.Frame().ItemOf()
	if !is || !place.own().inItem() {
		return &frame{book: book, call: place.Caller(), block: place.Frame()}
	}
	s, _ := Find(w.s.book, each)
	g, _ := w.itemFrame(w.frameAt(book, each), s, each, w.s.step(each).each, i)
	return g
}

// keptBy tells which change stays on an address, or where it is not known on which.
func keptBy(kept map[string]string, at string) string {
	if kept[at] != "" || at != "" {
		if kept[at] != "" {
			return kept[at]
		}
		return kept[""]
	}
	for _, title := range kept {
		return title
	}
	return ""
}

// undoesAtOnce is how many undos of one step may be under way at once: as many as its each goes over.
func (w *walker) undoesAtOnce(t *Touch) int {
	each, _, _ := t.Place.Frame().ItemOf()
	if st := w.s.steps[each]; st != nil && st.each != nil {
		return max(1, st.each.AtOnce)
	}
	return 1
}

// addressOf is the address that a touch is on, as its lock names it; "" for none.
func (s *State) addressOf(t *Touch) string {
	if t.Target == "" {
		return ""
	}
	r := t.request.intent.Request
	return s.keyOf(t.Target, r.Target.Address)
}

// goOnUndoing goes on with everything that is being undone, whatever else the run does. It reports whether all is over.
func (w *walker) goOnUndoing() bool {
	over := true
	for _, place := range slices.Clone(w.s.undoings) {
		st := w.s.step(place)
		if !w.carryUndo(st) {
			over = false
			continue
		}
		w.emit(place, Undone{})
	}
	return over
}
