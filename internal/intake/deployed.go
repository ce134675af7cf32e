package intake

import (
	"context"
	"strings"

	"urgentis/core/alert"
	"urgentis/core/expr"
	"urgentis/core/trigger"
	"urgentis/internal/store"
)

// Deployed keeps deployments that a source reported, in one transaction with what starts on them, and gives their ids.
func (in *Intake) Deployed(ctx context.Context, source string, list []alert.Deployment, p alert.Payload,
	once store.Once,
) ([]string, error) {
	var ids []string
	err := in.store.Tx(ctx, func(tx *store.Tx) error {
		before, err := tx.Hear(once)
		if err != nil {
			return err
		}
		if before != nil {
			ids = strings.Fields(*before)
			return nil
		}
		w, err := in.writing(tx, 0)
		if err != nil {
			return err
		}
		w.sources[source] = true
		rows := make([]*store.Deployment, len(list))
		ids = make([]string, len(list))
		for i, d := range list {
			rows[i] = store.NewDeployment(source, d, w.now)
			ids[i] = rows[i].ID
			w.sheet.Changed(store.Feed{Topic: "deployment", Ref: ids[i], Service: d.Service})
		}
		if err := tx.AddDeployments(rows); err != nil {
			return err
		}
		kept := store.NewPayload(p, w.now)
		w.request = kept.ID
		for _, d := range list {
			if err := w.onDeployment(&d); err != nil {
				return err
			}
		}
		if len(w.firings) > 0 {
			if err := store.Add(w.sheet.Bulk, []*store.Payload{kept}); err != nil {
				return err
			}
		}
		if err := tx.Answered(once, strings.Join(ids, " ")); err != nil {
			return err
		}
		return w.flush()
	})
	return ids, err
}

// onDeployment begins what starts on a deployment.
func (w *writing) onDeployment(d *alert.Deployment) error {
	names := map[string]any{"deployment": d.Expression()}
	for _, which := range w.index.order {
		s := w.index.starts[which]
		if s.Deployment == nil {
			continue
		}
		v := &trigger.Verdict{Runbook: which.Runbook, Name: which.Start}
		ok, err := s.Deployment.Bool(&expr.Scope{Names: names})
		if err != nil {
			v.Error = err.Error()
			w.fire(*v, nil, nil, store.FiredBack)
		}
		if !ok {
			continue
		}
		w.names = names
		if err := w.begin(v, nil, nil, 1); err != nil {
			return err
		}
	}
	return nil
}
