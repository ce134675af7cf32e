package server

import (
	"context"

	"urgentis/api"
	"urgentis/internal/app"
	"urgentis/internal/store"
)

func apiFollowUp(f store.FollowUp) api.FollowUp {
	return api.FollowUp{
		Id: f.ID, Incident: f.Incident, Service: f.Service, Text: f.Text, Owner: f.Owner, Due: utc(f.Due),
		State: api.FollowUpState(f.State), By: f.By, At: f.At.UTC(),
		SettledBy: f.SettledBy, SettledAt: utc(f.SettledAt),
	}
}

// ListFollowUps implements api.StrictServerInterface.
func (s *Server) ListFollowUps(
	ctx context.Context, r api.ListFollowUpsRequestObject,
) (api.ListFollowUpsResponseObject, error) {
	list, err := s.App.FollowUps(ctx, who(ctx), store.WhichFollowUps{
		State: string(r.Params.State), Owner: r.Params.Owner, Incident: r.Params.Incident,
	})
	return api.ListFollowUps200JSONResponse(mapped(list, apiFollowUp)), err
}

// AddFollowUp implements api.StrictServerInterface.
func (s *Server) AddFollowUp(
	ctx context.Context, r api.AddFollowUpRequestObject,
) (api.AddFollowUpResponseObject, error) {
	b := r.Body
	row, err := s.App.AddFollowUp(ctx, who(ctx), r.Number, app.Following{
		Text: &b.Text, Owner: &b.Owner, Due: given(b.Due),
	})
	if err != nil {
		return nil, err
	}
	return api.AddFollowUp201JSONResponse(apiFollowUp(*row)), nil
}

// EditFollowUp implements api.StrictServerInterface.
func (s *Server) EditFollowUp(
	ctx context.Context, r api.EditFollowUpRequestObject,
) (api.EditFollowUpResponseObject, error) {
	b := r.Body
	row, err := s.App.EditFollowUp(ctx, who(ctx), r.Number, r.Id, app.Following{
		Text: b.Text, Owner: b.Owner, Due: b.Due, State: (*string)(b.State), Because: b.Because,
	})
	if err != nil {
		return nil, err
	}
	return api.EditFollowUp200JSONResponse(apiFollowUp(*row)), nil
}

// StateOfIncident implements api.StrictServerInterface.
func (s *Server) StateOfIncident(
	ctx context.Context, r api.StateOfIncidentRequestObject,
) (api.StateOfIncidentResponseObject, error) {
	i, err := s.App.State(ctx, who(ctx), r.Number, string(r.Body.Field), r.Body.Text)
	if err != nil {
		return nil, err
	}
	return api.StateOfIncident200JSONResponse(apiIncident(*i)), nil
}
