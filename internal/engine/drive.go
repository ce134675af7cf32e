package engine

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"runtime/debug"
	"sync/atomic"
	"time"

	"github.com/cenkalti/backoff/v5"

	"urgentis/core/flow"
	"urgentis/core/incident"
	"urgentis/core/leave"
	"urgentis/core/reading"
	"urgentis/core/runbook"
	"urgentis/internal/store"
)

// drive is one run in the hands of this instance, from its claim until it is parked or over.
type drive struct {
	e    *Engine
	run  *store.Run
	book *runbook.Book
	m    *flow.Machine
	// pending is part of the machine's log and not on disk yet; facts are those of it that came from the
	// world. Where pending cannot be written, it is discarded and only the facts are kept.
	pending, facts []flow.Event
	// begins are the intents among pending.
	begins []flow.Intent
	// guards are what the leaves among pending rest on; a change is written only if all is still so.
	guards []guard
	// want are locks to be taken with the next write; held is who held one the last time.
	want    []flow.WantLocks
	held    *store.HeldError
	begun   map[string]bool
	cancels map[string]context.CancelFunc
	flying  int
	results chan flow.Event
	// poke says that somebody else wrote into the log; seen is the version that this drive knows of.
	poke chan struct{}
	seen atomic.Int64
	// retry paces writes that did not go through, which instances then do not all repeat at once; refusals counts those
	// in a row that never will.
	retry    *backoff.ExponentialBackOff
	refusals int
}

type guard struct {
	ask   flow.AskLeave
	given flow.LeaveGiven
}

// maxRefusals is how often what the database refuses is tried, each time on the log as it is then.
const maxRefusals = 3

var errFacts = errors.New("the facts have moved on")

func newDrive(e *Engine, r *store.Run) *drive {
	return &drive{
		e:       e,
		run:     r,
		begun:   map[string]bool{},
		cancels: map[string]context.CancelFunc{},
		results: make(chan flow.Event, 64),
		poke:    make(chan struct{}, 1),
		retry:   paced(),
	}
}

// safely drives, and ends a run that the program fails on: it must not take the others with it.
func (d *drive) safely() {
	defer func() {
		if r := recover(); r != nil {
			d.e.Log.Error("the program failed on a run", "run", d.run.ID, "panic", r, "stack", string(debug.Stack()))
			d.refuse(d.e.changes, fmt.Errorf("the program failed on it: %v", r))
			d.fileLate(d.e.changes)
		}
	}()
	d.drive()
}

// drive takes a run as far as it goes without waiting.
func (d *drive) drive() {
	ctx := d.e.changes // a commit is not torn by the stop of the service
	err := d.load(ctx)
	if errors.Is(err, ErrPoison) {
		d.setAside(ctx, err)
		return
	}
	if err != nil {
		if errors.Is(err, ErrUnsound) || errors.Is(err, flow.ErrNewer) || errors.Is(err, errLog) {
			d.refuse(ctx, err)
			return
		}
		// The database did not answer. The run is ours and not driven: the next beat gives it back.
		d.e.Log.Warn("read a run", "run", d.run.ID, "error", err)
		return
	}
	// What is open now was begun by somebody who is gone, or who may be.
	for _, in := range d.m.State().OpenAttempts() {
		lost := flow.Lost{Attempt: in.Attempt, Because: "the service stopped while it was under way"}
		may, host, err := d.e.Store.In(ctx).MayBegin(in.By)
		if err != nil {
			// Not known is not gone: see above.
			d.e.Log.Warn("ask who may begin", "run", d.run.ID, "error", err)
			return
		}
		if may && in.Change {
			lost.By = in.By
			lost.Because = fmt.Sprintf("instance %s on %s stopped answering while it was under way", in.By, host)
		}
		if !d.takeFact(ctx, flow.Event{At: d.e.now(), Path: d.m.State().PathOf(in.Attempt), Body: lost}) {
			return
		}
	}
	for {
		more, err := d.advance(ctx)
		if err == nil {
			if !more {
				d.fileLate(ctx) // where it was refused or set aside, something may still be under way
				return
			}
			continue
		}
		if !d.recover(ctx, err) {
			d.fileLate(ctx)
			return
		}
	}
}

func (e *Engine) now() time.Time { return e.Clock().UTC().Truncate(time.Microsecond) }

var errLog = errors.New("its log cannot be read")

// load reads the log and the runbook.
func (d *drive) load(ctx context.Context) error {
	return d.e.Closely(ctx, "run", d.run.ID, func() error { return d.read(ctx) })
}

func (d *drive) read(ctx context.Context) error {
	log, err := d.e.Store.Log(ctx, d.run.ID, 0)
	if err != nil {
		return err
	}
	if d.book == nil {
		if d.book, err = d.e.bookOf(ctx, log); err != nil {
			return err
		}
	}
	if d.m, err = flow.Open(d.book, log); err != nil {
		if errors.Is(err, flow.ErrNewer) {
			return err
		}
		return fmt.Errorf("%w: %w", errLog, err)
	}
	d.isStored(int64(len(log)))
	return nil
}

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
		return nil
	})
}

func (d *drive) isStored(version int64) { d.run.Version = version; d.seen.Store(version) }

func attemptOf(b flow.Body) string {
	switch x := b.(type) {
	case flow.Outcome:
		return x.Attempt
	case flow.Lost:
		return x.Attempt
	}
	return ""
}

// takeFact takes in what came from the world. It reports false where the run cannot go on.
func (d *drive) takeFact(ctx context.Context, f flow.Event) bool {
	f, err := d.m.Append(f)
	if err != nil {
		d.refuse(ctx, err)
		return false
	}
	d.facts, d.pending = append(d.facts, f), append(d.pending, f)
	return true
}

// takeDerived takes in what follows from the log.
func (d *drive) takeDerived(ev flow.Event) error {
	ev, err := d.m.Append(ev)
	if err != nil {
		return fmt.Errorf("%w: %w", errLog, err)
	}
	d.pending = append(d.pending, ev)
	return nil
}

// advance asks what must happen, writes it down, begins it, and waits for what comes of it.
func (d *drive) advance(ctx context.Context) (more bool, err error) {
	if d.e.ctx.Err() != nil {
		return false, d.stop(ctx)
	}
	var plan flow.Plan
	var unplanned error
	err = d.e.Closely(ctx, "run", d.run.ID, func() error {
		plan, unplanned = d.m.Plan(d.e.now())
		return nil
	})
	switch {
	case unplanned != nil:
		d.refuse(ctx, unplanned)
		return false, nil
	case errors.Is(err, ErrPoison):
		d.setAside(ctx, err)
		return false, nil
	case err != nil:
		return true, err
	}
	d.pending, d.begins = append(d.pending, plan.Events...), append(d.begins, plan.Begin...)
	if plan.AskLeave != nil {
		return true, d.askLeave(ctx, *plan.AskLeave)
	}
	park := d.flying == 0 && len(d.begins) == 0
	if w := plan.WantLocks; w != nil {
		if d.held == nil {
			d.want = append(d.want, *w)
			return true, d.takeDerived(
				flow.Event{
					At:   d.e.now(),
					Path: w.Path,
					Body: flow.LocksTaken{Keys: append(append([]string{}, w.Keys...), w.Shared...)},
				},
			)
		}
		held := flow.LocksAwaited{Key: d.held.Key, Holder: d.held.Holder, Circle: d.held.Circle}
		if d.m.State().Awaited() != held {
			if err := d.takeDerived(flow.Event{At: d.e.now(), Path: w.Path, Body: held}); err != nil {
				return true, err
			}
		}
		if held.Circle {
			d.held = nil // it does not wait: the flow decides what follows
			return true, nil
		}
	}
	begins := d.begins
	if err := d.write(ctx, plan.Wake, park); err != nil {
		return true, err
	}
	for _, id := range plan.Cancel {
		if cancel := d.cancels[id]; cancel != nil {
			cancel()
		}
	}
	if park {
		return false, nil
	}
	for _, in := range begins {
		d.begin(in)
	}
	return d.wait(ctx, plan.Wake)
}

// wait takes outcomes: the first that comes, and those that come just after.
func (d *drive) wait(ctx context.Context, wake time.Time) (more bool, err error) {
	var due <-chan time.Time
	if !wake.IsZero() {
		t := time.NewTimer(max(0, wake.Sub(d.e.now())))
		defer t.Stop()
		due = t.C
	}
	select {
	case ev := <-d.results:
		d.flying--
		if !d.takeFact(ctx, ev) {
			return false, nil
		}
	case <-due:
		return true, nil
	case <-d.poke:
		return true, d.readOn(ctx)
	case <-d.e.ctx.Done():
		return true, nil
	}
	const gather = 20 * time.Millisecond
	t := time.NewTimer(gather)
	defer t.Stop()
	for d.flying > 0 {
		select {
		case ev := <-d.results:
			d.flying--
			if !d.takeFact(ctx, ev) {
				return false, nil
			}
		case <-t.C:
			return true, nil
		}
	}
	return true, nil
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

// landed takes in how everything under way ended; false where the service stops before that.
func (d *drive) landed() bool {
	for d.flying > 0 {
		select {
		case ev := <-d.results:
			d.flying--
			d.facts = append(d.facts, ev)
		case <-d.e.changes.Done():
			return false
		}
	}
	return true
}

// stop writes down how changes under way ended when the service stops. Looks are dropped: what they
// say after their cancel means nothing, and whoever goes on takes them again.
func (d *drive) stop(ctx context.Context) error {
	if !d.landed() {
		return nil
	}
	var keep []flow.Event
	for _, f := range d.facts {
		if in, _, _, ok := d.m.State().Attempt(attemptOf(f.Body)); ok && in.Change {
			keep = append(keep, f)
		}
	}
	d.facts = keep
	if err := d.takeBack(ctx); err != nil {
		return err
	}
	if len(d.pending) == 0 {
		return nil
	}
	return d.write(ctx, time.Time{}, false)
}

func (d *drive) askLeave(ctx context.Context, ask flow.AskLeave) error {
	given, err := d.e.leaveNow(d.e.Store.In(ctx), d.book, ask)
	if err != nil {
		return err
	}
	d.guards = append(d.guards, guard{ask, given})
	return d.takeDerived(flow.Event{At: d.e.now(), Path: ask.Path, Body: given})
}

// leaveNow answers whether a change may happen, with the facts as they are.
func (e *Engine) leaveNow(tx *store.Tx, book *runbook.Book, ask flow.AskLeave) (flow.LeaveGiven, error) {
	q := leave.Question{HasGate: ask.HasGate, Look: ask.Look}
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
	a := leave.Decide(q)
	return flow.LeaveGiven{
		Verdict: a.Verdict,
		Reasons: a.Reasons,
		Halted:  a.Halted,
		Facts:   facts,
		Secrets: versions,
	}, nil
}

// write puts what is pending on disk in one commit, with all that follows from it.
func (d *drive) write(ctx context.Context, wake time.Time, park bool) error {
	changes := false
	for _, in := range d.begins {
		changes = changes || in.Change
	}
	for i, ev := range d.pending {
		if in, ok := ev.Body.(flow.Intent); ok {
			in.By = d.e.name()
			d.pending[i].Body = in
		}
	}
	var head store.Head
	err := d.e.Store.Tx(ctx, func(tx *store.Tx) error {
		sheet := d.e.Sheet(tx)
		at := d.e.now()
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
		if err := sheet.Bulk.Append(d.run, d.pending, park, head); err != nil {
			return err
		}
		if changes {
			if err := d.checkGuards(tx); err != nil {
				return err
			}
		}
		if park {
			if err := tx.SetTimer(d.run.ID, wake); err != nil {
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
	for _, g := range d.guards {
		now, err := d.e.leaveNow(tx, d.book, g.ask)
		if err != nil {
			return err
		}
		if now.Verdict != g.given.Verdict || len(leave.Differ(g.given.Facts, now.Facts)) > 0 ||
			!maps.Equal(now.Secrets, g.given.Secrets) {
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
	for _, w := range d.want {
		if err := tx.TakeLocks(d.run.ID, w.Keys, w.Shared); err != nil {
			return err
		}
	}
	if d.held != nil {
		ok, err := tx.Await(d.run.ID, d.held)
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
		d.held = held
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
				d.refuse(ctx, fmt.Errorf("what comes next cannot be written down: %w", cause))
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
			d.setAside(ctx, err)
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

// fileLate files how changes ended that were under way when the claim was lost: whoever is asked what became
// of them finds it in the record. It decides nothing.
func (d *drive) fileLate(ctx context.Context) {
	if d.m == nil {
		return
	}
	for id, cancel := range d.cancels {
		if in, _, over, ok := d.m.State().Attempt(id); ok && !over && !in.Change {
			cancel() // nobody waits for a look any more
		}
	}
	if !d.landed() {
		return
	}
	for _, f := range d.facts {
		o, ok := f.Body.(flow.Outcome)
		if !ok {
			continue
		}
		err := d.e.speakTo(ctx, d.run.ID, func(s *flow.State) (string, flow.Body, error) {
			if !s.Change(o.Attempt) {
				return "", nil, errNothing
			}
			return f.Path, o, nil
		})
		if err != nil && !errors.Is(err, errNothing) {
			d.e.Log.Error("file a late fact", "run", d.run.ID, "attempt", o.Attempt, "error", err)
		}
	}
}

var errNothing = errors.New("there is nothing to file")

// reconcile begins intents that a commit of uncertain outcome did write, and that we have not begun.
func (d *drive) reconcile() {
	for _, in := range d.m.State().OpenAttempts() {
		if !d.begun[in.Attempt] {
			d.begin(in)
		}
	}
}

// refuse ends a run whose log this program cannot go on with, and tells people.
func (d *drive) refuse(ctx context.Context, cause error) {
	d.e.Log.Error("a run cannot go on", "run", d.run.ID, "error", cause)
	because := fmt.Sprintf("The run cannot go on: %s.", reading.Plain(cause.Error()))
	err := d.e.Write(ctx, func(s *Sheet) error {
		ours, err := s.tx.EndUnread(d.run, because)
		if err != nil || !ours {
			return err
		}
		if err := s.closeOpen(d.run.ID); err != nil {
			return err
		}
		return s.tellStopped(d.run, incident.RunFailed, "The run cannot go on", because)
	})
	if err != nil {
		d.e.Log.Error("end a run that cannot go on", "run", d.run.ID, "error", err)
	}
}

// begin carries an intent out that is on disk.
func (d *drive) begin(in flow.Intent) {
	d.begun[in.Attempt] = true
	d.flying++
	parent := d.e.ctx
	if in.Change {
		parent = d.e.changes
	}
	ctx, cancel := context.WithCancel(parent)
	d.cancels[in.Attempt] = cancel
	path, sealed := d.m.State().PathOf(in.Attempt), d.m.State().Sealed()
	go func() {
		defer cancel()
		d.results <- d.attempted(ctx, path, in, sealed)
	}()
}

// attempted does an attempt. Where the program itself fails, a look failed, and of a change nobody knows.
func (d *drive) attempted(ctx context.Context, path string, in flow.Intent, sealed []string) (ev flow.Event) {
	defer func() {
		if r := recover(); r != nil {
			d.e.Log.Error(
				"the program failed on an attempt",
				"run",
				d.run.ID,
				"attempt",
				in.Attempt,
				"panic",
				r,
				"stack",
				string(debug.Stack()),
			)
			out := flow.Outcome{
				Attempt: in.Attempt,
				State:   flow.Failed,
				Error:   fmt.Sprintf("the program failed on it: %v", r),
			}
			if in.Change {
				out.State = flow.Unknown
			}
			ev = flow.Event{At: d.e.now(), Path: path, Body: out}
		}
	}()
	return d.e.attempt(ctx, d.run, d.book, path, in, sealed)
}
