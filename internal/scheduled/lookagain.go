package scheduled

import (
	"context"
	"errors"
	"sync"
	"time"

	"urgentis/core/flow"
	"urgentis/core/tell"
	"urgentis/internal/engine"
	"urgentis/internal/store"
)

// What people take again is bounded: so many looks at once, of those so many targets at once, and so long.
const (
	maxAgain      = 4
	againAtOnce   = 16
	againLookTime = time.Minute
)

// ErrBusy says that so many looks are taken again already that no other one is.
var ErrBusy = errors.New("several looks are being taken again already; ask again in a moment")

// TakeAgain takes a look of a run anew, with the words that the run used, and keeps what it reads. The run does not see
// it. What every target gave comes back, by the target.
func (e *Looker) TakeAgain(
	ctx context.Context, s *flow.State, run string, look *tell.LookTaken,
) (map[string]flow.Outcome, error) {
	select {
	case e.again <- struct{}{}:
		defer func() { <-e.again }()
	default:
		return nil, ErrBusy
	}
	ctx, cancel := context.WithTimeout(ctx, againLookTime)
	defer cancel()
	out := map[string]flow.Outcome{}
	var read engine.Readings
	e.takeAnew(ctx, s, look.Again, againAtOnce, "a", func(in flow.Intent, o flow.Outcome) {
		out[in.Target] = o
		read.Look(s.Book(), in.Look, o.Readings, run)
	})
	if err := read.Identify(ctx, e.Store); err != nil {
		return nil, err
	}
	return out, e.Write(ctx, func(sheet *engine.Sheet) error { return store.Add(sheet.Bulk, read.Rows) })
}

// takeAnew takes looks, of each on no more targets at once than it says itself, and than most. What each gave is told
// one after the other.
func (e *Looker) takeAnew(
	ctx context.Context, s *flow.State, looks []flow.Intent, most int, kind string,
	told func(flow.Intent, flow.Outcome),
) {
	var mu sync.Mutex
	var wg sync.WaitGroup
	atOnce := map[flow.Place]chan struct{}{}
	for _, in := range looks {
		if atOnce[in.Look] == nil {
			room := most
			if step, _ := flow.Find(s.Book(), in.Look); step != nil && step.AtOnce > 0 {
				room = min(room, step.AtOnce)
			}
			atOnce[in.Look] = make(chan struct{}, room)
		}
		room := atOnce[in.Look]
		wg.Go(func() {
			room <- struct{}{}
			defer func() { <-room }()
			in.Attempt = store.NewID(kind)
			o := e.safely(ctx, s, in)
			mu.Lock()
			defer mu.Unlock()
			told(in, o)
		})
	}
	wg.Wait()
}

// safely takes a look; a program error in it is its failure.
func (e *Looker) safely(ctx context.Context, s *flow.State, in flow.Intent) (out flow.Outcome) {
	defer func() {
		if r := recover(); r != nil {
			out = flow.Outcome{
				Attempt: in.Attempt,
				State:   flow.Failed,
				Error:   engine.FailedOn(r),
			}
		}
	}()
	return e.LookOnly(ctx, s.Book(), in, e.Now(), s.Sealed())
}
