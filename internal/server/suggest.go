package server

import (
	"context"

	"urgentis/api"
	"urgentis/core/expr"
	"urgentis/core/suggest"
	"urgentis/internal/engine"
	"urgentis/internal/store"
)

// SuggestRunbooks implements api.StrictServerInterface.
func (s *Server) SuggestRunbooks(
	ctx context.Context, r api.SuggestRunbooksRequestObject,
) (api.SuggestRunbooksResponseObject, error) {
	x, err := s.App.Suggest(ctx, who(ctx), r.Number)
	if err != nil {
		return nil, err
	}
	return api.SuggestRunbooks200JSONResponse(apiSuggestions(x)), nil
}

// SuggestForService implements api.StrictServerInterface.
func (s *Server) SuggestForService(
	ctx context.Context, r api.SuggestForServiceRequestObject,
) (api.SuggestForServiceResponseObject, error) {
	x, err := s.App.SuggestForService(ctx, who(ctx), r.Name, r.Params.Target, r.Params.Reading)
	if err != nil {
		return nil, err
	}
	return api.SuggestForService200JSONResponse(apiSuggestions(x)), nil
}

// SuggestForAlert implements api.StrictServerInterface.
func (s *Server) SuggestForAlert(
	ctx context.Context, r api.SuggestForAlertRequestObject,
) (api.SuggestForAlertResponseObject, error) {
	x, err := s.App.SuggestForAlert(ctx, who(ctx), r.Id)
	if err != nil {
		return nil, err
	}
	return api.SuggestForAlert200JSONResponse(apiSuggestions(x)), nil
}

func apiSuggestions(x *engine.Suggested) api.Suggestions {
	return api.Suggestions{
		Runbooks: append([]api.Suggestion{}, mapped(x.Runbooks, apiSuggestion)...),
		Alike:    append([]api.AlikeIncident{}, mapped(x.Alike, apiAlike)...),
	}
}

func apiSuggestion(x suggest.Suggestion) api.Suggestion {
	out := api.Suggestion{Runbook: x.Book.Name, Title: x.Book.Title, Reasons: x.Reasons, Missing: x.Missing,
		Inputs: map[string]string{}, Changes: x.Book.ChangesMade()}
	for k, v := range x.Inputs {
		out.Inputs[k] = expr.Say(v)
	}
	return out
}

func apiAlike(x store.PastIncident) api.AlikeIncident {
	return api.AlikeIncident{Number: x.Number, Title: x.Title, Outcome: x.Outcome, Because: x.Because, At: x.At.UTC(),
		Runbook: x.Runbook}
}
