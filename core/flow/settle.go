package flow

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"urgentis/core/runbook"
)

const (
	// questionTime is how long a question about an unknown outcome stands before it is handed over.
	questionTime = time.Hour
	// RestRetry is how often is found out whether what is unknown can still begin or run.
	RestRetry = 10 * time.Second
	// restPatience is how long that is waited for before a person is asked.
	restPatience = 30 * time.Second
	// maxRepeats bounds how often a change that may be repeated is begun once more by itself, firstRepeat and
	// lastRepeat how long after.
	maxRepeats  = 20
	firstRepeat = time.Second
	lastRepeat  = time.Minute
	// followAgain is how long after somebody let go of a job it is followed on.
	followAgain = time.Second
)

// Reason tells why it did not end well, in a few words.
func (o *Outcome) Reason() string {
	why := o.Error
	if why == "" && o.Exit != nil {
		why = fmt.Sprintf("it ended with %d", *o.Exit)
	}
	if line := strings.TrimSpace(strings.SplitN(strings.TrimSpace(o.Stderr.Head), "\n", 2)[0]); line != "" {
		why += ", saying " + strconv.Quote(line)
	}
	return why
}

// settle finds out what became of a change, or of an undo, that nobody saw the end of: by the condition that the
// runbook names, by repeating what may be repeated once it is at rest, or by asking a person. goOn: it is known now, or
// nobody could say.
func (w *walker) settle(f *frame, book *runbook.Book, s *runbook.Step, t *Touch, undo bool) result {
	e := &t.Change
	if undo {
		e = &t.Undo
	}
	if !e.Open() {
		return goOn
	}
	if !undo && (s.Happened != nil || s.Repeatable) && !e.Rests {
		w.plan.AskRest = append(w.plan.AskRest, e.Newest())
		w.wake(w.now.Add(RestRetry))
	}
	if !undo && s.Happened != nil {
		if r := w.judgeHappened(f, s, t, e); r != goOn || !e.Open() {
			return r
		}
	}
	if !undo && s.Repeatable && e.Rests && e.Repeats < maxRepeats {
		return w.repeat(t, e)
	}
	if since := w.s.attempts[e.Newest()].overAt.Add(restPatience); !undo && (s.Happened != nil || s.Repeatable) &&
		!e.Rests && w.now.Before(since) {
		return blocked // it may settle by itself
	}
	if w.asked(book, s, t, undo, true) {
		return goOn
	}
	return blocked
}

// repeat begins a change at rest once more, after a pause that doubles.
func (w *walker) repeat(t *Touch, e *Effect) result {
	st := w.s.step(t.Place)
	if p := st.pause; p == nil || p.on != OnRepeat {
		after := min(lastRepeat, firstRepeat<<min(e.Repeats, 6))
		w.emit(t.Place, Waits{On: OnRepeat, Until: w.now.Add(after)})
	}
	if !w.over(st.pause) {
		return blocked
	}
	w.emit(t.Place, Repeated{Target: t.Target})
	return goOn
}

// asked asks a person what became of a change or an undo. It reports whether that is over: it was answered, or nobody
// did in time.
func (w *walker) asked(book *runbook.Book, s *runbook.Step, t *Touch, undo, again bool) bool {
	e, what := &t.Change, "change"
	if undo {
		e, what = &t.Undo, "undo of the change"
	}
	last := w.s.attempts[e.Newest()]
	q := w.s.step(last.place).questions[questionOf(e.Newest())]
	if q == nil {
		w.askWhatBecame(book, s, t, last, what, again)
		return false
	}
	if q.open() {
		if w.now.Before(q.raised.Until) {
			w.wake(q.raised.Until)
			return false
		}
		w.emit(last.place, QuestionExpired{Question: q.raised.Question})
	}
	return true
}

func (w *walker) askWhatBecame(
	book *runbook.Book, s *runbook.Step, t *Touch, last *attempt, what string, again bool,
) {
	why, by := "nobody saw its end", ""
	switch {
	case last.lost != nil && last.lost.Because != "":
		why, by = last.lost.Because, last.lost.By
	case last.outcome != nil && last.outcome.Error != "":
		why = last.outcome.Error
	}
	if e := w.s.EffectOf(last.intent.Attempt); e.Perhaps && e.Earlier != "" && e.Earlier != why {
		why = fmt.Sprintf("%s; begun once more: %s", e.Earlier, why)
	}
	choices := []string{Happened, InPart, DidNot}
	if again {
		choices = append(choices, DoItAgain)
	}
	until := w.now.Add(questionTime).Truncate(time.Second)
	w.emit(last.place, QuestionRaised{
		Question: questionOf(last.intent.Attempt), Attempt: last.intent.Attempt, Until: until, By: by,
		Text: fmt.Sprintf(
			"The %s %q was begun on %s and its outcome is unknown (%s). What became of it?",
			what,
			s.Title,
			here(t.Target),
			why,
		),
		Choices: choices, Ask: book.OnCall(),
	})
	w.wake(until)
}

// judgeHappened takes the readings of the settling condition anew and judges it: once as soon as the change is unknown,
// when only that it holds counts, and once more when it is at rest.
func (w *walker) judgeHappened(f *frame, s *runbook.Step, t *Touch, e *Effect) result {
	st, lap := w.s.step(t.Place), 2*int(w.s.attempts[e.Newest()].seq)
	if e.Rests {
		lap++
	}
	key := settledKey{e.Newest(), e.Rests}
	if st.settled[key] {
		return goOn
	}
	for i, look := range w.looksOf(f, s.Happened.Refers("readings")) {
		place, begun := w.instance(t.Place, look)
		if begun == nil {
			return goOn
		}
		p := Purpose{For: ForSettle, Lap: lap, Look: i}
		over, r := w.round(f, t.Place, p, look, place, asked(f, begun))
		if r != goOn {
			return r
		}
		if !over {
			return blocked
		}
	}
	holds, values, err := s.Happened.Explain(w.scope(f, t.Place, t.Target))
	b := Settled{
		Attempt: e.Newest(), Target: t.Target, Result: judged(holds, err), Expr: s.Happened.Source, Values: values,
	}
	if err != nil {
		b.Unsure = unsure(err)
	}
	w.emit(t.Place, b)
	return goOn
}

// questionOf names the question what became of an attempt.
func questionOf(attempt string) string { return "q:" + inAddress.Replace(attempt) }
