package server

import (
	"context"
	"fmt"
	"net/http"
	"time"

	"gorm.io/gorm"

	"urgentis/api"
	"urgentis/core/expr"
	"urgentis/core/flow"
	"urgentis/core/incident"
	"urgentis/core/runbook"
	"urgentis/internal/access"
	"urgentis/internal/engine"
	"urgentis/internal/store"
)

// ListRunbooks implements api.StrictServerInterface.
func (s *Server) ListRunbooks(ctx context.Context, _ api.ListRunbooksRequestObject) (api.ListRunbooksResponseObject, error) {
	var rows []store.Revision
	err := s.Store.DB.WithContext(ctx).Raw("select v.* from runbook r join revision v on v.name = r.name and v.number = r.number order by r.name").Scan(&rows).Error
	if err != nil {
		return nil, err
	}
	return api.ListRunbooks200JSONResponse(mapped(rows, func(r store.Revision) api.Runbook {
		b, err := s.Engine.Book(ctx, r.Revision)
		if err != nil {
			b = &runbook.Book{}
		}
		return apiRunbook(r, b)
	})), nil
}

func apiRunbook(r store.Revision, b *runbook.Book) api.Runbook {
	out := api.Runbook{Name: r.Name, Title: r.Title, Owner: r.Owner, Service: r.Service, About: r.About, Tags: r.Tags, Number: r.Number,
		Revision: r.Revision, PushedBy: r.PushedBy, PushedAt: r.PushedAt.UTC(), Starts: []string{}}
	for _, st := range b.Starts {
		out.Starts = append(out.Starts, st.Alert.Source)
	}
	return out
}

func runbookDetail(r store.Revision, b *runbook.Book, f runbook.Findings) api.RunbookDetail {
	h := apiRunbook(r, b)
	out := api.RunbookDetail{Name: h.Name, Title: h.Title, Owner: h.Owner, Service: h.Service, About: h.About, Tags: h.Tags, Number: h.Number, Revision: h.Revision,
		PushedBy: h.PushedBy, PushedAt: h.PushedAt, Starts: h.Starts, Text: r.Text, Findings: []api.Finding{}, Inputs: []api.Input{}, Steps: []api.Step{}}
	out.Findings = append(out.Findings, findings(f)...)
	for _, in := range b.Inputs {
		x := api.Input{Name: in.Name, Label: in.Label, Type: string(in.Type), Choices: in.Choices}
		if in.Default != nil {
			x.Default = expr.Say(in.Default)
		}
		if in.Pattern != nil {
			x.Pattern = in.Pattern.String()
		}
		out.Inputs = append(out.Inputs, x)
	}
	for _, st := range b.All() {
		out.Steps = append(out.Steps, api.Step{Path: st.Path, Verb: string(st.Verb), Title: st.Title, Id: st.ID, Line: st.Line})
	}
	return out
}

// PushRunbook implements api.StrictServerInterface.
func (s *Server) PushRunbook(ctx context.Context, r api.PushRunbookRequestObject) (api.PushRunbookResponseObject, error) {
	b, found := runbook.Parse([]byte(r.Body.Text))
	if b == nil {
		return nil, &Problem{http.StatusUnprocessableEntity, "runbook", "the runbook has mistakes: " + found.Error(), found}
	}
	more, err := s.estateFindings(ctx, b)
	if err != nil {
		return nil, err
	}
	if more.Failed() {
		return nil, &Problem{http.StatusUnprocessableEntity, "runbook", "the runbook has mistakes: " + more.Error(), more}
	}
	if r.Body.CheckOnly {
		found = append(found, more...)
		return api.PushRunbook201JSONResponse(runbookDetail(store.Revision{Name: b.Name, Title: b.Title, Owner: b.Owner, Service: b.Service, About: b.About, Tags: b.Tags, Revision: b.Revision, Text: r.Body.Text}, b, found)), nil
	}
	row, found, err := s.Store.PushRunbook(ctx, r.Body.Text, who(ctx).Behind())
	if err != nil {
		return nil, err
	}
	return api.PushRunbook201JSONResponse(runbookDetail(*row, b, append(found, more...))), nil
}

// GetRunbook implements api.StrictServerInterface.
func (s *Server) GetRunbook(ctx context.Context, r api.GetRunbookRequestObject) (api.GetRunbookResponseObject, error) {
	row, err := s.Store.Newest(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	b, found := runbook.Parse([]byte(row.Text))
	if b == nil {
		b = &runbook.Book{}
	}
	return api.GetRunbook200JSONResponse(runbookDetail(*row, b, found)), nil
}

// ListRuns implements api.StrictServerInterface.
func (s *Server) ListRuns(ctx context.Context, r api.ListRunsRequestObject) (api.ListRunsResponseObject, error) {
	q := s.Store.DB.WithContext(ctx).Order("begun_at desc, id").Limit(limit(r.Params.Limit) + 1)
	if r.Params.Active {
		q = q.Where("ended_at is null")
	}
	if r.Params.Cursor != "" {
		at, id, err := readCursor(r.Params.Cursor)
		if err != nil {
			return nil, err
		}
		q = q.Where("begun_at < ? or begun_at = ? and id > ?", at, at, id)
	}
	var rows []store.Run
	if err := q.Find(&rows).Error; err != nil {
		return nil, err
	}
	out := api.ListRuns200JSONResponse{}
	rows, out.Next = page(rows, limit(r.Params.Limit), func(x store.Run) string { return cursor(x.BegunAt, x.ID) })
	out.Items = mapped(rows, apiRun)
	return out, nil
}

// StartRun implements api.StrictServerInterface.
func (s *Server) StartRun(ctx context.Context, r api.StartRunRequestObject) (api.StartRunResponseObject, error) {
	rev, err := s.Store.Newest(ctx, r.Body.Runbook)
	if err != nil {
		return nil, err
	}
	b, err := s.Engine.Book(ctx, rev.Revision)
	if err != nil {
		return nil, err
	}
	inputs, err := b.AcceptAll(r.Body.Inputs)
	if err != nil {
		return nil, bad("inputs", "%s", err)
	}
	run, err := s.begin(ctx, engine.Start{Book: b, Inputs: inputs, StartedBy: who(ctx).Name, Person: who(ctx).Owner}, r.Body.Incident, true)
	if err != nil {
		return nil, err
	}
	return api.StartRun202JSONResponse(apiRun(run)), nil
}

// begin starts a run, on an incident if its number is not 0. mustBeOpen refuses one that is closed; else the run
// is without an incident then.
func (s *Server) begin(ctx context.Context, start engine.Start, incident int64, mustBeOpen bool) (run store.Run, err error) {
	err = s.Store.Tx(ctx, func(tx *gorm.DB) error {
		sheet := s.Engine.Sheet(tx)
		if incident != 0 {
			if start.Incident, err = sheet.Incident(incident); err != nil {
				return err
			}
			switch {
			case start.Incident.State != "open" && mustBeOpen:
				return &Problem{http.StatusConflict, "not-open", "the incident is closed", nil}
			case start.Incident.State != "open":
				start.Incident = nil
			}
		}
		runs, err := sheet.Begin(start)
		if err != nil {
			return err
		}
		run = runs[0]
		if err := store.Audit(tx, who(ctx).Name, "run.start", run.ID, start.Book.Name); err != nil {
			return err
		}
		return sheet.Flush(ctx)
	})
	return run, err
}

// RunAgain implements api.StrictServerInterface.
func (s *Server) RunAgain(ctx context.Context, r api.RunAgainRequestObject) (api.RunAgainResponseObject, error) {
	log, err := s.Store.Log(ctx, r.Id, 0)
	if err != nil {
		return nil, err
	}
	if len(log) == 0 {
		return nil, store.ErrNotFound
	}
	begun, _ := log[0].Body.(flow.Begun)
	rev, err := s.Store.Newest(ctx, begun.Runbook)
	if err != nil {
		return nil, err
	}
	b, err := s.Engine.Book(ctx, rev.Revision)
	if err != nil {
		return nil, err
	}
	inputs, err := b.AcceptAll(begun.Inputs)
	if err != nil {
		return nil, bad("inputs", "the newest revision does not take the same inputs: %s", err)
	}
	var old store.Run
	if err := s.Store.DB.WithContext(ctx).Where("id = ?", r.Id).Take(&old).Error; err != nil {
		return nil, err
	}
	run, err := s.begin(ctx, engine.Start{Book: b, Inputs: inputs, Alert: begun.Alert, StartedBy: who(ctx).Name, Person: who(ctx).Owner, AgainOf: r.Id}, deref(old.Incident), false)
	if err != nil {
		return nil, err
	}
	return api.RunAgain202JSONResponse(apiRun(run)), nil
}

// CancelRun implements api.StrictServerInterface.
func (s *Server) CancelRun(ctx context.Context, r api.CancelRunRequestObject) (api.CancelRunResponseObject, error) {
	c := flow.CancelAsked{By: who(ctx).Name, Because: r.Body.Because, Undo: r.Body.Undo}
	if err := s.Engine.Cancel(ctx, r.Id, c); err != nil {
		return nil, err
	}
	return api.CancelRun204Response{}, nil
}

// ReleaseRun implements api.StrictServerInterface.
func (s *Server) ReleaseRun(ctx context.Context, r api.ReleaseRunRequestObject) (api.ReleaseRunResponseObject, error) {
	by := who(ctx).Name
	if err := s.Engine.Release(ctx, r.Id, by, r.Body.Because); err != nil {
		return nil, err
	}
	return api.ReleaseRun204Response{}, nil
}

// GetRun implements api.StrictServerInterface.
func (s *Server) GetRun(ctx context.Context, r api.GetRunRequestObject) (api.GetRunResponseObject, error) {
	var row store.Run
	if err := s.Store.DB.WithContext(ctx).Where("id = ?", r.Id).Take(&row).Error; err != nil {
		return nil, err
	}
	log, err := s.Store.Log(ctx, r.Id, 0)
	if err != nil {
		return nil, err
	}
	out := api.GetRun200JSONResponse{Run: apiRun(row), Inputs: map[string]any{}}
	for _, e := range log {
		if b, ok := e.Body.(flow.Begun); ok {
			out.Inputs = b.Inputs
		}
		body, err := asMap(e.Body)
		if err != nil {
			return nil, err
		}
		out.Events = append(out.Events, api.Event{Seq: e.Seq, At: e.At, Kind: e.Body.Kind(), Path: e.Path, Body: body})
	}
	return out, nil
}

func asMap(v any) (map[string]any, error) {
	exact, err := incident.Exact(v)
	out, _ := exact.(map[string]any)
	return out, err
}

// gates lists gates with what would run and on which evidence.
func (s *Server) gates(ctx context.Context, where string, args ...any) ([]api.Gate, error) {
	var rows []store.Gate
	if err := s.Store.DB.WithContext(ctx).Where(where, args...).Order("raised_at").Limit(200).Find(&rows).Error; err != nil {
		return nil, err
	}
	out := []api.Gate{}
	for _, g := range rows {
		var run store.Run
		if err := s.Store.DB.WithContext(ctx).Where("id = ?", g.Run).Take(&run).Error; err != nil {
			return nil, err
		}
		log, err := s.Store.Log(ctx, g.Run, 0)
		if err != nil {
			return nil, err
		}
		out = append(out, apiGate(g, run, newestReadings(log), who(ctx)))
	}
	return out, nil
}

func (s *Server) questions(ctx context.Context, where string, args ...any) ([]api.Question, error) {
	var rows []store.Question
	if err := s.Store.DB.WithContext(ctx).Where(where, args...).Order("raised_at").Limit(200).Find(&rows).Error; err != nil {
		return nil, err
	}
	out := []api.Question{}
	for _, q := range rows {
		var run store.Run
		if err := s.Store.DB.WithContext(ctx).Where("id = ?", q.Run).Take(&run).Error; err != nil {
			return nil, err
		}
		log, err := s.Store.Log(ctx, q.Run, 0)
		if err != nil {
			return nil, err
		}
		out = append(out, s.apiQuestion(ctx, q, run, log))
	}
	return out, nil
}

// ListGates implements api.StrictServerInterface.
func (s *Server) ListGates(ctx context.Context, _ api.ListGatesRequestObject) (api.ListGatesResponseObject, error) {
	out, err := s.gates(ctx, "state = 'open'")
	return api.ListGates200JSONResponse(out), err
}

// GetGate implements api.StrictServerInterface.
func (s *Server) GetGate(ctx context.Context, r api.GetGateRequestObject) (api.GetGateResponseObject, error) {
	out, err := s.gates(ctx, "id = ?", r.Id)
	if err != nil {
		return nil, err
	}
	if len(out) == 0 {
		return nil, store.ErrNotFound
	}
	return api.GetGate200JSONResponse(out[0]), nil
}

// DecideGate implements api.StrictServerInterface.
func (s *Server) DecideGate(ctx context.Context, r api.DecideGateRequestObject) (api.DecideGateResponseObject, error) {
	p := who(ctx)
	if err := s.Engine.Decide(ctx, r.Id, engine.Word{Approve: r.Body.Approve, By: p.Name, Person: p.Owner, Comment: r.Body.Comment, Digest: r.Body.Digest, StartAt: startAt(r.Body.StartAt)}); err != nil {
		return nil, err
	}
	out, err := s.gates(ctx, "id = ?", r.Id)
	if err != nil || len(out) == 0 {
		return nil, fmt.Errorf("read the gate: %w", err)
	}
	return api.DecideGate200JSONResponse(out[0]), nil
}

// ListQuestions implements api.StrictServerInterface.
func (s *Server) ListQuestions(ctx context.Context, _ api.ListQuestionsRequestObject) (api.ListQuestionsResponseObject, error) {
	out, err := s.questions(ctx, "state = 'open'")
	return api.ListQuestions200JSONResponse(out), err
}

// AnswerQuestion implements api.StrictServerInterface.
func (s *Server) AnswerQuestion(ctx context.Context, r api.AnswerQuestionRequestObject) (api.AnswerQuestionResponseObject, error) {
	p := who(ctx)
	reply := engine.Reply{Choice: r.Body.Choice, By: p.Name, Person: p.Owner, Comment: r.Body.Comment, Fields: r.Body.Fields, MayApprove: p.May(string(access.Approver))}
	if err := s.Engine.Answer(ctx, r.Id, reply); err != nil {
		return nil, err
	}
	return api.AnswerQuestion204Response{}, nil
}

func startAt(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	return &t
}
