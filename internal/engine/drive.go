package engine

import (
	"context"
	"errors"
	"fmt"
	"runtime/debug"
	"sync"
	"sync/atomic"
	"time"

	"github.com/cenkalti/backoff/v5"

	"urgentis/core/flow"
	"urgentis/core/runbook"
	"urgentis/internal/store"
)

// drive is one run in the hands of this instance, from its claim until it is parked or over. One goroutine owns it;
// others only send to results and poke, and read seen. What it writes is in commit.go, how it ends in parting.go.
type drive struct {
	e    *Engine
	run  *store.Run
	book *runbook.Book
	m    *flow.Machine
	// log is all of its log, where it was read as the run was claimed; fresh says that nothing happened since it was
	// begun here.
	log   []store.Event
	fresh bool
	// putBackAt is when the database was last put back, as of the claim; timed is whether a timer may be set.
	putBackAt time.Time
	timed     bool
	// pending is part of the machine's log and not on disk yet; facts are those of it that came from the
	// world. Where pending cannot be written, it is discarded and only the facts are kept.
	pending, facts []flow.Event
	// begins are the intents among pending.
	begins []flow.Intent
	// guards are what the leaves among pending rest on; a change is written only if all is still so.
	guards []guard
	// want are locks to be taken with the next write. held is, by lock, who held it when it was wanted last; it is
	// cleared by every write that goes through.
	want []flow.WantLocks
	held map[string]*store.HeldError
	// resting are attempts of which somebody finds out whether they rest, rest takes what was found.
	resting  map[string]struct{}
	restless map[string]time.Time // when attempts were seen not to rest
	rest     chan restSeen
	begun    map[string]bool
	cancels  map[string]context.CancelFunc
	flying   int
	results  chan flow.Event
	// told are facts about attempts that are still under way: what their jobs are known by, and which of them rest.
	// news says that there are some.
	toldMu sync.Mutex
	told   []flow.Event
	news   chan struct{}
	// leaving is over when the claim is lost, or the service stops: nobody here looks after jobs elsewhere any more.
	leaving context.Context
	letGo   context.CancelFunc
	// poke says that somebody else wrote into the log; seen is the version that this drive knows of.
	poke chan struct{}
	seen atomic.Int64
	// retry paces writes that did not go through, which instances then do not all repeat at once; refusals counts those
	// in a row that never will.
	retry    *backoff.ExponentialBackOff
	refusals int
	// refused says that the run was ended because it cannot go on.
	refused bool
}

func newDrive(e *Engine, r *store.Claimed, fresh bool) *drive {
	d := &drive{
		e:         e,
		run:       &r.Run,
		log:       r.Log,
		fresh:     fresh,
		putBackAt: r.PutBackAt,
		timed:     r.Timed,
		begun:     map[string]bool{},
		cancels:   map[string]context.CancelFunc{},
		results:   make(chan flow.Event, 64),
		news:      make(chan struct{}, 1),
		resting:   map[string]struct{}{},
		restless:  map[string]time.Time{},
		rest:      make(chan restSeen, maxResting),
		poke:      make(chan struct{}, 1),
		retry:     paced(),
	}
	d.leaving, d.letGo = context.WithCancel(e.ctx)
	return d
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
	defer d.letGo()
	ctx := d.e.changes // a commit is not torn by the stop of the service
	err := d.load(ctx)
	if errors.Is(err, ErrPoison) {
		d.quarantine(ctx, err)
		return
	}
	if err != nil {
		if errors.Is(err, ErrUnsound) || errors.Is(err, flow.ErrNewer) || errors.Is(err, errLog) {
			d.refuse(ctx, err)
			d.released(ctx)
			return
		}
		// The database did not answer. The run is ours and not driven: the next beat gives it back.
		d.e.Log.Warn("read a run", "run", d.run.ID, "error", err)
		return
	}
	if d.fresh || d.pickUp(ctx) {
		d.goOn(ctx)
	}
}

// pickUp takes in what happened to a run before it came into these hands. It reports false where the run cannot go on,
// or where the database did not say: the next beat gives it back then.
func (d *drive) pickUp(ctx context.Context) bool {
	if err := d.noticePutBack(d.putBackAt); err != nil {
		d.e.Log.Warn("take in that the database was put back", "run", d.run.ID, "error", err)
		return false
	}
	// What is open now was begun by somebody who is gone, or who may be.
	for _, in := range d.m.State().OpenAttempts() {
		lost := flow.Lost{Attempt: in.Attempt, Because: "the service stopped while it was under way"}
		may, host, err := d.e.Store.In(ctx).MayBegin(in.By)
		if err != nil {
			d.e.Log.Warn("ask who may begin", "run", d.run.ID, "error", err) // not known is not gone
			return false
		}
		if may && in.Touches() {
			lost.By = in.By
			lost.Because = fmt.Sprintf("instance %s on %s stopped answering while it was under way", in.By, host)
		}
		if !d.takeFact(ctx, flow.Event{At: d.e.Now(), Place: d.m.State().PlaceOf(in.Attempt), Body: lost}) {
			return false
		}
	}
	return true
}

// goOn takes a run that was read as far as it goes.
func (d *drive) goOn(ctx context.Context) {
	for {
		more, err := d.advance(ctx)
		if err == nil {
			if !more {
				d.fileLate(ctx) // where it was refused or quarantined, something may still be under way
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

// until is how long it is to a time; nil where there is none.
func (e *Engine) until(t time.Time) *time.Duration {
	if t.IsZero() {
		return nil
	}
	left := t.Sub(e.Now())
	return &left
}

// Now is the database's time.
func (e *Engine) Now() time.Time { return e.Clock().UTC().Truncate(time.Microsecond) }

var errLog = errors.New("its log cannot be read")

// load reads the log and the runbook.
func (d *drive) load(ctx context.Context) error {
	return d.e.Closely(ctx, "run", d.run.ID, func() error { return d.read(ctx) })
}

func (d *drive) read(ctx context.Context) error {
	log, err := store.Decoded(d.log)
	if len(d.log) == 0 {
		log, err = d.e.Store.Log(ctx, d.run.ID, 0)
	}
	d.log = nil
	if err != nil {
		return err
	}
	if d.book == nil {
		if d.book, err = d.e.BookOf(ctx, log); err != nil {
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

func (d *drive) isStored(version int64) { d.run.Version = version; d.seen.Store(version) }

func attemptOf(b flow.Body) string {
	switch x := b.(type) {
	case flow.Outcome:
		return x.Attempt
	case flow.Lost:
		return x.Attempt
	case flow.Followed:
		return x.Attempt
	case flow.Rested:
		return x.Attempt
	case flow.Settled:
		return x.Attempt
	case flow.QuestionRaised:
		return x.Attempt
	}
	return ""
}

// takeFacts takes in what came from the world, in order. It reports false where the run cannot go on.
func (d *drive) takeFacts(ctx context.Context, facts []flow.Event) bool {
	for _, f := range facts {
		if !d.takeFact(ctx, f) {
			return false
		}
	}
	return true
}

// ended is how an attempt ended, after all that was told before: what a job is known by counts only until then.
func (d *drive) ended(ev flow.Event) []flow.Event {
	d.flying--
	return append(d.allTold(), ev)
}

// allTold is what was told since it was asked last.
func (d *drive) allTold() []flow.Event {
	d.toldMu.Lock()
	defer d.toldMu.Unlock()
	out := d.told
	d.told = nil
	return out
}

// tell takes a fact about an attempt from any goroutine. It does not block, and loses nothing.
func (d *drive) tell(ev flow.Event) {
	d.toldMu.Lock()
	d.told = append(d.told, ev)
	d.toldMu.Unlock()
	select {
	case d.news <- struct{}{}:
	default:
	}
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
		plan, unplanned = d.m.Plan(d.e.Now())
		return nil
	})
	switch {
	case unplanned != nil:
		d.refuse(ctx, unplanned)
		return false, nil
	case errors.Is(err, ErrPoison):
		d.quarantine(ctx, err)
		return false, nil
	case err != nil:
		return true, err
	}
	d.pending, d.begins = append(d.pending, plan.Events...), append(d.begins, plan.Begin...)
	if len(plan.AskLeave) > 0 {
		return true, d.askLeave(ctx, plan.AskLeave)
	}
	d.askRest(plan.AskRest)
	if again, err := d.wantLocks(plan.WantLocks); again || err != nil {
		return true, err
	}
	park := d.flying == 0 && len(d.begins) == 0 && len(d.resting) == 0
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
		t := time.NewTimer(max(0, wake.Sub(d.e.Now())))
		defer t.Stop()
		due = t.C
	}
	select {
	case ev := <-d.results:
		if !d.takeFacts(ctx, d.ended(ev)) {
			return false, nil
		}
	case x := <-d.rest:
		return d.takeRest(ctx, x), nil
	case <-d.news:
		return d.takeFacts(ctx, d.allTold()), nil
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
			if !d.takeFacts(ctx, d.ended(ev)) {
				return false, nil
			}
		case <-t.C:
			return true, nil
		}
	}
	return true, nil
}

// begin carries an intent out that is on disk.
func (d *drive) begin(in flow.Intent) {
	d.begun[in.Attempt] = true
	d.flying++
	parent := d.e.ctx
	if in.Touches() {
		parent = d.e.changes
	}
	ctx, cancel := context.WithCancel(parent)
	d.cancels[in.Attempt] = cancel
	place, sealed := d.m.State().PlaceOf(in.Attempt), d.m.State().Sealed()
	run := *d.run // as it is now: with the intent in its log
	go func() {
		defer cancel()
		d.results <- d.attempted(ctx, &run, place, in, sealed)
	}()
}

// attempted does an attempt. Where the program itself fails, a look failed, and of a change nobody knows.
func (d *drive) attempted(
	ctx context.Context, run *store.Run, place flow.Place, in flow.Intent, sealed []string,
) (ev flow.Event) {
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
				Error:   FailedOn(r),
			}
			if in.Touches() {
				out.State = flow.Unknown
			}
			ev = flow.Event{At: d.e.Now(), Place: place, Body: out}
		}
	}()
	b := beside{known: d.known(place, in), leave: d.leaving.Done()}
	return d.e.attempt(ctx, run, d.book, place, in, sealed, b)
}

// known has it written down what a job elsewhere is known by.
func (d *drive) known(place flow.Place, in flow.Intent) func(string) {
	return func(job string) {
		d.tell(flow.Event{At: d.e.Now(), Place: place, Body: flow.Followed{Attempt: in.Attempt, Job: job}})
	}
}

// wantLocks takes locks with the next write, and writes down who holds those that cannot be had. again: what follows is
// to be planned with that.
func (d *drive) wantLocks(wants []flow.WantLocks) (again bool, err error) {
	for _, w := range wants {
		held := d.heldOf(w)
		if held == nil {
			again = true
			// What another place of the same plan wants is taken once.
			if w.Keys = d.m.State().Missing(w.Keys...); len(w.Keys) == 0 && d.m.State().Waits(w.Place, w.Of).Key == "" {
				continue
			}
			d.want = append(d.want, w)
			if err := d.takeDerived(w.Taken(d.e.Now())); err != nil {
				return true, err
			}
			continue
		}
		is := flow.LocksAwaited{Key: held.Key, Holder: held.Holder, Circle: held.Circle, Of: w.Of}
		if d.m.State().Waits(w.Place, w.Of) != is {
			if err := d.takeDerived(flow.Event{At: d.e.Now(), Place: w.Place, Body: is}); err != nil {
				return true, err
			}
			again = again || is.Circle // it does not wait: the flow decides what follows
		}
	}
	return again, nil
}

// heldOf is who holds one of the locks that are wanted; nil where they may be had.
func (d *drive) heldOf(w flow.WantLocks) *store.HeldError {
	for _, k := range w.Keys {
		if h := d.held[k]; h != nil {
			return h
		}
	}
	return nil
}
