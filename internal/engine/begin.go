package engine

import (
	"context"
	"fmt"

	"urgentis/core/alert"
	"urgentis/core/flow"
	"urgentis/core/runbook"
	"urgentis/internal/store"
)

// FirstLook is who begins the first look of a service.
const FirstLook = "first look"

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
	// Treats are what it is begun for, by whom the row says; nil for nothing.
	Treats []store.Treats
}

// Begun is the first event of a run, but for what it calls.
func (st Start) Begun(run string, est Estate) flow.Begun {
	return flow.Begun{
		Rules:     flow.Rules,
		Run:       run,
		Runbook:   st.Book.Name,
		Revision:  st.Book.Revision,
		Inputs:    st.Inputs,
		Alert:     st.Alert,
		Service:   est.service,
		Estate:    est.targets,
		StartedBy: st.StartedBy,
		Person:    st.Person,
	}
}

// Begin begins new runs: they are written, and rung for, when the sheet is flushed.
func (s *Sheet) Begin(starts ...Start) ([]store.Run, error) {
	first := len(s.runs)
	for _, st := range starts {
		est, err := s.Estate(st.Book)
		if err != nil {
			return nil, err
		}
		b := st.Begun(store.NewID("r"), est)
		if b.Calls, err = s.e.resolve(s.tx.Context(), st.Book); err != nil {
			return nil, fmt.Errorf("runbook %s: %w", st.Book.Name, err)
		}
		book, err := s.e.Linked(s.tx.Context(), st.Book.Revision, b.Calls)
		if err != nil {
			return nil, err
		}
		run := store.Run{
			ID:        b.Run,
			Runbook:   st.Book.Name,
			Title:     st.Book.Title,
			Revision:  st.Book.Revision,
			StartedBy: st.StartedBy,
			State:     flow.Running,
			BegunAt:   s.e.Now(),
			AgainOf:   st.AgainOf,
			Service:   st.Book.Service,
		}
		if id, ok := st.Alert["id"].(string); ok {
			run.Alert = id
		}
		if st.Incident != nil {
			run.Incident = &st.Incident.Number
			b.Incident = map[string]any{
				"id":     fmt.Sprint(st.Incident.Number),
				"number": st.Incident.Number,
				"title":  st.Incident.Title,
				"link":   fmt.Sprintf("%s/incidents/%d", s.e.Link, st.Incident.Number),
			}
		}
		ev := flow.Event{Seq: 1, At: s.e.Now(), Body: b}
		state, err := flow.Fold(book, []flow.Event{ev})
		if err != nil {
			return nil, fmt.Errorf("begin a run: %w", err)
		}
		if err := s.project(&run, book, state, []flow.Event{ev}); err != nil {
			return nil, fmt.Errorf("begin a run: %w", err)
		}
		for _, t := range st.Treats {
			t.Run = run.ID
			s.treats = append(s.treats, t)
		}
		s.runs, s.events = append(s.runs, run), append(s.events, ev)
	}
	return s.runs[first:], nil
}

// Same notes that a run which is under way is for an alert too.
func (s *Sheet) Same(t store.Treats) { s.treats = append(s.treats, t) }

// ForAlert is that a run is begun for an alert, as it is seen; for its incident as a whole where it is nil.
func ForAlert(how string, snapshot map[string]any) store.Treats {
	id, _ := snapshot["id"].(string)
	severity, _ := snapshot["severity"].(string)
	return store.Treats{Alert: id, How: how, Worth: max(0, alert.Worth(severity))}
}

// BeginNow begins runs in a transaction of its own.
func (e *Engine) BeginNow(ctx context.Context, starts ...Start) (runs []store.Run, err error) {
	err = e.Write(ctx, func(s *Sheet) error {
		runs, err = s.Begin(starts...)
		return err
	})
	return runs, err
}
