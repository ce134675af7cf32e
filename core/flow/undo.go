package flow

import (
	"fmt"
	"slices"
	"strings"
)

// fate is what is known to have become of a change on one target.
type fate int

const (
	untouched fate = iota // nothing of it was begun, or a person says that it did not happen
	done
	inPart  // it failed after it had begun, or a person says so
	unsaid  // it is unknown, and nobody could say
	unasked // it is unknown, and a person is to be asked
	running
)

// fateOf tells what became of one attempt.
func (w *walker) fateOf(a *attempt) fate {
	st := w.s.step(a.path)
	switch {
	case !a.over():
		return running
	case !a.unknown() && a.outcome.State == OK:
		return done
	case !a.unknown() && a.outcome.Exit != nil:
		return inPart
	case !a.unknown():
		return untouched
	}
	if j := st.still[a.intent.Attempt+"/"+a.intent.Target]; j != nil && j.Result != Unsure {
		if j.Result == Passes {
			return done
		}
		return untouched
	}
	q := st.questions[questionOf(a.intent.Attempt)]
	if known := a.late; known != nil && known.State != Unknown && (q == nil || q.answered == nil) && !w.olderRules(4) {
		// Nobody said so, but the instance that carried it out did.
		switch {
		case known.State == OK:
			return done
		case known.Exit != nil:
			return inPart
		}
		return untouched
	}
	switch {
	case q == nil || q.open():
		return unasked
	case q.answered == nil:
		return unsaid
	case q.answered.Choice == Happened:
		return done
	case q.answered.Choice == InPart:
		return inPart
	}
	return untouched
}

// touched is a change on one target with what became of it.
type touched struct {
	*attempt
	fate fate
}

// touchedIn lists, newest first, what was changed inside a block and was not taken back: of each change and target the
// newest attempt that did something, or of which that is not known.
func (w *walker) touchedIn(block string) []touched {
	var out []touched
	over := map[[2]string]bool{}
	for _, a := range slices.Backward(w.s.order) {
		key := [2]string{a.path, a.intent.Target}
		if !a.intent.Change || a.intent.Undo != "" || over[key] || !inside(a.path, block) {
			continue
		}
		if w.olderRules(4) && !w.knownToHaveHappened(a) {
			continue
		}
		became := w.fateOf(a)
		if became == untouched {
			continue
		}
		over[key] = !w.olderRules(4)
		if !a.undone {
			out = append(out, touched{a, became})
		}
	}
	return out
}

// lockedAgain takes the locks on what is to be taken back, where they were given back meanwhile.
func (w *walker) lockedAgain(path string, st *stepState) result {
	if w.olderRules(4) {
		return goOn
	}
	var targets []string
	for _, id := range st.undo.Attempts {
		a := w.s.attempts[id]
		if _, touched := st.rounds[undoRound(0)]; touched {
			return goOn
		}
		targets = append(targets, a.intent.Target)
	}
	return w.lockedOn(path, st, targets, "taking back")
}

// undo takes back, newest first, what was changed within a block and was not taken back: what was done, and what
// failed after it had begun. What became of an unknown change is asked first.
func (w *walker) undo(f *frame, path, place string) result {
	st := w.s.step(path)
	if st.undone {
		return goOn
	}
	if st.undo == nil {
		list := w.touchedIn(place)
		if !w.olderRules(4) && !w.allSaid(f, list) {
			return blocked
		}
		w.emit(path, toTakeBack(list))
	}
	if r := w.lockedAgain(path, st); r != goOn {
		return r
	}
	for i, id := range st.undo.Attempts {
		a := w.s.attempts[id]
		s, _ := Find(w.s.book, a.path)
		if s == nil {
			continue
		}
		r := w.carryOutOne(f, s, path, st, *a.intent.Request.Undo, a.intent.Approval, undoRound(i), id)
		if r.failed() && !w.olderRules(4) {
			t := *r.trouble
			t.Because += " " + w.s.takenBack(st.undo)
			r.trouble = &t
		}
		if r != goOn {
			return r
		}
	}
	if w.olderRules(4) {
		if n := len(st.undo.Without); n > 0 {
			return w.fail(
				path,
				Troubled{
					Final:   true,
					Because: fmt.Sprintf("%d change(s) could not be taken back: they have no undo.", n),
				},
			)
		}
	} else if len(st.undo.Without)+len(st.undo.Spared)+len(st.undo.Unsaid) > 0 {
		return w.fail(path, Troubled{Final: true, Because: w.s.takenBack(st.undo)})
	}
	w.emit(path, Undone{})
	return goOn
}

func toTakeBack(list []touched) UndoBegun {
	u := UndoBegun{}
	for _, t := range list {
		id, undo := t.intent.Attempt, t.intent.Request.Undo
		switch {
		case t.fate == unsaid:
			u.Unsaid = append(u.Unsaid, id)
		case undo == nil:
			u.Without = append(u.Without, id)
		case undo.OnlyIfDone && t.fate == inPart:
			u.Spared = append(u.Spared, id)
		default:
			u.Attempts = append(u.Attempts, id)
		}
	}
	return u
}

// allSaid asks people about every unknown change of a list, all at once. It reports false while an answer, or the end
// of a change, is waited for.
func (w *walker) allSaid(f *frame, list []touched) bool {
	said := true
	for i := range list {
		t := &list[i]
		if t.fate == running {
			said = false
		}
		if t.fate != unasked {
			continue
		}
		q := w.s.step(t.path).questions[questionOf(t.intent.Attempt)]
		switch s, _ := Find(w.s.book, t.path); {
		case q == nil && s != nil:
			w.askWhatBecame(f, s, t.path, t.attempt, "change", w.choicesOf(false))
			said = false
		case q != nil && w.now.Before(q.raised.Until):
			w.wake(q.raised.Until)
			said = false
		case q != nil:
			w.emit(t.path, QuestionExpired{Question: q.raised.Question})
			t.fate = unsaid
		}
	}
	return said
}

// TakenBack tells what was taken back at a place and what was not, and where.
func (s *State) TakenBack(path string) string {
	if u := s.step(path).undo; u != nil {
		return s.takenBack(u)
	}
	return ""
}

// takenBack tells what was taken back and what was not, and where.
func (s *State) takenBack(u *UndoBegun) string {
	var back, left []string
	split := func(ids []string, why string) {
		var yes, no []string
		for _, id := range ids {
			if s.attempts[id].undone {
				yes = append(yes, id)
			} else {
				no = append(no, id)
			}
		}
		back = append(back, s.named(yes, "")...)
		left = append(left, s.named(no, why)...)
	}
	split(u.Attempts, "")
	split(u.Without, " (it has no undo)")
	split(u.Spared, " (it failed, and its undo is only for what was done)")
	split(u.Unsaid, " (nobody could say what became of it)")
	var out []string
	if len(back) > 0 {
		out = append(out, "Taken back: "+strings.Join(back, "; ")+".")
	}
	if len(left) > 0 {
		out = append(out, "Not taken back: "+strings.Join(left, "; ")+".")
	}
	if out == nil {
		if slices.ContainsFunc(s.order, (*attempt).touched) {
			return "Nothing in this part had been changed, so there was nothing to take back there."
		}
		return "Nothing had been changed, so there was nothing to take back."
	}
	return strings.Join(out, " ")
}

// touched reports whether an attempt is of a change that may have done something, and was not taken back.
func (a *attempt) touched() bool {
	if !a.intent.Change || a.intent.Undo != "" || a.undone {
		return false
	}
	return a.outcome == nil || a.outcome.State != Held && (a.outcome.State != Failed || a.outcome.Exit != nil)
}

// named tells of attempts which change they are and on which targets, each change once.
func (s *State) named(ids []string, why string) []string {
	var titles []string
	where := map[string][]string{}
	for _, id := range ids {
		a := s.attempts[id]
		title := a.path
		if step, _ := Find(s.book, a.path); step != nil {
			title = step.Title
		}
		if where[title] == nil {
			titles = append(titles, title)
		}
		where[title] = append(where[title], here(a.intent.Target))
	}
	for i, title := range titles {
		titles[i] = fmt.Sprintf("%q on %s%s", title, strings.Join(where[title], ", "), why)
	}
	return titles
}

// saidTakenBack is what a trouble says once its block was taken back at a place.
func (w *walker) saidTakenBack(path string) string {
	if w.olderRules(4) {
		return "The changes were taken back."
	}
	return w.s.TakenBack(path)
}

// knownToHaveHappened reports whether a change is known to have happened, as versions 1 to 3 of the rules saw it.
func (w *walker) knownToHaveHappened(a *attempt) bool {
	if a.outcome != nil && a.outcome.State == OK {
		return true
	}
	q := w.s.step(a.path).questions[questionOf(a.intent.Attempt)]
	return q != nil && q.answered != nil && q.answered.Choice == Happened
}
