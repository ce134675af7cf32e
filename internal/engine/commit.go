package engine

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"github.com/cenkalti/backoff/v5"

	"urgentis/core/flow"
	"urgentis/core/leave"
	"urgentis/internal/store"
)

type guard struct {
	ask   flow.AskLeave
	given flow.LeaveGiven
}

// maxRefusals is how often what the database refuses is tried, each time on the log as it is then.
const maxRefusals = 3

var errFacts = errors.New("the facts have moved on")

// takeBack drops what could not be written down, reads on, and takes in again what is known and not on disk.
func (d *drive) takeBack(ctx context.Context) error {
	return d.e.Closely(ctx, "run", d.run.ID, func() error {
		d.m.Discard()
		d.pending, d.begins, d.guards, d.want = nil, nil, nil, nil
		if err := d.readOn(ctx); err != nil {
			return err
		}
		facts := d.facts
		d.facts = nil
		for _, f := range facts {
			if _, _, over, ok := d.m.State().Attempt(attemptOf(f.Body)); ok && !over {
				f, err := d.m.Append(f)
				if err != nil {
					return fmt.Errorf("%w: %w", errLog, err)
				}
				d.facts, d.pending = append(d.facts, f), append(d.pending, f)
			}
		}
		at, err := d.e.Store.In(ctx).PutBackAt()
		if err != nil {
			return err
		}
		return d.noticePutBack(at) // which is no fact of an attempt
	})
}

// readOn takes in what others wrote into the log. All that is known must be on disk.
func (d *drive) readOn(ctx context.Context) error {
	log, err := d.e.Store.Log(ctx, d.run.ID, d.run.Version)
	if err != nil {
		return err
	}
	for _, ev := range log {
		if err := d.m.Read(ev); err != nil {
			return fmt.Errorf("%w: %w", errLog, err)
		}
	}
	d.isStored(d.run.Version + int64(len(log)))
	return nil
}

// write puts what is pending on disk in one commit, with all that follows from it.
func (d *drive) write(ctx context.Context, wake time.Time, park bool) error {
	changes := false
	for _, in := range d.begins {
		changes = changes || in.Touches()
	}
	for i, ev := range d.pending {
		if in, ok := ev.Body.(flow.Intent); ok {
			in.By = d.e.name()
			d.pending[i].Body = in
		}
	}
	read := samples(d.run, d.book, d.m.State(), d.pending)
	if err := read.Identify(ctx, d.e.Store); err != nil {
		return err
	}
	var head store.Head
	var mark store.LogMark
	err := d.e.Store.Tx(ctx, func(tx *store.Tx) error {
		sheet := d.e.Sheet(tx)
		at := d.e.Now()
		if n := len(d.pending); n > 0 {
			at = d.pending[n-1].At
		}
		head = headOf(d.m.State(), at)
		// Locks before the run's own row: whoever gives one back holds it while it rings for those who wait.
		if d.run.Awaits != "" && head.Awaits == "" && len(d.want) == 0 {
			// It gave up waiting: others need not let it go first any more.
			if err := tx.QuitQueue(d.run.ID); err != nil {
				return err
			}
		}
		if err := d.moveLocks(tx); err != nil {
			return err
		}
		var err error
		if mark, err = sheet.Bulk.Append(d.run, d.pending, park, head); err != nil {
			return err
		}
		if err := store.Add(sheet.Bulk, read.Rows); err != nil {
			return err
		}
		if changes {
			if err := d.checkGuards(tx); err != nil {
				return err
			}
		}
		if park && (d.timed || !wake.IsZero()) {
			if err := tx.SetTimer(d.run.ID, d.e.until(wake)); err != nil {
				return err
			}
		}
		if len(d.pending) == 0 {
			return nil
		}
		if err := sheet.project(d.run, d.book, d.m.State(), d.pending); err != nil {
			return err
		}
		return sheet.Flush()
	})
	if err != nil {
		return err
	}
	d.e.db.saw(mark)
	d.m.Stored()
	d.isStored(d.run.Version + int64(len(d.pending)))
	d.run.Awaits = head.Awaits
	d.pending, d.facts, d.begins, d.guards, d.want, d.held = nil, nil, nil, nil, nil, nil
	d.refusals = 0
	d.retry.Reset()
	return nil
}

// checkGuards asks once more, in the transaction that writes the intention, whether all is as it was.
func (d *drive) checkGuards(tx *store.Tx) error {
	asks := make([]flow.AskLeave, len(d.guards))
	for i, g := range d.guards {
		asks[i] = g.ask
	}
	is, err := d.e.leavesNow(tx, d.book, asks)
	if err != nil {
		return err
	}
	for i, g := range d.guards {
		now := is[i]
		if now.Verdict != g.given.Verdict || len(leave.Differ(g.given.Facts, now.Facts)) > 0 ||
			!maps.Equal(now.Secrets, g.given.Secrets) || !maps.Equal(now.Files, g.given.Files) {
			return errFacts
		}
	}
	return nil
}

// errFree says that what was held is free again.
var errFree = errors.New("the lock is free again")

// moveLocks takes the locks that are wanted, enters the run into the queue for those that are held, and gives all
// back when the run has ended.
func (d *drive) moveLocks(tx *store.Tx) error {
	var keys []string
	for _, w := range d.want {
		keys = append(keys, w.Keys...)
	}
	if len(d.want) > 0 {
		if err := tx.TakeLocks(d.run.ID, keys); err != nil {
			return err
		}
	}
	for _, key := range slices.Sorted(maps.Keys(d.held)) {
		ok, err := tx.Await(d.run.ID, d.held[key])
		if err != nil {
			return err
		}
		if !ok {
			return errFree
		}
	}
	if d.m.State().Ended != nil {
		return tx.ReleaseLocks(d.run.ID)
	}
	for _, ev := range d.pending {
		if b, ok := ev.Body.(flow.LocksGivenBack); ok {
			if err := tx.GiveLocksBack(d.run.ID, b.Keys); err != nil {
				return err
			}
		}
	}
	return nil
}

// recover finds out where the run stands after a write that did not go through, or may have. It
// reports false where the run is no longer ours.
func (d *drive) recover(ctx context.Context, cause error) bool {
	var held *store.HeldError
	switch {
	case errors.As(cause, &held):
		if d.held == nil {
			d.held = map[string]*store.HeldError{}
		}
		d.held[held.Key] = held
	case errors.Is(cause, errFree):
		d.held = nil
	case errors.Is(cause, errFacts):
	case errors.Is(cause, errLog):
		d.refuse(ctx, cause)
		return false
	case !errors.Is(cause, store.ErrMoved):
		d.e.Log.Warn("write the log", "run", d.run.ID, "error", cause)
		if !store.Transient(cause) {
			// What the database refuses for what it is, it refuses for ever.
			if d.refusals++; d.refusals >= maxRefusals {
				d.refuse(ctx, fmt.Errorf("the next step could not be stored: %w", cause))
				return false
			}
		}
		select {
		case <-time.After(d.retry.NextBackOff()):
		case <-d.e.changes.Done():
			return false
		}
	}
	for pause := paced(); ; {
		mine, err := d.e.Store.Owns(ctx, d.run)
		if errors.Is(err, store.ErrPutBack) {
			// What this drive remembers is no longer the run's log: whoever reads it anew goes on.
			if err = d.e.putBack(ctx, *d.run.Owner); err == nil {
				return false
			}
		}
		if err == nil && !mine {
			return false // whoever owns it finds our intents open and decides
		}
		if err == nil {
			err = d.takeBack(ctx)
		}
		if err == nil {
			break
		}
		if errors.Is(err, errLog) {
			d.refuse(ctx, err)
			return false
		}
		if errors.Is(err, ErrPoison) {
			d.quarantine(ctx, err)
			return false
		}
		select {
		case <-time.After(pause.NextBackOff()):
		case <-d.e.changes.Done():
			return false
		}
	}
	d.reconcile()
	return true
}

// paced paces what is repeated until it goes through.
func paced() *backoff.ExponentialBackOff {
	b := backoff.NewExponentialBackOff()
	b.InitialInterval, b.Multiplier, b.MaxInterval = 50*time.Millisecond, 2, 2*time.Second
	b.Reset()
	return b
}

// reconcile begins intents that a commit of uncertain outcome did write, and that we have not begun.
func (d *drive) reconcile() {
	for _, in := range d.m.State().OpenAttempts() {
		if !d.begun[in.Attempt] {
			d.begin(in)
		}
	}
}
