package engine

import (
	"context"
	"errors"
	"time"

	"urgentis/core/flow"
	"urgentis/internal/act"
)

// restTime bounds how long is looked whether an attempt still runs.
const restTime = 20 * time.Second

// maxResting bounds of how many attempts of a run that is found out at once.
const maxResting = 32

// takeRest takes in what was found out of an attempt.
func (d *drive) takeRest(ctx context.Context, x restSeen) bool {
	delete(d.resting, x.attempt)
	if x.event.Body == nil {
		d.restless[x.attempt] = time.Now()
		return true
	}
	return d.takeFact(ctx, x.event)
}

// askRest finds out, beside the drive, which attempts rest: nobody can begin them any more, and what they began is not
// seen to run. What cannot be seen, because its target does not answer, does not rest; where nobody can ever see, it is
// enough that nobody can begin it.
func (d *drive) askRest(attempts []string) {
	for _, id := range attempts {
		in, place, over, ok := d.m.State().Attempt(id)
		if _, asked := d.resting[id]; asked || !ok || !over || len(d.resting) >= maxResting ||
			time.Since(d.restless[id]) < flow.RestRetry-time.Second {
			continue
		}
		d.resting[id] = struct{}{}
		reported := !d.m.State().Unreported(id)
		go func() {
			rests, says := d.e.rests(d.e.changes, in, reported)
			ev := flow.Event{At: d.e.Now(), Place: place, Body: flow.Rested{Attempt: id, Says: says}}
			if !rests {
				ev.Body = nil
			}
			d.rest <- restSeen{id, ev}
		}()
	}
}

// restSeen is what was found out of an attempt; its event has no body where it does not rest.
type restSeen struct {
	attempt string
	event   flow.Event
}

// errUnseen says that nobody can ever see whether something runs.
var errUnseen = errors.New("nobody can see what runs there")

// rests finds it out. reported: whoever could begin it told how that went.
func (e *Engine) rests(ctx context.Context, in flow.Intent, reported bool) (rests bool, says string) {
	ctx, cancel := context.WithTimeout(ctx, restTime)
	defer cancel()
	if !reported {
		if may, _, err := e.Store.In(ctx).MayBegin(in.By); err != nil || may {
			return false, ""
		}
	}
	running, err := e.running(ctx, in)
	switch {
	case errors.Is(err, errUnseen):
		return true, "no instance can begin it any more; whether it runs cannot be seen"
	case err != nil || running:
		return false, ""
	}
	return true, "no instance can begin it any more, and it is not seen to run"
}

func (e *Engine) running(ctx context.Context, in flow.Intent) (bool, error) {
	w, ok := e.Hands[in.Request.Kind].(act.Watcher)
	if !ok {
		return false, errUnseen
	}
	return w.Running(ctx, act.Job{Request: in.Request, Attempt: in.Attempt})
}
