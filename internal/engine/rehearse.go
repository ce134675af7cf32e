package engine

import (
	"context"
	"fmt"
	"time"

	"urgentis/core/expr"
	"urgentis/core/flow"
	"urgentis/core/leave"
	"urgentis/core/runbook"
	"urgentis/internal/store"
)

// Read gives a run's log, read.
func (e *Engine) Read(ctx context.Context, run string) (*flow.State, error) {
	log, err := e.Store.Log(ctx, run, 0)
	if err != nil {
		return nil, err
	}
	if len(log) == 0 {
		return nil, store.ErrNotFound
	}
	book, err := e.bookOf(ctx, log)
	if err != nil {
		return nil, err
	}
	return flow.Fold(book, log)
}

// Pretend makes the beginning of a run that is only played, with the estate as it is, and links its runbook.
func (e *Engine) Pretend(ctx context.Context, st Start) (flow.Begun, *runbook.Book, error) {
	est, err := readEstate(e.Store.In(ctx), st.Book)
	if err != nil {
		return flow.Begun{}, nil, err
	}
	b := flow.Begun{
		Rules:     flow.Rules,
		Run:       "rehearsal",
		Runbook:   st.Book.Name,
		Revision:  st.Book.Revision,
		Inputs:    st.Inputs,
		Alert:     st.Alert,
		Service:   est.service,
		Estate:    est.targets,
		StartedBy: st.StartedBy,
	}
	if b.Calls, err = e.resolve(ctx, st.Book); err != nil {
		return b, nil, err
	}
	linked := st.Book
	if len(b.Calls) > 0 {
		var found runbook.Findings
		var failed error
		linked, found = st.Book.Link(func(name string) *runbook.Book {
			c, err := e.Book(ctx, b.Calls[name])
			if err != nil {
				failed = err
			}
			return c
		})
		if failed != nil {
			return b, nil, failed
		}
		if linked == nil {
			return b, nil, found
		}
	}
	return b, linked, nil
}

// InputsFrom renders the inputs that the first start of a runbook whose condition holds would give.
func (e *Engine) InputsFrom(b *runbook.Book, alert map[string]any) map[string]any {
	sc := &expr.Scope{Alert: alert}
	for _, st := range b.Starts {
		if ok, err := st.Alert.Bool(sc); err != nil || !ok {
			continue
		}
		given := map[string]any{}
		for name, t := range st.Inputs {
			if v, err := t.Value(sc); err == nil {
				given[name] = v
			}
		}
		return given
	}
	return nil
}

// Played is a rehearsal.
type Played struct {
	Log     []flow.Event
	Stopped string // why it did not come to an end; "" where it did
}

// maxRehearsed bounds the looks of a rehearsal.
const maxRehearsed = 200

// maxAfterChange bounds the looks after a change that was only assumed: they cannot show what it did.
const maxAfterChange = 3

// Rehearse plays a runbook: looks are taken for real, changes are assumed to happen, gates to be approved.
func (e *Engine) Rehearse(ctx context.Context, book *runbook.Book, begun flow.Begun) (*Played, error) {
	assumed, after := false, 0
	stage := flow.Stage{Book: book, Begun: begun, Now: e.now(), Limit: maxRehearsed,
		Do: func(in flow.Intent, now time.Time) flow.Outcome {
			if in.Change {
				assumed = true
				return flow.Outcome{Attempt: in.Attempt, State: flow.OK}
			}
			return e.lookOnly(ctx, book, in, now)
		},
		Leave: func(a flow.AskLeave) flow.LeaveGiven {
			given, err := e.leave(e.Store.In(ctx), book, a)
			if err != nil {
				return flow.LeaveGiven{Verdict: leave.No, Reasons: []string{err.Error()}}
			}
			return given
		},
		Decide: func(g flow.GateRaised) *flow.GateDecided {
			return &flow.GateDecided{Gate: g.Gate, Approved: true, By: "assumed", Digest: g.Digest}
		},
	}
	do := stage.Do
	stage.Do = func(in flow.Intent, now time.Time) flow.Outcome {
		if assumed && !in.Change {
			if after++; after > maxAfterChange {
				return flow.Outcome{
					Attempt: in.Attempt,
					State:   flow.Failed,
					Error:   "not taken: looks cannot show what a change did that was only assumed",
				}
			}
		}
		return do(in, now)
	}
	log, stopped, err := stage.Play()
	return &Played{log, stopped}, err
}

// lookOnly takes one look outside of any run. Nothing of it is kept.
func (e *Engine) lookOnly(ctx context.Context, book *runbook.Book, in flow.Intent, now time.Time) flow.Outcome {
	ev := e.attempt(ctx, &store.Run{ID: "rehearsal"}, book, in.Look, in, nil)
	out, _ := ev.Body.(flow.Outcome)
	for n, t := range out.Readings {
		t.At = now
		out.Readings[n] = t
	}
	return out
}

// Try renders one step with values given by hand, and carries it out if it is a look and run is set.
func (e *Engine) Try(
	ctx context.Context,
	book *runbook.Book,
	begun flow.Begun,
	step *runbook.Step,
	readings map[string]any,
	run bool,
) ([]flow.Rendered, error) {
	lines, err := flow.RenderStep(book, begun, step, readings, e.now())
	if err != nil {
		return nil, err
	}
	if !run {
		return lines, nil
	}
	if step.Verb != runbook.Look {
		return nil, fmt.Errorf("step %s is a %s: only looks are carried out here", step.Path, step.Verb)
	}
	for i, l := range lines {
		if l.Request == nil {
			continue
		}
		l.Request.Looks = step.OnlyReads == ""
		o := e.lookOnly(
			ctx,
			book,
			flow.Intent{Attempt: store.NewID("t"), Target: l.Target, Look: step.Path, Request: *l.Request},
			e.now(),
		)
		lines[i].Says = saysOutcome(o)
	}
	return lines, nil
}

func saysOutcome(o flow.Outcome) string {
	says := o.State
	if o.Error != "" {
		says += ": " + o.Error
	}
	for n, t := range o.Readings {
		says += fmt.Sprintf("\n%s = %s %s", n, expr.Say(t.Value), t.Unit)
	}
	for n, why := range o.Missing {
		says += fmt.Sprintf("\n%s is missing: %s", n, why)
	}
	if o.Output.Head != "" {
		says += "\n" + o.Output.Head
	}
	return says
}
