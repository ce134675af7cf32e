package engine

import (
	"context"

	"urgentis/core/flow"
	"urgentis/core/leave"
	"urgentis/core/runbook"
	"urgentis/internal/store"
)

func (d *drive) askLeave(ctx context.Context, asks []flow.AskLeave) error {
	for _, ask := range asks {
		given, err := d.e.leaveNow(d.e.Store.In(ctx), d.book, ask)
		if err != nil {
			return err
		}
		d.guards = append(d.guards, guard{ask, given})
		if err := d.takeDerived(ask.Given(given, d.e.now())); err != nil {
			return err
		}
	}
	return nil
}

// leaveNow answers whether a change may happen, with the facts as they are.
func (e *Engine) leaveNow(tx *store.Tx, book *runbook.Book, ask flow.AskLeave) (flow.LeaveGiven, error) {
	q := leave.Question{HasGate: ask.HasGate, Look: ask.Look, Undo: ask.Undo}
	var err error
	if q.Halted, _, err = tx.Halted(); err != nil {
		return flow.LeaveGiven{}, err
	}
	service, err := tx.Service(book.Service)
	if err != nil {
		return flow.LeaveGiven{}, err
	}
	if service != nil {
		q.Stance = leave.Stance(service.Stance)
	}
	facts, err := tx.Facts(ask.Targets)
	if err != nil {
		return flow.LeaveGiven{}, err
	}
	needs := map[string]bool{}
	for _, t := range ask.NeedsKey {
		needs[t] = true
	}
	for _, f := range facts {
		if f.HostKey == "" && f.Name != "" && needs[f.Name] {
			q.Unpinned = append(q.Unpinned, f.Name)
		}
	}
	versions, err := tx.SecretVersions(ask.Secrets)
	if err != nil {
		return flow.LeaveGiven{}, err
	}
	for _, n := range ask.Secrets {
		if versions[n] == 0 {
			q.NoSecret = append(q.NoSecret, n)
		}
	}
	files, err := tx.StoredAs(ask.Files)
	if err != nil {
		return flow.LeaveGiven{}, err
	}
	for _, n := range ask.Files {
		if files[n] == "" {
			q.NoFile = append(q.NoFile, n)
		}
	}
	a := leave.Decide(q)
	return flow.LeaveGiven{
		Verdict: a.Verdict,
		Reasons: a.Reasons,
		Halted:  a.Halted,
		Facts:   facts,
		Secrets: versions,
		Files:   files,
	}, nil
}
