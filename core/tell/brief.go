package tell

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"urgentis/core/flow"

	"urgentis/core/expr"

	"urgentis/core/incident"
	"urgentis/core/leave"
	"urgentis/core/runbook"
	"urgentis/core/task"
)

// Brief is what somebody needs to decide a gate: the same facts, in the same order, wherever it is shown.
type Brief struct {
	Headline runbook.Headline
	// Harm says who suffers, as the runbook has it; "" where it does not say.
	Harm    string
	Grounds []Ground
	Parts   []task.Part
	// Answers tell what follows each word: yes, no, the choices of a question in their order, and nobody's at last;
	// none where the gate, or the question, is over.
	Answers []Answer
	// Runbook and Step name the step in a way that holds from run to run.
	Runbook, Step string
}

// BriefOf makes the brief of a gate that stands at a place. name tells who somebody is; nil leaves it as it is written.
func BriefOf(
	book *runbook.Book, log []flow.Event, raised flow.GateRaised, place flow.Place, now time.Time,
	name func(string) string,
) (*Brief, error) {
	s, err := flow.Fold(book, log)
	if err != nil {
		return nil, err
	}
	step, own := flow.Find(book, place)
	if step == nil {
		return &Brief{Harm: book.Harm}, nil
	}
	b := &Brief{
		Headline: own.Headline(step, extentOf(s, step, raised.Proposal)),
		Harm:     own.Harm,
		Grounds:  Grounds(s, place),
	}
	if raised.Undo {
		on := expr.Words(extentOf(s, step, raised.Proposal).Targets)
		b.Headline = runbook.Headline{What: fmt.Sprintf("Undo “%s” on %s, otherwise than it was approved: %s",
			step.Title, on, strings.Join(raised.Reasons, "; "))}
	}
	if b.Harm == "" {
		b.Harm = book.Harm
	}
	b.Runbook, b.Step = StepKey(book, own, step)
	if b.Parts, err = Table(raised.Proposal); err != nil {
		return nil, err
	}
	seen, err := Foresee(book, log, raised.Gate, now)
	switch {
	case errors.Is(err, errNotOpen):
		return b, nil
	case err != nil:
		return nil, err
	}
	b.Answers = []Answer{
		{Word: Yes, Says: own.AfterYes(step, name)},
		{Word: No, Says: append([]string{"The change is not made."}, seen.No.lines(name)...)},
		{Word: Nobody, Says: seen.Silence.lines(name), At: raised.Until},
	}
	return b, nil
}

// BriefOfQuestion makes the brief of a question that stands at a place. Where an answer approves a change, that is what
// its headline and its parts are about.
func BriefOfQuestion(
	book *runbook.Book, log []flow.Event, raised flow.QuestionRaised, place flow.Place, now time.Time,
	name func(string) string,
) (*Brief, error) {
	s, err := flow.Fold(book, log)
	if err != nil {
		return nil, err
	}
	b := &Brief{Harm: book.Harm}
	step, own := flow.Find(book, place)
	if step == nil {
		return b, nil
	}
	b.Grounds = Grounds(s, place)
	for _, choice := range raised.Choices {
		a, approves := raised.Approves[choice]
		change, of := flow.Find(book, a.Place)
		if !approves || change == nil {
			continue
		}
		b.Headline = of.Headline(change, extentOf(s, change, a.Proposal))
		b.Runbook, b.Step = StepKey(book, of, change)
		if b.Parts, err = Table(a.Proposal); err != nil {
			return nil, err
		}
		break
	}
	if raised.Attempt != "" {
		b.Runbook, b.Step = StepKey(book, own, step)
	}
	ways, err := ForeseeAnswers(book, log, raised.Question, now)
	switch {
	case errors.Is(err, errNotOpen):
		return b, nil
	case err != nil:
		return nil, err
	}
	for _, choice := range raised.Choices {
		b.Answers = append(b.Answers, Answer{Word: choice, Says: ways[choice].lines(name)})
	}
	b.Answers = append(b.Answers, Answer{Word: Nobody, Says: ways[""].lines(name), At: raised.Until})
	return b, nil
}

// HandOverBrief is what somebody needs who takes over from a run that is over without having closed its incident.
type HandOverBrief struct {
	Ended   flow.Ended
	Harm    string
	Grounds []Ground
	Changed []incident.Went
}

// BriefOfHandOver makes it; nil where the run is not over, or closed its incident.
func BriefOfHandOver(book *runbook.Book, log []flow.Event) (*HandOverBrief, error) {
	s, err := flow.Fold(book, log)
	if err != nil || s.Ended == nil || s.Ended.Outcome != "" {
		return nil, err
	}
	b := &HandOverBrief{Ended: *s.Ended, Harm: book.Harm, Changed: Went(s)}
	for _, e := range slices.Backward(log) {
		switch e.Body.(type) {
		case flow.GateRaised, flow.Judged:
			if b.Grounds = Grounds(s, e.Place); len(b.Grounds) > 0 {
				return b, nil
			}
		}
	}
	return b, nil
}

// Table tells the requests of a proposal by the steps of the text that they belong to.
func Table(p leave.Proposal) ([]task.Part, error) {
	return task.Table(p.Requests, func(r task.Request) string { return flow.PlaceOf(r.Step).Static() })
}

func extentOf(s *flow.State, step *runbook.Step, p leave.Proposal) runbook.Extent {
	x := runbook.Extent{Of: len(s.Begun.Estate)}
	for _, r := range p.Requests {
		if !slices.Contains(x.Targets, r.Target.Name) {
			x.Targets = append(x.Targets, r.Target.Name)
		}
	}
	if each := step.EachIn(); each != nil {
		x.AtOnce = each.Each.AtOnce
		if each.Each.Percent {
			x.AtOnce = max(1, len(x.Targets)*x.AtOnce/100)
		}
	}
	return x
}
