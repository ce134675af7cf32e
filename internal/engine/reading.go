package engine

import (
	"context"
	"time"

	"urgentis/core/flow"
	"urgentis/core/runbook"
	"urgentis/internal/act"
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
	return e.ReadLog(ctx, log)
}

// ReadLog reads a log as far as it goes.
func (e *Engine) ReadLog(ctx context.Context, log []flow.Event) (*flow.State, error) {
	book, err := e.BookOf(ctx, log)
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
	b := st.Begun("rehearsal", est)
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

// Leave judges whether a change may happen as everything stands now.
func (e *Engine) Leave(ctx context.Context, book *runbook.Book, ask flow.AskLeave) (flow.LeaveGiven, error) {
	given, err := e.leavesNow(e.Store.In(ctx), book, []flow.AskLeave{ask})
	if err != nil {
		return flow.LeaveGiven{}, err
	}
	return given[0], nil
}

// LookOnly takes one look outside of any run. Nothing of it is kept. sealed are the marks of what its run keeps out of
// every record.
func (e *Engine) LookOnly(
	ctx context.Context, book *runbook.Book, in flow.Intent, now time.Time, sealed []string,
) flow.Outcome {
	head := func(_ context.Context, text string, c act.Captured) flow.Output { return headAndTail(text, c) }
	out := e.carryOut(ctx, &store.Run{ID: "rehearsal"}, book, in.Look, in, sealed, beside{}, head)
	for n, t := range out.Readings {
		t.At = now
		out.Readings[n] = t
	}
	return out
}

// LookFor takes one look for what only keeps watch: nothing of what is printed is kept, and no run waits for its
// evaluations.
func (e *Engine) LookFor(ctx context.Context, looks *runbook.Book, in flow.Intent, w *Watching) flow.Outcome {
	return e.carryOut(ctx, &store.Run{ID: "watch"}, looks, in.Look, in, nil, beside{watch: w}, nil)
}
