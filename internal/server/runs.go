package server

import (
	"context"

	"urgentis/api"
	"urgentis/core/flow"
	"urgentis/core/incident"
	"urgentis/core/story"
	"urgentis/core/tell"
	"urgentis/internal/app"
	"urgentis/internal/store"
)

// ListRuns implements api.StrictServerInterface.
func (s *Server) ListRuns(ctx context.Context, r api.ListRunsRequestObject) (api.ListRunsResponseObject, error) {
	p, err := readPage(r.Params.Cursor, r.Params.Limit)
	if err != nil {
		return nil, err
	}
	if err := wellFormed("input", r.Params.Input); err != nil {
		return nil, err
	}
	list, more, err := s.App.Runs(ctx, who(ctx), store.WhichRuns{
		Active: r.Params.Active, Left: r.Params.Left, Runbook: r.Params.Runbook, Service: r.Params.Service,
		Incident: r.Params.Incident, State: string(r.Params.State), By: r.Params.By, Text: r.Params.Text,
		Input: r.Params.Input, From: given(r.Params.From), To: given(r.Params.To),
	}, p)
	out := api.ListRuns200JSONResponse{Items: mapped(list, apiRun)}
	out.Next = next(list, more, func(x store.Run) string { return cursor(x.BegunAt, x.ID) })
	return out, err
}

// StartRun implements api.StrictServerInterface.
func (s *Server) StartRun(ctx context.Context, r api.StartRunRequestObject) (api.StartRunResponseObject, error) {
	run, err := s.App.StartRun(ctx, who(ctx), r.Body.Runbook, r.Body.Inputs,
		app.On{Incident: r.Body.Incident, For: r.Body.For, Only: r.Body.Only})
	if err != nil {
		return nil, err
	}
	return api.StartRun202JSONResponse(apiRun(*run)), nil
}

// RunAgain implements api.StrictServerInterface.
func (s *Server) RunAgain(ctx context.Context, r api.RunAgainRequestObject) (api.RunAgainResponseObject, error) {
	run, err := s.App.RunAgain(ctx, who(ctx), r.Id)
	if err != nil {
		return nil, err
	}
	return api.RunAgain202JSONResponse(apiRun(*run)), nil
}

// CancelRun implements api.StrictServerInterface.
func (s *Server) CancelRun(ctx context.Context, r api.CancelRunRequestObject) (api.CancelRunResponseObject, error) {
	return api.CancelRun204Response{}, s.App.CancelRun(ctx, who(ctx), r.Id, r.Body.Because, r.Body.Undo)
}

// ResumeRun implements api.StrictServerInterface.
func (s *Server) ResumeRun(ctx context.Context, r api.ResumeRunRequestObject) (api.ResumeRunResponseObject, error) {
	return api.ResumeRun204Response{}, s.App.ResumeRun(ctx, who(ctx), r.Id, r.Body.Because)
}

// SettleRun implements api.StrictServerInterface.
func (s *Server) SettleRun(ctx context.Context, r api.SettleRunRequestObject) (api.SettleRunResponseObject, error) {
	return api.SettleRun204Response{}, s.App.SettleRun(ctx, who(ctx), r.Id, r.Body.Because)
}

// GetRun implements api.StrictServerInterface.
func (s *Server) GetRun(ctx context.Context, r api.GetRunRequestObject) (api.GetRunResponseObject, error) {
	run, err := s.App.Run(ctx, who(ctx), r.Id)
	if err != nil {
		return nil, err
	}
	out := api.GetRun200JSONResponse{
		Run:    apiRun(run.Run),
		Treats: mapped(run.Treats, apiTreats),
		Inputs: map[string]any{},
		Events: []api.Event{},
		Story:  []api.Entry{},
		Going: append([]api.Going{}, mapped(run.Going, func(g tell.Going) api.Going {
			return api.Going{
				Path: g.Place.String(), Title: g.Look.Title, Asked: g.Asked, Answered: g.Answered, Silent: g.Silent,
				Says: g.Says(),
			}
		})...),
	}
	for _, e := range run.Log {
		if b, ok := e.Body.(flow.Begun); ok {
			out.Inputs = b.Inputs
		}
		body, err := asMap(e.Body)
		if err != nil {
			return nil, err
		}
		out.Events = append(out.Events, api.Event{
			Seq: e.Seq, At: e.At, Kind: e.Body.Kind(), Path: e.Place.String(), Body: body,
		})
	}
	out.Story = mapped(run.Story, func(e incident.Entry) api.Entry { return apiSealed(&e) })
	out.Rows = mapped(story.Of(run.Story).Rows(0), apiStoryRow)
	return out, nil
}

// asMap is an event's body as an answer carries it, with whole numbers as they are.
func asMap(v any) (map[string]any, error) {
	exact, err := incident.Exact(v)
	out, _ := exact.(map[string]any)
	return out, err
}

// GetRunGraph implements api.StrictServerInterface.
func (s *Server) GetRunGraph(
	ctx context.Context,
	r api.GetRunGraphRequestObject,
) (api.GetRunGraphResponseObject, error) {
	book, been, err := s.App.Been(ctx, who(ctx), r.Id)
	if err != nil {
		return nil, err
	}
	return api.GetRunGraph200JSONResponse(*api.GraphOf(book, been)), nil
}

// GetRunCase implements api.StrictServerInterface.
func (s *Server) GetRunCase(
	ctx context.Context,
	r api.GetRunCaseRequestObject,
) (api.GetRunCaseResponseObject, error) {
	c, err := s.App.RunCase(ctx, who(ctx), r.Id)
	if err != nil {
		return nil, err
	}
	return api.GetRunCase200JSONResponse{Runbook: c.Runbook, Text: c.Text, Wrong: append([]string{}, c.Wrong...)}, nil
}

// ListGates implements api.StrictServerInterface.
func (s *Server) ListGates(ctx context.Context, _ api.ListGatesRequestObject) (api.ListGatesResponseObject, error) {
	list, err := s.App.Gates(ctx, who(ctx))
	return api.ListGates200JSONResponse(mapped(list, apiGate)), err
}

// GetGate implements api.StrictServerInterface.
func (s *Server) GetGate(ctx context.Context, r api.GetGateRequestObject) (api.GetGateResponseObject, error) {
	g, err := s.App.Gate(ctx, who(ctx), r.Id)
	if err != nil {
		return nil, err
	}
	return api.GetGate200JSONResponse(apiGate(*g)), nil
}

// DecideGate implements api.StrictServerInterface.
func (s *Server) DecideGate(ctx context.Context, r api.DecideGateRequestObject) (api.DecideGateResponseObject, error) {
	d := app.Decision{Approve: r.Body.Approve, Comment: r.Body.Comment, Digest: r.Body.Digest}
	if !r.Body.StartAt.IsZero() {
		d.StartAt = &r.Body.StartAt
	}
	g, err := s.App.DecideGate(ctx, who(ctx), r.Id, d)
	if err != nil {
		return nil, err
	}
	return api.DecideGate200JSONResponse(apiGate(*g)), nil
}

// ListQuestions implements api.StrictServerInterface.
func (s *Server) ListQuestions(
	ctx context.Context,
	_ api.ListQuestionsRequestObject,
) (api.ListQuestionsResponseObject, error) {
	list, err := s.App.Questions(ctx, who(ctx))
	return api.ListQuestions200JSONResponse(mapped(list, apiQuestion)), err
}

// AnswerQuestion implements api.StrictServerInterface.
func (s *Server) AnswerQuestion(
	ctx context.Context,
	r api.AnswerQuestionRequestObject,
) (api.AnswerQuestionResponseObject, error) {
	reply := app.Reply{Choice: r.Body.Choice, Comment: r.Body.Comment, Fields: r.Body.Fields}
	return api.AnswerQuestion204Response{}, s.App.AnswerQuestion(ctx, who(ctx), r.Id, reply)
}
