package engine

import (
	"context"
	"slices"

	"urgentis/core/flow"
	"urgentis/core/leave"
	"urgentis/core/runbook"
	"urgentis/core/task"
	"urgentis/internal/store"
)

func (d *drive) askLeave(ctx context.Context, asks []flow.AskLeave) error {
	now, err := d.e.leavesNow(d.e.Store.In(ctx), d.book, asks)
	if err != nil {
		return err
	}
	for i, ask := range asks {
		d.guards = append(d.guards, guard{ask, now[i]})
		if err := d.takeDerived(ask.Given(now[i], d.e.Now())); err != nil {
			return err
		}
	}
	return nil
}

// leavesNow answers, in one read, whether changes may happen, with the facts as they are.
func (e *Engine) leavesNow(tx *store.Tx, book *runbook.Book, asks []flow.AskLeave) ([]flow.LeaveGiven, error) {
	all := flow.AskLeave{}
	for _, ask := range asks {
		all.Targets = append(all.Targets, ask.Targets...)
		all.Secrets = append(all.Secrets, ask.Secrets...)
		all.Files = append(all.Files, ask.Files...)
	}
	w, err := readLeave(tx, book, all)
	if err != nil {
		return nil, err
	}
	out := make([]flow.LeaveGiven, len(asks))
	for i, ask := range asks {
		out[i] = w.given(ask)
	}
	return out, nil
}

// leaveWorld is all that leave rests on, at one moment.
type leaveWorld struct {
	halted   bool
	stance   leave.Stance
	facts    map[string]task.Facts
	versions map[string]int
	files    map[string]string
}

func readLeave(tx *store.Tx, book *runbook.Book, all flow.AskLeave) (*leaveWorld, error) {
	w := &leaveWorld{facts: map[string]task.Facts{}}
	var err error
	if w.halted, _, err = tx.Halted(); err != nil {
		return nil, err
	}
	service, err := tx.Service(book.Service)
	if err != nil {
		return nil, err
	}
	if service != nil {
		w.stance = leave.Stance(service.Stance)
	}
	facts, err := tx.Facts(unique(all.Targets))
	if err != nil {
		return nil, err
	}
	for _, f := range facts {
		w.facts[f.Name] = f
	}
	if w.versions, err = tx.SecretVersions(unique(all.Secrets)); err != nil {
		return nil, err
	}
	w.files, err = tx.StoredAs(unique(all.Files))
	return w, err
}

func unique(list []string) []string { return slices.Compact(slices.Sorted(slices.Values(list))) }

// given answers for one change.
func (w *leaveWorld) given(ask flow.AskLeave) flow.LeaveGiven {
	q := leave.Question{HasGate: ask.HasGate, Look: ask.Look, Undo: ask.Undo, Halted: w.halted, Stance: w.stance}
	out := flow.LeaveGiven{Facts: []task.Facts{}, Secrets: map[string]int{}, Files: map[string]string{}}
	for _, t := range ask.Targets {
		f, ok := w.facts[t]
		if !ok {
			continue
		}
		if out.Facts = append(out.Facts, f); f.HostKey == "" && t != "" && slices.Contains(ask.NeedsKey, t) {
			q.Unpinned = append(q.Unpinned, t)
		}
	}
	for _, n := range ask.Secrets {
		if out.Secrets[n] = w.versions[n]; w.versions[n] == 0 {
			q.NoSecret = append(q.NoSecret, n)
		}
	}
	for _, n := range ask.Files {
		if w.files[n] == "" {
			q.NoFile = append(q.NoFile, n)
			continue
		}
		out.Files[n] = w.files[n]
	}
	a := leave.Decide(q)
	out.Verdict, out.Reasons, out.Halted = a.Verdict, a.Reasons, a.Halted
	return out
}
