package app

import (
	"context"
	"time"

	"urgentis/core/access"
	"urgentis/internal/store"
)

// Readings lists what was read last of each series; service and name "" are all.
func (a *App) Readings(
	ctx context.Context, who *access.Principal, service, name string,
) ([]store.SeriesNow, error) {
	scope, err := see(who)
	if err != nil {
		return nil, err
	}
	return a.store.In(ctx).ListSeries(scope, service, name)
}

// CourseAsked is which readings are wanted, from when until when, in about how many points.
type CourseAsked struct {
	Service, Name string
	Target        string // "" for all
	From, Until   time.Time
	Points        int
}

// Course is a series over a time.
type Course struct {
	store.SeriesNow
	Points []store.Point
}

const (
	// maxCourse bounds from when until when readings are given at once.
	maxCourse = 5 * 366 * 24 * time.Hour
	// maxPoints bounds in how many points.
	maxPoints = 2000
)

// Courses gives a reading of a service over a time, target by target.
func (a *App) Courses(ctx context.Context, who *access.Principal, x CourseAsked) ([]Course, error) {
	scope, err := see(who)
	if err != nil {
		return nil, err
	}
	if !x.Until.After(x.From) || x.Until.Sub(x.From) > maxCourse {
		return nil, invalid("until", "until is after from, by %d days at most", int(maxCourse.Hours()/24))
	}
	if x.Points < 1 || x.Points > maxPoints {
		return nil, invalid("points", "points are from 1 to %d", maxPoints)
	}
	tx := a.store.In(ctx)
	list, err := tx.ListSeries(scope, x.Service, x.Name)
	if err != nil {
		return nil, err
	}
	var out []Course
	var ids []int64
	at := map[int64]int{}
	for _, s := range list {
		if x.Target != "" && s.Target != x.Target {
			continue
		}
		at[s.ID] = len(out)
		ids, out = append(ids, s.ID), append(out, Course{SeriesNow: s})
	}
	if len(ids) == 0 {
		return nil, named(store.ErrNotFound, "reading %s of service %s", x.Name, x.Service)
	}
	// Whole seconds, so that what is drawn does not move with the moment at which it is asked.
	stretch := max(x.Until.Sub(x.From)/time.Duration(x.Points), time.Second).Truncate(time.Second)
	points, err := tx.Points(ids, x.From.Truncate(time.Second), x.Until, stretch)
	if err != nil {
		return nil, err
	}
	for _, p := range points {
		c := &out[at[p.Series]]
		c.Points = append(c.Points, p)
	}
	return out, nil
}
