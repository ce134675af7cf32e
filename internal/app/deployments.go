package app

import (
	"context"
	"slices"
	"time"

	"urgentis/core/access"
	"urgentis/core/alert"
	"urgentis/internal/intake"
	"urgentis/internal/store"
)

// takeDeployments keeps what a source of deployments posts, and starts what starts on them.
func (a *App) takeDeployments(ctx context.Context, s *alert.Source, p alert.Payload) (*Received, error) {
	list, err := s.Deployments(p, now())
	if err != nil {
		return nil, invalid("deployment", "%s", err)
	}
	if err := a.withinRate(s, len(list)); err != nil {
		return nil, err
	}
	out := &Received{Many: true, Taken: []intake.Taken{}, Deployments: []string{}}
	if len(list) == 0 {
		return out, nil
	}
	out.Deployments, err = a.intake.Deployed(ctx, s.Name, list, p, onceIn("in/"+s.Name, p))
	return out, onceError(err)
}

// tryDeployments tells what a payload of deployments says, field by field, without any effect.
func (a *App) tryDeployments(s *alert.Source, p alert.Payload) (*TriedSource, error) {
	list, err := s.Deployments(p, now())
	out := &TriedSource{Items: []TriedItem{}}
	if err != nil {
		out.Finding = err.Error()
		return out, nil
	}
	for _, d := range list {
		item := TriedItem{}
		for _, f := range []struct{ name, value string }{
			{"service", d.Service}, {"version", d.Version}, {"environment", d.Environment}, {"summary", d.Summary},
			{"by", d.By}, {"at", d.At.UTC().Format(time.RFC3339)}, {"link", d.Link},
		} {
			if f.value != "" {
				item.Made = append(item.Made, alert.Made{Field: f.name, Value: f.value, From: "a deployment"})
			}
		}
		item.Report.Severity = alert.Cleared // it raises nothing
		out.Items = append(out.Items, item)
	}
	return out, nil
}

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
	to := now()
	if i.ResolvedAt != nil {
		to = *i.ResolvedAt
	}
	return tx.DeploymentsOf(services, i.OpenedAt.Add(-lookBack), to)
}
