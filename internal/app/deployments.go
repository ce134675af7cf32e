package app

import (
	"context"
	"slices"
	"time"

	"urgentis/core/access"
	"urgentis/internal/store"
)

// Deployments lists deployments, newest first; service "" is every service.
func (a *App) Deployments(ctx context.Context, who *access.Principal, service string) ([]store.Deployment, error) {
	scope, err := see(who)
	if err != nil {
		return nil, err
	}
	return a.store.In(ctx).Deployments(scope, service)
}

// lookBack is how long before an incident deployments are of interest.
const lookBack = 24 * time.Hour

// deploymentsOf are those of an incident's services from a day before it was opened until it was closed.
func (a *App) deploymentsOf(tx *store.Tx, i *Incident) ([]store.Deployment, error) {
	services := []string{}
	add := func(s string) {
		if s != "" && !slices.Contains(services, s) {
			services = append(services, s)
		}
	}
	add(i.Service)
	for _, x := range i.Alerts {
		add(x.Service)
	}
	to := a.Now()
	if i.ClosedAt != nil {
		to = *i.ClosedAt
	}
	return tx.DeploymentsOf(services, i.OpenedAt.Add(-lookBack), to)
}
