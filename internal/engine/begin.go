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

// Begin begins new runs: they are written, and rung for, when the sheet is flushed.
func (s *Sheet) Begin(starts ...Start) ([]store.Run, error) {
	first := len(s.runs)
	for _, st := range starts {
		est, ok := s.estates[st.Book.Service]
		if !ok {
			var err error
			if est, err = readEstate(s.tx, st.Book); err != nil {
				return nil, err
			}
			s.estates[st.Book.Service] = est
		}
		b := flow.Begun{Rules: flow.Rules, Run: store.NewID("r"), Runbook: st.Book.Name, Revision: st.Book.Revision, Inputs: st.Inputs, Alert: st.Alert,
			Service: est.service, Estate: est.targets, StartedBy: st.StartedBy}
		run := store.Run{ID: b.Run, Runbook: st.Book.Name, Title: st.Book.Title, Revision: st.Book.Revision, StartedBy: st.StartedBy, BegunAt: s.e.now()}
		if st.Incident != nil {
			run.Incident = &st.Incident.Number
			b.Incident = map[string]any{"id": fmt.Sprint(st.Incident.Number), "number": st.Incident.Number, "title": st.Incident.Title,
				"link": fmt.Sprintf("%s/incidents/%d", s.e.Link, st.Incident.Number)}
		}
		ev := flow.Event{Seq: 1, At: s.e.now(), Body: b}
		if err := s.e.project(s, &run, st.Book, []flow.Event{ev}, []flow.Event{ev}); err != nil {
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
	return e.speakTo(ctx, run, judge)
}

// speakTo appends one event to a run's log without owning it, judged on the log as it is.
func (e *Engine) speakTo(ctx context.Context, run string, judge func(*flow.State) (string, flow.Body, error)) error {
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
		sheet := e.Sheet(tx)
		if err := e.project(sheet, r, book, append(log, ev), []flow.Event{ev}); err != nil {
			return err
		}
		return sheet.Flush(ctx)
	})
}
