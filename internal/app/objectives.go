package app

import (
	"context"
	"time"

	"urgentis/core/access"
	"urgentis/core/objective"
	"urgentis/internal/intake"
	"urgentis/internal/store"
)

// Watch is a scheduled look, and how it went last.
type Watch struct {
	store.Scheduled
	// Readings are what it reads.
	Readings []string
}

// Watches lists scheduled looks by name; service "" is every service.
func (a *App) Watches(ctx context.Context, who *access.Principal, service string) ([]Watch, error) {
	scope, err := see(who)
	if err != nil {
		return nil, err
	}
	tx := a.store.In(ctx)
	rows, err := tx.ListScheduled(scope, service)
	if err != nil {
		return nil, err
	}
	out := make([]Watch, len(rows))
	for i, r := range rows {
		out[i].Scheduled = r
		if w, err := a.looker.WatchOf(tx, r); err == nil {
			out[i].Readings = w.Looks.ReadingNames()
		} else {
			out[i].Trouble = err.Error()
		}
	}
	return out, nil
}

// Objective is an objective, and how it stands.
type Objective struct {
	Row *store.Objective
	*objective.Objective
	objective.Budget
	// Broken says why it cannot be read under this program; "" where it can.
	Broken string
}

// Objectives lists objectives with how they stand; service "" is every service.
func (a *App) Objectives(ctx context.Context, who *access.Principal, service string) ([]Objective, error) {
	scope, err := see(who)
	if err != nil {
		return nil, err
	}
	tx := a.store.In(ctx)
	rows, err := tx.ListObjectives(scope, service)
	if err != nil {
		return nil, err
	}
	out := make([]Objective, len(rows))
	for i := range rows {
		out[i] = standsAt(tx, &rows[i])
	}
	return out, nil
}

// standsAt tells how an objective stands, as it was measured last.
func standsAt(tx *store.Tx, row *store.Objective) Objective {
	out := Objective{Row: row}
	var err error
	if out.Objective, out.Budget, err = intake.Budget(tx, row); err != nil {
		out.Broken = err.Error()
		out.Objective = &objective.Objective{Name: row.Name, Service: row.Service, Title: row.Name}
	}
	return out
}

// ObjectiveCourse gives an objective over a time: what it came to, and what was left of its budget.
func (a *App) ObjectiveCourse(
	ctx context.Context, who *access.Principal, name string, from, until time.Time, points int,
) ([]objective.Point, error) {
	tx := a.store.In(ctx)
	row, err := tx.Objective(name)
	if err != nil {
		return nil, named(err, "objective %s", name)
	}
	if err := access.Can(who, access.See,
		access.Object{Kind: "objective", Name: name, Service: row.Service}); err != nil {
		return nil, err
	}
	if !until.After(from) || until.Sub(from) > maxMarked {
		return nil, invalid("until", "until is after from, by %d days at most", int(maxMarked.Hours()/24))
	}
	if points < 1 || points > maxPoints {
		return nil, invalid("points", "points are from 1 to %d", maxPoints)
	}
	o, _, err := intake.Budget(tx, row)
	if err != nil {
		return nil, err
	}
	stretch := max(until.Sub(from)/time.Duration(points), objective.Step).Truncate(objective.Step)
	from = from.Truncate(objective.Step)
	// What was left at a point rests on the whole window before it.
	begin, _ := o.Window.Around(from)
	begin = from.Add(-from.Sub(begin).Truncate(stretch) - stretch)
	rows, err := tx.Indicated(name, begin, until, stretch)
	if err != nil {
		return nil, err
	}
	sums := make([]objective.Sum, len(rows))
	for i, r := range rows {
		sums[i] = objective.Sum{From: r.At.UTC(), Good: r.Good, Bad: r.Bad,
			Known: time.Duration(r.Span * float64(time.Second))}
	}
	return o.Course(sums, from, stretch), nil
}
