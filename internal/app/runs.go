package app

import (
	"context"
	"fmt"
	"slices"

	"urgentis/core/access"
	"urgentis/core/cases"
	"urgentis/core/flow"
	"urgentis/core/incident"
	"urgentis/core/runbook"
	"urgentis/core/tell"
	"urgentis/internal/engine"
	"urgentis/internal/store"
)

func ofRun(r *store.Run) access.Object {
	return access.Object{Kind: "run", Name: r.ID, Service: r.Service}
}

// canRun loads a run, and asks whether somebody may do something to it.
func (a *App) canRun(tx *store.Tx, who *access.Principal, v access.Verb, id string) (*store.Run, error) {
	r, err := tx.Run(id)
	if err != nil {
		return nil, named(err, "run %s", id)
	}
	return r, access.Can(who, v, ofRun(r))
}

// Runs lists runs, newest first, and says whether there are more.
func (a *App) Runs(
	ctx context.Context,
	who *access.Principal,
	which store.WhichRuns,
	p Page,
) ([]store.Run, bool, error) {
	scope, err := see(who)
	if err != nil {
		return nil, false, err
	}
	list, err := a.store.In(ctx).Runs(scope, which, p.From, p.Limit+1)
	list, more := pageOf(list, p.Limit)
	return list, more, err
}

// Run is one run with its log, and the story that the log tells.
type Run struct {
	store.Run
	Log   []flow.Event
	Story []incident.Entry
	// Going are the looks that are being taken.
	Going []tell.Going
	// Treats are the alerts that it was begun for.
	Treats []store.TreatedAlert
}

// Run reads one run with its log. Where this program cannot read the log there is no story.
func (a *App) Run(ctx context.Context, who *access.Principal, id string) (*Run, error) {
	tx := a.store.In(ctx)
	r, err := a.canRun(tx, who, access.See, id)
	if err != nil {
		return nil, err
	}
	out := &Run{Run: *r}
	if out.Log, err = tx.Log(id, 0); err != nil {
		return nil, err
	}
	if out.Treats, err = tx.TreatedAlerts(id); err != nil {
		return nil, err
	}
	told, err := a.engine.Story(ctx, r, out.Log)
	if err != nil {
		a.log.Warn("tell the story of a run", "run", id, "error", err)
	}
	if out.Story, err = numberedEntries(told); err != nil {
		return nil, err
	}
	if r.EndedAt == nil {
		if s, err := a.engine.ReadLog(ctx, out.Log); err == nil {
			out.Going = tell.GoingOf(s)
		}
	}
	return out, nil
}

// numberedEntries are entries as they would stand in a record of their own.
func numberedEntries(list []store.NewEntry) ([]incident.Entry, error) {
	out := make([]incident.Entry, len(list))
	for i, n := range list {
		out[i] = incident.Entry{Seq: int64(i) + 1, At: n.At.UTC(), Kind: n.Kind, Actor: n.Actor, Run: n.Run,
			Step: n.Step, Title: n.Title}
		var err error
		if out[i].Content, err = incident.ContentOf(n.Content); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// RunState is a run as its log tells it.
func (a *App) RunState(ctx context.Context, who *access.Principal, id string) (*flow.State, error) {
	if _, err := a.canRun(a.store.In(ctx), who, access.See, id); err != nil {
		return nil, err
	}
	return a.engine.Read(ctx, id)
}

// Been is a run's runbook and where the run has been in it.
func (a *App) Been(
	ctx context.Context,
	who *access.Principal,
	id string,
) (*runbook.Book, *runbook.Been, error) {
	s, err := a.RunState(ctx, who, id)
	if err != nil {
		return nil, nil, err
	}
	return s.Book(), tell.Been(s, a.Now()), nil
}

// RunCase is a run as a case of its runbook.
type RunCase struct {
	Runbook, Text string
	// Wrong lists how the case, played, goes another way than the run did.
	Wrong []string
}

// RunCase makes a case of a run that is over, and plays it.
func (a *App) RunCase(ctx context.Context, who *access.Principal, id string) (*RunCase, error) {
	if _, err := a.canRun(a.store.In(ctx), who, access.See, id); err != nil {
		return nil, err
	}
	log, err := a.store.Log(ctx, id, 0)
	if err != nil {
		return nil, err
	}
	book, err := a.engine.BookOf(ctx, log)
	if err != nil {
		return nil, err
	}
	out := &RunCase{Runbook: book.Name}
	if out.Text, err = cases.Of(book, log, "run-"+id, a.engine.Evaluate(ctx)); err != nil {
		return nil, invalid("case", "no case can be made of run %s: %s", id, err)
	}
	set, found := cases.Parse([]byte(out.Text))
	if set == nil {
		out.Wrong = []string{"the case cannot be read again: " + found.Error()}
		return out, nil
	}
	out.Wrong = cases.Play(book, &set.Cases[0], a.engine.Evaluate(ctx)).Wrong
	return out, nil
}

// newest is the newest revision of a runbook, read.
func (a *App) newest(ctx context.Context, name string) (*runbook.Book, error) {
	rev, err := a.store.In(ctx).Newest(name)
	if err != nil {
		return nil, named(err, "runbook %s", name)
	}
	return a.engine.Book(ctx, rev.Revision)
}

// On is what a run is begun on by hand.
type On struct {
	Incident int64 // 0 for none
	// For are the alerts of the incident that it is to treat; nil for those that its starts fit, else the only open
	// one.
	For []string
	// Only is the id or the path of a change that is tried alone; "" for the whole. It treats no alert.
	Only string
}

// StartRun begins a run of the newest revision of a runbook, or of one change of it alone, on an open incident if one
// is named.
func (a *App) StartRun(ctx context.Context, who *access.Principal, name string, given map[string]any, on On,
) (*store.Run, error) {
	b, err := a.newest(ctx, name)
	if err != nil {
		return nil, err
	}
	if err := access.Can(who, access.Start, access.Object{Kind: "runbook", Name: name,
		Service: b.Service}); err != nil {
		return nil, err
	}
	if on.Only != "" {
		if b, err = a.alone(ctx, who, b, on.Only); err != nil {
			return nil, err
		}
	}
	inputs, err := b.AcceptAll(given)
	if err != nil {
		return nil, invalid("inputs", "%s", err)
	}
	start := engine.Start{Book: b, Inputs: inputs, StartedBy: who.Name, Person: who.Owner}
	return a.begin(ctx, who, start, on, true)
}

// alone makes the runbook of which one change is tried alone, and keeps its text for the run.
func (a *App) alone(ctx context.Context, who *access.Principal, b *runbook.Book, step string) (*runbook.Book, error) {
	change := b.Named(step)
	if change == nil {
		return nil, invalid("only", "there is no step %s; give its id or its path", step)
	}
	text, err := b.Alone(change)
	if err != nil {
		return nil, invalid("only", "%s", err)
	}
	only, findings := runbook.Parse(text)
	if only == nil {
		return nil, invalid("only", "the change %q cannot be tried alone: %s", change.Title, findings)
	}
	return only, a.tx(ctx, func(tx *store.Tx) error {
		if err := tx.KeepAlone(only, b.Revision, change.Path); err != nil {
			return err
		}
		return tx.Audit(who.Name, "runbook.alone", b.Name, fmt.Sprintf("only step %s, %q", change.Path, change.Title))
	})
}

// aloneAgain is the newest revision of a runbook, or that of which one change was tried alone, where it is still made
// of the newest: the whole is not begun for a part of it.
func (a *App) aloneAgain(tx *store.Tx, newest *runbook.Book, revision string) (*runbook.Book, error) {
	kept, err := tx.Alone(revision)
	if err != nil || kept == nil {
		return newest, err
	}
	if kept.Of != newest.Revision {
		return nil, &Error{Kind: Conflict, Code: "changed", Says: "one change of it was tried alone, and the runbook " +
			"is another one since: start it anew with --only"}
	}
	only, findings := runbook.Parse([]byte(kept.Text))
	if only == nil {
		return nil, invalid("only", "it cannot be tried alone any more: %s", findings)
	}
	return only, nil
}

// RunAgain begins a run of the newest revision with the inputs of an earlier one.
func (a *App) RunAgain(ctx context.Context, who *access.Principal, id string) (*store.Run, error) {
	tx := a.store.In(ctx)
	old, err := a.canRun(tx, who, access.Start, id)
	if err != nil {
		return nil, err
	}
	log, err := tx.Log(id, 0)
	if err != nil {
		return nil, err
	}
	if len(log) == 0 {
		return nil, named(store.ErrNotFound, "run %s", id)
	}
	begun, _ := log[0].Body.(flow.Begun)
	b, err := a.newest(ctx, begun.Runbook)
	if err != nil {
		return nil, err
	}
	if b, err = a.aloneAgain(tx, b, begun.Revision); err != nil {
		return nil, err
	}
	inputs, err := b.AcceptAll(begun.Inputs)
	if err != nil {
		return nil, invalid("inputs", "the newest revision does not take the same inputs: %s", err)
	}
	start := engine.Start{
		Book: b, Inputs: inputs, Alert: begun.Alert, StartedBy: who.Name, Person: who.Owner, AgainOf: id,
	}
	incident := int64(0)
	if old.Incident != nil {
		incident = *old.Incident
	}
	if start.Treats, err = tx.TreatedBy(id); err != nil {
		return nil, err
	}
	for i := range start.Treats {
		start.Treats[i].How = store.TreatsByHand
	}
	return a.begin(ctx, who, start, On{Incident: incident}, false)
}

// begin begins a run, on an incident if one is named. mustBeOpen refuses one that is closed; else the run is without an
// incident then.
func (a *App) begin(ctx context.Context, who *access.Principal, start engine.Start, on On, mustBeOpen bool,
) (run *store.Run, err error) {
	err = a.write(ctx, func(s *engine.Sheet) error {
		if on.Incident != 0 {
			if start.Incident, err = s.Incident(on.Incident); err != nil {
				return named(err, "incident %d", on.Incident)
			}
			if start.AgainOf == "" && on.Only == "" {
				if start.Treats, err = a.toTreat(s.Tx(), start.Book.Name, on); err != nil {
					return err
				}
			}
			switch {
			case start.Incident.State != "open" && mustBeOpen:
				return &Error{Kind: Conflict, Code: "not-open", Says: "the incident is closed"}
			case start.Incident.State != "open":
				start.Incident = nil
			}
		}
		runs, err := s.Begin(start)
		if err != nil {
			return err
		}
		run = &runs[0]
		return s.Tx().Audit(who.Name, "run.start", run.ID, start.Book.Name)
	})
	return run, err
}

// toTreat are the alerts of an incident that a runbook which is begun by hand is for: those that are named, else those
// that its starts fit, else the only open one. Where the incident never had an alert it is for that.
func (a *App) toTreat(tx *store.Tx, runbook string, on On) ([]store.Treats, error) {
	alerts, more, err := tx.OpenAlertsOf(on.Incident, store.MostAlertsOf)
	if err != nil {
		return nil, err
	}
	treats := func(a *store.Alert) store.Treats { return engine.ForAlert(store.TreatsByHand, a.Snapshot()) }
	var out []store.Treats
	for _, id := range on.For {
		i := slices.IndexFunc(alerts, func(a store.Alert) bool { return a.ID == id })
		if i < 0 {
			return nil, invalid("for", "incident %d has no open alert %s", on.Incident, id)
		}
		out = append(out, treats(&alerts[i]))
	}
	if len(out) > 0 {
		return out, nil
	}
	fits, err := a.intake.Fits(tx, runbook)
	if err != nil {
		return nil, err
	}
	for i := range alerts {
		if fits(alerts[i].Snapshot()) {
			out = append(out, treats(&alerts[i]))
		}
	}
	switch {
	case len(out) > 0:
	case len(alerts) == 1 && more == 0:
		out = append(out, treats(&alerts[0]))
	case len(alerts) == 0:
		out = append(out, store.Treats{How: store.TreatsByHand})
	}
	return out, nil
}

// SettleRun notes that what a run handed over is done with; its incident may end.
func (a *App) SettleRun(ctx context.Context, who *access.Principal, id, because string) error {
	return a.write(ctx, func(s *engine.Sheet) error {
		r, err := s.Tx().Run(id)
		if err != nil {
			return named(err, "run %s", id)
		}
		if err := access.Can(who, access.Respond, ofRun(r)); err != nil {
			return err
		}
		done, err := s.Tx().SettleHandOver(id, who.Name)
		if err != nil {
			return err
		}
		if !done {
			return &Error{
				Kind: Conflict, Code: "nothing-left", Says: "the run handed nothing over that is not done with",
			}
		}
		if err := s.Settled(r, who.Name, because); err != nil {
			return err
		}
		return s.Tx().Audit(who.Name, "run.settle", id, because)
	})
}

// CancelRun stops a run; with undo, what it changed is undone first.
func (a *App) CancelRun(ctx context.Context, who *access.Principal, id, because string, undo bool) error {
	return a.write(ctx, func(s *engine.Sheet) error {
		if _, err := a.canRun(s.Tx(), who, access.Start, id); err != nil {
			return err
		}
		return s.Cancel(id, flow.CancelAsked{By: who.Name, Because: because, Undo: undo})
	})
}

// ResumeRun lets a run go on that was quarantined because instances died of it.
func (a *App) ResumeRun(ctx context.Context, who *access.Principal, id, because string) error {
	return a.write(ctx, func(s *engine.Sheet) error {
		if _, err := a.canRun(s.Tx(), who, access.Start, id); err != nil {
			return err
		}
		return s.Release(id, who.Name, because)
	})
}
