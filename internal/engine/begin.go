package engine

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"gorm.io/gorm"

	"urgentis/core/flow"
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
			Service: est.service, Estate: est.targets, StartedBy: st.StartedBy}
		if b.Calls, err = s.e.resolve(s.tx.Statement.Context, st.Book); err != nil {
			return nil, fmt.Errorf("runbook %s: %w", st.Book.Name, err)
		}
		book, err := s.e.Linked(s.tx.Statement.Context, st.Book.Revision, b.Calls)
		if err != nil {
			return nil, err
		}
		run := store.Run{ID: b.Run, Runbook: st.Book.Name, Title: st.Book.Title, Revision: st.Book.Revision, StartedBy: st.StartedBy, BegunAt: s.e.now(), AgainOf: st.AgainOf}
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
	Comment string
	Digest  string // of what was shown
	// StartAt is when the change may begin at the earliest; nil: at once.
	StartAt *time.Time
}

// maxDelay bounds how far ahead an approver may set the start.
const maxDelay = 7 * 24 * time.Hour

// Decide gives a person's decision on a gate to its run.
func (e *Engine) Decide(ctx context.Context, gate string, w Word) error {
	return e.speak(ctx, gate, &store.Gate{}, func(s *flow.State, _ *gorm.DB) (string, flow.Body, error) {
		g, path, approved := s.OpenGate(gate)
		switch {
		case g == nil || !e.Clock().Before(g.Until):
			return "", nil, ErrNotOpen
		case g.Digest != w.Digest:
			return "", nil, ErrOtherDigest
		case w.Approve && s.Begun.StartedBy == w.By:
			return "", nil, ErrOwnRequest
		case w.Approve && slices.Contains(approved, w.By):
			return "", nil, ErrTwice
		case g.Comment && w.Comment == "":
			return "", nil, ErrNoComment
		case w.StartAt != nil && w.StartAt.After(e.Clock().Add(maxDelay)):
			return "", nil, ErrTooLate
		}
		return path, flow.GateDecided{Gate: gate, Approved: w.Approve, By: w.By, Comment: w.Comment, Digest: w.Digest, StartAt: w.StartAt}, nil
	})
}

// Reply is a person's answer to a question.
type Reply struct {
	Choice  string
	By      string
	Comment string
	Fields  map[string]any
	// MayApprove says that the person has the right to approve changes.
	MayApprove bool
}

// Answer gives a person's answer to a question to its run.
func (e *Engine) Answer(ctx context.Context, question string, r Reply) error {
	return e.speak(ctx, question, &store.Question{}, func(s *flow.State, tx *gorm.DB) (string, flow.Body, error) {
		q, path := s.OpenQuestion(question)
		if q == nil || !e.Clock().Before(q.Until) {
			return "", nil, ErrNotOpen
		}
		if len(q.Choices) > 0 && !slices.Contains(q.Choices, r.Choice) {
			return "", nil, ErrNoChoice
		}
		if r.Choice == flow.DoItAgain && q.Attempt != "" {
			if !r.MayApprove {
				return "", nil, ErrNoRight
			}
			may, host, err := store.MayBegin(tx, q.By)
			if err != nil {
				return "", nil, err
			}
			if may {
				return "", nil, fmt.Errorf("%w: instance %s on %s may still begin it; stop it there, or wait until it reports, or say that it is gone with urgentis instance gone %s", ErrMayBegin, q.By, host, q.By)
			}
		}
		if _, approves := q.Approves[r.Choice]; approves {
			if !r.MayApprove {
				return "", nil, ErrNoRight
			}
			if s.Begun.StartedBy == r.By {
				return "", nil, ErrOwnRequest
			}
		}
		fields, err := accepted(s, path, q, r)
		if err != nil {
			return "", nil, err
		}
		return path, flow.QuestionAnswered{Question: question, Choice: r.Choice, By: r.By, Comment: r.Comment, Fields: fields}, nil
	})
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
	return e.speakTo(ctx, run, func(s *flow.State, _ *gorm.DB) (string, flow.Body, error) {
		if s.Ended != nil || s.Cancelled() {
			return "", nil, ErrNotOpen
		}
		return "", c, nil
	})
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
		if err != nil && !errors.Is(err, errNothing) && !errors.Is(err, flow.ErrNewer) {
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
	book, err := e.bookOf(ctx, log)
	if err != nil {
		return err
	}
	m, err := flow.Open(book, log)
	if err != nil {
		return err
	}
	path, body, err := j(m.State(), sheet.tx)
	if err != nil {
		return err
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
