package engine

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"gorm.io/gorm"

	"urgentis/core/flow"
	"urgentis/core/leave"
	"urgentis/core/runbook"
	"urgentis/internal/store"
)

// Start is a run to be begun.
type Start struct {
	Book      *runbook.Book
	Inputs    map[string]any // accepted by the book
	Alert     map[string]any
	Incident  *store.Incident
	StartedBy string
	// Person answers for the token that starts it; "" where StartedBy is a person or a trigger.
	Person string
	// AgainOf is the run whose inputs it takes over.
	AgainOf string
}

// Begin begins new runs: they are written, and rung for, when the sheet is flushed.
func (s *Sheet) Begin(starts ...Start) ([]store.Run, error) {
	first := len(s.runs)
	for _, st := range starts {
		est, err := s.estate(st.Book)
		if err != nil {
			return nil, err
		}
		b := flow.Begun{Rules: flow.Rules, Run: store.NewID("r"), Runbook: st.Book.Name, Revision: st.Book.Revision, Inputs: st.Inputs, Alert: st.Alert,
			Service: est.service, Estate: est.targets, StartedBy: st.StartedBy, Person: st.Person}
		if b.Calls, err = s.e.resolve(s.tx.Statement.Context, st.Book); err != nil {
			return nil, fmt.Errorf("runbook %s: %w", st.Book.Name, err)
		}
		book, err := s.e.Linked(s.tx.Statement.Context, st.Book.Revision, b.Calls)
		if err != nil {
			return nil, err
		}
		run := store.Run{ID: b.Run, Runbook: st.Book.Name, Title: st.Book.Title, Revision: st.Book.Revision, StartedBy: st.StartedBy, State: flow.Running, BegunAt: s.e.now(), AgainOf: st.AgainOf}
		if id, ok := st.Alert["id"].(string); ok {
			run.Alert = id
		}
		if st.Incident != nil {
			run.Incident = &st.Incident.Number
			b.Incident = map[string]any{"id": fmt.Sprint(st.Incident.Number), "number": st.Incident.Number, "title": st.Incident.Title,
				"link": fmt.Sprintf("%s/incidents/%d", s.e.Link, st.Incident.Number)}
		}
		ev := flow.Event{Seq: 1, At: s.e.now(), Body: b}
		state, err := flow.Fold(book, []flow.Event{ev})
		if err != nil {
			return nil, fmt.Errorf("begin a run: %w", err)
		}
		if err := s.e.project(s, &run, book, state, []flow.Event{ev}); err != nil {
			return nil, fmt.Errorf("begin a run: %w", err)
		}
		s.runs, s.events = append(s.runs, run), append(s.events, ev)
	}
	return s.runs[first:], nil
}

// BeginNow begins runs in a transaction of its own.
func (e *Engine) BeginNow(ctx context.Context, starts ...Start) ([]store.Run, error) {
	var runs []store.Run
	err := e.Store.Tx(ctx, func(tx *gorm.DB) error {
		sheet := e.Sheet(tx)
		var err error
		if runs, err = sheet.Begin(starts...); err != nil {
			return err
		}
		return sheet.Flush(ctx)
	})
	return runs, err
}

// Refusals of a person's word. Each is one sentence for that person.
var (
	ErrNotOpen     = errors.New("it is no longer open")
	ErrOtherDigest = errors.New("what would run is no longer what was shown; look at it again")
	ErrOnlyAuthor  = errors.New("whoever wrote this revision cannot be the only one to approve its changes: another approver must")
	ErrOwnRequest  = errors.New("whoever asked for a change cannot approve it")
	ErrNoComment   = errors.New("this gate wants a comment")
	ErrNoChoice    = errors.New("that is none of the choices")
	ErrTwice       = errors.New("this gate wants another person as well")
	ErrTooLate     = errors.New("a start may be set 7 days ahead at most")
	ErrNoRight     = errors.New("this answer lets a change happen: it needs the role approver")
	ErrMayBegin    = errors.New("it cannot be done again yet")
	ErrField       = errors.New("the answer is not accepted")
)

// Word is a person's decision on a gate.
type Word struct {
	Approve bool
	By      string
	Person  string // who answers for the token By; "" where By is a person
	Comment string
	Digest  string // of what was shown
	// StartAt is when the change may begin at the earliest; nil: at once.
	StartAt *time.Time
}

// maxDelay bounds how far ahead an approver may set the start.
const maxDelay = 7 * 24 * time.Hour

// Decide gives a person's decision on a gate to its run. One that is not taken stands in the record too.
func (e *Engine) Decide(ctx context.Context, gate string, w Word) error {
	err := e.decide(ctx, gate, w)
	said := map[bool]string{true: "approve", false: "refuse"}[w.Approve]
	return e.turnedAway(ctx, err, &store.Gate{}, gate, w.By, said)
}

// turnedAway writes down that a person's word was not taken because of who said it or of what had changed, and gives the
// reason on.
func (e *Engine) turnedAway(ctx context.Context, why error, row any, id, by, said string) error {
	if !slices.ContainsFunc([]error{ErrOtherDigest, ErrOnlyAuthor, ErrOwnRequest, ErrTwice, ErrNoRight}, func(is error) bool { return errors.Is(why, is) }) {
		return why
	}
	err := e.Store.Tx(ctx, func(tx *gorm.DB) error {
		var at struct{ Run, Title string }
		if err := tx.Model(row).Select("run", "title").Where("id = ?", id).Take(&at).Error; err != nil {
			return err
		}
		run, err := store.Lock(tx, at.Run)
		if err != nil {
			return err
		}
		if err := store.Audit(tx, by, "word.turned-away", id, said+": "+why.Error()); err != nil {
			return err
		}
		sheet := e.Sheet(tx)
		err = e.enter(sheet, run, func(*store.Incident) {}, store.NewEntry{Kind: "gate.turned-away", Actor: by, Title: "Not taken (" + said + "): " + at.Title,
			Content: map[string]any{"because": why.Error(), "said": said}})
		if err != nil {
			return err
		}
		return sheet.Flush(ctx)
	})
	if err != nil {
		e.Log.Error("write down a word that was not taken", "by", by, "error", err)
	}
	return why
}

func (e *Engine) decide(ctx context.Context, gate string, w Word) error {
	return e.speak(ctx, gate, &store.Gate{}, func(s *flow.State, tx *gorm.DB) (string, flow.Body, error) {
		g, path, approved := s.OpenGate(gate)
		d := flow.GateDecided{Gate: gate, Approved: w.Approve, By: w.By, Person: w.Person, Comment: w.Comment, Digest: w.Digest, StartAt: w.StartAt}
		switch {
		case g == nil || !e.Clock().Before(g.Until):
			return "", nil, ErrNotOpen
		case g.Digest != w.Digest:
			return "", nil, ErrOtherDigest
		case w.Approve && s.Begun.Requester() == d.Decider():
			return "", nil, ErrOwnRequest
		case w.Approve && slices.Contains(approved, d.Decider()):
			return "", nil, ErrTwice
		case g.Comment && w.Comment == "":
			return "", nil, ErrNoComment
		case w.StartAt != nil && w.StartAt.After(e.Clock().Add(maxDelay)):
			return "", nil, ErrTooLate
		}
		if w.Approve && len(approved)+1 >= g.People {
			if err := notOnlyAuthor(tx, g.Proposal, append(approved, d.Decider())); err != nil {
				return "", nil, err
			}
		}
		return path, d, nil
	})
}

// notOnlyAuthor refuses a yes that comes from nobody but the person who pushed the text that would run.
func notOnlyAuthor(tx *gorm.DB, p leave.Proposal, people []string) error {
	var author string
	if err := tx.Raw("select pushed_by from revision where revision = ? limit 1", p.Revision).Scan(&author).Error; err != nil {
		return fmt.Errorf("read who pushed the revision: %w", err)
	}
	if author != "" && !slices.ContainsFunc(people, func(by string) bool { return by != author }) {
		return ErrOnlyAuthor
	}
	return nil
}

// Reply is a person's answer to a question.
type Reply struct {
	Choice  string
	By      string
	Person  string // see Word
	Comment string
	Fields  map[string]any
	// MayApprove says that the person has the right to approve changes.
	MayApprove bool
}

// Answer gives a person's answer to a question to its run.
func (e *Engine) Answer(ctx context.Context, question string, r Reply) error {
	err := e.notRunning(ctx, question, r.Choice)
	if err == nil {
		err = e.reply(ctx, question, r)
	}
	return e.turnedAway(ctx, err, &store.Question{}, question, r.By, r.Choice)
}

func (e *Engine) reply(ctx context.Context, question string, r Reply) error {
	return e.speak(ctx, question, &store.Question{}, func(s *flow.State, tx *gorm.DB) (string, flow.Body, error) {
		q, path := s.OpenQuestion(question)
		if q == nil || !e.Clock().Before(q.Until) {
			return "", nil, ErrNotOpen
		}
		if len(q.Choices) > 0 && !slices.Contains(q.Choices, r.Choice) {
			return "", nil, ErrNoChoice
		}
		if r.Choice == flow.DoItAgain && q.Attempt != "" && !r.MayApprove {
			return "", nil, ErrNoRight
		}
		if late := s.Late(q.Attempt); flow.SaysNotBegun(r.Choice) && late != nil && late.State == flow.OK {
			return "", nil, fmt.Errorf("%w: it was reported meanwhile, and %s", ErrMayBegin, late.Says())
		}
		if flow.SaysNotBegun(r.Choice) && q.Attempt != "" {
			may, host, err := store.MayBegin(tx, q.By)
			if err != nil {
				return "", nil, err
			}
			if may {
				return "", nil, fmt.Errorf("%w: instance %s on %s may still begin it; stop it there, or wait until it reports, or say that it is gone with urgentis instance gone %s", ErrMayBegin, q.By, host, q.By)
			}
		}
		if a, approves := q.Approves[r.Choice]; approves {
			if err := mayApprove(s, tx, a, r); err != nil {
				return "", nil, err
			}
		}
		fields, err := accepted(s, path, q, r)
		if err != nil {
			return "", nil, err
		}
		return path, flow.QuestionAnswered{Question: question, Choice: r.Choice, By: r.By, Person: r.Person, Comment: r.Comment, Fields: fields}, nil
	})
}

// mayApprove judges an answer that lets a change happen as the gate of that change would be judged.
func mayApprove(s *flow.State, tx *gorm.DB, a flow.Approvable, r Reply) error {
	person := flow.GateDecided{By: r.By, Person: r.Person}.Decider()
	switch {
	case !r.MayApprove:
		return ErrNoRight
	case s.Begun.Requester() == person:
		return ErrOwnRequest
	case a.Comment && r.Comment == "":
		return ErrNoComment
	}
	return notOnlyAuthor(tx, a.Proposal, []string{person})
}

// accepted checks the fields of an answer as the runbook wants them.
func accepted(s *flow.State, path string, q *flow.QuestionRaised, r Reply) (map[string]any, error) {
	if r.Choice == runbook.Back || r.Choice == runbook.NoneOfThese || q.Attempt != "" {
		return nil, nil
	}
	step, _ := flow.Find(s.Book(), path)
	if step == nil || step.Ask == nil {
		return nil, nil
	}
	fields, err := step.Ask.AcceptFields(r.Fields)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrField, err)
	}
	return fields, nil
}

// Cancel stops a run: what is under way is ended, the changes are taken back first where that is asked.
func (e *Engine) Cancel(ctx context.Context, run string, c flow.CancelAsked) error {
	if was, err := e.endAside(ctx, run, c.By, c.Because); was || err != nil {
		return err
	}
	return e.speakTo(ctx, run, func(s *flow.State, _ *gorm.DB) (string, flow.Body, error) {
		if s.Ended != nil || s.Cancelled() {
			return "", nil, ErrNotOpen
		}
		return "", c, nil
	})
}

// Resume tells the runs that wait because all was halted that changes go on. Those that it cannot tell find it out by
// themselves within minutes.
func (e *Engine) Resume(ctx context.Context, by string) error {
	var runs []string
	if err := e.Store.DB.WithContext(ctx).Raw("select id from run where waits_on = 'halt' and ended_at is null order by id").Scan(&runs).Error; err != nil {
		return fmt.Errorf("find the runs that wait: %w", err)
	}
	var failed error
	for _, id := range runs {
		err := e.speakTo(ctx, id, func(s *flow.State, _ *gorm.DB) (string, flow.Body, error) {
			if s.Ended != nil {
				return "", nil, errNothing
			}
			return "", flow.Resumed{By: by}, nil
		})
		if err != nil && !errors.Is(err, errNothing) && !errors.Is(err, ErrNotOpen) {
			failed = err
		}
	}
	return failed
}

// AlertChanged tells the runs that an alert started how it is now; the sheet is that of the alert's own transaction.
func (s *Sheet) AlertChanged(ctx context.Context, alert string, c flow.AlertChanged) error {
	var runs []string
	if err := s.tx.Raw("select id from run where alert = ? and ended_at is null order by id", alert).Scan(&runs).Error; err != nil {
		return err
	}
	for _, id := range runs {
		err := s.e.speakIn(ctx, s, id, func(st *flow.State, _ *gorm.DB) (string, flow.Body, error) {
			if st.Ended != nil {
				return "", nil, errNothing
			}
			return "", c, nil
		})
		switch {
		case err == nil, errors.Is(err, errNothing), errors.Is(err, flow.ErrNewer):
		case errors.Is(err, ErrUnsound), errors.Is(err, errLog):
			// Whoever drives the run next ends it with a sentence; its alert must not wait for that.
			s.e.Log.Error("a run cannot hear of its alert", "run", id, "error", err)
		default:
			return err
		}
	}
	return nil
}

type judge func(*flow.State, *gorm.DB) (string, flow.Body, error)

// speak appends one event to a run's log on behalf of a person, judged on the log as it is.
func (e *Engine) speak(ctx context.Context, id string, row any, j judge) error {
	var run string
	if err := e.Store.DB.WithContext(ctx).Model(row).Select("run").Where("id = ?", id).Take(&run).Error; err != nil {
		return err
	}
	return e.speakTo(ctx, run, j)
}

// speakTo appends one event to a run's log without owning it, judged on the log as it is.
func (e *Engine) speakTo(ctx context.Context, run string, j judge) error {
	err := e.Store.Tx(ctx, func(tx *gorm.DB) error {
		sheet := e.Sheet(tx)
		if err := e.speakIn(ctx, sheet, run, j); err != nil {
			return err
		}
		return sheet.Flush(ctx)
	})
	if err == nil {
		e.poke(run)
	}
	return err
}

func (e *Engine) speakIn(ctx context.Context, sheet *Sheet, run string, j judge) error {
	r, err := store.Lock(sheet.tx, run)
	if err != nil {
		return err
	}
	log, err := store.ReadLog(sheet.tx, run, 0)
	if err != nil {
		return err
	}
	book, err := e.bookOf(sheet.tx.Statement.Context, log)
	if err != nil {
		return err
	}
	m, err := flow.Open(book, log)
	if errors.Is(err, flow.ErrNewer) {
		return err
	} else if err != nil {
		return fmt.Errorf("%w: %w", errLog, err)
	}
	path, body, err := j(m.State(), sheet.tx)
	if err != nil {
		return err
	}
	if _, late := body.(flow.Outcome); r.EndedAt != nil && !late {
		return ErrNotOpen // it was ended without its log, which may still show something open
	}
	ev, err := m.Append(flow.Event{At: e.now(), Path: path, Body: body})
	if err != nil {
		return err
	}
	if err := e.Store.Speak(ctx, sheet.Bulk, r, ev, headOf(m.State(), ev.At)); err != nil {
		return err
	}
	return e.project(sheet, r, book, m.State(), []flow.Event{ev})
}
