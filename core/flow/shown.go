package flow

import (
	"slices"
	"time"

	"urgentis/core/leave"
	"urgentis/core/runbook"
)

// OpenAttempts lists the intents whose outcome is not known, in the order in which they were begun.
func (s *State) OpenAttempts() []Intent {
	var out []Intent
	if len(s.open) == 0 {
		return nil
	}
	for _, a := range s.order {
		if !a.over() {
			out = append(out, a.intent)
		}
	}
	return out
}

// Attempt gives the intent of an attempt, the place of its step, and whether its outcome is in the log.
func (s *State) Attempt(id string) (in Intent, path string, over, ok bool) {
	a := s.attempts[id]
	if a == nil {
		return Intent{}, "", false, false
	}
	return a.intent, a.path, a.over(), true
}

// Unreported reports whether an attempt is one of a change of which no outcome was ever reported.
func (s *State) Unreported(id string) bool {
	a := s.attempts[id]
	return a != nil && a.intent.Touches() && a.outcome == nil && a.late == nil
}

// Late is what was reported of a change after it was given up; nil where nothing was.
func (s *State) Late(attempt string) *Outcome {
	if a := s.attempts[attempt]; a != nil {
		return a.late
	}
	return nil
}

// Says tells an outcome in a few words.
func (o *Outcome) Says() string {
	switch o.State {
	case OK:
		return "it ended well"
	case Failed:
		return "it failed: " + o.reason()
	}
	return "its end is unknown: " + o.reason()
}

// PathOf gives the place of the step to which an attempt belongs.
func (s *State) PathOf(id string) string {
	if a := s.attempts[id]; a != nil {
		return a.path
	}
	return ""
}

// OpenGate gives the gate that waits for a decision, the place of its step and the people who approved so far; nil
// without one.
func (s *State) OpenGate(id string) (*GateRaised, string, []string) {
	for path := range s.waits {
		for _, g := range s.steps[path].allGates() {
			if g.raised.Gate == id && g.open() && s.Ended == nil && s.ending == nil {
				var by []string
				for _, a := range g.approvals {
					by = append(by, a.Decider())
				}
				return &g.raised, path, by
			}
		}
	}
	return nil, "", nil
}

// OpenQuestion gives the question that waits for an answer and the place of its step; nil without one.
func (s *State) OpenQuestion(id string) (*QuestionRaised, string) {
	for path := range s.waits {
		for _, q := range s.steps[path].questions {
			if q.raised.Question == id && q.open() && s.Ended == nil && s.ending == nil {
				return &q.raised, path
			}
		}
	}
	return nil, ""
}

// waiting brings up to date on what the step at a place waits.
func (s *State) waiting(path string) {
	st := s.steps[path]
	on := ""
	switch {
	case st == nil:
	case slices.ContainsFunc(st.allGates(), (*gateState).open):
		on = OnApproval
	case st.asked():
		on = OnAnswer
	case s.pausedOn(path, OnHalt):
		on = OnHalt
	case len(st.awaits) > 0 && verbAt(s.book, path) != runbook.Change:
		on = OnTurn
	case len(st.awaits) > 0:
		on = OnLock
	case len(st.judged) > 0 && !st.judged[len(st.judged)-1].Final && !st.done:
		on = OnTime
	case s.pausedOn(path, ""):
		on = OnTime
	case st.begun != nil && !st.done && verbAt(s.book, path) == runbook.Wait:
		on = OnTime
	}
	if on == OnTime && st.trouble != nil {
		on = "" // it is over; what was changed may still be undone there
	}
	if on == "" {
		drop(s, s.waits, path)
		return
	}
	put(s, s.waits, path, on)
}

// allGates are the gates of a change and of its undo.
func (st *stepState) allGates() []*gateState { return slices.Concat(st.gates, st.undoGates) }

// pausedOn reports whether a change at a place, or the undo of one, waits for something; "" for anything.
func (s *State) pausedOn(path, on string) bool {
	is := func(p *pause) bool { return p != nil && !p.until.IsZero() && (p.on == on || on == "") }
	if is(s.steps[path].pause) {
		return true
	}
	for _, t := range s.steps[path].touches {
		if is(t.Undo.pause) {
			return true
		}
	}
	return false
}

func (st *stepState) asked() bool {
	for _, q := range st.questions {
		if q.open() {
			return true
		}
	}
	return false
}

// WaitsOn tells in words on what the run waits; "" while it runs or is over.
func (s *State) WaitsOn() string {
	if s.Ended != nil || len(s.open) > 0 {
		return ""
	}
	found := map[string]bool{}
	for _, on := range s.waits {
		found[on] = true
	}
	for _, on := range []string{OnApproval, OnAnswer, OnHalt, OnTurn, OnLock, OnTime} {
		if found[on] {
			return on
		}
	}
	return ""
}

// Awaited tells which run holds what this one waits for; "" for none.
func (s *State) Awaited() LocksAwaited {
	for path, on := range s.waits {
		if on != OnTurn && on != OnLock {
			continue
		}
		for _, x := range s.steps[path].awaits {
			return x.LocksAwaited
		}
	}
	return LocksAwaited{}
}

// Waits tells what a place waits for that another run holds, for what a lock is of.
func (s *State) Waits(path, of string) LocksAwaited {
	if st := s.steps[path]; st != nil && st.awaits[of] != nil {
		return st.awaits[of].LocksAwaited
	}
	return LocksAwaited{}
}

// approval is a person's yes, and what it allows.
type approval struct {
	proposal leave.Proposal
	digest   string
	id       string // of the gate or the question
	by       string
	until    time.Time
	within   time.Duration
}

// Sealed lists the marks of the sealed readings that were taken.
func (s *State) Sealed() []string { return s.sealed }

// Book is the runbook of the run.
func (s *State) Book() *runbook.Book { return s.book }

// Cancelled reports whether the run is to be cancelled.
func (s *State) Cancelled() bool { return s.cancel != nil }

// MayAskUndo reports whether a run that is being cancelled can still be told to undo what it changed.
func (s *State) MayAskUndo() bool { return s.cancel != nil && !s.cancel.Undo && s.ending == nil }

// SettledQuestion gives the question what became of an attempt, where it was found out otherwise.
func (s *State) SettledQuestion(attempt string) (id string, is bool) {
	a := s.attempts[attempt]
	if a == nil {
		return "", false
	}
	q := s.step(a.path).questions[questionOf(attempt)]
	return questionOf(attempt), q != nil && q.settled
}

// Raised reports whether the run ever asked anybody.
func (s *State) Raised() bool {
	for _, st := range s.steps {
		if len(st.gates)+len(st.undoGates)+len(st.questions) > 0 {
			return true
		}
	}
	return false
}
