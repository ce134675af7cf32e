package engine

import (
	"context"
	"errors"
	"sync"
	"time"

	"urgentis/core/flow"
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
func (e *Engine) TakeAgain(
	ctx context.Context, s *flow.State, run string, look *flow.LookTaken,
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
	var read taken
	var mu sync.Mutex
	var wg sync.WaitGroup
	atOnce := make(chan struct{}, againAtOnce)
	for _, in := range look.Again {
		wg.Go(func() {
			atOnce <- struct{}{}
			defer func() { <-atOnce }()
			in.Attempt = store.NewID("a")
			o := e.safely(ctx, s, in)
			mu.Lock()
			defer mu.Unlock()
			out[in.Target] = o
			read.look(s.Book(), in.Look, o.Readings, run)
		})
	}
	wg.Wait()
	if err := read.identify(ctx, e.Store); err != nil {
		return nil, err
	}
	return out, e.Write(ctx, func(sheet *Sheet) error { return store.Add(sheet.Bulk, read.rows) })
}

// safely takes a look; a program error in it is its failure.
func (e *Engine) safely(ctx context.Context, s *flow.State, in flow.Intent) (out flow.Outcome) {
	defer func() {
		if r := recover(); r != nil {
			out = flow.Outcome{
				Attempt: in.Attempt,
				State:   flow.Failed,
				Error:   failedOn(r),
			}
		}
	}()
	return e.lookOnly(ctx, s.Book(), in, e.now(), s.Sealed())
}
