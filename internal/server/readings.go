package server

import (
	"context"
	"time"

	"urgentis/api"
	"urgentis/internal/app"
	"urgentis/internal/store"
)

// ListReadings implements api.StrictServerInterface.
func (s *Server) ListReadings(
	ctx context.Context, r api.ListReadingsRequestObject,
) (api.ListReadingsResponseObject, error) {
	list, err := s.App.Readings(ctx, who(ctx), r.Params.Service, r.Params.Name)
	return api.ListReadings200JSONResponse(mapped(list, apiReading)), err
}

func apiReading(x store.SeriesNow) api.Reading {
	return api.Reading{Service: x.Service, Target: x.Target, Name: x.Name, Unit: x.Unit, Good: x.Good, At: x.At.UTC(),
		Value: x.Value, Said: text(x.Said)}
}

func text(s *string) string {
	if s == nil {
		return ""
	}
	return *s
}

// hoursShown is for how long readings are given unless somebody says otherwise.
const hoursShown = 2

// ReadingCourses implements api.StrictServerInterface.
func (s *Server) ReadingCourses(
	ctx context.Context, r api.ReadingCoursesRequestObject,
) (api.ReadingCoursesResponseObject, error) {
	p := r.Params
	if p.Until.IsZero() {
		p.Until = s.App.Now()
	}
	if p.From.IsZero() {
		p.From = p.Until.Add(-hoursShown * time.Hour)
	}
	list, err := s.App.Courses(ctx, who(ctx), app.CourseAsked{Service: p.Service, Name: p.Name, Target: p.Target,
		From: p.From, Until: p.Until, Points: p.Points})
	return api.ReadingCourses200JSONResponse(mapped(list, func(c app.Course) api.Course {
		return api.Course{
			Reading: apiReading(c.SeriesNow),
			Points:  gapped(c.Points),
		}
	})), err
}

func apiPoint(p store.Point) api.ReadingPoint {
	return api.ReadingPoint{At: p.At.UTC(), Value: p.Value, Low: p.Low, High: p.High, Said: text(p.Said)}
}
