package engine

import (
	"slices"

	documents "urgentis/core/estate"
	"urgentis/core/message"
	"urgentis/core/plain"

	"context"
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
	s, err := flow.Fold(book, log)
	if err != nil {
		return nil, err
	}
	t := &story{run: run, book: book, s: s, named: e.namer(e.Store.In(ctx))}
	if t.deaf, err = deaf(e.Store.In(ctx), s); err != nil {
		return nil, err
	}
	for _, ev := range log {
		t.event(ev)
	}
	return t.entries, nil
}

func (t *story) actor() string { return "runbook:" + t.book.Name }

func (t *story) entry(ev flow.Event, kind incident.Kind, actor, title string, content map[string]any) {
	if s := t.step(ev.Place); s != nil {
		content["verb"] = s.Verb
		content["step_title"] = s.Title
	}
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
		t.entry(ev, incident.UndoPlanned, t.actor(), undoing(b), map[string]any{
			"touches": b.Touches, "left": b.Left})
	case flow.UndoLeft:
		t.entry(ev, incident.UndoLeft, t.actor(), "Not undone: "+t.title(ev.Place), map[string]any{
			"target": b.Target, "because": b.Why})
	case flow.UndoJudged:
		t.entry(ev, incident.UndoJudged, t.actor(), "Undone as it must be? "+t.title(ev.Place), map[string]any{
			"target": b.Target, "result": b.Result, "expression": b.Expr, "values": b.Values, "unsure": b.Unsure})
	case flow.Undone:
		t.entry(ev, incident.UndoEnded, t.actor(), "What was undone",
			map[string]any{"because": t.s.UndoneAt(ev.Place)})
	case flow.Settled:
		t.entry(ev, incident.ChangeSettled, t.actor(), "Did it happen? "+t.title(ev.Place), map[string]any{
			"target": b.Target, "attempt": b.Attempt, "result": b.Result, "expression": b.Expr, "values": b.Values,
			"unsure": b.Unsure})
	case flow.Repeated:
		t.entry(ev, incident.ChangeRepeated, t.actor(), "Begins once more: "+t.title(ev.Place), map[string]any{
			"target": b.Target, "because": "it may be repeated, and nothing of it runs any more"})
	}
}

// several tells of what is done for several, and of whom it is not done for.
func (t *story) several(ev flow.Event) {
	switch b := ev.Body.(type) {
	case flow.EachBegun:
		var labels []string
		for _, i := range b.Items {
			labels = append(labels, i.Label)
		}
		t.entry(ev, incident.EachBegun, t.actor(), fmt.Sprintf("For each of %d: %s", len(b.Items), t.title(ev.Place)),
			map[string]any{"items": labels, "at_once": b.AtOnce})
	case flow.ItemPassed:
		each, _, _ := ev.Place.ItemOf()
		t.entry(ev, incident.ItemPassed, t.actor(), "Passed over "+b.Label+": "+t.title(each),
			map[string]any{"because": b.Because + "; nothing was changed for it"})
	case flow.TargetPassed:
		t.entry(ev, incident.TargetPassed, t.actor(), "Passed over "+b.Target+": "+t.title(ev.Place),
			map[string]any{"because": b.Because + "; nothing was changed there by it"})
	}
}

// intended tells that a change is begun; of a look its end is told.
func (t *story) intended(ev flow.Event, b flow.Intent) {
	if b.Touches() {
		kind, title := incident.ChangeBegun, t.title(ev.Place)
		if b.Undoes() {
			kind, title = incident.UndoBegun, "Undo begins: "+title
		}
		t.entry(ev, kind, t.actor(), title, map[string]any{"attempt": b.Attempt, "target": b.Target,
			"shown": act.Show(b.Request), "undo": undo(b.Request), "approval": b.Digest, "request": b.Request})
	}
}

// event tells one event.
func (t *story) event(ev flow.Event) {
	switch b := ev.Body.(type) {
	case flow.Begun:
		t.entry(ev, incident.RunBegun, b.StartedBy, "Runbook started: "+t.book.Title, map[string]any{
			"runbook": b.Runbook, "revision": b.Revision, "inputs": b.Inputs, "started_by": b.StartedBy})
	case flow.Skipped:
		t.entry(ev, incident.StepSkipped, t.actor(), "Skipped: "+t.title(ev.Place),
			map[string]any{"expression": b.Expression, "values": b.Values})
	case flow.Intent:
		t.intended(ev, b)
	case flow.Outcome:
		t.outcome(ev, b)
	case flow.Followed:
		t.entry(ev, incident.JobFollowed, "urgentis", "Follows the job "+plain.Line(b.Job)+": "+t.title(ev.Place),
			map[string]any{"attempt": b.Attempt, "job": b.Job})
	case flow.Lost:
		in := t.intent(b.Attempt)
		t.entry(ev, incident.AttemptLost, "urgentis", "Interrupted: "+t.title(ev.Place),
			map[string]any{"attempt": b.Attempt, "target": in.Target, "because": b.Because, "change": in.Touches()})
	case flow.Judged:
		if st := t.step(ev.Place); b.Final && st != nil {
			content := map[string]any{"result": b.Result, "values": b.Values, "unsure": b.Unsure,
				"rounds": b.Round + 1, "proves": st.Proves}
			if st.That != nil {
				content["expression"] = st.That.Source
			}
			if b.Differences != nil {
				content["differences"] = b.Differences
			}
			t.entry(ev, incident.CheckKind(b.Result), t.actor(), t.title(ev.Place), content)
		}
	case flow.LeaveGiven:
	case flow.Waits:
		if b.On == flow.OnHalt {
			t.entry(ev, incident.HaltAwaited, t.actor(), "Waits until changes go on: "+t.title(ev.Place),
				map[string]any{"because": "all changes are halted"})
		}
	// What the alert became stands in the record already.
	case flow.AlertChanged, flow.Changed, flow.StepEnded, flow.ItemBegun, flow.Ending:
	case flow.StepBegun:
		if st := t.step(ev.Place); st != nil && st.Verb == runbook.Wait {
			t.entry(ev, incident.WaitBegun, t.actor(), "Waits: "+st.Title, map[string]any{"for": st.WaitFor.String()})
		}
	case flow.Troubled:
		t.entry(ev, incident.StepTroubled, t.actor(), "Trouble: "+t.title(ev.Place),
			map[string]any{"because": b.Because})
	case flow.EachBegun, flow.ItemPassed, flow.TargetPassed:
		t.several(ev)
	case flow.CallBegun:
		t.entry(ev, incident.CallBegun, t.actor(), "Calls "+b.Runbook, map[string]any{"runbook": b.Runbook,
			"revision": b.Revision, "inputs": b.Inputs})
	case flow.CallEnded:
		t.entry(ev, incident.CallEnded, t.actor(), "Came back from "+t.title(ev.Place),
			map[string]any{"state": b.State, "outcome": b.Outcome, "because": b.Because, "results": b.Results,
				"unsaid": b.Unsaid})
	case flow.PutBack:
		t.entry(ev, incident.DatabasePutBack, t.actor(), "The database was put back to an older state", map[string]any{
			"because": "what was begun shortly before " + b.At.UTC().Format("15:04:05") + " is not known"})
	case flow.Resumed:
		t.entry(ev, incident.HaltLifted, b.By, "Changes go on", map[string]any{})
	case flow.Undoing, flow.UndoJudged, flow.UndoLeft, flow.Undone, flow.Settled, flow.Repeated:
		t.undone(ev)
	case flow.LocksAwaited:
		t.entry(ev, incident.LockAwaited, t.actor(), "Waits for run "+b.Holder, map[string]any{"key": t.s.HostOf(b.Key),
			"holder": b.Holder})
	case flow.Turned:
		t.entry(ev, incident.AlertTurned, t.actor(), map[string]string{"if_cleared": "The alert cleared meanwhile",
			"if_worse": "The alert became worse meanwhile"}[b.To], map[string]any{"follows": b.To})
	case flow.Waited:
		t.entry(ev, incident.WaitEnded, t.actor(), "Goes on: "+t.title(ev.Place), map[string]any{})
	case flow.LocksGivenBack:
		t.entry(ev, incident.LockGivenBack, t.actor(), "Free for others again", map[string]any{"keys": t.hosts(b.Keys)})
	case flow.LocksTaken:
		if t.run.Awaits != "" {
			t.entry(ev, incident.LockTaken, t.actor(), "Waits for no other run any more",
				map[string]any{"keys": t.hosts(b.Keys)})
		}
	case flow.CancelAsked:
		t.entry(ev, incident.RunCancelled, b.By, "Cancel: "+t.book.Title, map[string]any{"because": b.Because,
			"undo": b.Undo})
	case flow.GateRaised:
		t.gate(ev, b)
	case flow.GateDecided:
		t.decided(ev, b)
	case flow.GateExpired:
		t.entry(ev, incident.GateExpired, "urgentis", expired(b.Because)+": "+t.title(ev.Place),
			map[string]any{"gate": b.Gate, "because": b.Because})
	case flow.Cleared:
		t.entry(ev, incident.ChangeCleared, t.actor(), allowed(b)+t.title(ev.Place),
			map[string]any{"reasons": b.Reasons, "digest": b.Digest, "approval": b.Approval})
	case flow.StillJudged:
		t.entry(ev, incident.ChangeStill, t.actor(), "Still wanted? "+t.title(ev.Place),
			map[string]any{"result": b.Result, "target": b.Target, "expression": b.Expr, "values": b.Values,
				"unsure": b.Unsure})
	case flow.QuestionRaised:
		t.question(ev, b)
	case flow.QuestionAnswered:
		t.answered(ev, b)
	case flow.QuestionExpired:
		t.entry(ev, incident.QuestionExpired, "urgentis", expired(b.Because)+": "+t.title(ev.Place),
			map[string]any{"question": b.Question, "because": b.Because})
	case flow.Told:
		t.told(ev, b)
	case flow.Noted:
		t.entry(ev, incident.Note, t.actor(), t.title(ev.Place), map[string]any{"text": b.Text})
	case flow.Ended:
		t.ended(ev, b)
	}
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
	in := t.intent(b.Attempt)
	kind := incident.LookTaken
	if in.Touches() {
		kind = incident.ChangeEnded
	} else if b.State != flow.OK || len(b.Missing) > 0 {
		kind = incident.LookIncomplete
	}
	content := map[string]any{
		"attempt":  b.Attempt,
		"target":   in.Target,
		"shown":    act.Show(in.Request),
		"state":    b.State,
		"error":    b.Error,
		"output":   b.Output,
		"stderr":   b.Stderr,
		"readings": b.Readings,
		"missing":  b.Missing,
		"took_ms":  b.Took.Milliseconds(),
		"round":    in.Purpose.Lap,
	}
	if b.Exit != nil {
		content["exit"] = *b.Exit
	}
	if b.Differences != nil {
		content["differences"] = b.Differences
	}
	if in.Undoes() {
		kind = incident.UndoDone
	}
	t.entry(ev, kind, t.actor(), t.title(ev.Place), content)
	if f := b.Attached; f != nil {
		t.entry(ev, incident.Attached, t.actor(), "File: "+f.Name,
			map[string]any{"name": f.Name, "size": f.Size, "sha256": f.Digest, "id": f.ID, "attempt": b.Attempt})
	}
	if t.s.Late(b.Attempt) != nil {
		t.tell(ev, route.LateNews, "", "", fmt.Sprintf(
			"What became of %s on %s, which was unknown, is reported now: %s", t.title(ev.Place), in.Target, b.Says()))
	}
}

func (t *story) gate(ev flow.Event, b flow.GateRaised) {
	shown := make([]map[string]any, len(b.Proposal.Requests))
	for i, r := range b.Proposal.Requests {
		shown[i] = map[string]any{"target": r.Target.Name, "shown": act.Show(r), "undo": undo(r)}
	}
	t.entry(
		ev,
		incident.GateRaised,
		t.actor(),
		"Asked for approval: "+t.gateTitle(ev.Place, b),
		map[string]any{
			"gate":     b.Gate,
			"ask":      b.Ask,
			"until":    b.Until,
			"reasons":  b.Reasons,
			"digest":   b.Digest,
			"requests": shown,
		},
	)
	t.tell(ev, route.ApprovalWanted, b.Ask, "gate/"+b.Gate, fmt.Sprintf("Approval wanted from %s until %s: %s",
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
	content := map[string]any{"gate": b.Gate, "comment": b.Comment, "digest": b.Digest}
	if b.StartAt != nil {
		content["start_at"] = b.StartAt
	}
	t.entry(ev, kind, b.By, word+t.title(ev.Place), content)
}

func (t *story) question(ev flow.Event, b flow.QuestionRaised) {
	title := "Asked: "
	if b.Attempt != "" {
		title = "What became of it? "
	}
	if b.Text == "" {
		b.Text = t.title(ev.Place)
	}
	t.entry(
		ev,
		incident.QuestionRaised,
		t.actor(),
		title+t.title(ev.Place),
		map[string]any{"question": b.Question, "text": b.Text, "choices": b.Choices, "ask": b.Ask, "until": b.Until},
	)
	if b.Attempt != "" || !t.itself(b.Question) {
		t.tell(ev, route.AnswerWanted, b.Ask, "question/"+b.Question,
			fmt.Sprintf("Answer wanted from %s: %s", t.named(b.Ask, ev.At), b.Text))
	}
}

// itself reports whether a question has answered itself already.
func (t *story) itself(id string) bool {
	q, _ := t.s.OpenQuestion(id)
	return q == nil
}

func (t *story) told(ev flow.Event, b flow.Told) {
	content := map[string]any{"text": b.Text, "source": b.Source}
	if b.Source != "" && t.deaf != "" {
		content["not_told"] = t.deaf
	}
	if len(b.To) > 0 {
		content["to"] = b.To
	}
	t.entry(ev, incident.Told, t.actor(), t.title(ev.Place), content)
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
				map[string]any{"text": b.Text, "to": b.To})
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
	content := map[string]any{"question": b.Question, "choice": b.Choice, "comment": b.Comment}
	if b.Fields != nil {
		content["fields"] = b.Fields
	}
	if b.By == flow.Itself {
		content["values"] = b.Values
		t.entry(ev, incident.QuestionAnswered, t.actor(), "Answered itself: "+said, content)
		return
	}
	t.entry(ev, incident.QuestionAnswered, b.By, "Answered: "+said, content)
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
	t.entry(
		ev,
		kind,
		t.actor(),
		title,
		map[string]any{"state": b.State, "because": b.Because, "to": b.To, "outcome": b.Outcome},
	)
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
