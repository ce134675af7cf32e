package server

import (
	"context"

	"urgentis/api"
	"urgentis/internal/store"
)

// ListSearches implements api.StrictServerInterface.
func (s *Server) ListSearches(
	ctx context.Context, _ api.ListSearchesRequestObject,
) (api.ListSearchesResponseObject, error) {
	list, err := s.App.Searches(ctx, who(ctx))
	return api.ListSearches200JSONResponse(mapped(list, func(x store.Search) api.Search {
		w := x.LooksFor
		return api.Search{
			Name: x.Name, State: api.SearchState(w.State), Service: w.Service, Text: w.Text, Severity: w.Severity,
			Outcome: w.Outcome, Holder: w.Holder, Label: w.Label, Source: w.Source,
		}
	})), err
}

// KeepSearch implements api.StrictServerInterface.
func (s *Server) KeepSearch(ctx context.Context, r api.KeepSearchRequestObject) (api.KeepSearchResponseObject, error) {
	b := r.Body
	if err := wellFormed("label", b.Label); err != nil {
		return nil, err
	}
	return api.KeepSearch204Response{}, s.App.KeepSearch(ctx, who(ctx), r.Name, store.WhichIncidents{
		State: string(b.State), Service: b.Service, Text: b.Text, Severity: b.Severity, Outcome: b.Outcome,
		Holder: b.Holder, Label: b.Label, Source: b.Source,
	})
}

// ForgetSearch implements api.StrictServerInterface.
func (s *Server) ForgetSearch(
	ctx context.Context, r api.ForgetSearchRequestObject,
) (api.ForgetSearchResponseObject, error) {
	return api.ForgetSearch204Response{}, s.App.ForgetSearch(ctx, who(ctx), r.Name)
}
