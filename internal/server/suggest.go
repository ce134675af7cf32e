package server

import (
	"context"

	"urgentis/api"
	"urgentis/core/expr"
	"urgentis/core/suggest"
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
	return api.SuggestRunbooks200JSONResponse{
		Runbooks: append([]api.Suggestion{}, mapped(x.Runbooks, apiSuggestion)...),
		Alike:    append([]api.AlikeIncident{}, mapped(x.Alike, apiAlike)...),
	}, nil
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
