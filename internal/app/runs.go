package app

import (
	"context"
	"time"

	"urgentis/core/access"
	"urgentis/core/cases"
	"urgentis/core/flow"
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
	Story []store.NewEntry
	// Going are the looks that are being taken.
	Going []tell.Going
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
	if out.Story, err = a.engine.Story(ctx, r, out.Log); err != nil {
		a.log.Warn("tell the story of a run", "run", id, "error", err)
	}
	if r.EndedAt == nil {
		if s, err := a.engine.ReadLog(ctx, out.Log); err == nil {
			out.Going = tell.GoingOf(s)
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
	return s.Book(), tell.Been(s, time.Now()), nil
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

// StartRun begins a run of the newest revision of a runbook, on an open incident if its number is not 0.
func (a *App) StartRun(ctx context.Context, who *access.Principal, name string, given map[string]any, incident int64,
) (*store.Run, error) {
	b, err := a.newest(ctx, name)
	if err != nil {
		return nil, err
	}
	if err := access.Can(who, access.Start, access.Object{Kind: "runbook", Name: name,
		Service: b.Service}); err != nil {
		return nil, err
	}
	inputs, err := b.AcceptAll(given)
	if err != nil {
		return nil, invalid("inputs", "%s", err)
	}
	start := engine.Start{Book: b, Inputs: inputs, StartedBy: who.Name, Person: who.Owner}
	return a.begin(ctx, who, start, incident, true)
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
	return a.begin(ctx, who, start, incident, false)
}

// begin begins a run, on an incident if its number is not 0. mustBeOpen refuses one that is closed; else the run is
// without an incident then.
func (a *App) begin(ctx context.Context, who *access.Principal, start engine.Start, incident int64, mustBeOpen bool,
) (run *store.Run, err error) {
	err = a.write(ctx, func(s *engine.Sheet) error {
		if incident != 0 {
			if start.Incident, err = s.Incident(incident); err != nil {
				return named(err, "incident %d", incident)
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

// CancelRun stops a run; with undo, what it changed is taken back first.
func (a *App) CancelRun(ctx context.Context, who *access.Principal, id, because string, undo bool) error {
	return a.write(ctx, func(s *engine.Sheet) error {
		if _, err := a.canRun(s.Tx(), who, access.Start, id); err != nil {
			return err
		}
		return s.Cancel(id, flow.CancelAsked{By: who.Name, Because: because, Undo: undo})
	})
}

// ReleaseRun lets a run go on that was set aside because instances died of it.
func (a *App) ReleaseRun(ctx context.Context, who *access.Principal, id, because string) error {
	return a.write(ctx, func(s *engine.Sheet) error {
		if _, err := a.canRun(s.Tx(), who, access.Start, id); err != nil {
			return err
		}
		return s.Release(id, who.Name, because)
	})
}
