package tell

import (
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"urgentis/core/flow"

	"urgentis/core/leave"
	"urgentis/core/runbook"
	"urgentis/core/task"
)

// Stage plays a run with somebody else in the parts of the world and of people: recorded, pretended, or real.
type Stage struct {
	Book  *runbook.Book
	Begun flow.Begun
	Now   time.Time
	// Do gives the outcome of an attempt of the step at a path; Leave whether a change may happen.
	Do    func(place flow.Place, in flow.Intent, now time.Time) flow.Outcome
	Leave func(ask flow.AskLeave) flow.LeaveGiven
	// Decide and Answer give a person's word; nil: nobody says anything, and the play stops there.
	Decide func(place flow.Place, g flow.GateRaised) *flow.GateDecided
	Answer func(place flow.Place, q flow.QuestionRaised) *flow.QuestionAnswered
	// Watch is told all that happened so far, before a person's word is asked for; nil: nobody watches.
	Watch func(log []flow.Event)
	// Patient lets time run out where nobody says anything, instead of stopping there.
	Patient bool
	// News tells what became of the alert meanwhile, by all that happened so far; nil: nothing does.
	News func(log []flow.Event) *flow.AlertChanged
	// Halt says why the play is to stop here; "" while it goes on. nil: it never does.
	Halt func() string
	// Limit bounds the attempts.
	Limit int
}

// Play plays until the run ends, or says why it stopped. Time passes only where the runbook waits.
func (p Stage) Play() (log []flow.Event, stopped string, err error) {
	now := p.Now
	log = []flow.Event{{Seq: 1, At: now, Body: p.Begun}}
	m, err := flow.Open(p.Book, log)
	if err != nil {
		return nil, "", err
	}
	add := func(e flow.Event) error {
		e, err := m.Append(e)
		log = append(log, e)
		return err
	}
	attempts := 0
	for range 20 * runbook.MaxSteps {
		if p.News != nil {
			if news := p.News(log); news != nil {
				if err := add(flow.Event{At: now, Body: *news}); err != nil {
					return log, "", err
				}
			}
		}
		plan, err := m.Plan(now)
		if err != nil {
			return log, "", err
		}
		log = append(log, plan.Events...)
		if plan.Ended {
			return log, "", nil
		}
		if p.Watch != nil {
			p.Watch(log)
		}
		moved, err := p.part(m, plan, now, add)
		if err != nil {
			return log, "", err
		}
		for _, in := range plan.Begin {
			if attempts++; attempts > p.Limit {
				return log, fmt.Sprintf("it was stopped after %d attempts", p.Limit), nil
			}
			place := m.State().PlaceOf(in.Attempt)
			done := p.Do(place, in, now)
			if p.Halt != nil {
				if why := p.Halt(); why != "" {
					return log, why, nil
				}
			}
			if err := add(flow.Event{At: now, Place: place, Body: done}); err != nil {
				return log, "", err
			}
			moved = true
		}
		if moved {
			continue
		}
		if p.Halt != nil {
			if why := p.Halt(); why != "" {
				return log, why, nil
			}
		}
		if stopped := p.waitsForPeople(m); stopped != "" && !p.Patient {
			return log, stopped, nil
		}
		if plan.Wake.IsZero() || !plan.Wake.After(now) {
			if len(plan.Events) == 0 {
				return log, "nothing more would happen by itself", nil
			}
			continue
		}
		now = plan.Wake
	}
	return log, "it goes on for too long", nil
}

// part plays the part of leave, locks and people.
func (p Stage) part(
	m *flow.Machine, plan flow.Plan, now time.Time, add func(flow.Event) error,
) (moved bool, err error) {
	for _, a := range plan.AskLeave {
		if err := add(a.Given(p.Leave(a), now)); err != nil {
			return true, err
		}
		moved = true
	}
	for _, l := range plan.WantLocks {
		if err := add(l.Taken(now)); err != nil {
			return true, err
		}
		moved = true
	}
	for _, id := range plan.AskRest {
		if e := m.State().EffectOf(id); e != nil && !e.Rests {
			rests := flow.Event{At: now, Place: m.State().PlaceOf(id), Body: flow.Rested{Attempt: id}}
			if err := add(rests); err != nil {
				return true, err
			}
			moved = true
		}
	}
	if moved {
		return true, nil
	}
	return p.person(m.State(), now, add)
}

// person plays the part of whoever is asked.
func (p Stage) person(s *flow.State, now time.Time, add func(flow.Event) error) (moved bool, err error) {
	if p.Decide != nil {
		places, gates := s.OpenGates()
		for i, g := range gates {
			if d := p.Decide(places[i], g); d != nil {
				return true, add(flow.Event{At: now, Place: places[i], Body: *d})
			}
		}
	}
	if p.Answer == nil {
		return false, nil
	}
	places, questions := s.OpenQuestions()
	for i, q := range questions {
		a := p.Answer(places[i], q)
		if a == nil {
			continue
		}
		if e := s.EffectOf(q.Attempt); e != nil && !e.Rests && flow.SaysNotBegun(a.Choice) {
			if err := add(flow.Event{At: now, Place: places[i], Body: flow.Rested{Attempt: q.Attempt}}); err != nil {
				return true, err
			}
		}
		return true, add(flow.Event{At: now, Place: places[i], Body: *a})
	}
	return false, nil
}

func (p Stage) waitsForPeople(m *flow.Machine) string {
	switch m.State().WaitsOn() {
	case flow.OnApproval:
		return "here a person would be asked for approval"
	case flow.OnAnswer:
		return "here a person would be asked"
	}
	return ""
}

// Asked counts how often people were asked in a log.
func Asked(log []flow.Event) int {
	n := 0
	for _, e := range log {
		switch b := e.Body.(type) {
		case flow.GateRaised, flow.QuestionRaised:
			n++
		case flow.QuestionAnswered:
			if b.By == flow.Itself {
				n--
			}
		}
	}
	return n
}

// Came is what a log came to, in words, and the steps that were taken, by verb and title in their order.
func Came(book *runbook.Book, log []flow.Event) (end string, steps []string) {
	end = "not over"
	last := flow.Place{}
	for _, e := range log {
		if b, ok := e.Body.(flow.Ended); ok {
			end = b.State
			if b.Outcome != "" {
				end = b.Outcome
			}
		}
		s, _ := flow.Find(book, e.Place)
		if s == nil || e.Place == last {
			continue
		}
		if _, skipped := e.Body.(flow.Skipped); skipped {
			continue
		}
		last = e.Place
		steps = append(steps, string(s.Verb)+": "+s.Title)
	}
	return end, steps
}

// Replay is a stage on which everything that a recorded run met comes back: outcomes by what was asked of
// which target, leave by its step, and people's words by what they were asked.
func Replay(book *runbook.Book, log []flow.Event) (Stage, error) {
	if len(log) == 0 {
		return Stage{}, errors.New("the log is empty")
	}
	begun, ok := log[0].Body.(flow.Begun)
	if !ok {
		return Stage{}, errors.New("the log does not begin with run.begun")
	}
	begun.Rules, begun.Revision = flow.Rules, book.Revision
	outcomes := map[string][]flow.Outcome{}
	asked := map[string]string{}
	var leaves []flow.LeaveGiven
	var decisions []flow.GateDecided
	var answers []flow.QuestionAnswered
	for _, e := range log {
		switch b := e.Body.(type) {
		case flow.Intent:
			asked[b.Attempt] = requestKey(b)
		case flow.Outcome:
			outcomes[asked[b.Attempt]] = append(outcomes[asked[b.Attempt]], b)
		case flow.LeaveGiven:
			leaves = append(leaves, b)
		case flow.GateDecided:
			decisions = append(decisions, b)
		case flow.QuestionAnswered:
			if b.By != flow.Itself {
				answers = append(answers, b)
			}
		}
	}
	return Stage{Book: book, Begun: begun, Now: log[0].At, Limit: 5000,
		Do: func(_ flow.Place, in flow.Intent, _ time.Time) flow.Outcome {
			key := requestKey(in)
			list := outcomes[key]
			if len(list) == 0 {
				return flow.Outcome{Attempt: in.Attempt, State: flow.Failed, Error: "nothing like it was recorded"}
			}
			o := list[0]
			if len(list) > 1 {
				outcomes[key] = list[1:]
			}
			o.Attempt = in.Attempt
			return o
		},
		Leave: func(a flow.AskLeave) flow.LeaveGiven {
			if a.Look {
				return flow.LeaveGiven{Verdict: leave.Yes, Reasons: []string{"as recorded"}}
			}
			g := flow.LeaveGiven{Verdict: leave.Gate, Reasons: []string{"as recorded"}}
			if len(leaves) > 0 {
				g.Verdict = leaves[0].Verdict
			}
			if a.HasGate && g.Verdict == leave.Yes {
				g.Verdict = leave.Gate
			}
			for _, t := range a.Targets {
				g.Facts = append(g.Facts, task.Facts{Name: t})
			}
			return g
		},
		Decide: func(_ flow.Place, g flow.GateRaised) *flow.GateDecided {
			d := flow.GateDecided{Gate: g.Gate, Approved: true, By: "as recorded", Digest: g.Digest}
			if len(decisions) > 0 {
				d.Approved, d.By = decisions[0].Approved, decisions[0].By
				decisions = decisions[1:]
			}
			return &d
		},
		Answer: func(_ flow.Place, q flow.QuestionRaised) *flow.QuestionAnswered {
			if len(answers) == 0 {
				return nil
			}
			a := answers[0]
			answers = answers[1:]
			a.Question = q.Question
			return &a
		},
	}, nil
}

func requestKey(in flow.Intent) string {
	r := in.Request
	r.Target = task.Facts{Name: in.Target}
	r.Undo, r.Looks, r.Timeout, r.Secrets = nil, false, 0, nil
	b, err := json.Marshal(r)
	if err != nil {
		return in.Attempt
	}
	return string(b)
}
