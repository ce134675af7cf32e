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
func (s *State) Attempt(id string) (in Intent, place Place, over, ok bool) {
	a := s.attempts[id]
	if a == nil {
		return Intent{}, Place{}, false, false
	}
	return a.intent, a.place, a.over(), true
}

// Unreported reports whether an attempt is one of a change of which no outcome was ever reported.
func (s *State) Unreported(id string) bool {
	a := s.attempts[id]
	return a != nil && a.intent.Touches() && a.outcome == nil && a.late == nil
}

// PutBackAt is when the database was put back to an older state, as far as the run knows.
func (s *State) PutBackAt() time.Time {
	if s.putBack == nil {
		return time.Time{}
	}
	return s.putBack.At
}

// Late is what was reported of a change after it was given up; nil where nothing was.
func (s *State) Late(attempt string) *Outcome {
	if a := s.attempts[attempt]; a != nil {
		return a.late
	}
	return nil
}

// TouchOf gives the touch that an attempt is of; nil for looks.
func (s *State) TouchOf(attempt string) *Touch {
	a := s.attempts[attempt]
	if a == nil || !a.intent.Touches() {
		return nil
	}
	t, _ := s.effectOf(a)
	return t
}

// TouchAt gives the change at a place on a target; nil where nothing was begun there.
func (s *State) TouchAt(place Place, target string) *Touch { return s.touch(place, target) }

// AskedAbout gives the attempt that a question at a place is about; "" for other questions.
func (s *State) AskedAbout(place Place, question string) string {
	if st := s.steps[place]; st != nil && st.questions[question] != nil {
		return st.questions[question].raised.Attempt
	}
	return ""
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

// PlaceOf gives the place of the step to which an attempt belongs.
func (s *State) PlaceOf(id string) Place {
	if a := s.attempts[id]; a != nil {
		return a.place
	}
	return Place{}
}

// OpenGate gives the gate that waits for a decision, the place of its step and the people who approved so far; nil
// without one.
func (s *State) OpenGate(id string) (*GateRaised, Place, []string) {
	for place := range s.waits {
		for _, g := range s.steps[place].allGates() {
			if g.raised.Gate == id && g.open() && s.Ended == nil && s.ending == nil {
				var by []string
				for _, a := range g.approvals {
					by = append(by, a.Decider())
				}
				return &g.raised, place, by
			}
		}
	}
	return nil, Place{}, nil
}

// OpenQuestion gives the question that waits for an answer and the place of its step; nil without one.
func (s *State) OpenQuestion(id string) (*QuestionRaised, Place) {
	for place := range s.waits {
		for _, q := range s.steps[place].questions {
			if q.raised.Question == id && q.open() && s.Ended == nil && s.ending == nil {
				return &q.raised, place
			}
		}
	}
	return nil, Place{}
}

// waiting brings up to date on what the step at a place waits.
func (s *State) waiting(place Place) {
	st := s.steps[place]
	on := ""
	switch {
	case st == nil:
	case slices.ContainsFunc(st.allGates(), (*gateState).open):
		on = OnApproval
	case st.asked():
		on = OnAnswer
	case s.pausedOn(place, OnHalt):
		on = OnHalt
	case len(st.awaits) > 0 && verbAt(s.book, place) != runbook.Change:
		on = OnTurn
	case len(st.awaits) > 0:
		on = OnLock
	case len(st.judged) > 0 && !st.judged[len(st.judged)-1].Final && !st.done:
		on = OnTime
	case s.pausedOn(place, ""):
		on = OnTime
	case st.begun != nil && !st.done && verbAt(s.book, place) == runbook.Wait:
		on = OnTime
	}
	if on == OnTime && st.trouble != nil {
		on = "" // it is over; what was changed may still be undone there
	}
	if on == "" {
		drop(s, s.waits, place)
		return
	}
	put(s, s.waits, place, on)
}

// allGates are the gates of a change and of its undo.
func (st *stepState) allGates() []*gateState { return slices.Concat(st.gates, st.undoGates) }

// pausedOn reports whether a change at a place, or the undo of one, waits for something; "" for anything.
func (s *State) pausedOn(place Place, on string) bool {
	is := func(p *pause) bool { return p != nil && !p.until.IsZero() && (p.on == on || on == "") }
	if is(s.steps[place].pause) {
		return true
	}
	for _, t := range s.steps[place].touches {
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
	for place, on := range s.waits {
		if on != OnTurn && on != OnLock {
			continue
		}
		for _, x := range s.steps[place].awaits {
			return x.LocksAwaited
		}
	}
	return LocksAwaited{}
}

// Waits tells what a place waits for that another run holds, for what a lock is of.
func (s *State) Waits(place Place, of string) LocksAwaited {
	if st := s.steps[place]; st != nil && st.awaits[of] != nil {
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
	q := s.step(a.place).questions[questionOf(attempt)]
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
	Place   Place
	At      time.Time
	Outcome *Outcome // nil while it is under way, or where it was lost
	Over    bool
}

// Tried lists all attempts in the order in which they were begun.
func (s *State) Tried() []Tried {
	out := make([]Tried, len(s.order))
	for i, a := range s.order {
		out[i] = Tried{a.intent, a.place, a.at, a.outcome, a.over()}
	}
	return out
}

// Progress is how far one place of a run has come.
type Progress struct {
	Place   Place
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
func (s *State) Places() []Place { return slices.SortedFunc(maps.Keys(s.steps), byText) }

// Progress tells how far a place has come.
func (s *State) Progress(place Place) Progress {
	out := Progress{Place: place, WaitsOn: s.waits[place]}
	if t := s.times[place]; t != nil {
		out.First, out.Last = t.first, t.last
	}
	st := s.steps[place]
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
func (s *State) Times() map[Place][2]time.Time {
	out := make(map[Place][2]time.Time, len(s.times))
	for place, t := range s.times {
		out[place] = [2]time.Time{t.first, t.last}
	}
	return out
}

// OpenGates are the gates that wait for a word, by the place of their step.
func (s *State) OpenGates() (places []Place, gates []GateRaised) {
	for _, place := range slices.SortedFunc(maps.Keys(s.waits), byText) {
		for _, g := range s.steps[place].allGates() {
			if g.open() {
				places, gates = append(places, place), append(gates, g.raised)
			}
		}
	}
	return places, gates
}

// OpenQuestions are the questions that wait for an answer, by the place of their step.
func (s *State) OpenQuestions() (places []Place, questions []QuestionRaised) {
	for _, place := range slices.SortedFunc(maps.Keys(s.waits), byText) {
		for _, id := range slices.Sorted(maps.Keys(s.steps[place].questions)) {
			if q := s.steps[place].questions[id]; q.open() {
				places, questions = append(places, place), append(questions, q.raised)
			}
		}
	}
	return places, questions
}

// EndedAt is the place of the step that ended the run; "" where that is not known.
func (s *State) EndedAt() Place { return s.endedAt }

// TroubledAt is the place of the newest trouble; "" without one.
func (s *State) TroubledAt() Place { return s.troubledAt }

// Inputs are those of the runbook, or of the call, that a place lies in.
func (s *State) Inputs(place Place) map[string]any { return s.dataOf(place).inputs }

// Rounds are the samples of a reading in the runbook, or the call, that a place lies in; the oldest first.
func (s *State) Rounds(place Place, reading string) []*expr.Round {
	return s.dataOf(place).readings[reading]
}
