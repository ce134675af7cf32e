package server

import (
	"context"

	"urgentis/api"
	"urgentis/core/incident"
	"urgentis/internal/app"
	"urgentis/internal/store"
)

// ServiceMarks implements api.StrictServerInterface.
func (s *Server) ServiceMarks(
	ctx context.Context, r api.ServiceMarksRequestObject,
) (api.ServiceMarksResponseObject, error) {
	from, until := s.stretchOf(r.Params.From, r.Params.Until)
	list, err := s.App.Marks(ctx, who(ctx), r.Name, from, until)
	return api.ServiceMarks200JSONResponse(mapped(list, apiMark)), err
}

func apiMark(m store.Mark) api.ServiceMark {
	out := api.ServiceMark{At: m.At.UTC(), What: api.ServiceMarkWhat(m.What), Service: m.Service, Title: m.Title,
		By: m.By, Link: m.Link}
	if m.Incident != nil {
		out.Incident = *m.Incident
	}
	return out
}

// AroundIncident implements api.StrictServerInterface.
func (s *Server) AroundIncident(
	ctx context.Context, r api.AroundIncidentRequestObject,
) (api.AroundIncidentResponseObject, error) {
	x, err := s.App.Around(ctx, who(ctx), r.Number)
	if err != nil {
		return nil, err
	}
	return api.AroundIncident200JSONResponse{
		Wide: mapped(x.Wide, apiAffected), Before: mapped(x.Before, apiMark), Since: x.Since.UTC(),
		Odd: mapped(
			x.Odd,
			apiOdd,
		), Courses: mapped(x.Courses, apiReadingCourse), Returns: mapped(x.Returns, apiAlike), Lately: x.Lately,
	}, nil
}

func apiAffected(x incident.Affected) api.Affected {
	return api.Affected{Service: x.Service, Along: string(x.Along), Since: x.Since.UTC(), Count: x.Count,
		Things: mapped(x.Things, func(t incident.BadThing) api.BadThing {
			return api.BadThing{Alert: t.ID, Severity: t.Severity, Summary: t.Summary, Target: t.Target,
				Incident: t.Incident, At: t.At.UTC(), Over: t.Over}
		})}
}

func apiReadingCourse(c app.ReadingCourse) api.ReadingMove {
	out := api.ReadingMove{Reading: c.Reading, Target: c.Target, Unit: c.Unit, Now: c.Now, NowAt: c.NowAt.UTC(),
		Says: c.Says, Targets: c.Targets, Then: c.Then}
	if c.Then != nil {
		at := c.ThenAt.UTC()
		out.ThenAt = &at
	}
	return out
}

func apiOdd(x app.OddReading) api.OddReading {
	return api.OddReading{Reading: x.Reading, Target: x.Target, Value: x.Value, Low: x.Low, Middle: x.Middle,
		High: x.High, Unit: x.Unit, At: x.At.UTC(), Says: x.SaysOdd()}
}
