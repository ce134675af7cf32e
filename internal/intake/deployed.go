package intake

import (
	"context"

	"urgentis/core/expr"
	"urgentis/core/source"
	"urgentis/core/trigger"
	"urgentis/internal/store"
)

// Deployment is a deployment as it is taken.
type Deployment struct {
	source.Deployment
	Once store.Once
}

// Deployed keeps deployments that a source reported, in one transaction with what starts on them, and gives their ids:
// of one that was reported before the id that it has.
func (in *Intake) Deployed(
	ctx context.Context, from string, list []Deployment, p source.Payload,
) (ids []string, err error) {
	err = in.store.Tx(ctx, func(tx *store.Tx) error {
		w, err := in.writing(tx, 0)
		if err != nil {
			return err
		}
		w.keep.sources[from] = true
		ids = make([]string, len(list))
		var rows []*store.Deployment
		var fresh []Deployment
		for i, d := range list {
			before, err := tx.Hear(d.Once)
			if err != nil {
				return err
			}
			if before != nil {
				ids[i] = *before
				continue
			}
			row := store.NewDeployment(from, d.Deployment, w.now)
			ids[i], rows, fresh = row.ID, append(rows, row), append(fresh, d)
			w.sheet.Changed(store.Feed{Topic: "deployment", Ref: row.ID, Service: d.Service})
			if err := tx.Answered(d.Once, row.ID); err != nil {
				return err
			}
		}
		if len(rows) == 0 {
			return nil
		}
		if err := tx.AddDeployments(rows); err != nil {
			return err
		}
		kept := store.NewPayload(p, w.now)
		for _, d := range fresh {
			if err := w.starts.onDeployment(&d.Deployment, kept.ID); err != nil {
				return err
			}
		}
		if len(w.starts.firings) > 0 {
			if err := store.Add(w.sheet.Bulk, []*store.Payload{kept}); err != nil {
				return err
			}
		}
		return w.flush()
	})
	return ids, err
}

// onDeployment begins what starts on a deployment, with the payload that it came with.
func (s *starting) onDeployment(d *source.Deployment, payload string) error {
	on := occasion{names: deploymentNames(d), payload: payload}
	for _, v := range s.index.onDeployment(d) {
		switch {
		case v.Error != "":
			s.fire(v, on, store.FiredBack)
		case v.Started:
			if err := s.begin(&v, on); err != nil {
				return err
			}
		}
	}
	return nil
}

// WouldStartOn tells what a deployment would start, without any effect.
func (in *Intake) WouldStartOn(ctx context.Context, d *source.Deployment) ([]trigger.Verdict, error) {
	l, err := in.loaded(ctx)
	if err != nil {
		return nil, err
	}
	return l.onDeployment(d), nil
}

// onDeployment tells of each start on deployments whether it is for one.
func (l *loaded) onDeployment(d *source.Deployment) []trigger.Verdict {
	out := []trigger.Verdict{}
	for _, which := range l.order {
		s := l.starts[which]
		if s.Deployment == nil {
			continue
		}
		v := trigger.Verdict{Runbook: which.Runbook, Name: which.Start}
		var err error
		if v.Started, err = s.Deployment.Bool(&expr.Scope{Names: deploymentNames(d)}); err != nil {
			v.Error = err.Error()
		}
		out = append(out, v)
	}
	return out
}

func deploymentNames(d *source.Deployment) map[string]any {
	return map[string]any{"deployment": d.Expression()}
}
