package app

import (
	"context"
	"slices"
	"time"

	"urgentis/core/access"
	"urgentis/core/expr"
	"urgentis/core/links"
	"urgentis/core/objective"
	"urgentis/core/tell"
	"urgentis/internal/store"
)

// ServiceStanding is how a service stands now.
type ServiceStanding struct {
	tell.ServiceStanding
	// Limits are what its objectives ask of readings, the first of each.
	Limits []expr.Limit
	// Links are pages outside, filled in.
	Links []links.Link
}

// mostOpen bounds how many open incidents of a service are looked at.
const mostOpen = 200

// ServiceStanding tells how a service stands; from and until are what pages outside open on.
func (a *App) ServiceStanding(
	ctx context.Context, who *access.Principal, name string, from, until time.Time,
) (*ServiceStanding, error) {
	scope, err := see(who)
	if err != nil {
		return nil, err
	}
	tx := a.store.In(ctx)
	s, err := tx.Service(name)
	if err != nil {
		return nil, err
	}
	if s == nil {
		return nil, named(store.ErrNotFound, "service %s", name)
	}
	open, err := tx.Incidents(scope, store.WhichIncidents{State: "open", Service: name}, 0, mostOpen)
	if err != nil {
		return nil, err
	}
	rows, err := tx.ListObjectives(scope, name)
	if err != nil {
		return nil, err
	}
	out := &ServiceStanding{}
	var f tell.ServiceFacts
	for _, i := range open {
		f.Open = append(f.Open, tell.OpenIncident{
			Number: i.Number, Title: i.Title, Severity: i.Severity, At: i.OpenedAt.UTC(),
		})
	}
	for n := range rows {
		o := standsAt(tx, &rows[n])
		into := &f.Kept
		switch {
		case o.missed():
			into = &f.Missed
		case o.Broken != "" || o.Blind || o.Share == nil:
			into = &f.Blind
		}
		*into = append(*into, o.Title)
		if o.Holds != nil {
			out.limits(o.Holds.Limits(nil))
		}
	}
	out.ServiceStanding = tell.StandingOfService(f)
	out.Links = a.filled(s.Links, links.Sight{Service: name, From: from, Until: until})
	return out, nil
}

// limits takes in what an objective asks of readings; of one reading the first stays.
func (s *ServiceStanding) limits(list []expr.Limit) {
	for _, l := range list {
		same := func(x expr.Limit) bool { return x.Reading == l.Reading }
		if !slices.ContainsFunc(s.Limits, same) {
			s.Limits = append(s.Limits, l)
		}
	}
}

// missed reports whether an objective is missed now: its budget is spent, or burns too fast.
func (o *Objective) missed() bool {
	return o.Broken == "" &&
		(o.Spent() || slices.ContainsFunc(o.Budget.Burns, func(b objective.Burning) bool { return b.On }))
}
