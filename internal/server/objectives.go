package server

import (
	"context"
	"time"

	"urgentis/api"
	"urgentis/core/objective"
	"urgentis/core/plain"
	"urgentis/internal/app"
)

// ListWatches implements api.StrictServerInterface.
func (s *Server) ListWatches(
	ctx context.Context, r api.ListWatchesRequestObject,
) (api.ListWatchesResponseObject, error) {
	list, err := s.App.Watches(ctx, who(ctx), r.Params.Service)
	return api.ListWatches200JSONResponse(mapped(list, apiWatch)), err
}

func apiWatch(x app.Watch) api.Watch {
	out := api.Watch{Name: x.Watch, Service: x.Service, Every: x.Every, DueAt: x.DueAt.UTC(), Asked: x.Asked,
		Answered: x.Answered, Took: x.Took, Trouble: x.Trouble, Readings: append([]string{}, x.Readings...)}
	if x.TakenAt != nil {
		out.TakenAt = x.TakenAt.UTC()
	}
	return out
}

// ListObjectives implements api.StrictServerInterface.
func (s *Server) ListObjectives(
	ctx context.Context, r api.ListObjectivesRequestObject,
) (api.ListObjectivesResponseObject, error) {
	list, err := s.App.Objectives(ctx, who(ctx), r.Params.Service)
	return api.ListObjectives200JSONResponse(mapped(list, apiObjective)), err
}

func apiObjective(x app.Objective) api.Objective {
	out := api.Objective{Name: x.Name, Service: x.Service, Title: x.Title, Target: x.Target, From: x.From.UTC(),
		To: x.To.UTC(), Good: x.Budget.Good, Bad: x.Bad, Share: x.Share, Left: x.Left,
		UnknownMinutes: int(x.Unknown / time.Minute), Blind: x.Blind, MeasuredUntil: x.Row.MeasuredUntil.UTC(),
		BeganAt: x.Row.BeganAt.UTC(), WhyUnknown: x.Row.Unknown, Broken: x.Broken, Burns: []api.Burning{}}
	if x.Broken == "" {
		out.Says = x.Objective.Says()
	}
	for _, b := range x.Budget.Burns {
		out.Burns = append(
			out.Burns,
			api.Burning{Over: plain.Span(b.Over), Severity: string(b.Severity), Limit: b.Limit,
				Long: b.Long, Short: b.Short, On: b.On},
		)
	}
	return out
}

// ObjectiveCourse implements api.StrictServerInterface.
func (s *Server) ObjectiveCourse(
	ctx context.Context, r api.ObjectiveCourseRequestObject,
) (api.ObjectiveCourseResponseObject, error) {
	from, until := s.stretchOf(r.Params.From, r.Params.Until)
	list, err := s.App.ObjectiveCourse(ctx, who(ctx), r.Name, from, until, r.Params.Points)
	return api.ObjectiveCourse200JSONResponse(mapped(list, func(p objective.Point) api.ObjectivePoint {
		return api.ObjectivePoint{At: p.At.UTC(), Good: p.Good, Bad: p.Bad, Known: p.Known.Seconds(), Left: p.Left}
	})), err
}

// stretchOf is a time of which something is asked: a day until now where nobody says otherwise.
func (s *Server) stretchOf(from, until time.Time) (time.Time, time.Time) {
	if until.IsZero() {
		until = s.App.Now()
	}
	if from.IsZero() {
		from = until.AddDate(0, 0, -1)
	}
	return from, until
}
