package flow

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"urgentis/core/expr"
	"urgentis/core/reading"
	"urgentis/core/runbook"
)

// Fold reads a log. An impossible log is an error, so that nothing is begun on it.
func Fold(book *runbook.Book, log []Event) (*State, error) {
	return Follow(book, log, func(*State, Event) {})
}

// Follow is Fold, and shows the state after each event.
func Follow(book *runbook.Book, log []Event, after func(*State, Event)) (*State, error) {
	s := newState(book)
	for _, e := range log {
		s.apply(e)
		if s.err != nil {
			return nil, fmt.Errorf("event %d: %w", e.Seq, s.err)
		}
		after(s, e)
	}
	if s.Begun == nil {
		return nil, errors.New("the log is empty")
	}
	return s, nil
}

// atLeast is a time, and not before the newest event: in a log no time falls, whatever clocks do.
func (s *State) atLeast(at time.Time) time.Time {
	if at.Before(s.lastAt) {
		return s.lastAt
	}
	return at
}

func (s *State) step(place Place) *stepState {
	st := s.steps[place]
	if st == nil {
		st = &stepState{}
		put(s, s.steps, place, st)
		if step, _ := Find(s.book, place); step != nil {
			put(s, s.instances, step, append(slices.Clip(s.instances[step]), place))
		}
	}
	return st
}

// dataOf is the data of the call that a place is in.
func (s *State) dataOf(place Place) *data {
	scope := place.Whole()
	d := s.data[scope]
	if d == nil {
		d = &data{
			readings: map[string][]*expr.Round{},
			units:    map[string]string{},
			facts:    map[string]map[string][]fact{},
			views:    map[Place]map[string]*expr.Series{},
		}
		put(s, s.data, scope, d)
	}
	return d
}

// noteFact notes a fact at a place.
func (s *State) noteFact(kind, id string, place Place, value map[string]any) {
	facts := s.dataOf(place).facts
	if facts[kind] == nil {
		put(s, facts, kind, map[string][]fact{})
	}
	put(s, facts[kind], id, append(facts[kind][id], fact{place, value}))
}

func (s *State) apply(e Event) {
	if e.Seq != s.Last+1 {
		s.err = fmt.Errorf("the log has a gap after %d", s.Last)
		return
	}
	set(s, &s.Last, e.Seq)
	set(s, &s.lastAt, e.At)
	if b, ok := e.Body.(Begun); ok {
		if b.Rules < OldestRules || b.Rules > Rules {
			s.err = fmt.Errorf(
				"the run was begun under version %d of the rules; this program knows %d to %d: %w",
				b.Rules,
				OldestRules,
				Rules,
				ErrNewer,
			)
		}
		s.Begun, s.BegunAt = &b, e.At
		s.dataOf(Place{}).inputs = accepted(s.book, b.Inputs)
		return
	}
	if s.Begun == nil {
		s.err = errors.New("the log does not begin with run.begun")
		return
	}
	if t := s.times[e.Place]; t == nil {
		put(s, s.times, e.Place, &span{e.At, e.At})
	} else {
		set(s, &t.last, e.At)
	}
	s.closeLeaves(e)
	if s.applyRun(e) {
		return
	}
	s.applyStep(s.step(e.Place), e)
	s.waiting(e.Place)
}

// results are the results of a call as its caller sees them: what could not be said says why.
func results(b CallEnded) map[string]any {
	if len(b.Unsaid) == 0 {
		return b.Results
	}
	out := maps.Clone(b.Results)
	if out == nil {
		out = map[string]any{}
	}
	for name, why := range b.Unsaid {
		out[name] = expr.Unsaid(why)
	}
	return out
}

// accepted brings inputs, which were JSON, to their types.
func accepted(book *runbook.Book, given map[string]any) map[string]any {
	out := make(map[string]any, len(given))
	for _, in := range book.Inputs {
		if v, err := reading.Convert(given[in.Name], in.Type); err == nil {
			out[in.Name] = v
		}
	}
	return out
}

// applyRun applies events that speak of the run as a whole.
func (s *State) applyRun(e Event) bool {
	switch b := e.Body.(type) {
	case Outcome:
		s.end(b, e)
	case Lost:
		if a := s.attempts[b.Attempt]; a != nil && !a.over() {
			set(s, &a.lost, &b)
			set(s, &a.overAt, e.At)
			drop(s, s.open, b.Attempt)
			if a.intent.Touches() {
				s.loseEffect(a, b, e.Seq)
			}
		}
	case Followed:
		if a := s.attempts[b.Attempt]; a != nil && a.intent.Touches() {
			if _, eff := s.effectOf(a); eff.Newest() == b.Attempt {
				set(s, &eff.Job, b.Job)
				if eff.Fate == NotKnown && eff.Cause.Who == ByEngine && eff.Open() {
					// It is known after all: it goes on elsewhere, and is followed.
					s.becomes(eff, UnderWay, Cause{Seq: e.Seq, Who: ByLate, By: a.intent.By})
					s.closeQuestion(a)
				}
			}
		}
	case Rested:
		if a := s.attempts[b.Attempt]; a != nil && a.intent.Touches() {
			s.restEffect(a)
		}
	case LocksTaken:
		for _, k := range b.Keys {
			put(s, s.locks, k, true)
		}
		drop(s, s.step(e.Place).awaits, b.Of)
		s.waiting(e.Place)
	case LocksGivenBack:
		for _, k := range b.Keys {
			drop(s, s.locks, k)
		}
	case AlertChanged:
		set(s, &s.alert, &b)
		set(s, &s.alertSeq, e.Seq)
	case Turned:
		push(s, &s.step(e.Place).turned, b.To)
	case Resumed:
		set(s, &s.resumed, e.Seq)
		for place, on := range s.waits {
			if on == OnHalt {
				drop(s, s.waits, place)
			}
		}
	case PutBack:
		set(s, &s.putBack, &b)
		set(s, &s.putBackSeq, e.Seq)
		s.loseTouches()
	case CancelAsked:
		if s.cancel == nil || b.Undo && !s.cancel.Undo && s.ending == nil {
			set(s, &s.cancel, &b)
			set(s, &s.cancelSeq, e.Seq)
		}
	case Older:
	case Ending:
		if !e.Place.IsZero() && verbAt(s.book, e.Place) == runbook.Call {
			set(s, &s.step(e.Place).callEnding, &b)
			return true
		}
		set(s, &s.ending, &b)
		if s.endingSeq == 0 {
			set(s, &s.endingSeq, e.Seq)
		}
	case Ended:
		set(s, &s.Ended, &b)
		set(s, &s.endedAt, e.Place)
	default:
		return false
	}
	return true
}

// verbAt gives the verb of the step at a place; "" for none.
func verbAt(book *runbook.Book, place Place) runbook.Verb {
	if st, _ := Find(book, place); st != nil {
		return st.Verb
	}
	return ""
}

func (s *State) applyStep(st *stepState, e Event) {
	switch e.Body.(type) {
	case Skipped, StepBegun, Told, Noted, EachBegun, ItemBegun, CallBegun:
		set(s, &s.begun, s.begun+1)
	}
	switch b := e.Body.(type) {
	case Skipped:
		set(s, &st.skipped, &b)
	case StepBegun:
		set(s, &st.begun, &b)
		set(s, &st.beganAt, e.At)
	case Intent:
		s.intend(st, e, b)
	case Judged:
		push(s, &st.judged, judgedAt{b, e.At})
		step, _ := Find(s.book, e.Place)
		if b.Final && step != nil && step.Proves != "" {
			s.proveTouches(e.Place, step.Proves, b.Result)
		}
		if b.Final && step != nil && step.ID != "" {
			differing := []string{}
			for _, d := range b.Differences {
				if len(differing) == 0 || differing[len(differing)-1] != d.Target {
					differing = append(differing, d.Target)
				}
			}
			s.noteFact("checks", step.ID, e.Place, map[string]any{"result": b.Result, "passed": b.Result == Passes,
				"differing": differing})
		}
	case QuestionRaised, QuestionAnswered, QuestionExpired:
		s.question(st, e)
	case Changed:
		set(s, &st.changed, true)
	case Told, Noted, Waited, StepEnded:
		set(s, &st.done, true)
	case Troubled:
		set(s, &st.trouble, &b)
		set(s, &s.troubledAt, e.Place)
	case EachBegun:
		set(s, &st.each, &b)
		set(s, &st.items, make([]itemState, len(b.Items)))
		set(s, &st.beganAt, e.At)
	case ItemBegun:
		set(s, &st.begun, &StepBegun{})
		set(s, &st.beganAt, e.At)
	case TargetPassed:
		if st.spared == nil {
			set(s, &st.spared, map[string]bool{})
		}
		put(s, st.spared, b.Target, true)
	case ItemPassed:
		set(s, &st.passed, &b)
	case CallBegun:
		set(s, &st.call, &b)
		set(s, &st.calledAt, e.Seq)
		set(s, &st.beganAt, e.At)
		if step, book := Find(s.book, e.Place); step != nil && book.Callee(step.Callee) != nil {
			set(s, &s.dataOf(e.Place.Call()).inputs, accepted(book.Callee(step.Callee), b.Inputs))
		}
	case CallEnded:
		set(s, &st.callEnded, &b)
		if step, _ := Find(s.book, e.Place); step != nil && step.ID != "" {
			s.noteFact("calls", step.ID, e.Place, map[string]any{"state": b.State, "outcome": b.Outcome,
				"because": b.Because, "results": results(b)})
		}
	case Undoing:
		s.beginUndoing(st, e.Place, b)
	case UndoJudged:
		if t := s.touches[b.TouchKey]; t != nil {
			set(s, &t.UndoProof, b.Result)
			set(s, &t.UndoDoubt, b.doubt())
		}
	case UndoLeft:
		if t := s.touches[b.TouchKey]; t != nil {
			set(s, &t.Left, b.Why)
		}
	case Undone:
		set(s, &st.undone, true)
		set(s, &s.undoings, slices.DeleteFunc(slices.Clone(s.undoings), func(p Place) bool { return p == e.Place }))
	case LocksAwaited:
		since := e.At
		if x := st.awaits[b.Of]; x != nil {
			since = x.since
		}
		if st.awaits == nil {
			set(s, &st.awaits, map[string]*awaiting{})
		}
		put(s, st.awaits, b.Of, &awaiting{b, since})
		if b.Of == "" {
			s.closeLap(st, st.pause)
		}
	default:
		if !s.applyChange(st, e) {
			s.err = fmt.Errorf("unknown event %T", b)
		}
	}
}

// applyChange applies what happens on the way to a change, and to its undo.
func (s *State) applyChange(st *stepState, e Event) bool {
	switch b := e.Body.(type) {
	case LeaveGiven:
		push(s, &st.leaves, leaveState{b, e.Seq, e.At})
		set(s, &st.pause, nil)
	case GateRaised, GateDecided, GateExpired:
		s.gate(st, e)
	case Cleared:
		set(s, &st.cleared, &b)
	case StillJudged:
		if st.still == nil {
			set(s, &st.still, map[stillKey]*StillJudged{})
		}
		put(s, st.still, stillKey{b.Lap, b.Target}, &b)
		if step, _ := Find(s.book, e.Place); b.Result == Fails && step != nil && step.Otherwise != nil &&
			s.lastWanted(st, b.Target) {
			set(s, &st.gone, true)
		}
	case Settled:
		if a := s.attempts[b.Attempt]; a != nil && a.intent.Touches() {
			_, eff := s.effectOf(a)
			if st.settled == nil {
				set(s, &st.settled, map[settledKey]bool{})
			}
			put(s, st.settled, settledKey{b.Attempt, eff.Rests}, true)
			s.settleEffect(a, b, e.Seq)
		}
	case Waits:
		p := &pause{b.On, e.Seq, b.Until}
		if t := s.touch(e.Place, b.Target); b.Undo && t != nil {
			set(s, &t.Undo.pause, p)
		} else {
			s.closeLap(st, p)
		}
	case Repeated:
		s.fails(s.repeatEffect(e.Place, b.Target, e.Seq))
	default:
		return false
	}
	return true
}

// beginUndoing begins the mode. What could not be undone before, as nothing of it was begun, is tried once more.
func (s *State) beginUndoing(st *stepState, place Place, b Undoing) {
	set(s, &st.undoing, &b)
	push(s, &s.undoings, place)
	for _, k := range b.Touches {
		if t := s.touches[k]; t == nil {
			s.fails(fmt.Errorf("what was never begun at %s on %s is undone", k.Place, here(k.Target)))
			return
		} else if t.Undo.Fate == FailedBefore {
			s.becomes(&t.Undo, NotBegun, Cause{Seq: s.Last, Who: ByEngine})
		}
		set(s, &s.touches[k].Left, "")
	}
	for _, l := range b.Left {
		if t := s.touches[l.TouchKey]; t != nil {
			set(s, &t.Left, l.Why)
		}
	}
}

// fails keeps why the log cannot be.
func (s *State) fails(err error) {
	if err != nil && s.err == nil {
		s.err = err
	}
}

// closeLap ends a lap of the way to a change.
func (s *State) closeLap(st *stepState, p *pause) {
	set(s, &st.lap, st.lap+1)
	set(s, &st.pause, p)
	for _, l := range st.leaves {
		drop(s, s.openLeaves, l.seq)
	}
}

// closeLeaves ends every leave once something is heard from outside.
func (s *State) closeLeaves(e Event) {
	switch e.Body.(type) {
	case LeaveGiven:
		put(s, s.openLeaves, e.Seq, true)
	case Outcome, Lost, Followed, Rested, GateDecided, QuestionAnswered, AlertChanged, CancelAsked, PutBack,
		Resumed:
		s.endLeaves()
	}
}

func (s *State) endLeaves() {
	if len(s.openLeaves) > 0 {
		set(s, &s.openLeaves, map[int64]bool{})
	}
}

func (s *State) gate(st *stepState, e Event) {
	gates := slices.Concat(st.gates, st.undoGates)
	switch b := e.Body.(type) {
	case GateRaised:
		g := &gateState{raised: b, seq: e.Seq, at: e.At}
		put(s, s.raised, b.Gate, e.Seq)
		if b.Undo {
			push(s, &st.undoGates, g)
			return
		}
		push(s, &st.gates, g)
		s.closeLap(st, nil)
	case GateDecided:
		for _, g := range gates {
			switch {
			case g.raised.Gate != b.Gate || !g.open():
			case b.Approved:
				push(s, &g.approvals, b)
			default:
				set(s, &g.refused, &b)
			}
		}
	case GateExpired:
		for _, g := range gates {
			if g.raised.Gate == b.Gate && g.open() {
				set(s, &g.expired, true)
			}
		}
	}
}

func (s *State) question(st *stepState, e Event) {
	find := func(id string) *questionState {
		for _, q := range st.questions {
			if q.raised.Question == id {
				return q
			}
		}
		return nil
	}
	switch b := e.Body.(type) {
	case QuestionRaised:
		if st.questions == nil {
			set(s, &st.questions, map[string]*questionState{})
		}
		q := &questionState{raised: b, at: e.At}
		put(s, s.raised, b.Question, e.Seq)
		put(s, st.questions, b.Question, q)
		if b.Attempt != "" {
			return
		}
		push(s, &st.asks, q)
	case QuestionAnswered:
		q := find(b.Question)
		if q == nil || !q.open() {
			return
		}
		set(s, &q.answered, &b)
		if a := s.attempts[q.raised.Attempt]; a != nil && a.intent.Touches() {
			s.fails(s.sayEffect(a, b, e.Seq))
			if b.Choice == DoItAgain && a.intent.Under != "" {
				put(s, s.lately, a.intent.Under, e.At) // whoever says so approves these very words
			}
		}
		if step, _ := Find(s.book, e.Place); step != nil && step.Ask != nil && step.ID != "" {
			v := map[string]any{"choice": b.Choice, "by": b.By, "comment": b.Comment}
			for _, f := range step.Ask.Fields {
				if x, err := reading.Convert(b.Fields[f.Name], f.Type); err == nil {
					v[f.Name] = x
				}
			}
			s.noteFact("answers", step.ID, e.Place, v)
		}
		if a, ok := q.raised.Approves[b.Choice]; ok {
			put(s, s.approved, a.Place, &approval{
				proposal: a.Proposal, digest: a.Digest, by: b.By, id: b.Question, until: untilOf(a.Proposal),
				within: q.raised.Until.Sub(q.at),
			})
		}
	case QuestionExpired:
		if q := find(b.Question); q != nil && q.open() {
			set(s, &q.expired, true)
			if a := s.attempts[q.raised.Attempt]; a != nil && a.intent.Touches() {
				if _, eff := s.effectOf(a); eff.unknown() {
					s.becomes(eff, NotKnown, Cause{Seq: e.Seq, Who: ByNobody, Says: "nobody could say"})
				}
			}
		}
	}
}

// closeQuestion closes the question what became of an attempt, where it stands: it was found out.
func (s *State) closeQuestion(a *attempt) {
	st := s.step(a.place)
	if q := st.questions[questionOf(a.intent.Attempt)]; q != nil && q.open() {
		set(s, &q.settled, true)
		s.waiting(a.place)
	}
}

func (s *State) intend(st *stepState, e Event, b Intent) {
	if s.attempts[b.Attempt] != nil {
		s.err = fmt.Errorf("attempt %s is begun twice", b.Attempt)
		return
	}
	a := &attempt{intent: b, place: e.Place, seq: e.Seq, at: e.At}
	put(s, s.attempts, b.Attempt, a)
	put(s, s.open, b.Attempt, a)
	push(s, &s.order, a)
	if st.rounds == nil {
		set(s, &st.rounds, map[Purpose]map[string][]*attempt{})
	}
	if st.rounds[b.Purpose] == nil {
		put(s, st.rounds, b.Purpose, map[string][]*attempt{})
	}
	put(s, st.rounds[b.Purpose], b.Target, append(st.rounds[b.Purpose][b.Target], a))
	if b.Touches() {
		s.fails(s.beginEffect(a))
		if !b.Undoes() {
			set(s, &st.pause, nil)
		}
	}
	d := s.dataOf(e.Place)
	if b.Touches() {
		push(s, &s.changes, changeAt{e.Seq, e.Place, e.Place.ofAnyItem()})
		for at := e.Place; ; at = at.Caller() {
			clear(s.dataOf(at).views)
			if at.Whole().IsZero() {
				return
			}
		}
	}
	if look, _ := Find(s.book, b.Look); look != nil && b.Asked != nil {
		clear(d.views)
		for _, r := range look.Read {
			put(s, d.readings, r.Name, append(d.readings[r.Name], &expr.Round{
				Seq: e.Seq, Path: e.Place.String(), No: b.Purpose.String(), Asked: b.Asked,
				Samples: map[string]expr.Sample{},
			}))
		}
	}
}

func (s *State) end(b Outcome, e Event) {
	a := s.attempts[b.Attempt]
	if a == nil || a.outcome != nil {
		return // a late fact about something unknown or already known
	}
	touches := a.intent.Touches()
	if a.lost != nil && touches {
		if a.late == nil {
			set(s, &a.late, &b)
			set(s, &a.overAt, e.At)
			s.endEffect(a, &b, e.Seq, true)
		}
		return
	}
	set(s, &a.outcome, &b)
	set(s, &a.overAt, e.At)
	drop(s, s.open, b.Attempt)
	if touches {
		s.endEffect(a, &b, e.Seq, false)
		if a.intent.Under != "" && !a.intent.Undoes() && b.State != Held {
			put(s, s.lately, a.intent.Under, e.At)
		}
		s.waiting(a.place)
	}
	look, _ := Find(s.book, a.intent.Look)
	if look == nil {
		return
	}
	d := s.dataOf(a.place)
	clear(d.views)
	for _, spec := range look.Read {
		taking, ok := b.Readings[spec.Name]
		if !ok {
			continue
		}
		v, err := reading.Convert(taking.Value, spec.Type)
		if err != nil {
			continue // it stays missing
		}
		taking.Value = v
		set(s, &s.taken, s.taken+weight(v))
		if mark, ok := v.(string); ok && spec.Sealed {
			push(s, &s.sealed, mark)
		}
		rounds := d.readings[spec.Name]
		for i := len(rounds) - 1; i >= 0; i-- {
			// The round of the same step that was asked last before this attempt.
			if r := rounds[i]; r.Seq <= a.seq && r.Path == a.place.String() && r.No == a.intent.Purpose.String() {
				put(s, r.Samples, a.intent.Target, taking)
				break
			}
		}
	}
}
