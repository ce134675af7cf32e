package flow

import (
	"maps"
	"slices"
	"time"

	"urgentis/core/expr"
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
		return "it failed: " + o.Reason()
	}
	return "its end is unknown: " + o.Reason()
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

// Tried is one attempt and what became of it.
type Tried struct {
	Intent  Intent
	Path    string
	At      time.Time
	Outcome *Outcome // nil while it is under way, or where it was lost
	Over    bool
}

// Tried lists all attempts in the order in which they were begun.
func (s *State) Tried() []Tried {
	out := make([]Tried, len(s.order))
	for i, a := range s.order {
		out[i] = Tried{a.intent, a.path, a.at, a.outcome, a.over()}
	}
	return out
}

// Progress is how far one place of a run has come.
type Progress struct {
	Path    string
	Skipped bool
	Trouble *Troubled
	// Judged is the newest result of a check; nil before.
	Judged   *Judged
	JudgedAt time.Time
	Gates    []GateProgress // of its change, the oldest first
	Asks     []AskProgress  // of a question, by its rounds
	Leave    *LeaveGiven    // the newest
	WaitsOn  string         // what the place itself waits on; "" for nothing
	// First and Last are when something happened there.
	First, Last time.Time
}

// GateProgress is how far a gate has come.
type GateProgress struct {
	Raised           GateRaised
	Refused, Expired bool
	Enough           bool // as many people approved as must
}

// AskProgress is how far a round of a question has come.
type AskProgress struct {
	Raised   QuestionRaised
	Answered *QuestionAnswered
	Expired  bool
}

// Places lists where something happened, in the order of their text.
func (s *State) Places() []string { return slices.Sorted(maps.Keys(s.steps)) }

// Progress tells how far a place has come.
func (s *State) Progress(path string) Progress {
	out := Progress{Path: path, WaitsOn: s.waits[path]}
	if t := s.times[path]; t != nil {
		out.First, out.Last = t.first, t.last
	}
	st := s.steps[path]
	if st == nil {
		return out
	}
	out.Skipped, out.Trouble = st.skipped != nil, st.trouble
	if n := len(st.judged); n > 0 {
		out.Judged, out.JudgedAt = &st.judged[n-1].Judged, st.judged[n-1].at
	}
	for _, g := range st.gates {
		out.Gates = append(out.Gates, GateProgress{g.raised, g.refused != nil, g.expired, g.enough()})
	}
	for _, q := range st.asks {
		out.Asks = append(out.Asks, AskProgress{q.raised, q.answered, q.expired})
	}
	if n := len(st.leaves); n > 0 {
		out.Leave = &st.leaves[n-1].LeaveGiven
	}
	return out
}

// Times tells when something happened at each place first and last.
func (s *State) Times() map[string][2]time.Time {
	out := make(map[string][2]time.Time, len(s.times))
	for path, t := range s.times {
		out[path] = [2]time.Time{t.first, t.last}
	}
	return out
}

// OpenGates are the gates that wait for a word, by the place of their step.
func (s *State) OpenGates() (places []string, gates []GateRaised) {
	for _, path := range slices.Sorted(maps.Keys(s.waits)) {
		for _, g := range s.steps[path].allGates() {
			if g.open() {
				places, gates = append(places, path), append(gates, g.raised)
			}
		}
	}
	return places, gates
}

// OpenQuestions are the questions that wait for an answer, by the place of their step.
func (s *State) OpenQuestions() (places []string, questions []QuestionRaised) {
	for _, path := range slices.Sorted(maps.Keys(s.waits)) {
		for _, id := range slices.Sorted(maps.Keys(s.steps[path].questions)) {
			if q := s.steps[path].questions[id]; q.open() {
				places, questions = append(places, path), append(questions, q.raised)
			}
		}
	}
	return places, questions
}

// EndedAt is the place of the step that ended the run; "" where that is not known.
func (s *State) EndedAt() string { return s.endedAt }

// TroubledAt is the place of the newest trouble; "" without one.
func (s *State) TroubledAt() string { return s.troubledAt }

// Inputs are those of the runbook, or of the call, that a place lies in.
func (s *State) Inputs(path string) map[string]any { return s.dataOf(path).inputs }

// Rounds are the takings of a reading in the runbook, or the call, that a place lies in; the oldest first.
func (s *State) Rounds(path, reading string) []*expr.Round { return s.dataOf(path).readings[reading] }
