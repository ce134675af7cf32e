package app

import (
	"context"
	"slices"
	"time"

	"urgentis/core/access"
	"urgentis/core/worth"
	"urgentis/internal/store"
)

// Worthy is of what a report tells: of a service, "" of all, and of a time.
type Worthy struct {
	Service     string
	From, Until time.Time
}

// reported is how far back a report goes unless said.
const reported = 30 * 24 * time.Hour

// within fills in what is not said.
func (a *App) within(w *Worthy) error {
	if w.Until.IsZero() {
		w.Until = a.Now()
	}
	if w.From.IsZero() {
		w.From = w.Until.Add(-reported)
	}
	if !w.From.Before(w.Until) {
		return invalid("from", "it must be before until")
	}
	return nil
}

// facts reads the facts of a time.
func (a *App) facts(ctx context.Context, who *access.Principal, service string, from, until time.Time) (
	[]worth.Facts, error,
) {
	scope, err := see(who)
	if err != nil {
		return nil, err
	}
	list, err := a.store.In(ctx).AllFacts(scope, service, from, until)
	if err == nil && len(list) > store.MostFacts {
		return nil, invalid("from", "more than %d incidents were closed in that time; narrow it", store.MostFacts)
	}
	return list, err
}

// Worth reports what incidents cost in time and what runbooks saved.
func (a *App) Worth(ctx context.Context, who *access.Principal, w Worthy) (*worth.Report, error) {
	if err := a.within(&w); err != nil {
		return nil, err
	}
	from := w.From
	if looked := w.Until.Add(-worth.Looked); looked.Before(from) {
		from = looked
	}
	list, err := a.facts(ctx, who, w.Service, from, w.Until)
	if err != nil {
		return nil, err
	}
	books, err := a.Runbooks(ctx, who, WhichRunbooks{Service: w.Service})
	if err != nil {
		return nil, err
	}
	known := make([]worth.Known, len(books))
	for i, b := range books {
		known[i] = worth.Known{Name: b.Name, Since: b.PushedAt}
	}
	return worth.Make(list, known, w.From, w.Until), nil
}

// WorthOf lists the incidents that a figure of a report counts, the newest first.
func (a *App) WorthOf(ctx context.Context, who *access.Principal, w Worthy, figure, of string) ([]worth.Facts, error) {
	if err := a.within(&w); err != nil {
		return nil, err
	}
	list, err := a.facts(ctx, who, w.Service, w.From, w.Until)
	if err != nil {
		return nil, err
	}
	list = worth.Counted(list, figure, of)
	slices.Reverse(list)
	return list, nil
}
