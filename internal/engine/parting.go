package engine

import (
	"context"
	"errors"
	"fmt"
	"time"

	"urgentis/core/flow"
	"urgentis/core/incident"
	"urgentis/core/reading"
)

// landed takes in how everything under way ended; false where the service stops before that.
func (d *drive) landed() bool {
	for d.flying > 0 {
		select {
		case ev := <-d.results:
			d.facts = append(d.facts, d.ended(ev)...)
		case <-d.e.changes.Done():
			return false
		}
	}
	d.facts = append(d.facts, d.allTold()...)
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
		if in, _, _, ok := d.m.State().Attempt(attemptOf(f.Body)); ok && in.Touches() {
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

// fileLate files how changes ended that were under way when the claim was lost: whoever is asked what became
// of them finds it in the record. It decides nothing.
func (d *drive) fileLate(ctx context.Context) {
	if d.m == nil {
		return
	}
	for id, cancel := range d.cancels {
		if in, _, over, ok := d.m.State().Attempt(id); ok && !over && !in.Touches() {
			cancel() // nobody waits for a look any more
		}
	}
	d.letGo() // whoever owns the run now follows its jobs
	flew := d.flying > 0
	if !d.landed() {
		return
	}
	if flew || d.refused {
		defer d.released(ctx)
	}
	for _, f := range d.facts {
		if !isLate(f.Body) {
			continue
		}
		id := attemptOf(f.Body)
		err := d.e.speakTo(ctx, d.run.ID, func(s *flow.State) (flow.Place, []flow.Body, error) {
			if !s.Unreported(id) {
				return flow.Place{}, nil, errNothing
			}
			return f.Place, []flow.Body{f.Body}, nil
		})
		if err != nil && !errors.Is(err, errNothing) {
			d.e.Log.Error("file a late fact", "run", d.run.ID, "attempt", id, "error", err)
		}
	}
}

// released gives back the locks of a run that was refused meanwhile: nothing of it is under way here any more.
func (d *drive) released(ctx context.Context) {
	if err := d.e.Store.Landed(ctx, d.run.ID, d.e.name()); err != nil {
		d.e.Log.Error("give back the locks of a run that cannot go on", "run", d.run.ID, "error", err)
	}
}

var errNothing = errors.New("there is nothing to file")

// refuse ends a run whose log this program cannot go on with, and tells people.
func (d *drive) refuse(ctx context.Context, cause error) {
	d.e.Log.Error("a run cannot go on", "run", d.run.ID, "error", cause)
	because := fmt.Sprintf("The run cannot go on: %s.", reading.Plain(cause.Error()))
	err := d.e.Write(ctx, func(s *Sheet) error {
		ours, err := s.tx.EndUnparsed(d.run, because)
		if err != nil || !ours {
			return err
		}
		if err := s.closeOpen(d.run.ID); err != nil {
			return err
		}
		s.leave(d.run, "", flow.Ended{State: flow.StateFail, Because: because})
		return s.tellStopped(d.run, incident.RunFailed, "The run cannot go on", because)
	})
	if err != nil {
		d.e.Log.Error("end a run that cannot go on", "run", d.run.ID, "error", err)
	}
	d.refused = err == nil
}
