package server

import (
	"context"

	"urgentis/api"
	"urgentis/core/expr"
	"urgentis/core/tell"
	"urgentis/internal/app"
)

// ListLooks implements api.StrictServerInterface.
func (s *Server) ListLooks(ctx context.Context, r api.ListLooksRequestObject) (api.ListLooksResponseObject, error) {
	list, err := s.App.Looks(ctx, who(ctx), r.Number)
	return api.ListLooks200JSONResponse(mapped(list, apiLook)), err
}

func apiLook(x app.Look) api.Look {
	return api.Look{Run: x.Run, Runbook: x.Runbook, Path: x.Path, Id: x.ID, Title: x.Title,
		Targets: append([]string{}, x.Targets...), At: x.At.UTC()}
}

// LookAgain implements api.StrictServerInterface.
func (s *Server) LookAgain(ctx context.Context, r api.LookAgainRequestObject) (api.LookAgainResponseObject, error) {
	x, err := s.App.LookAgain(ctx, who(ctx), r.Number, r.Body.Step, r.Body.Run)
	if err != nil {
		return nil, err
	}
	return api.LookAgain200JSONResponse{
		Look: apiLook(x.Look), Compared: append([]api.Compared{}, mapped(x.Compared, apiCompared)...),
	}, nil
}

func apiCompared(c tell.Compared) api.Compared {
	out := api.Compared{Target: c.Target, Reading: c.Name, Unit: c.Unit, Missing: c.Missing,
		Says: api.ComparedSays(c.Says)}
	if c.Then != nil {
		out.Then, out.ThenAt = expr.Say(c.Then), c.ThenAt.UTC()
	}
	if c.Now != nil {
		out.Now = expr.Say(c.Now)
	}
	return out
}
