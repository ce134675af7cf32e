package engine

import (
	"slices"
	"time"

	"urgentis/core/alert"
	"urgentis/core/runbook"
	"urgentis/core/suggest"
	"urgentis/internal/store"
)

// Suggested is what may help with a trouble.
type Suggested struct {
	Runbooks []suggest.Suggestion
	// Alike are incidents like it that are over, the newest first.
	Alike []store.PastIncident
}

// mostAlike bounds how many incidents like one are told.
const mostAlike = 5

// Suggest ranks runbooks for a service with alerts, and finds incidents like it that are over; but is left out.
func Suggest(
	tx *store.Tx, service string, alerts []store.Alert, books []*runbook.Book, but int64, now time.Time,
) (*Suggested, error) {
	return SuggestAbout(tx, suggest.Trouble{Service: service}, alerts, books, but, now)
}

// SuggestAbout is Suggest where a target or a reading is looked at: the trouble says which.
func SuggestAbout(
	tx *store.Tx, trouble suggest.Trouble, alerts []store.Alert, books []*runbook.Book, but int64, now time.Time,
) (*Suggested, error) {
	service := trouble.Service
	for n := range alerts {
		trouble.Alerts = append(trouble.Alerts, alerts[n].Snapshot())
	}
	if s, err := tx.Service(service); err != nil {
		return nil, err
	} else if s != nil {
		trouble.DependsOn = s.DependsOn
	}
	before, err := tx.PastIncidents(service, but)
	if err != nil {
		return nil, err
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
	out.Runbooks = suggest.Runbooks(trouble, books, past, now)
	return out, nil
}

// isAlike reports whether an incident that is over began with an alert like one of these: of the same source with a key
// of the same shape, or with the same signal.
func isAlike(alerts []store.Alert, p store.PastIncident) bool {
	return slices.ContainsFunc(alerts, func(a store.Alert) bool {
		return p.Signal != "" && a.Labels["signal"] == p.Signal ||
			a.Source == p.Source && alert.Shape(a.Key) == alert.Shape(p.Key)
	})
}

// CurrentBooks are the runbooks as they are now; those that this program cannot read are left out.
func (e *Engine) CurrentBooks(tx *store.Tx) ([]*runbook.Book, error) {
	rows, err := tx.Current()
	if err != nil {
		return nil, err
	}
	var out []*runbook.Book
	for _, r := range rows {
		if b, err := e.Book(tx.Context(), r.Revision); err == nil {
			out = append(out, b)
		}
	}
	return out, nil
}
