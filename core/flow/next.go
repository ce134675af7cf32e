package flow

import (
	"errors"
	"fmt"
	"time"

	"urgentis/core/expr"
	"urgentis/core/runbook"
)

// Plan is what must happen now.
type Plan struct {
	// Events are appended to the log first, in one commit.
	Events []Event
	// Begin lists the intents among Events to carry out once they are on disk.
	Begin []Intent
	// AskLeave names changes about whose targets the facts and the leave are wanted: append what Given makes of each
	// answer, and plan again.
	AskLeave []AskLeave
	// AskRest names attempts of which is to be found out whether they can still begin or run: append Rested for those
	// that cannot, whenever that is seen.
	AskRest []string
	// WantLocks names what this run alone must hold before it goes on: append LocksTaken in the transaction
	// that takes them, or LocksAwaited, and plan again.
	WantLocks []WantLocks
	// Cancel lists attempts that are to be ended now, because the run is.
	Cancel []string
	// Wake is when to look again at the latest; zero: only when something is appended.
	Wake time.Time
	// Ended says that the run is over.
	Ended bool
}

// AskLeave asks whether a change may happen.
type AskLeave struct {
	Place   Place
	Targets []string
	HasGate bool
	// Look says that it is no change but a look that is one only by the runbook's word; Undo that it undoes what was
	// changed, for which the service's stance does not count.
	Look, Undo bool
	// NeedsKey lists the targets that are reached by a way that wants a pinned host key.
	NeedsKey []string
	// Secrets lists the secrets that would be used, by the change and by its undo.
	Secrets []string
	// Files lists the files of the store that would be sent.
	Files []string
}

// Given is the event that answers a question for leave.
func (a AskLeave) Given(g LeaveGiven, at time.Time) Event {
	g.Targets = a.Targets
	return Event{At: at, Place: a.Place, Body: g}
}

// WantLocks asks for locks, all or none, for what happens at a place: the change there where Of is "", or the undo of
// that on one target.
type WantLocks struct {
	Place Place
	Of    string
	Keys  []string
}

// Taken is the event that they were taken.
func (w WantLocks) Taken(at time.Time) Event {
	return Event{At: at, Place: w.Place, Body: LocksTaken{Keys: w.Keys, Of: w.Of}}
}

// Machine is a run: its log, read once, and what must happen next. It is not safe for concurrent use.
type Machine struct {
	book *runbook.Book
	s    *State
}

// Open reads a log.
func Open(book *runbook.Book, log []Event) (*Machine, error) {
	m, err := openUnstored(book, log)
	if err == nil {
		clear(m.s.openLeaves)
	}
	return m, err
}

// openUnstored reads a log of which the end is not on disk yet.
func openUnstored(book *runbook.Book, log []Event) (*Machine, error) {
	s, err := Fold(book, log)
	if err != nil {
		return nil, err
	}
	s.journal.on = true
	return &Machine{book, s}, nil
}

// State is the run's log, read. It must not be altered.
func (m *Machine) State() *State { return m.s }

// Append adds what happened, and gives the event its number. It is part of the machine's log from then on, until
// Discard or Stored.
func (m *Machine) Append(e Event) (Event, error) {
	err := m.append(&e)
	return e, err
}

func (m *Machine) append(e *Event) error {
	e.Seq, e.At = m.s.Last+1, m.s.atLeast(e.At)
	m.s.apply(*e)
	if m.s.err != nil {
		return fmt.Errorf("event %d: %w", e.Seq, m.s.err)
	}
	return nil
}

// Plan tells what must happen now. Its events are part of the machine's log from then on, until Discard or Stored.
func (m *Machine) Plan(now time.Time) (Plan, error) {
	if m.s.Ended != nil {
		return Plan{Ended: true}, nil
	}
	w := &walker{s: m.s, now: m.s.atLeast(now)}
	if m.s.Begun.Rules < touchRules {
		w.handOverOlder(m.book)
	} else {
		w.run(m.book)
		w.giveBack()
	}
	if w.err != nil {
		return Plan{}, w.err
	}
	w.plan.Ended = m.s.Ended != nil
	return w.plan, nil
}

// Next tells what must happen now. It is a pure function of its arguments.
func Next(book *runbook.Book, log []Event, now time.Time) (Plan, error) {
	m, err := Open(book, log)
	if err != nil {
		return Plan{}, err
	}
	return m.Plan(now)
}

// result says whether the steps after this one may go on.
type result struct {
	kind kind
	// trouble travels outward with kindFailed, from the step at the place at.
	trouble *Troubled
	at      Place
}

type kind int

const (
	kindGoOn kind = iota
	kindBlocked
	kindFailed
	kindEnded
	kindGoBack
	kindPassed
)

// The results that carry nothing. They are compared with ==.
var (
	goOn    = result{}
	blocked = result{kind: kindBlocked} // something is under way, or waited for
	ended   = result{kind: kindEnded}   // the runbook, or the call, is over
	goBack  = result{kind: kindGoBack}  // a person wants the question around asked again
	passed  = result{kind: kindPassed}  // the item around is passed over
)

// trouble is the result of what cannot go on: a trouble travels outward from a place.
func trouble(t *Troubled, at Place) result { return result{kindFailed, t, at} }

// failed reports whether a trouble travels outward.
func (r result) failed() bool { return r.kind == kindFailed }

// frame is what surrounds the steps that are walked.
type frame struct {
	book  *runbook.Book
	call  Place // the place of the call; "" outside
	block Place // the place of the innermost item, branch or call: what undo undoes
	// target is that of the item at hand, and names what the items around are called.
	target string
	names  map[string]any
	// approval covers the changes of a gated block.
	approval *approval
	// outer are the gates around the call that the frame is in.
	outer []*runbook.Gate
	// asking is set inside a choice of a question, to which one may go back.
	asking bool
	// trouble is what an on_error follows.
	trouble   *Troubled
	troubleAt Place
}

// walker walks the steps from the first; what the log says is over is passed, what is not is begun.
type walker struct {
	s    *State
	now  time.Time
	plan Plan
	err  error
	// anew says that what was undone may let something turn the run: it is walked from the first step again.
	anew bool
}

// maxLooksLost bounds how often a look is taken again because its outcome was lost.
const maxLooksLost = 20

func (w *walker) emit(place Place, b Body) {
	e := Event{Seq: w.s.Last + 1, At: w.now, Place: place, Body: b}
	w.s.apply(e)
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

// run takes the whole as far as it goes now.
func (w *walker) run(book *runbook.Book) {
	f := &frame{book: book}
	if w.s.cancel != nil && (w.s.ending == nil || w.s.finallyCut() && w.s.ending.State != Cancelled) {
		w.cancelled(f)
	}
	for w.s.ending == nil && w.s.cancel == nil && w.s.Ended == nil {
		w.anew = false
		if w.steps(f); !w.anew {
			break
		}
	}
	if w.s.ending != nil && w.s.Ended == nil {
		w.finish(f)
	}
}

// steps walks what the runbook says, until it blocks or the run is to end.
func (w *walker) steps(f *frame) {
	if w.givesUp(f) || w.outgrown(f) || w.awaitOthers(f) != goOn {
		return
	}
	r := w.followAlert(f)
	if r == goOn {
		r = w.list(f, f.book.Steps, Place{})
	}
	if first := r; r.failed() {
		r = w.catch(f, first, f.book.OnError, Place{})
		if r == goOn {
			// on_error did something, and did not end the run.
			w.end(f, Ended{State: HandedOver, To: whom(f, first.trouble), Because: first.trouble.Because}, first.at)
			return
		}
	}
	switch {
	case r == goOn:
		w.end(f, Ended{State: Done, Because: "The runbook came to its end without closing the incident."}, Place{})
	case r.failed():
		t := r.trouble
		state := HandedOver
		if t.Stop {
			state = StateFail
		}
		to := ""
		if state == HandedOver {
			to = whom(f, t)
		}
		w.end(f, Ended{State: state, To: to, Because: t.Because}, r.at)
	}
}

// givesUp ends a run whose time is over. What is being undone is undone first.
func (w *walker) givesUp(f *frame) bool {
	after := f.book.Limits.GiveUpAfter
	if after == 0 || w.s.undoes() {
		return false
	}
	until := w.s.BegunAt.Add(after)
	if w.now.Before(until) {
		w.wake(until)
		return false
	}
	w.end(f, Ended{
		State: HandedOver, To: f.book.OnCall(), Because: fmt.Sprintf("The runbook gives up after %s.", after),
	}, Place{})
	return true
}

// fail lets a trouble travel outward from a step. It is written down once, so that it stays what it was.
func (w *walker) fail(place Place, t Troubled) result {
	st := w.s.step(place)
	if st.trouble == nil {
		w.emit(place, t)
	}
	return trouble(&t, place)
}

func (w *walker) broken(place Place, s *runbook.Step, err error) result {
	return w.fail(place, Troubled{Because: fmt.Sprintf("Step %s, %s, cannot be done: %s.", place, s.Title, err)})
}

// catch follows what was provided for a trouble. place is that of the step, the call or the run. goOn: the trouble is
// over.
func (w *walker) catch(f *frame, r result, b runbook.Branch, place Place) result {
	t := r.trouble
	if t.Final || b.Word == "" && b.Steps == nil {
		return r
	}
	switch b.Word {
	case runbook.GoOn:
		return goOn
	case runbook.Stop:
		return trouble(&Troubled{Because: t.Because, Stop: true, Final: true}, r.at)
	case runbook.HandOverWord:
		return trouble(&Troubled{Because: t.Because, To: t.To, Final: true}, r.at)
	case runbook.UndoWord:
		scope := place
		if scope.IsZero() {
			scope = f.block
		}
		undone := w.undo(place.List("on_error"), within(scope))
		if undone == blocked {
			return blocked
		}
		// What is left makes it final; why it was undone stays why.
		return trouble(&Troubled{Because: t.Because, Stop: t.Stop, To: t.To, Final: undone.failed()}, r.at)
	}
	g := *f
	g.trouble, g.troubleAt = t, r.at
	return w.list(&g, b.Steps, place.List("on_error"))
}

func (w *walker) list(f *frame, steps []*runbook.Step, in Place) result {
	for i, s := range steps {
		if r := w.step(f, s, in.Step(i+1)); r != goOn {
			return r
		}
	}
	return goOn
}

// branch follows a branch that is not empty: steps of a list, or a word.
func (w *walker) branch(f *frame, b runbook.Branch, place, in Place, because string) result {
	switch b.Word {
	case runbook.GoOn:
		return goOn
	case runbook.Stop:
		return w.fail(place, Troubled{Because: because, Stop: true, Final: true})
	case runbook.HandOverWord:
		return w.fail(place, Troubled{Because: because, Final: true})
	case runbook.UndoWord:
		r := w.undo(place, within(f.block))
		if r == blocked {
			return blocked
		}
		return w.fail(place, Troubled{Because: because, Final: r.failed()})
	}
	return w.list(f, b.Steps, in)
}

func (w *walker) step(f *frame, s *runbook.Step, place Place) result {
	r := w.stepInside(f, s, place)
	if r.failed() {
		r = w.catch(f, r, s.OnError, place)
	}
	return r
}

func (w *walker) stepInside(f *frame, s *runbook.Step, place Place) result {
	st := w.s.step(place)
	switch {
	case st.skipped != nil:
		return w.list(f, s.Otherwise, place.List("otherwise"))
	case st.trouble != nil:
		return trouble(st.trouble, place)
	}
	if st.begun == nil && st.each == nil && st.call == nil && !st.done {
		if r := w.beginStep(f, s, place); r != goOn {
			return r
		}
		if st.skipped != nil {
			return w.list(f, s.Otherwise, place.List("otherwise"))
		}
	}
	switch s.Verb {
	case runbook.Look:
		return w.look(f, s, place, st)
	case runbook.Check:
		return w.check(f, s, place, st)
	case runbook.Wait:
		return w.await(f, s, place, st)
	case runbook.Ask:
		return w.ask(f, s, place, st)
	case runbook.Change:
		return w.change(f, s, place, st)
	case runbook.Each:
		return w.each(f, s, place, st)
	case runbook.Together:
		return w.together(f, s, place, st)
	case runbook.Call:
		return w.call(f, s, place, st)
	case runbook.UndoChange:
		return w.undoStep(f, s, place, st)
	case runbook.Tell, runbook.Note:
		return w.say(f, s, place, st)
	case runbook.Close:
		because, err := w.prose(f, s.Because, place)
		if err != nil {
			return w.broken(place, s, err)
		}
		return w.end(f, Ended{State: Done, Outcome: s.Outcome, Because: because, Cause: w.cause(f, s, place)}, place)
	case runbook.HandOver:
		because, err := w.prose(f, s.Because, place)
		if err != nil {
			// The words fail, the hand-over must not.
			because = fmt.Sprintf("%s (the reason cannot be written: %s)", s.Because.Source, err)
		}
		return w.end(f, Ended{State: HandedOver, To: s.To, Because: because, Cause: w.cause(f, s, place)}, place)
	}
	w.err = fmt.Errorf("step %s has the unknown verb %s", place, s.Verb)
	return blocked
}

// cause is what a step states to be the cause; "" where it states none, or rests on what is not known: an end does not
// fail for it.
func (w *walker) cause(f *frame, s *runbook.Step, place Place) string {
	if s.Cause == nil {
		return ""
	}
	text, err := w.prose(f, s.Cause, place)
	if err != nil {
		return ""
	}
	return text
}

// beginStep judges a step's condition and freezes its targets.
func (w *walker) beginStep(f *frame, s *runbook.Step, place Place) result {
	if r := w.mayBegin(place); r != goOn {
		return r
	}
	if s.When != nil {
		ok, values, err := s.When.Explain(w.scope(f, place, ""))
		if err != nil {
			return w.broken(place, s, fmt.Errorf("its condition %s is unsure: %w", s.When.Source, err))
		}
		if !ok {
			w.emit(place, Skipped{Expression: s.When.Source, Values: values})
			return goOn
		}
	}
	switch {
	case s.Do != nil:
		targets, err := w.targets(f, s.Where, place)
		if err != nil {
			return w.broken(place, s, err)
		}
		if kind := s.Do.Kind(); s.Where == nil && f.target == "" && (kind == "ssh" || kind == "sql") {
			return w.broken(place, s, errors.New("the item at hand is no target"))
		}
		if len(targets) == 0 && s.Verb == runbook.Change {
			return w.broken(place, s, errors.New("no target is selected"))
		}
		w.emit(place, StepBegun{Targets: targets})
	case s.Verb == runbook.Check || s.Verb == runbook.Wait || s.Verb == runbook.Ask || s.Verb == runbook.Together ||
		s.Verb == runbook.Change || s.Verb == runbook.UndoChange:
		w.emit(place, StepBegun{})
	}
	return goOn
}

// prose renders a text for people.
func (w *walker) prose(f *frame, t *expr.Template, place Place) (string, error) {
	return t.Prose(w.scope(f, place, ""))
}

func (w *walker) say(f *frame, s *runbook.Step, place Place, st *stepState) result {
	if st.done {
		return goOn
	}
	text, err := w.prose(f, s.Text, place)
	if err != nil {
		return w.broken(place, s, err)
	}
	if s.Verb == runbook.Note {
		w.emit(place, Noted{Text: text})
	} else {
		w.emit(place, Told{Text: text, Source: s.Source, To: s.Tells})
	}
	return goOn
}

// attempt names an attempt for good: run, step, purpose, target, and which try.
func (w *walker) attempt(place Place, p Purpose, target string, try int) string {
	return fmt.Sprintf("%s:%s:%s:%s:%d", w.s.Begun.Run, place, p, target, try+1)
}
