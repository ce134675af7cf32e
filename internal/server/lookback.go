package server

import (
	"context"

	"urgentis/api"
	"urgentis/core/incident"
	"urgentis/core/lookback"
	"urgentis/internal/app"
)

// ListBacks implements api.StrictServerInterface.
func (s *Server) ListBacks(ctx context.Context, r api.ListBacksRequestObject) (api.ListBacksResponseObject, error) {
	taken, err := s.App.LookedBack(ctx, who(ctx), r.Number)
	if err != nil {
		return nil, err
	}
	offered, err := s.App.LookBacks(ctx, who(ctx), r.Number)
	if err != nil {
		return nil, err
	}
	return api.ListBacks200JSONResponse{Taken: mapped(taken, apiBack), Offered: mapped(offered,
		func(l *lookback.LookBack) api.OfferedBack { return api.OfferedBack{Name: l.Name, Title: l.Title} })}, nil
}

// LookBack implements api.StrictServerInterface.
func (s *Server) LookBack(ctx context.Context, r api.LookBackRequestObject) (api.LookBackResponseObject, error) {
	list, err := s.App.LookBack(ctx, who(ctx), r.Number, r.Body.Lookback)
	if err != nil {
		return nil, err
	}
	return api.LookBack200JSONResponse(mapped(list, apiBack)), nil
}

func apiBack(x app.LookedBack) api.Back {
	return api.Back{
		Lookback: x.LookBack, Title: x.Title, From: x.From, Until: x.Until, Onset: x.Onset, At: x.At.UTC(),
		Actor: x.Actor,
		More:  x.More, Missing: append([]string{}, x.Missing...),
		Series: mapped(x.Series, func(d incident.PastLine) api.BackSeries {
			return api.BackSeries{Name: d.Name, Unit: d.Unit, Good: d.Good, Target: d.Target,
				Points: mapped(
					d.Points,
					func(p incident.PastPoint) api.BackPoint { return api.BackPoint{At: p.At, Value: p.Value} },
				)}
		}),
		Shapes: mapped(x.Shapes, func(s incident.LineShape) api.BackShape {
			return api.BackShape{Text: s.Text, Example: s.Example, Count: s.Count, Before: s.Before, Since: s.Since,
				Targets: s.Targets}
		}),
	}
}
