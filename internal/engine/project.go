package engine

import (
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"urgentis/core/flow"
	"urgentis/core/incident"
	"urgentis/core/leave"
	"urgentis/core/runbook"
	"urgentis/internal/act"
	"urgentis/internal/store"
)

// project writes what follows from events in the transaction that appends them: the record, gates and
// questions as they are listed, messages, the run's head, the feed. s is the log with events at its end.
func (sheet *Sheet) project(run *store.Run, book *runbook.Book, s *flow.State, events []flow.Event) error {
	p := &projection{e: sheet.e, tx: sheet.tx, sheet: sheet, run: run, book: book, s: s}
	for _, ev := range events {
		if err := p.event(ev); err != nil {
			return err
		}
	}
	return p.finish(s)
}

type projection struct {
	e       *Engine
	tx      *store.Tx
	sheet   *Sheet
	run     *store.Run
	book    *runbook.Book
	s       *flow.State
	entries []store.NewEntry
	rooms   []message
	sources []message
	closing *flow.Ended
	at      time.Time
}

type message struct {
	key  string
	text string
	word string // what the source is told
}

func (p *projection) actor() string { return "runbook:" + p.book.Name }

func (p *projection) entry(ev flow.Event, kind incident.Kind, actor, title string, content map[string]any) {
	if s := p.step(ev.Path); s != nil {
		content["verb"] = s.Verb
		content["step_title"] = s.Title
	}
	p.entries = append(
		p.entries,
		store.NewEntry{
			At:      ev.At,
			Kind:    kind,
			Actor:   actor,
			Run:     p.run.ID,
			Step:    ev.Path,
			Title:   title,
			Content: content,
		},
	)
}

// changed enters into the feed that something of this run is new.
func (p *projection) changed(topic, ref string) {
	p.sheet.Changed(store.Feed{Topic: topic, Ref: ref, Incident: p.run.Incident, Service: p.book.Service})
}

func (p *projection) tell(ev flow.Event, format string, args ...any) {
	p.rooms = append(
		p.rooms,
		message{key: fmt.Sprintf("%s:%d:room", p.run.ID, ev.Seq), text: fmt.Sprintf(format, args...)},
	)
}

func (p *projection) title(path string) string {
	if s := p.step(path); s != nil {
		return s.Title
	}
	return path
}

func (p *projection) step(path string) *runbook.Step {
	s, _ := flow.Find(p.book, path)
	return s
}

func (p *projection) intent(attempt string) flow.Intent {
	in, _, _, _ := p.s.Attempt(attempt)
	return in
}

// event turns one event into entries, rows and messages.
func (p *projection) event(ev flow.Event) error {
	p.at = ev.At
	switch b := ev.Body.(type) {
	case flow.Begun:
		p.entry(ev, incident.RunBegun, b.StartedBy, "Runbook started: "+p.book.Title, map[string]any{
			"runbook": b.Runbook, "revision": b.Revision, "inputs": b.Inputs, "started_by": b.StartedBy})
	case flow.Skipped:
		p.entry(ev, incident.StepSkipped, p.actor(), "Skipped: "+p.title(ev.Path),
			map[string]any{"expression": b.Expression, "values": b.Values})
	case flow.Intent:
		if b.Change {
			kind, title := incident.ChangeBegun, p.title(ev.Path)
			if b.Undo != "" {
				kind, title = incident.UndoBegun, "Taken back: "+p.titleOf(b.Undo)
			}
			p.entry(ev, kind, p.actor(), title, map[string]any{"attempt": b.Attempt, "target": b.Target,
				"shown": act.Show(b.Request), "undo": undo(b.Request), "approval": b.Approval, "request": b.Request,
				"takes_back": b.Undo})
		}
	case flow.Outcome:
		p.outcome(ev, b)
	case flow.Lost:
		in := p.intent(b.Attempt)
		p.entry(ev, incident.AttemptLost, "urgentis", "Interrupted: "+p.title(ev.Path),
			map[string]any{"attempt": b.Attempt, "target": in.Target, "because": b.Because, "change": in.Change})
	case flow.Judged:
		if st := p.step(ev.Path); b.Final && st != nil {
			content := map[string]any{"result": b.Result, "values": b.Values, "unsure": b.Unsure,
				"rounds": b.Round + 1, "proves": st.Proves}
			if st.That != nil {
				content["expression"] = st.That.Source
			}
			if b.Differences != nil {
				content["differences"] = b.Differences
			}
			p.entry(ev, incident.CheckKind(b.Result), p.actor(), p.title(ev.Path), content)
		}
	case flow.LeaveGiven:
		if b.Halted {
			p.entry(ev, incident.HaltAwaited, p.actor(), "Waits until changes go on: "+p.title(ev.Path),
				map[string]any{"because": strings.Join(b.Reasons, "; ")})
		}
	// What the alert became stands in the record already.
	case flow.AlertChanged, flow.Changed, flow.StepEnded, flow.ItemBegun, flow.Ending:
	case flow.StepBegun:
		if st := p.step(ev.Path); st != nil && st.Verb == runbook.Wait {
			p.entry(ev, incident.WaitBegun, p.actor(), "Waits: "+st.Title, map[string]any{"for": st.WaitFor.String()})
		}
	case flow.Troubled:
		p.entry(ev, incident.StepTroubled, p.actor(), "Trouble: "+p.title(ev.Path),
			map[string]any{"because": b.Because})
	case flow.EachBegun:
		var labels []string
		for _, i := range b.Items {
			labels = append(labels, i.Label)
		}
		p.entry(ev, incident.EachBegun, p.actor(), fmt.Sprintf("For each of %d: %s", len(b.Items), p.title(ev.Path)),
			map[string]any{"items": labels, "at_once": b.AtOnce})
	case flow.CallBegun:
		p.entry(ev, incident.CallBegun, p.actor(), "Calls "+b.Runbook, map[string]any{"runbook": b.Runbook,
			"revision": b.Revision, "inputs": b.Inputs})
	case flow.CallEnded:
		p.entry(ev, incident.CallEnded, p.actor(), "Came back from "+p.title(ev.Path),
			map[string]any{"state": b.State, "outcome": b.Outcome, "because": b.Because, "results": b.Results})
	case flow.Resumed:
		p.entry(ev, incident.HaltLifted, b.By, "Changes go on", map[string]any{})
	case flow.UndoBegun:
		p.entry(ev, incident.UndoPlanned, p.actor(), fmt.Sprintf("Taking back %d change(s), the newest "+
			"first", len(b.Attempts)), map[string]any{"attempts": b.Attempts, "without": b.Without,
			"spared": b.Spared, "unsaid": b.Unsaid})
	case flow.Undone:
		p.entry(ev, incident.UndoEnded, p.actor(), "What was taken back",
			map[string]any{"because": p.s.TakenBack(ev.Path)})
	case flow.LocksAwaited:
		p.entry(ev, incident.LockAwaited, p.actor(), "Waits for run "+b.Holder, map[string]any{"key": b.Key,
			"holder": b.Holder})
	case flow.Turned:
		p.entry(ev, incident.AlertTurned, p.actor(), map[string]string{"if_cleared": "The alert cleared meanwhile",
			"if_worse": "The alert became worse meanwhile"}[b.To], map[string]any{"follows": b.To})
	case flow.Waited:
		p.entry(ev, incident.WaitEnded, p.actor(), "Goes on: "+p.title(ev.Path), map[string]any{})
	case flow.LocksGivenBack:
		p.entry(ev, incident.LockGivenBack, p.actor(), "Free for others again", map[string]any{"keys": b.Keys})
	case flow.LocksTaken:
		if p.run.Awaits != "" {
			p.entry(ev, incident.LockTaken, p.actor(), "Waits for no other run any more",
				map[string]any{"keys": b.Keys})
		}
	case flow.CancelAsked:
		if err := p.tx.Audit(b.By, "run.cancel", p.run.ID, b.Because); err != nil {
			return err
		}
		p.entry(ev, incident.RunCancelled, b.By, "Cancel: "+p.book.Title, map[string]any{"because": b.Because,
			"undo": b.Undo})
	case flow.GateRaised:
		return p.gate(ev, b)
	case flow.GateDecided:
		return p.decided(ev, b)
	case flow.GateExpired:
		p.entry(ev, incident.GateExpired, "urgentis", "Nobody answered: "+p.title(ev.Path),
			map[string]any{"gate": b.Gate})
		return p.tx.CloseGate(b.Gate, "expired", "", "")
	case flow.Cleared:
		p.entry(ev, incident.ChangeCleared, p.actor(), allowed(b)+p.title(ev.Path),
			map[string]any{"reasons": b.Reasons, "digest": b.Digest, "approval": b.Approval})
	case flow.StillJudged:
		p.entry(ev, incident.ChangeStill, p.actor(), "Still wanted? "+p.title(ev.Path),
			map[string]any{"result": b.Result, "target": b.Target, "expression": b.Expr, "values": b.Values,
				"unsure": b.Unsure})
	case flow.QuestionRaised:
		return p.question(ev, b)
	case flow.QuestionAnswered:
		if err := p.answered(ev, b); err != nil {
			return err
		}
		return p.tx.CloseQuestion(b.Question, "answered")
	case flow.QuestionExpired:
		p.entry(ev, incident.QuestionExpired, "urgentis", "Nobody answered the question",
			map[string]any{"question": b.Question})
		return p.tx.CloseQuestion(b.Question, "expired")
	case flow.Told:
		return p.told(ev, b)
	case flow.Noted:
		p.entry(ev, incident.Note, p.actor(), p.title(ev.Path), map[string]any{"text": b.Text})
	case flow.Ended:
		p.ended(ev, b)
		if !p.s.Raised() {
			return nil
		}
		return p.tx.Withdraw(p.run.ID)
	}
	return nil
}

// titleOf is the title of the step that an attempt belongs to.
func (p *projection) titleOf(attempt string) string { return p.title(p.s.PathOf(attempt)) }

func (p *projection) answered(ev flow.Event, b flow.QuestionAnswered) error {
	said := b.Choice
	if st := p.step(ev.Path); st != nil && st.Ask != nil {
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
		p.entry(ev, incident.QuestionAnswered, p.actor(), "Answered itself: "+said, content)
		return nil
	}
	p.entry(ev, incident.QuestionAnswered, b.By, "Answered: "+said, content)
	return p.tx.Audit(b.By, "question.answer", b.Question, b.Choice)
}

func undo(r leave.Request) string {
	if r.Undo == nil {
		return ""
	}
	return act.Show(*r.Undo)
}

func (p *projection) outcome(ev flow.Event, b flow.Outcome) {
	in := p.intent(b.Attempt)
	kind := incident.LookTaken
	if in.Change {
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
		"round":    in.Round,
	}
	if b.Exit != nil {
		content["exit"] = *b.Exit
	}
	if b.Differences != nil {
		content["differences"] = b.Differences
	}
	if in.Undo != "" {
		kind = incident.UndoDone
	}
	p.entry(ev, kind, p.actor(), p.title(ev.Path), content)
	if p.s.Late(b.Attempt) != nil {
		p.tell(
			ev,
			"What became of %s on %s, which was unknown, is reported now: %s",
			p.title(ev.Path),
			in.Target,
			b.Says(),
		)
	}
}

func (p *projection) gate(ev flow.Event, b flow.GateRaised) error {
	shown := make([]map[string]any, len(b.Proposal.Requests))
	var lines []string
	for i, r := range b.Proposal.Requests {
		shown[i] = map[string]any{"target": r.Target.Name, "shown": act.Show(r), "undo": undo(r)}
		lines = append(lines, fmt.Sprintf("on %s: %s", r.Target.Name, act.Show(r)))
	}
	p.entry(
		ev,
		incident.GateRaised,
		p.actor(),
		"Asked for approval: "+p.title(ev.Path),
		map[string]any{
			"gate":     b.Gate,
			"ask":      b.Ask,
			"until":    b.Until,
			"reasons":  b.Reasons,
			"digest":   b.Digest,
			"requests": shown,
		},
	)
	p.tell(
		ev,
		"Approval wanted from %s until %s: %s\n%s",
		b.Ask,
		b.Until.Format("15:04 MST"),
		p.title(ev.Path),
		strings.Join(lines, "\n"),
	)
	raised, err := json.Marshal(b)
	if err != nil {
		return err
	}
	p.changed("gate", b.Gate)
	return p.tx.AddGate(
		&store.Gate{
			ID:       b.Gate,
			Run:      p.run.ID,
			Incident: p.run.Incident,
			Path:     ev.Path,
			Title:    p.title(ev.Path),
			State:    "open",
			RaisedAt: ev.At,
			Until:    b.Until,
			Raised:   raised,
		},
	)
}

func (p *projection) decided(ev flow.Event, b flow.GateDecided) error {
	state, kind, word := "refused", incident.GateRefused, "Refused: "
	if b.Approved {
		state, kind, word = "approved", incident.GateApproved, "Approved: "
	}
	content := map[string]any{"gate": b.Gate, "comment": b.Comment, "digest": b.Digest}
	if b.StartAt != nil {
		content["start_at"] = b.StartAt
	}
	p.entry(ev, kind, b.By, word+p.title(ev.Path), content)
	if err := p.tx.Audit(b.By, map[bool]string{true: "gate.approve", false: "gate.refuse"}[b.Approved], b.Gate,
		b.Comment); err != nil {
		return err
	}
	p.changed("gate", b.Gate)
	if g, _, _ := p.s.OpenGate(b.Gate); g != nil {
		return nil // it wants another person as well
	}
	return p.tx.CloseGate(b.Gate, state, b.By, b.Comment)
}

func (p *projection) question(ev flow.Event, b flow.QuestionRaised) error {
	title := "Asked: "
	if b.Attempt != "" {
		title = "What became of it? "
	}
	if b.Text == "" {
		b.Text = p.title(ev.Path)
	}
	p.entry(
		ev,
		incident.QuestionRaised,
		p.actor(),
		title+p.title(ev.Path),
		map[string]any{"question": b.Question, "text": b.Text, "choices": b.Choices, "ask": b.Ask, "until": b.Until},
	)
	if b.Attempt != "" || !p.itself(b.Question) {
		p.tell(ev, "Answer wanted from %s: %s", b.Ask, b.Text)
	}
	raised, err := json.Marshal(b)
	if err != nil {
		return err
	}
	p.changed("question", b.Question)
	return p.tx.AddQuestion(
		&store.Question{
			ID:       b.Question,
			Run:      p.run.ID,
			Incident: p.run.Incident,
			Path:     ev.Path,
			Title:    p.title(ev.Path),
			State:    "open",
			RaisedAt: ev.At,
			Until:    b.Until,
			Raised:   raised,
		},
	)
}

// itself reports whether a question has answered itself already.
func (p *projection) itself(id string) bool {
	q, _ := p.s.OpenQuestion(id)
	return q == nil
}

func (p *projection) told(ev flow.Event, b flow.Told) error {
	content := map[string]any{"text": b.Text, "source": b.Source}
	if b.Source != "" {
		deaf, err := p.deaf()
		if err != nil {
			return err
		}
		if deaf != "" {
			content["not_told"] = deaf
		}
	}
	p.entry(ev, incident.Told, p.actor(), p.title(ev.Path), content)
	if b.Text != "" {
		p.tell(ev, "%s: %s", p.title(ev.Path), b.Text)
	}
	if b.Source != "" {
		p.sources = append(p.sources, message{key: fmt.Sprintf("%s:%d:source", p.run.ID, ev.Seq), word: b.Source})
	}
	return nil
}

// deaf says why the alert's source cannot be told anything; "" where it can.
func (p *projection) deaf() (string, error) {
	if p.s.Begun.Alert == nil {
		return "no alert started this run", nil
	}
	to, err := p.calledBack()
	if to == nil && err == nil {
		return "it has no address to be called back", nil
	}
	return "", err
}

// calledBack is the alert's source, if it is called back; nil otherwise.
func (p *projection) calledBack() (*store.Source, error) {
	name, _ := p.s.Begun.Alert["source"].(string)
	src, err := p.tx.Source(name)
	if err != nil || src == nil || src.CallBack == "" {
		return nil, err
	}
	return src, nil
}

// allowed is how the record says that a change may begin without a gate of its own.
func allowed(c flow.Cleared) string {
	if c.Approval != "" {
		return "Allowed, as approved before: "
	}
	return "Allowed without asking: "
}

func (p *projection) ended(ev flow.Event, b flow.Ended) {
	kind, title := incident.RunEnded, "Runbook ended: "+p.book.Title
	switch {
	case b.State == flow.HandedOver:
		kind, title = incident.RunHandedOver, "Handed over to "+b.To
		p.tell(ev, "Handed over to %s: %s", b.To, b.Because)
	case b.Outcome == "":
		p.tell(ev, "Runbook %s ended (%s): %s", p.book.Name, b.State, b.Because)
	}
	p.entry(
		ev,
		kind,
		p.actor(),
		title,
		map[string]any{"state": b.State, "because": b.Because, "to": b.To, "outcome": b.Outcome},
	)
	if b.Outcome != "" {
		p.closing = &b
	}
}

// headOf is what the run's own row tells of a log, whose last event is at a time.
func headOf(s *flow.State, at time.Time) store.Head {
	h := store.Head{State: flow.Running, WaitsOn: s.WaitsOn(), Awaits: s.Awaited().Holder}
	if h.WaitsOn != "" {
		h.State = flow.Waiting
	}
	if s.Ended != nil {
		h.State, h.Because, h.EndedAt = s.Ended.State, s.Ended.Because, &at
	}
	return h
}

// finish writes entries into the incident, closes it where the run says so, and sends messages off.
func (p *projection) finish(s *flow.State) error {
	p.changed("run", p.run.ID)
	link := p.e.Link + "/runs/" + p.run.ID
	if p.run.Incident != nil {
		link = fmt.Sprintf("%s/incidents/%d", p.e.Link, *p.run.Incident)
		if err := p.record(s); err != nil {
			return err
		}
	}
	for _, m := range p.rooms {
		if err := p.sheet.Room(p.run.Incident, m.key, m.text, link); err != nil {
			return err
		}
	}
	return p.tellSource(s)
}

func (p *projection) record(s *flow.State) error {
	i, err := p.sheet.Incident(*p.run.Incident)
	if err != nil {
		return fmt.Errorf("read the incident: %w", err)
	}
	if p.closing != nil {
		if err := p.close(i); err != nil {
			return err
		}
	}
	if i.State == "open" {
		switch {
		case s.Ended != nil:
			// It ended without closing: a person looks at it, who first answers what is open.
			if i.WaitingOn, err = p.othersWait(i); i.WaitingOn == "nobody" {
				i.WaitingOn = "person"
			}
			if err != nil {
				return err
			}
		case s.WaitsOn() == "approval" || s.WaitsOn() == "answer":
			i.WaitingOn = s.WaitsOn()
		default:
			if i.WaitingOn, err = p.othersWait(i); err != nil {
				return err
			}
		}
	}
	p.changed("incident", fmt.Sprint(i.Number))
	return p.sheet.Write(i, p.entries...)
}

// othersWait is who the incident waits on where this run waits on nobody: what waits for a person in another run still
// does.
func (p *projection) othersWait(i *store.Incident) (string, error) {
	if i.WaitingOn == "nobody" || i.WaitingOn == "" {
		return "nobody", nil
	}
	open, err := p.tx.OthersWaiting(p.run)
	switch {
	case err != nil:
		return "", fmt.Errorf("read who is waited for: %w", err)
	case open.Gates > 0:
		return "approval", nil
	case open.Questions > 0:
		return "answer", nil
	case open.Over > 0 && i.WaitingOn == "person":
		return "person", nil
	}
	return "nobody", nil
}

// close resolves the incident, unless another run still works on it.
func (p *projection) close(i *store.Incident) error {
	if i.State != "open" {
		return nil
	}
	others, err := p.tx.Working(i.Number, p.run.ID)
	if err != nil {
		return err
	}
	if others > 0 {
		p.entries = append(p.entries, store.NewEntry{At: p.at, Kind: incident.KeptOpen, Actor: p.actor(), Run: p.run.ID,
			Title: fmt.Sprintf(
				"Not closed: %d other run is still under way",
				others,
			), Content: map[string]any{"outcome": p.closing.Outcome, "because": p.closing.Because}})
		return nil
	}
	at := p.at
	i.State, i.WaitingOn, i.Outcome, i.Because, i.ResolvedAt = "resolved", "nobody", p.closing.Outcome,
		p.closing.Because, &at
	p.entries = append(p.entries, store.NewEntry{At: p.at, Kind: incident.Closed, Actor: p.actor(), Run: p.run.ID,
		Title: "Closed: " + p.closing.Outcome, Content: map[string]any{"outcome": p.closing.Outcome,
			"because": p.closing.Because}})
	p.rooms = append(
		p.rooms,
		message{
			key:  p.run.ID + ":closed:room",
			text: fmt.Sprintf("Incident %d is closed, %s: %s", i.Number, p.closing.Outcome, p.closing.Because),
		},
	)
	return nil
}

func (p *projection) tellSource(s *flow.State) error {
	if len(p.sources) == 0 || s.Begun.Alert == nil {
		return nil
	}
	src, err := p.calledBack()
	if err != nil || src == nil {
		return err
	}
	for _, m := range p.sources {
		body, err := json.Marshal(
			map[string]any{
				"alert":    s.Begun.Alert["id"],
				"key":      s.Begun.Alert["key"],
				"do":       m.word,
				"incident": p.run.Incident,
			},
		)
		if err != nil {
			return err
		}
		p.sheet.out = append(
			p.sheet.out,
			store.Delivery{
				Key:      m.key,
				Kind:     "source",
				Address:  src.Name,
				Body:     string(body),
				Incident: p.run.Incident,
				State:    "queued",
				QueuedAt: p.e.now(),
			},
		)
	}
	return nil
}

// tellStopped writes down and tells that a run stands still or is over, and a person is needed.
func (s *Sheet) tellStopped(run *store.Run, kind incident.Kind, title, because string) error {
	link := s.e.Link + "/runs/" + run.ID
	if run.Incident != nil {
		link = fmt.Sprintf("%s/incidents/%d", s.e.Link, *run.Incident)
	}
	err := s.enter(run, func(i *store.Incident) { i.WaitingOn = "person" }, store.NewEntry{
		Kind: kind, Actor: "urgentis", Title: title, Content: map[string]any{"because": because},
	})
	if err != nil {
		return err
	}
	return s.Room(run.Incident, run.ID+":"+string(kind)+":room", "Runbook "+run.Runbook+": "+because, link)
}

// tellDecided writes down what a person decided about a run that nobody drives.
func (s *Sheet) tellDecided(run *store.Run, kind incident.Kind, by, title, because string) error {
	return s.enter(run, func(*store.Incident) {}, store.NewEntry{
		Kind: kind, Actor: by, Title: title, Content: map[string]any{"because": because},
	})
}

// enter writes an entry about a run into the record of its incident, if it has one.
func (s *Sheet) enter(run *store.Run, alter func(*store.Incident), entry store.NewEntry) error {
	s.Changed(store.Feed{Topic: "run", Ref: run.ID, Incident: run.Incident, Service: run.Service})
	if run.Incident == nil {
		return nil
	}
	i, err := s.Incident(*run.Incident)
	if err != nil {
		return err
	}
	if i.State == "open" {
		alter(i)
	}
	entry.At, entry.Run = s.e.now(), run.ID
	if err := s.Record.Write(i, entry); err != nil {
		return err
	}
	s.Changed(store.Feed{Topic: "incident", Ref: fmt.Sprint(i.Number), Incident: run.Incident, Service: i.Service})
	return nil
}

// closeOpen takes back what a run that is over still has open, and its locks.
func (s *Sheet) closeOpen(run string) error {
	if err := s.tx.Withdraw(run); err != nil {
		return err
	}
	if err := s.tx.SetTimer(run, time.Time{}); err != nil {
		return err
	}
	return s.tx.ReleaseLocks(run)
}
