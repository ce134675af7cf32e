package engine

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"

	"urgentis/core/flow"
	"urgentis/core/runbook"
	"urgentis/internal/store"
)

// ErrUnsound marks a runbook that an earlier program took and this one does not.
var ErrUnsound = errors.New("it is not sound under this program")

// Book gives the runbook of a revision, without the other runbooks that it calls.
func (e *Engine) Book(ctx context.Context, revision string) (*runbook.Book, error) {
	return e.bookUnder(ctx, revision, flow.Rules)
}

// boundedSince is the version of the rules since which values from outside must be bounded in the words of a command.
const boundedSince = 4

// bookUnder is Book for a run that was begun under a version of the rules.
func (e *Engine) bookUnder(ctx context.Context, revision string, rules int) (*runbook.Book, error) {
	key, parse := revision, runbook.Parse
	if rules < boundedSince {
		key, parse = "old "+revision, runbook.ParseOld
	}
	if b, ok := e.books.Get(key); ok {
		return b, nil
	}
	r, err := e.Store.In(ctx).RevisionBy(revision)
	if err != nil {
		return nil, fmt.Errorf("read runbook revision %.12s: %w", revision, err)
	}
	b, findings := parse([]byte(r.Text))
	if b == nil {
		return nil, fmt.Errorf("runbook %s: %w: %s", r.Name, ErrUnsound, findings)
	}
	e.books.Add(key, b)
	return b, nil
}

// Linked gives the runbook of a revision with the revisions of the other runbooks that it calls.
func (e *Engine) Linked(ctx context.Context, revision string, calls map[string]string) (*runbook.Book, error) {
	return e.linkedUnder(ctx, revision, calls, flow.Rules)
}

func (e *Engine) linkedUnder(
	ctx context.Context,
	revision string,
	calls map[string]string,
	rules int,
) (*runbook.Book, error) {
	b, err := e.bookUnder(ctx, revision, rules)
	if err != nil || len(calls) == 0 {
		return b, err
	}
	key := revision
	if rules < boundedSince {
		key = "old " + key
	}
	for _, n := range slices.Sorted(maps.Keys(calls)) {
		key += " " + calls[n]
	}
	if l, ok := e.books.Get(key); ok {
		return l, nil
	}
	l, findings := b.Link(func(name string) *runbook.Book {
		c, failed := e.bookUnder(ctx, calls[name], rules)
		if failed != nil {
			err = failed
			return nil
		}
		return c
	})
	if err != nil {
		return nil, err
	}
	if l == nil {
		return nil, fmt.Errorf("runbook %s: %w: %s", b.Name, ErrUnsound, findings)
	}
	e.books.Add(key, l)
	return l, nil
}

// BookOf gives the runbook of a log, with what it calls as it was when the run began.
func (e *Engine) BookOf(ctx context.Context, log []flow.Event) (*runbook.Book, error) {
	if len(log) == 0 {
		return nil, fmt.Errorf("%w: it is empty", errLog)
	}
	b, ok := log[0].Body.(flow.Begun)
	if !ok {
		return nil, fmt.Errorf("%w: it does not begin with run.begun", errLog)
	}
	return e.linkedUnder(ctx, b.Revision, b.Calls, b.Rules)
}

// resolve finds the newest revision of every runbook that a book calls, and of those that they call.
func (e *Engine) resolve(ctx context.Context, b *runbook.Book) (map[string]string, error) {
	if len(b.Calls()) == 0 {
		return nil, nil
	}
	calls := map[string]string{}
	var failed error
	_, findings := b.Link(func(name string) *runbook.Book {
		r, err := e.Store.In(ctx).Newest(name)
		if err != nil {
			if !errors.Is(err, store.ErrNotFound) {
				failed = err
			}
			return nil
		}
		c, err := e.Book(ctx, r.Revision)
		if err != nil {
			failed = err
			return nil
		}
		calls[name] = r.Revision
		return c
	})
	if failed == nil && findings.Failed() {
		failed = findings
	}
	return calls, failed
}
