package flow

import (
	"fmt"
	"slices"
	"time"

	"urgentis/core/incident"
	"urgentis/core/runbook"
)

// Fate is what is known to have become of an effect: of a change on a target, or of its undo.
type Fate int

// The fates. Only NotBegun and HeldBack may be begun.
const (
	NotBegun     Fate = iota
	HeldBack          // intended, and kept back by us: the halt, a lost lease, a stop
	UnderWay          // also while a job goes on elsewhere and nobody follows it at the moment
	WasDone           // seen to end well, or somebody says so
	DoneInPart        // somebody says so
	FailedBefore      // nothing of it was begun
	FailedAfter       // it began, and was seen to fail
	NotKnown          // it may have begun, and nobody saw its end
)

var fates = [...]incident.EffectFate{incident.NotBegun, incident.HeldBack, incident.UnderWay, incident.WasDone,
	incident.DoneInPart, incident.FailedBefore, incident.FailedAfter, incident.NotKnown}

// String writes it for transcripts, logs and the record.
func (f Fate) String() string { return string(fates[f]) }

// Who knows what became of an effect.
const (
	ByHand   = "hand"
	ByLook   = "look"
	ByPerson = "person"
	ByLate   = "late" // the hand, after it was given up
	ByEngine = "engine"
	ByNobody = "nobody" // people were asked, and nobody answered
)

// Cause is how a fate is known: the number of the event, who said it, by name, and why in a sentence without its stop.
type Cause struct {
	Seq     int64
	Who, By string
	Says    string
}

// Effect is a change on a target, or its undo. It changes with the log and by nothing else.
type Effect struct {
	Fate     Fate
	Cause    Cause
	Begun    int64 // the number of the newest intent that began it
	Attempts []string
	Job      string    // what its job elsewhere is known by
	Deadline time.Time // of that job
	Rests    bool      // nobody can begin it any more, and it is not seen to run
	Repeats  int       // how often it was begun once more by itself
	Twice    bool      // a second execution was reported
	// Perhaps says that it is begun once more by itself, and that what became of it before is not known: that the
	// newest attempt began nothing does not say that nothing happened.
	Perhaps bool
	Earlier string // why that is not known
	// Lost says that the database was put back while it could have been begun: not begun is only what the log knows.
	Lost  bool
	pause *pause
}

// pause is what an effect, or the way to a change, waits for.
type pause struct {
	on    string
	seq   int64
	until time.Time
}

// Newest is the attempt that counts; "" before the first.
func (e *Effect) Newest() string {
	if n := len(e.Attempts); n > 0 {
		return e.Attempts[n-1]
	}
	return ""
}

// MayBegin reports whether an intent may begin it.
func (e *Effect) MayBegin() bool { return e.Fate == NotBegun || e.Fate == HeldBack }

// Open reports whether somebody may still be asked what became of it.
func (e *Effect) Open() bool { return e.unknown() && e.Cause.Who != ByNobody }

// unknown reports whether nobody knows what became of it.
func (e *Effect) unknown() bool { return e.Fate == NotKnown || e.Perhaps && e.MayBegin() }

// TouchKey names a touch: the place of the change in the run, and its target.
type TouchKey struct {
	Place  Place  `json:"place"`
	Target string `json:"target,omitempty"`
}

// Touch is one change on one target, and its undo. Whatever asks what became of a change reads it, and nothing else.
type Touch struct {
	TouchKey
	Change, Undo Effect
	Proof        string // the newest final result, by Seq, of a check that proves it; "" without one
	Left         string // why it is not undone, where it was to be
	// UndoProof is what its undo's own condition came to, and UndoDoubt what is said where that is not passes; ""
	// without one.
	UndoProof, UndoDoubt string
	request              *attempt
}

// Stands reports whether the change did something, or may have, and was not undone.
func (t *Touch) Stands() bool {
	switch t.Change.Fate {
	case WasDone, DoneInPart, FailedAfter, NotKnown, UnderWay:
		return !t.Undone()
	}
	return t.Change.unknown()
}

// Undone reports whether the change was undone, as often as it was done.
func (t *Touch) Undone() bool { return t.Undo.Fate == WasDone && t.Undo.Twice == t.Change.Twice }

// Stayed reports whether it was to be undone, and stands; or may, as its undo ended well and what must hold then does
// not.
func (t *Touch) Stayed() bool {
	return t.UndoDoubt != "" || t.Stands() && (t.Left != "" || t.Undo.Fate != NotBegun)
}

// stayed reports whether something did. What a late report says of it counts.
func (s *State) stayed() bool { return slices.ContainsFunc(s.touchOrder, (*Touch).Stayed) }

// Unsaid reports whether nobody can say what became of it, or of its undo.
func (t *Touch) Unsaid() bool {
	if t.Undo.unknown() || t.Undo.Fate == UnderWay {
		return true
	}
	return (t.Change.unknown() || t.Change.Fate == UnderWay) && !t.Undone()
}

// Touches lists the touches of the run in the order in which they were begun.
func (s *State) Touches() []*Touch {
	out := slices.Clone(s.touchOrder)
	slices.SortStableFunc(out, func(a, b *Touch) int { return int(a.Change.Begun - b.Change.Begun) })
	return out
}

// touch gives the touch of a place and a target; nil where nothing was begun there.
func (s *State) touch(place Place, target string) *Touch { return s.touches[TouchKey{place, target}] }

// fateAt is what became of the change at a place on a target.
func (s *State) fateAt(place Place, target string) Fate {
	if t := s.touch(place, target); t != nil {
		return t.Change.Fate
	}
	return NotBegun
}

// effectOf gives the touch and the effect that an attempt is of.
func (s *State) effectOf(a *attempt) (*Touch, *Effect) {
	place := a.place
	if undone := s.attempts[a.intent.takes]; undone != nil {
		place = undone.place
	}
	t := s.touch(place, a.intent.Target)
	if t == nil {
		t = &Touch{TouchKey: TouchKey{place, a.intent.Target}}
		put(s, s.touches, t.TouchKey, t)
		push(s, &s.touchOrder, t)
		push(s, &s.step(place).touches, t)
	}
	if a.intent.Undoes() {
		return t, &t.Undo
	}
	if t.request == nil {
		set(s, &t.request, a)
	}
	return t, &t.Change
}

// EffectOf gives the effect that an attempt is of; nil for looks.
func (s *State) EffectOf(attempt string) *Effect {
	a := s.attempts[attempt]
	if a == nil || !a.intent.Touches() {
		return nil
	}
	_, e := s.effectOf(a)
	return e
}

// becomes gives an effect its fate.
func (s *State) becomes(e *Effect, f Fate, c Cause) {
	next := *e
	next.Fate, next.Cause, next.pause = f, c, nil
	if f != UnderWay && f != NotKnown && !next.Perhaps {
		next.Rests = false
	}
	if next.Perhaps && f == FailedBefore && c.Who == ByHand {
		next.Fate, next.Rests = NotKnown, true // that attempt did nothing; of the one before nothing is known
	}
	next.Perhaps = next.Perhaps && (next.Fate == NotKnown || next.Fate == HeldBack || next.Fate == UnderWay) &&
		c.Who != ByPerson && c.Who != ByLook
	set(s, e, next)
}

// beginEffect takes in the intent of a change or an undo. What may not be begun cannot be in a log.
func (s *State) beginEffect(a *attempt) error {
	_, e := s.effectOf(a)
	in := a.intent
	older := s.Begun.Rules < touchRules
	switch {
	case in.FollowsOn() && !older:
		if e.Fate != UnderWay || e.Job == "" {
			return fmt.Errorf("attempt %s follows on what is not under way elsewhere", in.Attempt)
		}
	case older:
	case !e.MayBegin():
		return fmt.Errorf("attempt %s begins what is %s", in.Attempt, e.Fate)
	case !s.openLeaves[in.Leave]:
		return fmt.Errorf("attempt %s rests on the leave %d, which is over", in.Attempt, in.Leave)
	}
	next := *e
	next.Fate, next.Cause = UnderWay, Cause{Seq: a.seq, Who: ByEngine, By: in.By}
	next.Attempts = append(slices.Clip(e.Attempts), in.Attempt)
	next.Rests, next.pause = false, nil
	if !in.FollowsOn() {
		next.Begun, next.Job, next.Deadline = a.seq, "", time.Time{}
		if in.Request.Job != nil {
			next.Deadline = a.at.Add(time.Duration(in.Request.Timeout) * time.Second)
		}
	}
	set(s, e, next)
	return nil
}

// fate is what a hand's outcome says. An exit, or a status, says that it had begun.
func (o *Outcome) fate() Fate {
	switch {
	case o.State == OK:
		return WasDone
	case o.State == Held:
		return HeldBack
	case o.State == StillRuns:
		return UnderWay
	case o.State == Failed && o.Exit != nil:
		return FailedAfter
	case o.State == Failed:
		return FailedBefore
	}
	return NotKnown
}

// endEffect takes in how an attempt of a change or an undo ended. late: it was given up before.
func (s *State) endEffect(a *attempt, o *Outcome, seq int64, late bool) {
	t, e := s.effectOf(a)
	f := o.fate()
	why := Cause{Seq: seq, Who: ByHand, By: a.intent.By, Says: o.Reason()}
	if !late {
		s.becomes(e, f, why)
		switch {
		case o.State == Held:
			s.pauseEffect(t, e, &pause{OnHalt, seq, a.heldUntil(o)})
		case f == UnderWay:
			set(s, &e.pause, &pause{on: OnRest, seq: seq, until: a.overAt.Add(followAgain)})
		}
		return
	}
	why.Who = ByLate
	happened := f == WasDone || f == FailedAfter
	switch {
	case f == NotKnown || f == UnderWay:
	case a.intent.Attempt != e.Newest():
		if happened && e.Begun > a.seq && e.Fate != FailedBefore && e.Fate != NotBegun && e.Fate != HeldBack {
			s.happenedTwice(t, e)
		} else if happened {
			s.becomes(e, f, why)
		}
	case e.Fate == NotKnown && f == FailedBefore:
		s.becomes(e, HeldBack, why) // nothing of it was begun, so that it may be
		s.closeQuestion(a)
	case e.Fate == NotKnown:
		s.becomes(e, f, why)
		s.closeQuestion(a)
	case e.Fate != f:
		s.becomes(e, f, why)
	}
}

// happenedTwice takes in that an effect was carried out once more. What may be repeated is then as it is after once.
func (s *State) happenedTwice(t *Touch, e *Effect) {
	if step, _ := Find(s.book, t.Place); e == &t.Change && step != nil && step.Repeatable {
		return
	}
	set(s, &e.Twice, true)
}

// heldUntil is when what was held back is tried again by itself.
func (a *attempt) heldUntil(o *Outcome) time.Time {
	if o.Halted {
		return a.overAt.Add(haltRetry)
	}
	return a.overAt.Add(heldRetry)
}

// pauseEffect makes an effect wait; the way to a change begins a new lap after it.
func (s *State) pauseEffect(t *Touch, e *Effect, p *pause) {
	if e == &t.Undo {
		set(s, &e.pause, p)
		return
	}
	s.closeLap(s.step(t.Place), p)
}

// loseEffect takes in that nobody is left who could report an attempt. A job that is known goes on elsewhere.
func (s *State) loseEffect(a *attempt, b Lost, seq int64) {
	_, e := s.effectOf(a)
	if e.Newest() != a.intent.Attempt || e.Fate != UnderWay {
		return
	}
	if e.Job != "" {
		return
	}
	s.becomes(e, NotKnown, Cause{Seq: seq, Who: ByEngine, By: b.By, Says: b.Because})
}

// restEffect takes in that an attempt can begin no more and is not seen to run.
func (s *State) restEffect(a *attempt) {
	if _, e := s.effectOf(a); e.Newest() == a.intent.Attempt && e.unknown() {
		set(s, &e.Rests, true)
	}
}

// settleEffect takes in what a look says of a change. What does not hold counts only of what is at rest.
func (s *State) settleEffect(a *attempt, b Settled, seq int64) {
	_, e := s.effectOf(a)
	why := Cause{Seq: seq, Who: ByLook, Says: b.Expr + " holds"}
	switch {
	case e.Newest() != a.intent.Attempt || e.Fate != NotKnown:
	case b.Result == Passes:
		s.becomes(e, WasDone, why)
		s.closeQuestion(a)
	case b.Result == Fails && e.Rests:
		why.Says = b.Expr + " does not hold"
		s.becomes(e, FailedBefore, why)
		s.closeQuestion(a)
	}
}

// loseTouches takes in that the database was put back: what could have been begun may have been.
func (s *State) loseTouches() {
	for _, t := range s.touchOrder {
		if t.Change.MayBegin() {
			set(s, &t.Change.Lost, true)
		}
		if t.Undo.MayBegin() && t.Left == "" {
			set(s, &t.Undo.Lost, true)
		}
	}
}

// sayEffect takes in what a person says became of an attempt.
func (s *State) sayEffect(a *attempt, b QuestionAnswered, seq int64) error {
	_, e := s.effectOf(a)
	if SaysNotBegun(b.Choice) && !e.Rests && s.Begun.Rules >= touchRules {
		return fmt.Errorf("the answer %s to %s: it may still begin, or run", b.Choice, b.Question)
	}
	why := Cause{Seq: seq, Who: ByPerson, By: b.By, Says: "says " + b.By}
	switch b.Choice {
	case Happened:
		s.becomes(e, WasDone, why)
	case InPart:
		s.becomes(e, DoneInPart, why)
	case DidNot:
		s.becomes(e, FailedBefore, why)
	case DoItAgain:
		s.becomes(e, NotBegun, why)
	}
	return nil
}

// repeatEffect takes in that a change at rest is to begin once more by itself.
func (s *State) repeatEffect(place Place, target string, seq int64) error {
	t := s.touch(place, target)
	if t == nil || t.Change.Fate != NotKnown || !t.Change.Rests {
		return fmt.Errorf("the change at %s on %s is repeated, and is not at rest", place, here(target))
	}
	next := t.Change
	if !next.Perhaps {
		next.Earlier = next.Cause.Says
	}
	next.Fate, next.Cause = NotBegun, Cause{Seq: seq, Who: ByEngine, Says: "it is repeated"}
	next.Repeats, next.Perhaps, next.pause = next.Repeats+1, true, nil
	set(s, &t.Change, next)
	return nil
}

// proveTouches notes on the touches that a check proves, as far as it sees them, what it found.
func (s *State) proveTouches(place Place, change, result string) {
	for _, t := range s.touchOrder {
		if step, _ := Find(s.book, t.Place); step != nil && step.ID == change && place.Sees(t.Place) {
			set(s, &t.Proof, result)
		}
	}
}

// inForce lists, newest first, the touches within a block that stand.
func (s *State) inForce(in func(*Touch) bool) []*Touch {
	var out []*Touch
	for _, t := range slices.Backward(s.Touches()) {
		if t.Stands() && in(t) {
			out = append(out, t)
		}
	}
	return out
}

// within reports of touches whether they lie within a block.
func within(block Place) func(*Touch) bool {
	return func(t *Touch) bool { return t.Place.In(block) }
}

// ofStep reports of touches whether they lie in one of a step's instances that are seen from a place: of a change, or
// of all that stands in an each, a together or a block.
func (s *State) ofStep(from Place, step *runbook.Step) func(*Touch) bool {
	var instances []Place
	for _, place := range s.instances[step] {
		if from.Sees(place) {
			instances = append(instances, place)
		}
	}
	return func(t *Touch) bool {
		return slices.ContainsFunc(instances, func(place Place) bool { return t.Place.In(place) })
	}
}
