package app

import (
	"context"
	"slices"

	"urgentis/core/access"
	"urgentis/core/runbook"
	"urgentis/core/suggest"
	"urgentis/internal/intake"
	"urgentis/internal/store"
)

// Suggested is what may help with an incident.
type Suggested struct {
	Runbooks []suggest.Suggestion
	// Alike are incidents like it that are over, the newest first.
	Alike []store.PastIncident
}

// mostAlike bounds how many incidents like one are told.
const mostAlike = 5

// Suggest ranks the runbooks that may fit an incident and do not work on it already, and finds incidents like it.
func (a *App) Suggest(ctx context.Context, who *access.Principal, number int64) (*Suggested, error) {
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
	trouble := suggest.Trouble{Service: i.Service}
	for n := range alerts {
		trouble.Alerts = append(trouble.Alerts, intake.Snapshot(&alerts[n]))
	}
	if s, err := tx.Service(i.Service); err != nil {
		return nil, err
	} else if s != nil {
		trouble.DependsOn = s.DependsOn
	}
	before, err := tx.PastIncidents(i.Service, number)
	if err != nil {
		return nil, err
	}
	list, err := a.Runbooks(ctx, who)
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
	var books []*runbook.Book
	for _, r := range list {
		works := slices.ContainsFunc(working, func(w store.Run) bool { return w.Runbook == r.Name })
		if r.Book.Name != "" && !works {
			books = append(books, r.Book)
		}
	}
	out := &Suggested{Alike: []store.PastIncident{}}
	var past []suggest.Past
	seen := map[int64]bool{}
	for _, p := range before {
		alike := isAlike(alerts, p)
		past = append(past, suggest.Past{Runbook: p.Runbook, Outcome: p.Outcome, At: p.At, Alike: alike})
		if alike && !seen[p.Number] && len(out.Alike) < mostAlike {
			seen[p.Number] = true
			out.Alike = append(out.Alike, p)
		}
	}
	out.Runbooks = suggest.Runbooks(trouble, books, past, now())
	return out, nil
}

// isAlike reports whether an incident that is over began with an alert like one of these: of the same source with a key
// of the same shape, or with the same signal.
func isAlike(alerts []store.Alert, p store.PastIncident) bool {
	for _, a := range alerts {
		if p.Signal != "" && a.Labels["signal"] == p.Signal ||
			a.Source == p.Source && suggest.Shape(a.Key) == suggest.Shape(p.Key) {
			return true
		}
	}
	return false
}
