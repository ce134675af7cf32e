package app

import (
	"context"
	"slices"

	"urgentis/core/access"
	"urgentis/internal/store"
)

// Searches lists the searches for incidents that one kept.
func (a *App) Searches(ctx context.Context, who *access.Principal) ([]store.Search, error) {
	if _, err := see(who); err != nil {
		return nil, err
	}
	return a.store.In(ctx).Searches(who.Name)
}

// KeepSearch keeps a search of one's own.
func (a *App) KeepSearch(ctx context.Context, who *access.Principal, name string, w store.WhichIncidents) error {
	if _, err := see(who); err != nil {
		return err
	}
	if w == (store.WhichIncidents{}) {
		return invalid("search", "a search that narrows nothing need not be kept")
	}
	return a.tx(ctx, func(tx *store.Tx) error {
		kept, err := tx.Searches(who.Name)
		if err != nil {
			return err
		}
		known := slices.ContainsFunc(kept, func(s store.Search) bool { return s.Name == name })
		if !known && len(kept) >= store.MostSearches {
			return invalid("searches", "%d searches are kept already; forget one first", store.MostSearches)
		}
		return tx.KeepSearch(&store.Search{Who: who.Name, Name: name, LooksFor: w})
	})
}

// ForgetSearch forgets a search of one's own.
func (a *App) ForgetSearch(ctx context.Context, who *access.Principal, name string) error {
	if _, err := see(who); err != nil {
		return err
	}
	return named(a.store.In(ctx).ForgetSearch(who.Name, name), "search %s", name)
}
