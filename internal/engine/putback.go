package engine

import (
	"context"
	"errors"
	"sync"
	"time"

	"github.com/jackc/pgx/v5/pgconn"

	"urgentis/core/flow"
	"urgentis/core/route"
	"urgentis/internal/store"
)

// dbSeen is what this instance saw of the database, to notice where it is put back to an older state: what was written
// there last, a change that was begun, is gone then, and beginning it again would be a second time.
type dbSeen struct {
	heard time.Time // when it answered last, by its own clock; of the goroutine that beats
	told  bool      // that it cannot be compared
	mu    sync.Mutex
	mark  store.LogMark // how far it has kept what was written here
}

// saw notes how far the database has kept what was written here. What another server says than the one that it was
// compared with says nothing yet.
func (d *dbSeen) saw(m store.LogMark) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if m.Began.Equal(d.mark.Began) {
		d.mark.At = max(d.mark.At, m.At)
	}
}

// server is when the server began that was compared last; zero before the first.
func (d *dbSeen) server() time.Time {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.mark.Began
}

// lost reports whether a server knows less than another one had kept.
func (d *dbSeen) lost(is store.Server) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	return !d.mark.Began.IsZero() && d.goesOn(is) < d.mark.At
}

// goesOn is from which place on a server goes on: where it recovered as it began, or, where it stood by while another
// served, where it is now.
func (d *dbSeen) goesOn(is store.Server) int64 {
	if is.Began.Before(d.heard) {
		return is.At
	}
	return is.Start
}

// goOnWith goes on with a server that was compared.
func (d *dbSeen) goOnWith(is store.Server) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.mark = store.LogMark{Began: is.Began, At: d.goesOn(is)}
}

// compare notices, before the first beat to a server that began anew, whether it knows less than it did. No instance
// begins a change before all that may know were heard.
func (e *Engine) compare(ctx context.Context, pulse *store.Pulse) error {
	is, err := pulse.Server(ctx)
	var refused *pgconn.PgError
	if errors.As(err, &refused) && refused.Code == "42501" { // insufficient privilege
		if !e.db.told {
			e.db.told = true
			e.Log.Warn("whether the database is put back to an older state cannot be seen", "error", err)
		}
		return nil
	}
	if err != nil || is.Began.Equal(e.db.server()) {
		return err
	}
	if e.db.lost(is) {
		if err := e.putBack(ctx, e.name()); err != nil {
			return err
		}
	}
	e.db.goOnWith(is)
	return nil
}

// itself is who halts changes where no person did.
const itself = "urgentis"

// putBack halts all changes, because the database was put back to an older state, and has this instance,
// which had a name, begin anew under another: it goes on by nothing that it remembers.
func (e *Engine) putBack(ctx context.Context, name string) error {
	e.Log.Error("the database was put back to an older state; all changes are halted")
	return e.Write(ctx, func(s *Sheet) error {
		first, err := s.tx.PutBack(name, itself)
		if err != nil || !first {
			return err
		}
		const text = "All changes are halted: the database was put back to an older state, and what was begun " +
			"shortly before is not known. Look at what was under way, and let changes go on when you know it. " +
			"Runs from before ask again before each change."
		if err := s.tx.Audit(itself, "halt", "", text); err != nil {
			return err
		}
		s.Changed(store.Feed{Topic: "halt", Ref: "halt"})
		return s.Notify(Notice{Kind: route.HaltChanged, Key: store.NewID("halt"), Text: text, Link: e.Link})
	})
}

// noticePutBack tells a run that the database was put back to an older state while it was under way.
func (d *drive) noticePutBack(at time.Time) error {
	at = at.UTC()
	if s := d.m.State(); at.IsZero() || s.BegunAt.After(at) || s.PutBackAt().Equal(at) || s.Ended != nil {
		return nil
	}
	return d.takeDerived(flow.Event{At: d.e.Now(), Body: flow.PutBack{At: at}})
}
