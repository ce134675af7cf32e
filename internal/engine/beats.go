package engine

import (
	"context"
	"os"
	"runtime/debug"
	"time"

	"urgentis/internal/meter"
	"urgentis/internal/store"
)

// Survive does a round of a loop that must go on, whatever happens in it.
func (e *Engine) Survive(what string, f func()) {
	defer func() {
		if r := recover(); r != nil {
			e.Log.Error("the program failed", "in", what, "panic", r, "stack", string(debug.Stack()))
		}
	}()
	f()
}

// Every does a round of something each time that so long has passed, beside all else; see Round.
func (e *Engine) Every(long time.Duration, what string, round func(ctx context.Context) error) {
	e.Go(func() { e.Round(long, what, round) })
}

// Go does something that Stop waits for.
func (e *Engine) Go(f func()) {
	e.loops.Add(1)
	go func() {
		defer e.loops.Done()
		f()
	}()
}

// Context ends when the engine begins to stop.
func (e *Engine) Context() context.Context { return e.ctx }

// Round does a round of something each time that so long has passed, until the engine stops. What goes wrong in a
// round, a program error too, is logged, and the next one comes.
func (e *Engine) Round(long time.Duration, what string, round func(ctx context.Context) error) {
	tick := time.NewTicker(long)
	defer tick.Stop()
	for {
		select {
		case <-e.ctx.Done():
			return
		case <-tick.C:
		}
		e.Survive(what, func() {
			if err := round(e.ctx); err != nil && e.ctx.Err() == nil {
				e.Log.Warn(what, "error", err)
			}
		})
	}
}

// beatTime bounds one beat. One that comes late is better than none: what counts is the lease.
const beatTime = store.Lease - time.Second

// beat says each second that this instance is alive, on a connection of its own.
func (e *Engine) beat() {
	defer e.loops.Done()
	pulse := e.Store.Pulse()
	defer pulse.Close()
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for {
		select {
		case <-e.ctx.Done():
			return
		case <-tick.C:
		}
		ctx, cancel := context.WithTimeout(e.ctx, beatTime)
		e.Survive("beat", func() { e.beatOnce(ctx, pulse) })
		cancel()
	}
}

func (e *Engine) beatOnce(ctx context.Context, pulse *store.Pulse) {
	began, name := elapsed(), e.name()
	e.beating.Store(began)
	if began-e.lastBeat.Load() > int64(store.Lease) {
		e.steady.Store(began)
	}
	pulse.Connect(ctx)
	if err := e.compare(ctx, pulse); err != nil {
		e.beatFailed(err)
		return
	}
	skew, sent := e.Store.Clock.Skew(), time.Now()
	heard, err := pulse.Beat(ctx, name, skew, e.db.server())
	if err != nil {
		e.beatFailed(err)
		return
	}
	e.db.saw(heard.Mark)
	e.db.heard = heard.Now
	e.Store.Clock.Hear(sent, time.Now(), heard.Now)
	e.tellSkew(e.Store.Clock.Skew())
	if heard.Alive {
		meter.BeatSeconds.WithLabelValues().
			Observe(max(0, time.Duration(began-e.lastBeat.Load()-int64(time.Second)).Seconds()))
		e.lastBeat.Store(began)
		return
	}
	e.Log.Error("this instance was taken for dead; it begins anew under another name", "instance", name)
	if err := e.register(ctx); err != nil {
		e.Log.Error("register anew", "error", err)
	} else if e.noDriveUnder(name) {
		e.report(name)
	}
}

func (e *Engine) beatFailed(err error) {
	if e.ctx.Err() == nil {
		e.Log.Warn("beat", "error", err)
	}
}

// tellSkew warns of a clock that is off, as it begins to be and once in a while.
func (e *Engine) tellSkew(skew time.Duration) {
	meter.ClockSkew.WithLabelValues().Set(skew.Seconds())
	if skew.Abs() < maxSkew {
		e.skewTold.Store(0)
		return
	}
	const again = 10 * time.Minute
	if told := e.skewTold.Load(); told == 0 || elapsed()-told > int64(again) {
		e.skewTold.Store(max(1, elapsed()))
		e.Log.Warn("the clock of this machine is off the database's; the database's counts", "ahead", skew.String())
	}
}

// clean cleans up each second: after drives that are not there, and after instances that do not beat.
func (e *Engine) clean() {
	defer e.loops.Done()
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for n := 0; ; n++ {
		select {
		case <-e.ctx.Done():
			return
		case <-tick.C:
		}
		ctx, cancel := context.WithTimeout(e.ctx, 10*time.Second)
		e.Survive("clean up", func() { e.cleanOnce(ctx, n) })
		cancel()
	}
}

// warn says what could not be done, but while the engine stops.
func (e *Engine) warn(what string, err error) {
	if err != nil && e.ctx.Err() == nil {
		e.Log.Warn(what, "error", err)
	}
}

// cleanOnce cleans up the nth time; some of it not each time.
func (e *Engine) cleanOnce(ctx context.Context, n int) {
	e.tendDrives(ctx, e.name())
	if e.leased() && elapsed()-e.steady.Load() >= int64(store.Lease) {
		n, err := e.fence(ctx)
		e.warn("fence", err)
		if n > 0 {
			// Before the runs of the dead are freed: one of them may be what they died of.
			e.beCareful(ctx, true)
		}
		if err == nil {
			e.warn("sweep", e.Store.Sweep(ctx))
			e.warn("look for instances that are gone", e.bury(ctx))
		}
	}
	if n%10 == 0 {
		e.warn("keep the queue", e.Store.KeepQueue(ctx))
		e.warn("send what was forgotten", e.Store.SendForgotten(ctx))
	}
	if n%600 == 0 {
		e.warn("forget old lines", e.Store.Forget(ctx))
	}
}

// tendDrives pokes the drives into whose logs somebody wrote, and gives back runs that are owned and not driven.
func (e *Engine) tendDrives(ctx context.Context, name string) {
	owned, err := e.Store.OwnedBy(ctx, name)
	if err != nil {
		return
	}
	for run, version := range owned {
		if d, ok := e.drives.Load(run); ok {
			if d.(*drive).seen.Load() < version {
				e.poke(run)
			}
			continue
		}
		// The claim and the note of the drive are two steps; look once more before it counts as left behind.
		time.Sleep(50 * time.Millisecond)
		if _, ok := e.drives.Load(run); !ok {
			if err := e.Store.GiveBack(ctx, run, name); err != nil {
				e.Log.Warn("give back a run", "run", run, "error", err)
			}
		}
	}
}

// bury notes which of the instances that were taken for dead are seen to be gone: those of this process namespace,
// under this boot of its machine, whose process is there no more. Two machines, or two containers, may have one name:
// where another instance ran elsewhere, or before a boot, a person must say that it is gone.
func (e *Engine) bury(ctx context.Context) error {
	list, err := e.Store.Fenced(ctx)
	if err != nil || len(list) == 0 {
		return err
	}
	here, _ := process(os.Getpid())
	for _, i := range list {
		if i.Boot != here || here == "" {
			continue
		}
		if _, ticks := process(i.PID); ticks == i.BegunTicks && ticks != 0 {
			continue // it is there, and may only be frozen
		}
		if _, err := e.buryDead(ctx, i.ID); err != nil {
			return err
		}
	}
	return nil
}

func (e *Engine) buryDead(ctx context.Context, id string) (buried bool, err error) {
	err = e.Store.Tx(ctx, func(tx *store.Tx) error {
		buried, err = tx.Gone(id, e.name())
		return err
	})
	return buried, err
}

// fence takes instances for dead whose beats stand still for a lease, as this instance saw by its own time.
func (e *Engine) fence(ctx context.Context) (fenced int, err error) {
	beating, err := e.Store.Beating(ctx)
	if err != nil {
		return 0, err
	}
	now, seen := elapsed(), map[string]pulseSeen{}
	for id, beats := range beating {
		was, known := e.pulses[id]
		if !known || was.beats != beats {
			was = pulseSeen{beats, now}
		}
		if seen[id] = was; id == e.name() || now-was.since < int64(store.Lease) {
			continue
		}
		is, err := e.Store.Fence(ctx, id, beats)
		if err != nil {
			return fenced, err
		}
		if is {
			fenced++
		}
	}
	e.pulses = seen
	return fenced, nil
}

// pulseSeen is since when the beats of an instance stand at a count, in nanoseconds of this process.
type pulseSeen struct{ beats, since int64 }

// leased reports whether this instance still counts as alive for certain.
func (e *Engine) leased() bool { return elapsed()-e.lastBeat.Load() < int64(store.Lease-time.Second) }

// Silent is how long the database has not answered this instance's beats.
func (e *Engine) Silent() time.Duration { return time.Duration(elapsed() - e.lastBeat.Load()) }

// Stuck is how long this instance has not even tried to say that it is alive.
func (e *Engine) Stuck() time.Duration { return time.Duration(elapsed() - e.beating.Load()) }

// Skew is how far the clock of this machine is ahead of the database's.
func (e *Engine) Skew() time.Duration { return e.Store.Clock.Skew() }
