package server

import (
	"context"

	"urgentis/api"
	"urgentis/core/tell"
	"urgentis/internal/app"
	"urgentis/internal/store"
)

// GetStanding implements api.StrictServerInterface.
func (s *Server) GetStanding(
	ctx context.Context, r api.GetStandingRequestObject,
) (api.GetStandingResponseObject, error) {
	x, err := s.App.Standing(ctx, who(ctx), r.Number)
	if err != nil {
		return nil, err
	}
	return api.GetStanding200JSONResponse{
		Harm: x.Harm, Owner: x.Owner, Derived: filled(x.Derived), Reading: apiLeading(x),
		Links: mapped(x.Links, apiLink),
	}, nil
}

// ServiceStanding implements api.StrictServerInterface.
func (s *Server) ServiceStanding(
	ctx context.Context, r api.ServiceStandingRequestObject,
) (api.ServiceStandingResponseObject, error) {
	from, until := s.stretchOf(r.Params.From, r.Params.Until)
	x, err := s.App.ServiceStanding(ctx, who(ctx), r.Name, from, until)
	if err != nil {
		return nil, err
	}
	out := api.ServiceStanding200JSONResponse{
		State: api.ServiceStandingState(x.State), Says: x.Says, Below: filled(x.Below), Since: x.Since,
		Limits: []api.NamedLimit{}, Links: mapped(x.Links, apiLink),
	}
	for _, l := range x.Limits {
		out.Limits = append(out.Limits, api.NamedLimit{Reading: l.Reading, Limit: *apiLimit(&l)})
	}
	return out, nil
}

func apiLeading(x *app.Standing) *api.LeadingReading {
	l := x.Reading
	if l == nil {
		return nil
	}
	out := &api.LeadingReading{
		Name: l.Reading, Unit: l.Unit, Look: l.Look, Good: string(l.Good), Says: l.Says(), Target: l.Worst.Target,
		Value: l.Worst.Value, At: l.Worst.At, Limit: apiLimit(l.Wanted), Trend: l.Is(), Beyond: l.Beyond.UTC(),
		Bad: l.Bad, Of: l.Of, EverySeconds: l.Every.Seconds(), Old: x.Old, From: x.From.UTC(), Until: x.Until.UTC(),
		Lines: mapped(x.Lines, apiLine), Run: x.Run,
	}
	if x.Run != "" {
		out.Step = l.Place.String()
	}
	if l.Then != nil {
		out.Then = &api.TrendPoint{At: l.Then.At, Target: l.Then.Target, Value: l.Then.Value}
	}
	if l.Trend != nil {
		out.Slope, out.SlopeSeconds = l.Trend.Says(""), l.Trend.Over.Seconds()
	}
	return out
}

func apiLine(c app.Course) api.LeadingLine {
	return api.LeadingLine{Target: c.Target, Points: gapped(c.Points)}
}

// gapped are points with one without a value where values are missing.
func gapped(points []store.Point) []api.ReadingPoint {
	times := make([]tell.Point, len(points))
	for i, p := range points {
		times[i].At = p.At
	}
	out := []api.ReadingPoint{}
	gaps := tell.Gaps(times)
	for i, p := range points {
		if len(gaps) > 0 && gaps[0] == i {
			before := points[i-1].At
			out = append(out, api.ReadingPoint{At: before.Add(p.At.Sub(before) / 2).UTC()})
			gaps = gaps[1:]
		}
		out = append(out, apiPoint(p))
	}
	return out
}
