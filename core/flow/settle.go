package flow

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"urgentis/core/runbook"
)

// questionTime is how long a question about an unknown outcome stands before it is handed over.
const questionTime = time.Hour

func (o *Outcome) reason() string {
	why := o.Error
	if why == "" && o.Exit != nil {
		why = fmt.Sprintf("it ended with %d", *o.Exit)
	}
	if line := strings.TrimSpace(strings.SplitN(strings.TrimSpace(o.Stderr.Head), "\n", 2)[0]); line != "" {
		why += ", saying " + strconv.Quote(line)
	}
	return why
}

// whatBecame finds out what became of a change: by the condition that the runbook names, or by asking a person.
// goOn: it happened. again: a person wants it done again.
func (w *walker) whatBecame(
	f *frame,
	s *runbook.Step,
	path string,
	st *stepState,
	last *attempt,
	what string,
) (r result, again bool) {
	t := last.intent.Target
	id := last.intent.Attempt
	if s.Happened != nil && last.intent.Undo == "" {
		holds, known, r := w.judgeHappened(f, s, path, st, t, id)
		if r != goOn {
			return r, false
		}
		if known && holds {
			return goOn, false
		}
		if known {
			return w.fail(
				path,
				Troubled{
					Because: fmt.Sprintf(
						"The %s %q did not happen on %s: %s does not hold.",
						what,
						s.Title,
						here(t),
						s.Happened.Source,
					),
				},
			), false
		}
	}
	q := st.questions[questionOf(id)]
	if q == nil {
		w.askWhatBecame(f, s, path, last, what, w.choicesOf(true))
		return blocked, false
	}
	if q.open() {
		if w.now.Before(q.raised.Until) {
			w.wake(q.raised.Until)
			return blocked, false
		}
		w.emit(path, QuestionExpired{Question: q.raised.Question})
	}
	// A take_back that did not succeed goes to a person, however it failed.
	takingBack := last.intent.Undo != "" && verbAt(w.s.book, path) == runbook.TakeBack
	switch {
	case q.answered == nil:
		return w.fail(
			path,
			Troubled{
				Final:   true,
				Because: fmt.Sprintf("Nobody could say what became of the %s %q on %s.", what, s.Title, here(t)),
			},
		), false
	case q.answered.Choice == Happened:
		return goOn, false
	case q.answered.Choice == DoItAgain:
		return blocked, true
	case q.answered.Choice == InPart:
		return w.fail(
			path,
			Troubled{
				Final: takingBack,
				Because: fmt.Sprintf(
					"The %s %q happened in part on %s, says %s.",
					what,
					s.Title,
					here(t),
					q.answered.By,
				),
			},
		), false
	}
	return w.fail(
		path,
		Troubled{
			Final:   takingBack,
			Because: fmt.Sprintf("The %s %q did not happen on %s, says %s.", what, s.Title, here(t), q.answered.By),
		},
	), false
}

// choicesOf gives the answers to the question what became of a change.
func (w *walker) choicesOf(again bool) []string {
	out := []string{Happened, DidNot}
	if !w.olderRules(4) {
		out = []string{Happened, InPart, DidNot}
	}
	if again {
		out = append(out, DoItAgain)
	}
	return out
}

func (w *walker) askWhatBecame(f *frame, s *runbook.Step, path string, last *attempt, what string, choices []string) {
	why, by := "nobody saw its end", ""
	switch {
	case last.lost != nil && last.lost.Because != "":
		why, by = last.lost.Because, last.lost.By
	case last.outcome != nil && last.outcome.Error != "":
		why = last.outcome.Error
	}
	until := w.now.Add(questionTime).Truncate(time.Second)
	w.emit(path, QuestionRaised{
		Question: questionOf(last.intent.Attempt), Attempt: last.intent.Attempt, Until: until, By: by,
		Text: fmt.Sprintf(
			"The %s %q was begun on %s and its outcome is unknown (%s). What became of it?",
			what,
			s.Title,
			here(last.intent.Target),
			why,
		),
		Choices: choices, Ask: f.book.OnCall(),
	})
	w.wake(until)
}

// judgeHappened takes the readings of the settling condition anew and judges it. known is false where it is unsure.
func (w *walker) judgeHappened(
	f *frame,
	s *runbook.Step,
	path string,
	st *stepState,
	target, attempt string,
) (holds, known bool, r result) {
	key := attempt + "/" + target
	if j := st.still[key]; j != nil {
		return j.Result == Passes, j.Result != Unsure, goOn
	}
	n := len(w.s.order) // far enough apart for each try
	for i, a := range w.s.order {
		if a.intent.Attempt == attempt {
			n = i
		}
	}
	for i, look := range w.looksOf(f, s.Happened.Refers("readings")) {
		place := placeSeenFrom(path, look)
		begun := w.s.step(place).begun
		if begun == nil {
			return false, false, goOn
		}
		over, r := w.round(f, path, settleRound(n, i), look, place, asked(f, begun))
		if r != goOn {
			return false, false, r
		}
		if !over {
			return false, false, blocked
		}
	}
	j := w.judgeOn(f, s.Happened, path, attempt, target)
	w.emit(path, j)
	return j.Result == Passes, j.Result != Unsure, goOn
}
