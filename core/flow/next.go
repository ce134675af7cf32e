package flow

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"urgentis/core/expr"
	"urgentis/core/leave"
	"urgentis/core/runbook"
)

// Plan is what must happen now.
type Plan struct {
	// Events are appended to the log first, in one commit.
	Events []Event
	// Begin lists the intents among Events to carry out once they are on disk.
	Begin []Intent
	// AskLeave names a change step about whose targets the facts and the leave are wanted:
	// append a LeaveGiven for it and ask Next again.
	AskLeave *AskLeave
	// Wake is when to look again at the latest; zero: only when something is appended.
	Wake time.Time
	// Ended says that the run is over.
	Ended bool
}

// AskLeave asks whether a change may happen.
type AskLeave struct {
	Path    string
	Targets []string
	HasGate bool
}

// Next tells what must happen now. It is a pure function of its arguments.
func Next(book *runbook.Book, log []Event, now time.Time) (Plan, error) {
	s, err := Fold(book, log)
	if err != nil {
		return Plan{}, err
	}
	if s.Ended != nil {
		return Plan{Ended: true}, nil
	}
	w := &walker{book: book, s: s, now: now}
	if w.list(book.Steps) == goOn {
		w.end(Ended{State: Done, Because: "The runbook came to its end without closing the incident."}, "")
	}
	if w.err != nil {
		return Plan{}, w.err
	}
	w.plan.Ended = s.Ended != nil
	return w.plan, nil
}

// result says whether the steps after this one may go on.
type result int

const (
	goOn  result = iota
	block        // something is under way, or the run is over
)

// walker walks the steps from the first; what the log says is over is passed, what is not is begun.
type walker struct {
	book *runbook.Book
	s    *State
	now  time.Time
	plan Plan
	err  error
}

// maxLooksLost bounds how often a look is taken again because its outcome was lost.
const maxLooksLost = 20

func (w *walker) emit(path string, b Body) {
	e := Event{Seq: w.s.Last + 1, At: w.now, Path: path, Body: b}
	w.s.apply(w.book, e)
	if w.s.err != nil && w.err == nil {
		w.err = w.s.err
	}
	w.plan.Events = append(w.plan.Events, e)
	if i, ok := b.(Intent); ok {
		w.plan.Begin = append(w.plan.Begin, i)
	}
}

func (w *walker) wake(at time.Time) {
	if w.plan.Wake.IsZero() || at.Before(w.plan.Wake) {
		w.plan.Wake = at
	}
}

func (w *walker) end(e Ended, path string) result {
	w.emit(path, e)
	return block
}

// handOver ends the run by giving it to people: the default for all that nobody provided for.
func (w *walker) handOver(s *runbook.Step, because string) result {
	return w.end(Ended{State: HandedOver, To: "on-call/" + w.book.Owner, Because: because}, s.Path)
}

func (w *walker) broken(s *runbook.Step, err error) result {
	return w.handOver(s, fmt.Sprintf("Step %s, %s, cannot be done: %s.", s.Path, s.Title, err))
}

func (w *walker) list(steps []*runbook.Step) result {
	for _, s := range steps {
		if w.step(s) == block {
			return block
		}
	}
	return goOn
}

// branch follows a branch that is not empty: steps or a word.
func (w *walker) branch(s *runbook.Step, b runbook.Branch, because string) result {
	switch b.Word {
	case runbook.GoOn:
		return goOn
	case runbook.Stop:
		return w.end(Ended{State: StateFail, Because: because}, s.Path)
	case runbook.HandOverWord:
		return w.handOver(s, because)
	}
	return w.list(b.Steps)
}

func (w *walker) step(s *runbook.Step) result {
	st := w.s.step(s.Path)
	if st.skipped != nil {
		return w.list(s.Otherwise)
	}
	if st.begun == nil {
		if s.When != nil {
			ok, values, err := s.When.Explain(w.s.scope(w.book, "", w.now))
			if err != nil {
				return w.broken(s, fmt.Errorf("its condition %s is unsure: %w", s.When.Source, err))
			}
			if !ok {
				w.emit(s.Path, Skipped{Expression: s.When.Source, Values: values})
				return w.list(s.Otherwise)
			}
		}
		if s.Do != nil {
			targets, err := w.targets(s)
			if err != nil {
				return w.broken(s, err)
			}
			if len(targets) == 0 && s.Verb == runbook.Change {
				return w.broken(s, errors.New("no target is selected"))
			}
			w.emit(s.Path, StepBegun{Targets: targets})
		} else if s.Verb == runbook.Check {
			w.emit(s.Path, StepBegun{})
		}
	}
	switch s.Verb {
	case runbook.Look:
		return w.look(s, st)
	case runbook.Check:
		return w.check(s, st)
	case runbook.Change:
		return w.change(s, st)
	case runbook.Tell, runbook.Note:
		return w.say(s, st)
	case runbook.Close:
		because, err := s.Because.Text(w.s.scope(w.book, "", w.now))
		if err != nil {
			return w.broken(s, err)
		}
		return w.end(Ended{State: Done, Outcome: s.Outcome, Because: because}, s.Path)
	case runbook.HandOver:
		because, err := s.Because.Text(w.s.scope(w.book, "", w.now))
		if err != nil {
			// The words fail, the hand-over must not.
			because = fmt.Sprintf("%s (the reason cannot be written: %s)", s.Because.Source, err)
		}
		return w.end(Ended{State: HandedOver, To: s.To, Because: because}, s.Path)
	}
	w.err = fmt.Errorf("step %s has the unknown verb %s", s.Path, s.Verb)
	return block
}

func (w *walker) say(s *runbook.Step, st *stepState) result {
	if st.done {
		return goOn
	}
	text, err := s.Text.Text(w.s.scope(w.book, "", w.now))
	if err != nil {
		return w.broken(s, err)
	}
	if s.Verb == runbook.Note {
		w.emit(s.Path, Noted{Text: text})
	} else {
		w.emit(s.Path, Told{Text: text, Source: s.Source})
	}
	return goOn
}

// targets selects by name and labels from the estate as it was when the run began, by name.
func (w *walker) targets(s *runbook.Step) ([]string, error) {
	if s.Where == nil {
		return []string{""}, nil
	}
	sc := w.s.scope(w.book, "", w.now)
	want := map[string]string{}
	for k, t := range s.Where.Labels {
		v, err := t.Text(sc)
		if err != nil {
			return nil, err
		}
		want[k] = v
	}
	name := ""
	if s.Where.Name != nil {
		var err error
		if name, err = s.Where.Name.Text(sc); err != nil {
			return nil, err
		}
	}
	var out []string
	for _, t := range w.s.Begun.Estate {
		ok := s.Where.Name == nil || t.Name == name
		for k, v := range want {
			ok = ok && t.Labels[k] == v
		}
		if ok {
			out = append(out, t.Name)
		}
	}
	slices.Sort(out)
	if s.Where.PickOne && len(out) > 1 {
		out = w.pick(out)
	}
	return out, nil
}

// pick chooses one target: the first by name that answered the newest look, else the first.
func (w *walker) pick(names []string) []string {
	for i := len(w.s.order) - 1; i >= 0; i-- {
		a := w.s.order[i]
		if a.intent.Change || !slices.Contains(names, a.intent.Target) {
			continue
		}
		for _, n := range names {
			for _, b := range w.s.order {
				if b.path == a.path && b.intent.Round == a.intent.Round && b.intent.Target == n && b.outcome != nil && b.outcome.State == OK {
					return []string{n}
				}
			}
		}
		break
	}
	return names[:1]
}

// round makes one round of attempts of a look under the step at path, and reports whether it is over.
func (w *walker) round(path string, round int, look *runbook.Step, targets []string) (bool, result) {
	st := w.s.step(path)
	over := true
	for i, t := range targets {
		tries := st.rounds[round][t]
		if n := len(tries); n > 0 {
			last := tries[n-1]
			if last.outcome != nil {
				continue
			}
			if last.lost == nil {
				over = false
				continue
			}
			if n >= maxLooksLost {
				continue // it stays missing
			}
		}
		req, err := w.request(look.Do, look.Timeout.Seconds(), t, w.s.scope(w.book, t, w.now))
		if err != nil {
			return false, w.broken(look, err)
		}
		in := Intent{Attempt: w.attempt(path, round, t, len(tries)), Target: t, Round: round, Look: look.Path, Request: req}
		if i == 0 && len(tries) == 0 {
			in.Asked = targets
		}
		w.emit(path, in)
		over = false
	}
	return over, goOn
}

// attempt names an attempt for good: run, step, round, target, and which try.
func (w *walker) attempt(path string, round int, target string, try int) string {
	return fmt.Sprintf("%s:%s:%d:%s:%d", w.s.Begun.Run, path, round, target, try+1)
}

// request renders a way of doing for one target. facts are added by whoever knows them.
func (w *walker) request(do *runbook.Do, timeout float64, target string, sc *expr.Scope) (leave.Request, error) {
	r := leave.Request{Kind: "ssh", Target: leave.Facts{Name: target}, As: do.As, Accept: do.Accept, Timeout: max(1, int(timeout))}
	if do.FromHere {
		r.Kind = "local"
	}
	for _, t := range do.Run {
		word, err := t.Text(sc)
		if err != nil {
			return r, err
		}
		if strings.ContainsRune(word, 0) {
			return r, errors.New("a word of the command holds the NUL character")
		}
		r.Words = append(r.Words, word)
	}
	if h := do.HTTP; h != nil {
		r.Kind, r.Method = "http", h.Method
		var err error
		if r.URL, err = h.URL.URL(sc); err != nil {
			return r, err
		}
		for k, t := range h.Headers {
			if r.Headers == nil {
				r.Headers = map[string]string{}
			}
			if r.Headers[k], err = t.Text(sc); err != nil {
				return r, err
			}
			if strings.ContainsAny(r.Headers[k], "\r\n\x00") {
				return r, fmt.Errorf("header %s would hold a line break", k)
			}
		}
		if h.Body != nil {
			v, err := h.Body.Render(sc)
			if err != nil {
				return r, err
			}
			if r.Body, err = bodyText(v); err != nil {
				return r, err
			}
		}
	}
	return r, nil
}

func (w *walker) look(s *runbook.Step, st *stepState) result {
	for round := 0; ; round++ {
		over, r := w.round(s.Path, round, s, st.begun.Targets)
		if r == block || !over {
			return block
		}
		if s.Again == nil || w.complete(st, round) {
			return goOn
		}
		if next, more := w.again(s.Again, st, round); more {
			if w.now.Before(next) {
				w.wake(next)
				return block
			}
			continue
		}
		return goOn
	}
}

func (w *walker) complete(st *stepState, round int) bool {
	for _, tries := range st.rounds[round] {
		last := tries[len(tries)-1]
		if last.outcome == nil || last.outcome.State != OK || len(last.outcome.Missing) > 0 {
			return false
		}
	}
	return true
}

// again tells when the round after this one is due, and whether there is to be one.
func (w *walker) again(a *runbook.Again, st *stepState, round int) (time.Time, bool) {
	var asked time.Time
	for _, tries := range st.rounds[round] {
		for _, t := range tries[:1] {
			if asked.IsZero() || t.at.Before(asked) {
				asked = t.at
			}
		}
	}
	next := asked.Add(a.Every)
	if a.Times > 0 {
		return next, round+1 < a.Times
	}
	return next, !next.After(st.beganAt.Add(a.For))
}

func (w *walker) check(s *runbook.Step, st *stepState) result {
	n := len(st.judged)
	if n > 0 && st.judged[n-1].Final {
		return w.follow(s, st.judged[n-1].Judged)
	}
	for round := n; ; round++ {
		if round > 0 {
			// The answer before this one was not final: it is due again.
			next, _ := w.again(s.Again, st, round-1)
			if w.now.Before(next) {
				w.wake(next)
				return block
			}
		}
		if s.Retake != "" {
			look := w.book.ByID(s.Retake)
			begun := w.s.step(look.Path).begun
			if begun == nil {
				return w.broken(s, fmt.Errorf("look %s was not taken on this path", s.Retake))
			}
			over, r := w.round(s.Path, round, look, begun.Targets)
			if r == block || !over {
				return block
			}
		}
		j := w.judge(s, st, round)
		w.emit(s.Path, j)
		if j.Final {
			return w.follow(s, j)
		}
	}
}

func (w *walker) judge(s *runbook.Step, st *stepState, round int) Judged {
	j := Judged{Round: round, Result: Fails, Final: true}
	ok, values, err := s.That.Explain(w.s.scope(w.book, "", w.now))
	j.Values = values
	switch {
	case err != nil:
		j.Result, j.Unsure = Unsure, strings.TrimPrefix(err.Error(), expr.ErrUnsure.Error()+": ")
	case ok:
		j.Result = Passes
	}
	if s.Again == nil {
		return j
	}
	_, more := w.again(s.Again, st, round)
	if j.Result == Passes {
		if s.Again.Steady == 0 {
			return j
		}
		since := w.now
		for i := len(st.judged) - 1; i >= 0 && st.judged[i].Result == Passes; i-- {
			since = st.judged[i].at
		}
		if w.now.Sub(since) >= s.Again.Steady {
			return j
		}
		if !more {
			j.Result, j.Unsure = Unsure, "it did not hold for "+s.Again.Steady.String()+" before the time was over"
		}
	}
	j.Final = !more
	return j
}

func (w *walker) follow(s *runbook.Step, j Judged) result {
	var said []string
	for _, v := range j.Values {
		said = append(said, v.Part+" is "+v.Text)
	}
	about := ""
	if len(said) > 0 {
		about = " (" + strings.Join(said, ", ") + ")"
	}
	switch j.Result {
	case Passes:
		return w.branch(s, s.Passes.Or(runbook.GoOn), "")
	case Unsure:
		return w.branch(s, s.Unsure.Or(runbook.HandOverWord), fmt.Sprintf("The check %q is unsure: %s.", s.Title, j.Unsure))
	}
	return w.branch(s, s.Fails.Or(runbook.HandOverWord), fmt.Sprintf("The check %q fails%s.", s.Title, about))
}
