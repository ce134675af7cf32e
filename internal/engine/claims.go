package engine

import (
	"context"
	"time"

	"github.com/riverqueue/river"

	"urgentis/internal/meter"
	"urgentis/internal/store"
)

// bell is the worker of doorbells: it claims, starts the drive, and returns.
type bell struct {
	river.WorkerDefaults[store.Doorbell]
	e *Engine
}

// Work implements river.Worker.
func (b *bell) Work(ctx context.Context, job *river.Job[store.Doorbell]) error {
	meter.QueueLag.WithLabelValues().Observe(max(0, b.e.Clock().Sub(job.ScheduledAt).Seconds()))
	return b.e.answer(ctx, job.Args.Run)
}

func (e *Engine) answer(ctx context.Context, run string) error {
	select {
	case e.slots <- struct{}{}:
	case <-e.ctx.Done():
		return nil // the bell stays unanswered; the janitor of another instance rings anew
	}
	name := e.name()
	r, err := e.Store.Claim(ctx, run, name)
	if err != nil || r == nil || e.ctx.Err() != nil {
		<-e.slots // what was claimed while this instance stops is freed when it takes its leave
		return err
	}
	e.adopt(r, false)
	return nil
}

// adopt drives a run that this instance owns, in a slot that was taken for it. fresh is one that it has just begun.
func (e *Engine) adopt(r *store.Claimed, fresh bool) {
	name := *r.Owner
	d := newDrive(e, r, fresh)
	e.drives.Store(r.ID, d)
	e.countDrives(name, 1)
	e.driving.Go(func() {
		defer func() { <-e.slots }()
		defer e.countDrives(name, -1)
		defer e.drives.CompareAndDelete(r.ID, d)
		d.safely()
	})
}

// takeSlot takes a slot for a drive, if one is free and this instance works.
func (e *Engine) takeSlot() bool {
	if !e.working.Load() || e.ctx.Err() != nil {
		return false
	}
	select {
	case e.slots <- struct{}{}:
		return true
	default:
		return false
	}
}

// countDrives keeps how many drives were begun under a name. When the last one ends under a name that was taken for
// dead, this instance says so: nothing that it intended can be begun any more.
func (e *Engine) countDrives(name string, n int) {
	e.mu.Lock()
	e.active[name] += n
	left, current := e.active[name], e.id == name
	if left == 0 {
		delete(e.active, name)
	}
	e.mu.Unlock()
	if n < 0 && left == 0 && !current {
		e.report(name)
	}
}

func (e *Engine) report(name string) {
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	if err := e.Store.Reported(ctx, name); err != nil {
		e.Log.Warn("report that nothing is under way under an old name", "instance", name, "error", err)
	}
}

// noDriveUnder reports whether no drive is left that was begun under a name.
func (e *Engine) noDriveUnder(name string) bool {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.active[name] == 0
}

// poke tells the drive of a run, if it is here, that somebody wrote into its log.
func (e *Engine) poke(run string) {
	if d, ok := e.drives.Load(run); ok {
		select {
		case d.(*drive).poke <- struct{}{}:
		default:
		}
	}
}

// timers takes due timers and sleeps until the next, at most 250 ms.
func (e *Engine) timers() {
	defer e.loops.Done()
	const longest = 250 * time.Millisecond
	const most = 64
	for {
		free := 0
		for free < most && e.takeSlot() {
			free++
		}
		runs, n, next, err := []store.Claimed(nil), 0, 20*time.Millisecond, error(nil)
		if free > 0 {
			var late []time.Duration
			runs, late, next, err = e.Store.ClaimDue(e.ctx, e.name(), free)
			n = len(late)
			for _, l := range late {
				meter.TimerLag.WithLabelValues().Observe(l.Seconds())
			}
		}
		if err != nil {
			runs = nil // what was claimed after all is given back by the next clean-up
			if e.ctx.Err() == nil {
				e.Log.Warn("take due timers", "error", err)
			}
		}
		if e.ctx.Err() != nil {
			runs = nil // they are freed when this instance takes its leave
		}
		for i := range runs {
			e.adopt(&runs[i], false)
		}
		for range free - len(runs) {
			<-e.slots
		}
		if n > 0 && n == free {
			continue
		}
		if next == 0 || next > longest {
			next = longest
		}
		select {
		case <-e.ctx.Done():
			return
		case <-time.After(next):
		}
	}
}
