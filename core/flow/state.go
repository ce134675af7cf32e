package flow

import (
	"errors"
	"fmt"
	"time"

	"urgentis/core/expr"
	"urgentis/core/reading"
	"urgentis/core/runbook"
)

// attempt is one intent and what became of it.
type attempt struct {
	intent  Intent
	path    string
	seq     int64
	at      time.Time
	outcome *Outcome
	lost    *Lost
}

func (a *attempt) over() bool { return a.outcome != nil || a.lost != nil }

type gateState struct {
	raised  GateRaised
	seq     int64
	decided *GateDecided
	expired bool
}

type questionState struct {
	raised   QuestionRaised
	answered *QuestionAnswered
	expired  bool
}

// stepState is all that the log says of one step.
type stepState struct {
	begun   *StepBegun
	beganAt time.Time
	skipped *Skipped
	// rounds of attempts: per round the attempts of each target, oldest first.
	rounds map[int]map[string][]*attempt
	judged []judgedAt
	leaves []LeaveGiven
	gates  []*gateState
	// leavesAtGate counts the answers there were when the newest gate was raised.
	leavesAtGate int
	cleared      *Cleared
	still        map[string]*StillJudged // by gate and target
	questions    map[string]*questionState
	changed      bool
	done         bool // told, noted
}

type judgedAt struct {
	Judged
	at time.Time
}

// State is a run's log, read.
type State struct {
	Begun    *Begun
	BegunAt  time.Time
	Ended    *Ended
	Last     int64
	steps    map[string]*stepState
	attempts map[string]*attempt
	order    []*attempt
	// rounds of readings, in the order in which they were asked.
	readings map[string]*expr.Series
	changes  int64 // where the newest change began
	checks   map[string]any
	err      error
}

// Fold reads a log. An impossible log is an error, so that nothing is begun on it.
func Fold(book *runbook.Book, log []Event) (*State, error) {
	s := &State{steps: map[string]*stepState{}, attempts: map[string]*attempt{}, readings: map[string]*expr.Series{}, checks: map[string]any{}}
	for _, e := range log {
		s.apply(book, e)
		if s.err != nil {
			return nil, fmt.Errorf("event %d: %w", e.Seq, s.err)
		}
	}
	if s.Begun == nil {
		return nil, errors.New("the log is empty")
	}
	return s, nil
}

func (s *State) step(path string) *stepState {
	st := s.steps[path]
	if st == nil {
		st = &stepState{rounds: map[int]map[string][]*attempt{}, still: map[string]*StillJudged{}, questions: map[string]*questionState{}}
		s.steps[path] = st
	}
	return st
}

func (s *State) apply(book *runbook.Book, e Event) {
	if e.Seq != s.Last+1 {
		s.err = fmt.Errorf("the log has a gap after %d", s.Last)
		return
	}
	s.Last = e.Seq
	if b, ok := e.Body.(Begun); ok {
		if b.Rules != Rules {
			s.err = fmt.Errorf("the run was begun under version %d of the rules; this program knows version %d", b.Rules, Rules)
		}
		s.Begun, s.BegunAt = &b, e.At
		return
	}
	if s.Begun == nil {
		s.err = errors.New("the log does not begin with run.begun")
		return
	}
	st := s.step(e.Path)
	switch b := e.Body.(type) {
	case Skipped:
		st.skipped = &b
	case StepBegun:
		st.begun, st.beganAt = &b, e.At
	case Intent:
		s.intend(st, e, b, book)
	case Outcome:
		s.end(b, book)
	case Lost:
		if a := s.attempts[b.Attempt]; a != nil && !a.over() {
			a.lost = &b
		}
	case Judged:
		st.judged = append(st.judged, judgedAt{b, e.At})
		if step := book.Step(e.Path); b.Final && step != nil && step.ID != "" {
			s.checks[step.ID] = map[string]any{"result": b.Result, "passed": b.Result == Passes}
		}
	case LeaveGiven:
		st.leaves = append(st.leaves, b)
	case GateRaised:
		st.gates = append(st.gates, &gateState{raised: b, seq: e.Seq})
		st.leavesAtGate = len(st.leaves)
	case GateDecided:
		for _, g := range st.gates {
			if g.raised.Gate == b.Gate && g.decided == nil && !g.expired {
				g.decided = &b
			}
		}
	case GateExpired:
		for _, g := range st.gates {
			if g.raised.Gate == b.Gate && g.decided == nil {
				g.expired = true
			}
		}
	case Cleared:
		st.cleared = &b
	case StillJudged:
		st.still[b.Gate+"/"+b.Target] = &b
	case QuestionRaised:
		st.questions[b.Attempt] = &questionState{raised: b}
	case QuestionAnswered:
		for _, q := range st.questions {
			if q.raised.Question == b.Question && q.answered == nil && !q.expired {
				q.answered = &b
			}
		}
	case QuestionExpired:
		for _, q := range st.questions {
			if q.raised.Question == b.Question && q.answered == nil {
				q.expired = true
			}
		}
	case Changed:
		st.changed = true
	case Told, Noted:
		st.done = true
	case Ended:
		s.Ended = &b
	default:
		s.err = fmt.Errorf("unknown event %T", b)
	}
}

func (s *State) intend(st *stepState, e Event, b Intent, book *runbook.Book) {
	if s.attempts[b.Attempt] != nil {
		s.err = fmt.Errorf("attempt %s is begun twice", b.Attempt)
		return
	}
	a := &attempt{intent: b, path: e.Path, seq: e.Seq, at: e.At}
	s.attempts[b.Attempt] = a
	s.order = append(s.order, a)
	if st.rounds[b.Round] == nil {
		st.rounds[b.Round] = map[string][]*attempt{}
	}
	st.rounds[b.Round][b.Target] = append(st.rounds[b.Round][b.Target], a)
	if b.Change {
		s.changes = e.Seq
		return
	}
	if look := book.Step(b.Look); look != nil && b.Asked != nil {
		for _, r := range look.Read {
			series := s.readings[r.Name]
			if series == nil {
				series = &expr.Series{Name: r.Name}
				s.readings[r.Name] = series
			}
			series.Rounds = append(series.Rounds, expr.Round{Seq: e.Seq, Asked: b.Asked, Takings: map[string]expr.Taking{}})
		}
	}
}

func (s *State) end(b Outcome, book *runbook.Book) {
	a := s.attempts[b.Attempt]
	if a == nil || a.outcome != nil {
		return // a late fact about something unknown or already known
	}
	if a.lost != nil && a.intent.Change {
		// The question stands; the fact is in the log for whoever answers it.
		return
	}
	a.outcome = &b
	if look := book.Step(a.intent.Look); look != nil {
		for _, spec := range look.Read {
			taking, ok := b.Readings[spec.Name]
			series := s.readings[spec.Name]
			if !ok || series == nil {
				continue
			}
			v, err := reading.Convert(taking.Value, spec.Type)
			if err != nil {
				continue // it stays missing
			}
			taking.Value = v
			for i := len(series.Rounds) - 1; i >= 0; i-- {
				// The round that was asked last before this attempt.
				if series.Rounds[i].Seq <= a.seq {
					series.Rounds[i].Takings[a.intent.Target] = taking
					break
				}
			}
		}
	}
}

// OpenAttempts lists the intents whose outcome is not known.
func (s *State) OpenAttempts() []Intent {
	var out []Intent
	for _, a := range s.order {
		if !a.over() {
			out = append(out, a.intent)
		}
	}
	return out
}

// Change reports whether an attempt is one of a change whose outcome the log does not hold.
func (s *State) Change(id string) bool {
	a := s.attempts[id]
	return a != nil && a.intent.Change && a.outcome == nil
}

// PathOf gives the path of the step to which an attempt belongs.
func (s *State) PathOf(id string) string {
	if a := s.attempts[id]; a != nil {
		return a.path
	}
	return ""
}

// OpenGate gives the gate that waits for a decision and the path of its step; nil without one.
func (s *State) OpenGate(id string) (*GateRaised, string) {
	for path, st := range s.steps {
		for _, g := range st.gates {
			if g.raised.Gate == id && g.decided == nil && !g.expired && s.Ended == nil {
				return &g.raised, path
			}
		}
	}
	return nil, ""
}

// OpenQuestion gives the question that waits for an answer and the path of its step; nil without one.
func (s *State) OpenQuestion(id string) (*QuestionRaised, string) {
	for path, st := range s.steps {
		for _, q := range st.questions {
			if q.raised.Question == id && q.answered == nil && !q.expired && s.Ended == nil {
				return &q.raised, path
			}
		}
	}
	return nil, ""
}

// WaitsOn tells in words on what the run waits; "" while it runs or is over.
func (s *State) WaitsOn() string {
	if s.Ended != nil || len(s.OpenAttempts()) > 0 {
		return ""
	}
	for _, st := range s.steps {
		if n := len(st.gates); n > 0 && st.gates[n-1].decided == nil && !st.gates[n-1].expired {
			return "approval"
		}
		for _, q := range st.questions {
			if q.answered == nil && !q.expired {
				return "answer"
			}
		}
	}
	for _, st := range s.steps {
		if n := len(st.judged); n > 0 && !st.judged[n-1].Final {
			return "time"
		}
	}
	return ""
}

// scope is what expressions see at one step, on one target where it acts on targets.
func (s *State) scope(book *runbook.Book, target string, now time.Time) *expr.Scope {
	b := s.Begun
	inputs := make(map[string]any, len(b.Inputs))
	for _, in := range book.Inputs {
		if v, err := reading.Convert(b.Inputs[in.Name], in.Type); err == nil {
			inputs[in.Name] = v
		}
	}
	sc := &expr.Scope{
		Alert: b.Alert, Inputs: inputs, Incident: b.Incident, Service: b.Service, Checks: s.checks, Now: now,
		Run:      map[string]any{"id": b.Run, "runbook": b.Runbook, "started_by": b.StartedBy, "begun_at": s.BegunAt},
		Readings: map[string]*expr.Series{},
	}
	for n, r := range s.readings {
		c := *r
		c.ChangeSeq = s.changes
		sc.Readings[n] = &c
	}
	for _, t := range b.Estate {
		if t.Name == target {
			labels := t.Labels
			if labels == nil {
				labels = map[string]string{}
			}
			sc.Target = map[string]any{"name": t.Name, "address": t.Address, "labels": labels}
		}
	}
	return sc
}
