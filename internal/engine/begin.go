package engine

import (
	"context"
	"errors"
	"fmt"

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
}

// Begin writes new runs with this transaction and rings for them.
func (e *Engine) Begin(ctx context.Context, tx *gorm.DB, starts ...Start) ([]store.Run, error) {
	runs := make([]store.Run, len(starts))
	events := make([]flow.Event, len(starts))
	estates := map[string]estate{}
	for i, s := range starts {
		est, ok := estates[s.Book.Service]
		if !ok {
			var err error
			if est, err = readEstate(tx, s.Book); err != nil {
				return nil, err
			}
			estates[s.Book.Service] = est
		}
		b := flow.Begun{Rules: flow.Rules, Run: store.NewID("r"), Runbook: s.Book.Name, Revision: s.Book.Revision, Inputs: s.Inputs, Alert: s.Alert,
			Service: est.service, Estate: est.targets, StartedBy: s.StartedBy}
		runs[i] = store.Run{ID: b.Run, Runbook: s.Book.Name, Title: s.Book.Title, Revision: s.Book.Revision, StartedBy: s.StartedBy, BegunAt: e.now()}
		if s.Incident != nil {
			runs[i].Incident = &s.Incident.Number
			b.Incident = map[string]any{"id": fmt.Sprint(s.Incident.Number), "number": s.Incident.Number, "title": s.Incident.Title,
				"link": fmt.Sprintf("%s/incidents/%d", e.Link, s.Incident.Number)}
		}
		events[i] = flow.Event{Seq: 1, At: e.now(), Body: b}
	}
	if err := e.Store.InsertRuns(ctx, tx, runs, events); err != nil {
		return nil, fmt.Errorf("begin a run: %w", err)
	}
	for i := range runs {
		if err := e.project(ctx, tx, &runs[i], starts[i].Book, events[i:i+1], events[i:i+1]); err != nil {
			return nil, fmt.Errorf("begin a run: %w", err)
		}
	}
	return runs, nil
}

// BeginNow is Begin in a transaction of its own.
func (e *Engine) BeginNow(ctx context.Context, starts ...Start) ([]store.Run, error) {
	var runs []store.Run
	err := e.Store.Tx(ctx, func(tx *gorm.DB) error {
		var err error
		runs, err = e.Begin(ctx, tx, starts...)
		return err
	})
	return runs, err
}

type estate struct {
	service map[string]any
	targets []flow.Target
}

func readEstate(tx *gorm.DB, b *runbook.Book) (estate, error) {
	e := estate{service: map[string]any{"name": b.Service, "owner": b.Owner}}
	var services []store.Service
	if err := tx.Where("name = ?", b.Service).Find(&services).Error; err != nil {
		return e, err
	}
	if len(services) > 0 {
		e.service["owner"] = services[0].Owner
	}
	var rows []store.Target
	if err := tx.Where("service = ?", b.Service).Order("name").Find(&rows).Error; err != nil {
		return e, err
	}
	for _, t := range rows {
		e.targets = append(e.targets, flow.Target{Name: t.Name, Address: t.Address, Labels: t.Labels})
	}
	return e, nil
}

// Refusals of a person's word. Each is one sentence for that person.
var (
	ErrNotOpen     = errors.New("it is no longer open")
	ErrOtherDigest = errors.New("what would run is no longer what was shown; look at it again")
	ErrOwnRequest  = errors.New("whoever asked for a change cannot approve it")
	ErrNoComment   = errors.New("this gate wants a comment")
	ErrNoChoice    = errors.New("that is none of the choices")
)

// Decide gives a person's decision on a gate to its run.
func (e *Engine) Decide(ctx context.Context, gate string, approve bool, by, comment, digest string) error {
	return e.speak(ctx, gate, &store.Gate{}, func(s *flow.State) (string, flow.Body, error) {
		g, path := s.OpenGate(gate)
		switch {
		case g == nil || !e.Clock().Before(g.Until):
			return "", nil, ErrNotOpen
		case g.Digest != digest:
			return "", nil, ErrOtherDigest
		case approve && s.Begun.StartedBy == by:
			return "", nil, ErrOwnRequest
		case g.Comment && comment == "":
			return "", nil, ErrNoComment
		}
		return path, flow.GateDecided{Gate: gate, Approved: approve, By: by, Comment: comment, Digest: digest}, nil
	})
}

// Answer gives a person's answer to a question to its run.
func (e *Engine) Answer(ctx context.Context, question, choice, by, comment string) error {
	return e.speak(ctx, question, &store.Question{}, func(s *flow.State) (string, flow.Body, error) {
		q, path := s.OpenQuestion(question)
		if q == nil {
			return "", nil, ErrNotOpen
		}
		for _, c := range q.Choices {
			if c == choice {
				return path, flow.QuestionAnswered{Question: question, Choice: choice, By: by, Comment: comment}, nil
			}
		}
		return "", nil, ErrNoChoice
	})
}

// speak appends one event to a run's log on behalf of a person, judged on the log as it is.
func (e *Engine) speak(ctx context.Context, id string, row any, judge func(*flow.State) (string, flow.Body, error)) error {
	var run string
	if err := e.Store.DB.WithContext(ctx).Model(row).Select("run").Where("id = ?", id).Take(&run).Error; err != nil {
		return err
	}
	return e.Store.Tx(ctx, func(tx *gorm.DB) error {
		r, err := store.Lock(tx, run)
		if err != nil {
			return err
		}
		book, err := e.Book(ctx, r.Revision)
		if err != nil {
			return err
		}
		log, err := store.ReadLog(tx, run, 0)
		if err != nil {
			return err
		}
		s, err := flow.Fold(book, log)
		if err != nil {
			return err
		}
		path, body, err := judge(s)
		if err != nil {
			return err
		}
		ev := flow.Event{Seq: r.Version + 1, At: e.now(), Path: path, Body: body}
		if err := e.Store.Speak(ctx, tx, r, ev); err != nil {
			return err
		}
		return e.project(ctx, tx, r, book, append(log, ev), []flow.Event{ev})
	})
}
