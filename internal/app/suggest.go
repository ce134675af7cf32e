package app

import (
	"context"
	"slices"

	"urgentis/core/access"
	"urgentis/core/runbook"
	"urgentis/core/suggest"
	"urgentis/internal/engine"
	"urgentis/internal/store"
)

// Suggest ranks the runbooks that may fit an incident and do not work on it already, and finds incidents like it.
func (a *App) Suggest(ctx context.Context, who *access.Principal, number int64) (*engine.Suggested, error) {
	tx := a.store.In(ctx)
	i, err := tx.Incident(number)
	if err != nil {
		return nil, named(err, "incident %d", number)
	}
	if err := access.Can(who, access.See, ofIncident(i)); err != nil {
		return nil, err
	}
	alerts, err := tx.AlertsOf(number)
	if err != nil {
		return nil, err
	}
	scope, err := see(who)
	if err != nil {
		return nil, err
	}
	working, err := tx.Runs(scope, store.WhichRuns{Active: true, Incident: number}, store.Place{}, maxLookRuns)
	if err != nil {
		return nil, err
	}
	books, err := a.booksBut(ctx, who, working)
	if err != nil {
		return nil, err
	}
	return engine.Suggest(tx, i.Service, alerts, books, number, a.Now())
}

// SuggestForAlert ranks the runbooks that may fit one alert, whatever became of it.
func (a *App) SuggestForAlert(ctx context.Context, who *access.Principal, id string) (*engine.Suggested, error) {
	row, err := a.visibleAlert(ctx, who, id)
	if err != nil {
		return nil, err
	}
	books, err := a.booksBut(ctx, who, nil)
	if err != nil {
		return nil, err
	}
	but := int64(0)
	if row.Incident != nil {
		but = *row.Incident
	}
	return engine.Suggest(a.store.In(ctx), row.Service, []store.Alert{*row}, books, but, a.Now())
}

// SuggestForService ranks the runbooks that may fit a service as it is now: by its open alerts, and by what ended its
// incidents before.
// target and reading are what of it is looked at, "" for all.
func (a *App) SuggestForService(
	ctx context.Context, who *access.Principal, name, target, reading string,
) (*engine.Suggested, error) {
	if err := access.Can(who, access.See, access.Object{Kind: "service", Name: name, Service: name}); err != nil {
		return nil, err
	}
	tx := a.store.In(ctx)
	if known, err := tx.Service(name); err != nil {
		return nil, err
	} else if known == nil {
		return nil, named(store.ErrNotFound, "service %s", name)
	}
	scope, err := see(who)
	if err != nil {
		return nil, err
	}
	alerts, err := tx.Alerts(scope, store.WhichAlerts{State: "open", Service: name}, store.Place{}, maxSuggesting)
	if err != nil {
		return nil, err
	}
	books, err := a.booksBut(ctx, who, nil)
	if err != nil {
		return nil, err
	}
	about := suggest.Trouble{Service: name, Reading: reading}
	if target != "" {
		row, err := tx.Target(target)
		if err == nil && row.Service != name {
			err = store.ErrNotFound
		}
		if err != nil {
			return nil, named(err, "target %s of the service %s", target, name)
		}
		about.Target, about.Labels = target, row.Labels
	}
	return engine.SuggestAbout(tx, about, alerts, books, 0, a.Now())
}

// maxSuggesting bounds on how many alerts of a service suggestions rest.
const maxSuggesting = 100

// booksBut are the runbooks that somebody may see and that can be read, without those of some runs.
func (a *App) booksBut(ctx context.Context, who *access.Principal, working []store.Run) ([]*runbook.Book, error) {
	list, err := a.Runbooks(ctx, who, WhichRunbooks{})
	if err != nil {
		return nil, err
	}
	var books []*runbook.Book
	for _, r := range list {
		works := slices.ContainsFunc(working, func(w store.Run) bool { return w.Runbook == r.Name })
		if r.Book.Name != "" && !works {
			books = append(books, r.Book)
		}
	}
	return books, nil
}
