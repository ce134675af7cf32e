package flow

import (
	"fmt"
	"time"

	"urgentis/core/leave"
	"urgentis/core/runbook"
)

// ask puts a question to people, follows the choice, and asks again where the runbook says so.
func (w *walker) ask(f *frame, s *runbook.Step, place Place, st *stepState) result {
	for round := 0; !st.done; round++ {
		if round >= len(st.asks) {
			if round >= s.Ask.Rounds {
				return w.fail(
					place,
					Troubled{Because: fmt.Sprintf("The question %q was asked %d times.", s.Title, round)},
				)
			}
			if r := w.raiseQuestion(f, s, place, st, round); r != goOn {
				return r
			}
		}
		r := w.answer(f, s, place, st, st.asks[round], round)
		switch {
		case r == goBack && !f.asking && w.wasSentBack(st.asks[round]):
			continue // there is nothing to go back to: asked anew
		case r == goBack && w.wasSentBack(st.asks[round]):
			return goBack // to the question around this one
		case r == goBack:
			continue
		case r != goOn:
			return r
		}
		if round+1 < len(st.asks) {
			continue
		}
		if s.Ask.AskAgain != nil {
			again, err := s.Ask.AskAgain.Bool(w.scope(f, place, ""))
			if err != nil {
				return w.broken(place, s, fmt.Errorf("whether to ask again is unsure: %w", err))
			}
			if again {
				continue
			}
		}
		w.emit(place, StepEnded{})
	}
	return goOn
}

// wasSentBack reports whether this very question was answered with back.
func (w *walker) wasSentBack(q *questionState) bool {
	return q.answered != nil && q.answered.Choice == runbook.Back
}

// raiseQuestion asks, or lets the question answer itself. goOn: it is asked.
func (w *walker) raiseQuestion(f *frame, s *runbook.Step, place Place, st *stepState, round int) result {
	q, sc := s.Ask, w.scope(f, place, "")
	raised := QuestionRaised{
		Question: fmt.Sprintf("%s:%s:%d", w.s.Begun.Run, place.Named(), round+1),
		Round:    round,
		Ask:      q.To,
		Labels:   map[string]string{},
	}
	if raised.Ask == "" {
		raised.Ask = f.book.Team()
	}
	var err error
	if raised.Text, err = w.prose(f, q.Text, place); err != nil {
		return w.broken(place, s, err)
	}
	for _, c := range q.Choices {
		raised.Choices = append(raised.Choices, c.Name)
		raised.Labels[c.Name] = c.Label
	}
	if len(q.Choices) > 0 {
		raised.Choices = append(raised.Choices, runbook.NoneOfThese)
		raised.Labels[runbook.NoneOfThese] = "None of these"
	}
	if f.asking {
		raised.Choices = append(raised.Choices, runbook.Back)
		raised.Labels[runbook.Back] = "Back"
	}
	for _, in := range q.Fields {
		x := Field{Name: in.Name, Label: in.Label, Type: string(in.Type), Choices: in.Choices, Suggest: in.Default}
		if t := q.Suggest[in.Name]; t != nil {
			if v, err := t.Value(sc); err == nil {
				x.Suggest = v
			}
		}
		raised.Fields = append(raised.Fields, x)
	}
	if r := w.approvable(f, s, place, st, round, &raised); r != goOn {
		return r
	}
	raised.Until = w.now.Add(q.Within).Truncate(time.Second)
	w.emit(place, raised)
	if len(q.Fields) == 0 {
		for _, c := range q.Choices {
			if c.Itself == nil || c.Approves != "" {
				continue
			}
			if holds, values, err := c.Itself.Explain(sc); err == nil && holds {
				w.emit(
					place,
					QuestionAnswered{
						Question: raised.Question,
						Choice:   c.Name,
						By:       Itself,
						Comment:  c.Itself.Source,
						Values:   values,
					},
				)
				break
			}
		}
	}
	return goOn
}

// approvable renders the changes that choices approve, so that whoever answers sees what would run.
func (w *walker) approvable(
	f *frame,
	s *runbook.Step,
	place Place,
	st *stepState,
	round int,
	raised *QuestionRaised,
) result {
	ask := AskLeave{Place: place, HasGate: true} // for all choices at once
	for _, c := range s.Ask.Choices {
		change := f.book.ByID(c.Approves)
		if change == nil {
			continue
		}
		at := place.Seen(change)
		if own, is := place.inChoice(s, change, c.Name, round); is {
			at = own
		}
		targets, err := w.targets(f, change.Where, at)
		if err != nil {
			return w.broken(place, s, err)
		}
		if len(st.leaves) <= round {
			ask.add(change, targets)
			continue
		}
		given := st.leaves[round].LeaveGiven
		if given.Verdict == leave.No || change.Do == nil {
			continue // it can be chosen, and then stands at its own gate
		}
		people, comment := strictest(f, change)
		if people > 1 {
			continue // one person's answer is not enough: it stands at its own gate
		}
		p, d, err := w.propose(f, change, at, targets, given, w.now.Add(s.Ask.Within).Truncate(time.Second))
		if err != nil {
			return w.broken(place, s, err)
		}
		if raised.Approves == nil {
			raised.Approves = map[string]Approvable{}
		}
		raised.Approves[c.Name] = Approvable{Place: at, Proposal: p, Digest: d, Comment: comment}
	}
	if len(ask.Targets) > 0 {
		w.plan.AskLeave = append(w.plan.AskLeave, ask)
		return blocked
	}
	return goOn
}

// answer follows one round of a question: its choice, or what is provided for no answer.
func (w *walker) answer(f *frame, s *runbook.Step, place Place, st *stepState, q *questionState, round int) result {
	if q.open() {
		if w.now.Before(q.raised.Until) {
			w.wake(q.raised.Until)
			return blocked
		}
		w.emit(place, QuestionExpired{Question: q.raised.Question})
	}
	if q.answered == nil {
		return w.branch(
			f,
			s.Ask.Unanswered.Or(runbook.HandOverWord),
			place,
			place.Round("unanswered", round),
			fmt.Sprintf("Nobody answered the question %q in time.", s.Title),
		)
	}
	switch choice := q.answered.Choice; choice {
	case runbook.Back:
		return goBack
	case runbook.NoneOfThese:
		return w.branch(
			f,
			s.Ask.None.Or(runbook.HandOverWord),
			place,
			place.Round("none", round),
			fmt.Sprintf("%s answered %q with none of these.", q.answered.By, s.Title),
		)
	default:
		for _, c := range s.Ask.Choices {
			if c.Name == choice {
				g := *f
				g.asking = true
				return w.list(&g, c.Steps, place.Round("choices."+c.Name, round))
			}
		}
	}
	return goOn
}
