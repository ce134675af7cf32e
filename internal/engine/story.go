package engine

import (
	"slices"

	documents "urgentis/core/estate"
	"urgentis/core/expr"
	"urgentis/core/message"
	"urgentis/core/plain"

	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"urgentis/core/flow"
	"urgentis/core/incident"
	"urgentis/core/route"
	"urgentis/core/runbook"
	"urgentis/core/task"
	"urgentis/internal/act"
	"urgentis/internal/store"
)

// story turns the events of a run into what people read of them: entries of the record, and notices. It writes nothing,
// so that the story of a run without an incident can be told as well.
type story struct {
	run  *store.Run
	book *runbook.Book
	// s is the log with the events at its end.
	s       *flow.State
	entries []store.NewEntry
	notices []Notice
	// deaf says why the alert's source cannot be told anything; "" where it can.
	deaf string
	// named tells who a word such as on-call/quayside means at a moment.
	named func(word string, at time.Time) string
}

// Story tells a run from its beginning: entries as they stand, or would, in the record of an incident.
func (e *Engine) Story(ctx context.Context, run *store.Run, log []flow.Event) ([]store.NewEntry, error) {
	book, err := e.BookOf(ctx, log)
	if err != nil {
		return nil, err
	}
	tx := e.Store.In(ctx)
	t := &story{run: run, book: book, named: e.namer(tx)}
	var unheard error
	_, err = flow.Follow(book, log, func(s *flow.State, ev flow.Event) {
		if t.s = s; len(t.entries) == 0 && unheard == nil {
			t.deaf, unheard = deaf(tx, s)
		}
		t.event(ev)
	})
	return t.entries, errors.Join(err, unheard)
}

func (t *story) actor() string { return "runbook:" + t.book.Name }

func (t *story) entry(ev flow.Event, kind incident.Kind, actor, title string, content incident.Content) {
	t.entries = append(
		t.entries,
		store.NewEntry{
			At:      ev.At,
			Kind:    kind,
			Actor:   actor,
			Run:     t.run.ID,
			Step:    ev.Place.String(),
			Title:   title,
			Content: content,
		},
	)
}

func (t *story) tell(ev flow.Event, kind route.Kind, to, thing, text string) {
	t.notices = append(t.notices, Notice{
		Kind: kind, To: to, Thing: thing, Text: text, Key: fmt.Sprintf("%s:%d", t.run.ID, ev.Seq),
	})
}

func (t *story) title(place flow.Place) string {
	if s := t.step(place); s != nil {
		return s.Title
	}
	return place.String()
}

// of names the step at a place, as contents do.
func (t *story) of(place flow.Place) incident.OfStep {
	if s := t.step(place); s != nil {
		return incident.OfStep{Verb: string(s.Verb), Title: s.Title}
	}
	return incident.OfStep{}
}

// because is the content of an entry that only says why.
func (t *story) because(ev flow.Event, target, why string) incident.StepContent {
	return incident.StepContent{OfStep: t.of(ev.Place), Target: target, Because: why}
}

func (t *story) step(place flow.Place) *runbook.Step {
	s, _ := flow.Find(t.book, place)
	return s
}

func (t *story) intent(attempt string) flow.Intent {
	in, _, _, _ := t.s.Attempt(attempt)
	return in
}

// hosts names locks as people know what they are on.
func (t *story) hosts(keys []string) []string {
	out := make([]string, len(keys))
	for i, k := range keys {
		out[i] = t.s.HostOf(k)
	}
	return out
}

// undone tells of what was changed and is undone, and of what nobody saw the end.
func (t *story) undone(ev flow.Event) {
	switch b := ev.Body.(type) {
	case flow.Undoing:
		c := incident.StepContent{OfStep: t.of(ev.Place)}
		for _, k := range b.Touches {
			c.Touches = append(c.Touches, incident.Touched{Place: k.Place.String(), Target: k.Target})
		}
		for _, l := range b.Left {
			c.Left = append(c.Left, incident.Touched{Place: l.Place.String(), Target: l.Target, Why: l.Why})
		}
		t.entry(ev, incident.UndoPlanned, t.actor(), undoing(b), c)
	case flow.UndoLeft:
		c := t.because(ev, b.Target, b.Why)
		c.Undoes, c.Became = true, t.s.TouchAt(ev.Place, b.Target).Became()
		t.entry(ev, incident.UndoLeft, t.actor(), "Not undone: "+t.title(ev.Place), c)
	case flow.UndoJudged:
		t.entry(ev, incident.UndoJudged, t.actor(), "Undone as it must be? "+t.title(ev.Place), incident.JudgedContent{
			OfStep: t.of(ev.Place), Became: t.s.TouchAt(ev.Place, b.Target).Became(), Target: b.Target,
			Result:     b.Result,
			Expression: b.Expr, Values: b.Values, Unsure: b.Unsure})
	case flow.Undone:
		t.entry(ev, incident.UndoEnded, t.actor(), "What was undone", t.because(ev, "", t.s.UndoneAt(ev.Place)))
	case flow.Settled:
		t.entry(ev, incident.ChangeSettled, t.actor(), "Did it happen? "+t.title(ev.Place), incident.JudgedContent{
			OfStep: t.of(ev.Place), Became: t.s.TouchOf(b.Attempt).Became(), Target: b.Target, Attempt: b.Attempt,
			Result: b.Result, Expression: b.Expr, Values: b.Values, Unsure: b.Unsure})
	case flow.Repeated:
		t.entry(ev, incident.ChangeRepeated, t.actor(), "Begins once more: "+t.title(ev.Place),
			t.because(ev, b.Target, "it may be repeated, and nothing of it runs any more"))
	}
}

// several tells of what is done for several, and of whom it is not done for.
func (t *story) several(ev flow.Event) {
	switch b := ev.Body.(type) {
	case flow.EachBegun:
		c := incident.StepContent{OfStep: t.of(ev.Place), AtOnce: b.AtOnce}
		for _, i := range b.Items {
			c.Items = append(c.Items, i.Label)
		}
		t.entry(ev, incident.EachBegun, t.actor(), fmt.Sprintf("For each of %d: %s", len(b.Items), t.title(ev.Place)),
			c)
	case flow.ItemPassed:
		each, _, _ := ev.Place.ItemOf()
		c := t.because(ev, "", b.Because+"; nothing was changed for it")
		c.OfStep = t.of(each)
		t.entry(ev, incident.ItemPassed, t.actor(), "Passed over "+b.Label+": "+t.title(each), c)
	case flow.TargetPassed:
		t.entry(ev, incident.TargetPassed, t.actor(), "Passed over "+b.Target+": "+t.title(ev.Place),
			t.because(ev, b.Target, b.Because+"; nothing was changed there by it"))
	}
}

// intended tells that a change is begun; of a look its end is told.
func (t *story) intended(ev flow.Event, b flow.Intent) {
	if b.Touches() {
		kind, title := incident.ChangeBegun, t.title(ev.Place)
		if b.Undoes() {
			kind, title = incident.UndoBegun, "Undo begins: "+title
		}
		cannot, loses := false, ""
		if s := t.step(ev.Place); s != nil && !b.Undoes() {
			cannot, loses = s.NoUndo, s.Loses
		}
		t.entry(ev, kind, t.actor(), title, incident.IntentContent{OfStep: t.of(ev.Place), Attempt: b.Attempt,
			Cannot: cannot, Loses: loses,
			Target: b.Target, Shown: act.Show(b.Request), Undo: undo(b.Request), Approval: b.Digest, Under: b.Under,
			Request: &b.Request})
	}
}

// event tells one event.
func (t *story) event(ev flow.Event) {
	switch b := ev.Body.(type) {
	case flow.Begun:
		t.entry(ev, incident.RunBegun, b.StartedBy, "Runbook started: "+t.book.Title, incident.BegunContent{
			Runbook: b.Runbook, Revision: b.Revision, Inputs: b.Inputs, StartedBy: b.StartedBy})
	case flow.Skipped:
		t.entry(ev, incident.StepSkipped, t.actor(), "Skipped: "+t.title(ev.Place),
			incident.JudgedContent{OfStep: t.of(ev.Place), Expression: b.Expression, Values: b.Values})
	case flow.Intent:
		t.intended(ev, b)
	case flow.Outcome:
		t.outcome(ev, b)
	case flow.Followed:
		in := t.intent(b.Attempt)
		t.entry(ev, incident.JobFollowed, "urgentis", "Follows the job "+plain.Line(b.Job)+": "+t.title(ev.Place),
			incident.StepContent{OfStep: t.of(ev.Place), Target: in.Target, Attempt: b.Attempt, Job: b.Job,
				Change: in.Touches(), Undoes: in.Undoes()})
	case flow.Lost:
		in := t.intent(b.Attempt)
		t.entry(ev, incident.AttemptLost, "urgentis", "Interrupted: "+t.title(ev.Place), incident.StepContent{
			OfStep: t.of(ev.Place), Became: t.s.TouchOf(b.Attempt).Became(), Attempt: b.Attempt, Target: in.Target,
			Because: b.Because, Change: in.Touches(), Undoes: in.Undoes()})
	case flow.Judged:
		t.judged(ev, b)
	case flow.LeaveGiven:
	// What the alert became stands in the record already.
	case flow.AlertChanged, flow.Changed, flow.StepEnded, flow.ItemBegun, flow.Ending:
	case flow.Troubled:
		t.entry(ev, incident.StepTroubled, t.actor(), "Trouble: "+t.title(ev.Place), t.because(ev, "", b.Because))
	case flow.EachBegun, flow.ItemPassed, flow.TargetPassed:
		t.several(ev)
	case flow.CallBegun:
		t.entry(ev, incident.CallBegun, t.actor(), "Calls "+b.Runbook, incident.BegunContent{OfStep: t.of(ev.Place),
			Runbook: b.Runbook, Revision: b.Revision, Inputs: b.Inputs})
	case flow.CallEnded:
		t.entry(ev, incident.CallEnded, t.actor(), "Came back from "+t.title(ev.Place), incident.EndedContent{
			OfStep: t.of(ev.Place), State: b.State, Outcome: b.Outcome, Because: b.Because, Results: b.Results,
			Unsaid: b.Unsaid})
	case flow.Undoing, flow.UndoJudged, flow.UndoLeft, flow.Undone, flow.Settled, flow.Repeated:
		t.undone(ev)
	case flow.Waits, flow.StepBegun, flow.PutBack, flow.Resumed, flow.LocksAwaited, flow.Turned, flow.Waited,
		flow.LocksGivenBack, flow.LocksTaken:
		t.waits(ev)
	case flow.CancelAsked:
		t.entry(ev, incident.RunCancelled, b.By, "Cancel: "+t.book.Title,
			incident.RunContent{Because: b.Because, Undo: b.Undo})
	case flow.GateRaised:
		t.gate(ev, b)
	case flow.GateDecided:
		t.decided(ev, b)
	case flow.GateExpired:
		t.entry(ev, incident.GateExpired, "urgentis", expired(b.Because)+": "+t.title(ev.Place),
			incident.DecidedContent{OfStep: t.of(ev.Place), Gate: b.Gate, Because: b.Because})
	case flow.Cleared:
		t.entry(ev, incident.ChangeCleared, t.actor(), allowed(b)+t.title(ev.Place), incident.StepContent{
			OfStep: t.of(ev.Place), Reasons: b.Reasons, Digest: b.Digest, Approval: b.Approval})
	case flow.StillJudged:
		t.entry(ev, incident.ChangeStill, t.actor(), "Still needed? "+t.title(ev.Place), incident.JudgedContent{
			OfStep: t.of(ev.Place), Result: b.Result, Target: b.Target, Expression: b.Expr, Values: b.Values,
			Unsure: b.Unsure})
	case flow.QuestionRaised:
		t.question(ev, b)
	case flow.QuestionAnswered:
		t.answered(ev, b)
	case flow.QuestionExpired:
		t.entry(ev, incident.QuestionExpired, "urgentis", expired(b.Because)+": "+t.title(ev.Place),
			t.answer(ev, b.Question, incident.AnswerContent{Because: b.Because}))
	case flow.Told:
		t.told(ev, b)
	case flow.Noted:
		t.entry(ev, incident.Note, t.actor(), t.title(ev.Place),
			incident.NoteContent{OfStep: t.of(ev.Place), Text: b.Text})
	case flow.Ended:
		t.ended(ev, b)
	}
}

// waits tells what the run waits for, and that it goes on.
func (t *story) waits(ev flow.Event) {
	c := incident.WaitContent{OfStep: t.of(ev.Place)}
	switch b := ev.Body.(type) {
	case flow.Waits:
		if b.On == flow.OnHalt {
			c.Because = "all changes are halted"
			t.entry(ev, incident.HaltAwaited, t.actor(), "Waits until changes go on: "+t.title(ev.Place), c)
		}
	case flow.StepBegun:
		if st := t.step(ev.Place); st != nil && st.Verb == runbook.Wait {
			c.For = st.WaitFor.String()
			t.entry(ev, incident.WaitBegun, t.actor(), "Waits: "+st.Title, c)
		}
	case flow.PutBack:
		c.Because = "what was begun shortly before " + b.At.UTC().Format("15:04:05") + " is not known"
		t.entry(ev, incident.DatabasePutBack, t.actor(), "The database was put back to an older state", c)
	case flow.Resumed:
		t.entry(ev, incident.HaltLifted, b.By, "Changes go on", c)
	case flow.LocksAwaited:
		c.Key, c.Holder = t.s.HostOf(b.Key), b.Holder
		t.entry(ev, incident.LockAwaited, t.actor(), "Waits for run "+b.Holder, c)
	case flow.Turned:
		c.Follows = b.To
		t.entry(ev, incident.AlertTurned, t.actor(), map[string]string{"if_cleared": "The alert cleared meanwhile",
			"if_worse": "The alert became worse meanwhile"}[b.To], c)
	case flow.Waited:
		t.entry(ev, incident.WaitEnded, t.actor(), "Goes on: "+t.title(ev.Place), c)
	case flow.LocksGivenBack:
		c.Keys = t.hosts(b.Keys)
		t.entry(ev, incident.LockGivenBack, t.actor(), "Free for others again", c)
	case flow.LocksTaken:
		if t.run.Awaits != "" {
			c.Keys = t.hosts(b.Keys)
			t.entry(ev, incident.LockTaken, t.actor(), "Waits for no other run any more", c)
		}
	}
}

// judged tells what a check came to.
func (t *story) judged(ev flow.Event, b flow.Judged) {
	st := t.step(ev.Place)
	if !b.Final || st == nil {
		return
	}
	c := incident.JudgedContent{OfStep: t.of(ev.Place), Result: b.Result, Values: b.Values, Unsure: b.Unsure,
		Rounds: b.Round + 1, Proves: st.Proves, Differences: b.Differences}
	if st.That != nil {
		c.Expression = st.That.Source
	}
	t.entry(ev, incident.CheckKind(b.Result), t.actor(), t.title(ev.Place), c)
}

// expired says that a gate or a question is open no more: why, or that its time is over.
func expired(because string) string {
	if because != "" {
		return "No longer asked"
	}
	return "Nobody answered"
}

func undo(r task.Request) string {
	if r.Undo == nil {
		return ""
	}
	return act.Show(*r.Undo)
}

func (t *story) outcome(ev flow.Event, b flow.Outcome) {
	if b.State == flow.StillRuns {
		return // it goes on
	}
	in, touch := t.intent(b.Attempt), t.s.TouchOf(b.Attempt)
	kind := incident.LookTaken
	switch {
	case in.Undoes():
		kind = incident.UndoDone
	case in.Touches() && t.s.Late(b.Attempt) != nil:
		kind = incident.ChangeReported
	case in.Touches():
		kind = incident.ChangeEnded
	case b.State != flow.OK || len(b.Missing) > 0:
		kind = incident.LookIncomplete
	}
	t.entry(ev, kind, t.actor(), t.title(ev.Place), incident.AttemptContent{
		OfStep: t.of(ev.Place), Became: touch.Became(), Attempt: b.Attempt, Target: in.Target,
		Shown: act.Show(in.Request), Purpose: in.Purpose.For, Round: in.Purpose.Lap, State: b.State, Exit: b.Exit,
		Error: b.Error, TookMS: b.Took.Milliseconds(), Output: b.Output, Stderr: b.Stderr, Readings: b.Readings,
		Missing: b.Missing, Good: t.good(in, ev.Place, b.Readings), Differences: b.Differences,
	})
	if f := b.Attached; f != nil {
		t.entry(ev, incident.Attached, t.actor(), "File: "+f.Name, incident.FileContent{OfStep: t.of(ev.Place),
			Name: f.Name, Size: f.Size, Digest: f.Digest, ID: f.ID, Attempt: b.Attempt})
	}
	if t.s.Late(b.Attempt) != nil {
		t.tell(ev, route.LateNews, "", "", fmt.Sprintf(
			"What became of %s on %s, which was unknown, is reported now: %s", t.title(ev.Place), in.Target, b.Says()))
	}
}

// good says of the numbers that a look read which way is better, where its text does.
func (t *story) good(in flow.Intent, place flow.Place, readings map[string]expr.Sample) map[string]string {
	at := place
	if !in.Look.IsZero() {
		at = in.Look
	}
	st := t.step(at)
	if st == nil {
		return nil
	}
	var out map[string]string
	for _, read := range st.Read {
		if _, taken := readings[read.Name]; taken && read.Good != "" {
			if out == nil {
				out = map[string]string{}
			}
			out[read.Name] = string(read.Good)
		}
	}
	return out
}

func (t *story) gate(ev flow.Event, b flow.GateRaised) {
	c := incident.GateContent{OfStep: t.of(ev.Place), Gate: b.Gate, Ask: b.Ask, Until: b.Until, Reasons: b.Reasons,
		Digest: b.Digest, Undo: b.Undo}
	for _, r := range b.Proposal.Requests {
		c.Requests = append(c.Requests, incident.Requested{Target: r.Target.Name, Shown: act.Show(r), Undo: undo(r)})
	}
	t.entry(ev, incident.GateRaised, t.actor(), "Asked for approval: "+t.gateTitle(ev.Place, b), c)
	t.tell(ev, route.ApprovalNeeded, b.Ask, "gate/"+b.Gate, fmt.Sprintf("Approval needed from %s until %s: %s",
		t.named(b.Ask, ev.At), b.Until.UTC().Format("15:04 MST"), t.gateTitle(ev.Place, b)))
}

// gateTitle is what a gate is about: the change of its step, or the undo of it.
func (t *story) gateTitle(place flow.Place, b flow.GateRaised) string {
	if b.Undo {
		return "Undo: " + t.title(place)
	}
	return t.title(place)
}

func (t *story) decided(ev flow.Event, b flow.GateDecided) {
	kind, word := incident.GateRefused, "Refused: "
	if b.Approved {
		kind, word = incident.GateApproved, "Approved: "
	}
	t.entry(ev, kind, b.By, word+t.title(ev.Place), incident.DecidedContent{OfStep: t.of(ev.Place), Gate: b.Gate,
		Comment: b.Comment, Digest: b.Digest, StartAt: b.StartAt})
}

func (t *story) question(ev flow.Event, b flow.QuestionRaised) {
	title := "Asked: "
	if b.Attempt != "" {
		title = "What became of it? "
	}
	if b.Text == "" {
		b.Text = t.title(ev.Place)
	}
	t.entry(ev, incident.QuestionRaised, t.actor(), title+t.title(ev.Place), incident.QuestionContent{
		OfStep: t.of(ev.Place), Question: b.Question, Text: b.Text, Choices: b.Choices, Ask: b.Ask, Until: b.Until,
		Attempt: b.Attempt, Target: t.intent(b.Attempt).Target})
	if b.Attempt != "" || !t.itself(b.Question) {
		t.tell(ev, route.AnswerNeeded, b.Ask, "question/"+b.Question,
			fmt.Sprintf("Answer needed from %s: %s", t.named(b.Ask, ev.At), b.Text))
	}
}

// itself reports whether a question has answered itself already.
func (t *story) itself(id string) bool {
	q, _ := t.s.OpenQuestion(id)
	return q == nil
}

func (t *story) told(ev flow.Event, b flow.Told) {
	c := incident.NoteContent{OfStep: t.of(ev.Place), Text: b.Text, Source: b.Source, To: b.To}
	if b.Source != "" {
		c.NotTold = t.deaf
	}
	t.entry(ev, incident.Told, t.actor(), t.title(ev.Place), c)
	if b.Text == "" {
		return
	}
	if len(b.To) == 0 {
		t.tell(ev, route.Said, "", "", t.title(ev.Place)+": "+b.Text)
	}
	for _, w := range b.To {
		switch w {
		case runbook.TicketWord: // tickets follow the record
		case runbook.TicketOpenly:
			t.entry(ev, incident.Outward, t.actor(), "For others: "+t.title(ev.Place),
				incident.NoteContent{OfStep: t.of(ev.Place), Text: b.Text, To: b.To})
		default:
			t.tell(ev, route.Said, w, "", t.title(ev.Place)+": "+b.Text)
			last := &t.notices[len(t.notices)-1]
			last.Key += ":" + w
		}
	}
}

// undoing is how the record says what is to be undone.
func undoing(b flow.Undoing) string {
	n := len(b.Touches)
	if n == 1 {
		return "Undoing 1 change"
	}
	return fmt.Sprintf("Undoing %d changes, the newest first", n)
}

func (t *story) answered(ev flow.Event, b flow.QuestionAnswered) {
	said := b.Choice
	if st := t.step(ev.Place); st != nil && st.Ask != nil {
		for _, c := range st.Ask.Choices {
			if c.Name == b.Choice {
				said = c.Label
			}
		}
	}
	c := t.answer(ev, b.Question, incident.AnswerContent{Choice: b.Choice, Label: said, Comment: b.Comment,
		Fields: b.Fields})
	if b.By == flow.Itself {
		c.Values = b.Values
		t.entry(ev, incident.QuestionAnswered, t.actor(), "Answered itself: "+said, c)
		return
	}
	t.entry(ev, incident.QuestionAnswered, b.By, "Answered: "+said, c)
}

// answer says of an answer what it is an answer to, and what is known then of the change that it is about.
func (t *story) answer(ev flow.Event, question string, c incident.AnswerContent) incident.AnswerContent {
	c.OfStep, c.Question, c.Attempt = t.of(ev.Place), question, t.s.AskedAbout(ev.Place, question)
	c.Target, c.Became = t.intent(c.Attempt).Target, t.s.TouchOf(c.Attempt).Became()
	return c
}

// allowed is how the record says that a change may begin without a gate of its own.
func allowed(c flow.Cleared) string {
	if c.Approval != "" {
		return "Allowed, as approved before: "
	}
	return "Allowed without asking: "
}

func (t *story) ended(ev flow.Event, b flow.Ended) {
	kind, title := incident.RunEnded, "Runbook ended: "+t.book.Title
	switch {
	case b.State == flow.HandedOver:
		to := t.named(b.To, ev.At)
		kind, title = incident.RunHandedOver, "Handed over to "+to
		t.tell(ev, route.HandOver, b.To, "run/"+t.run.ID, fmt.Sprintf("Handed over to %s: %s", to, b.Because))
	case b.Outcome == "":
		t.tell(ev, route.RunOver, "", "", fmt.Sprintf("Runbook %s ended (%s): %s", t.book.Name, b.State, b.Because))
	}
	c := incident.EndedContent{State: b.State, Because: b.Because, To: b.To, Outcome: b.Outcome, Cause: b.Cause}
	for _, l := range b.Changes {
		c.Changes = append(c.Changes, incident.ChangeLine(l))
	}
	t.entry(ev, kind, t.actor(), title, c)
}

// deaf says why an alert's source cannot be told anything; "" where it can.
func deaf(tx *store.Tx, s *flow.State) (string, error) {
	if s.Begun.Alert == nil {
		return "no alert started this run", nil
	}
	to, err := calledBack(tx, s)
	if to == nil && err == nil {
		return "it has no address to be called back", nil
	}
	return "", err
}

// HearsBack reports whether a source can be told something of its alerts, such as close.
func HearsBack(src *store.Source, do string) bool {
	return src.CallBack != "" || TellBack(src, do) != nil
}

// TellBack is the request by which a source's document has it told something; nil where it does not say.
func TellBack(src *store.Source, do string) *message.Request {
	if !strings.Contains(src.Says, "tell_back") {
		return nil
	}
	docs, _ := documents.Parse([]documents.File{{Name: src.Name, Text: src.Says}})
	if len(docs) != 1 {
		return nil // it was sound when it was pushed; the word stays in the outbox as not delivered
	}
	return docs[0].TellBack[do]
}

// calledBack is the alert's source, if it is called back; nil otherwise.
func calledBack(tx *store.Tx, s *flow.State) (*store.Source, error) {
	name, _ := s.Begun.Alert["source"].(string)
	src, err := tx.Source(name)
	if err != nil || src == nil || !slices.ContainsFunc(documents.TellBackWords, func(do string) bool {
		return HearsBack(src, do)
	}) {
		return nil, err
	}
	return src, nil
}
