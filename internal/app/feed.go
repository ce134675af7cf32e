package app

import (
	"context"
	"sync"
	"time"

	"urgentis/core/access"
	"urgentis/internal/engine"
	"urgentis/internal/store"
)

// Feed passes on what changes to all who listen. It reads the database's feed in commit order, twenty times a second:
// that is one index probe, cheaper than a notice in every commit, which would take a lock over all commits.
type Feed struct {
	store     *store.Store
	mu        sync.Mutex
	listeners map[chan News]struct{}
	ctx       context.Context
	cancel    context.CancelFunc
	done      sync.WaitGroup
	passing   *passing
}

// News is something that changed, or a piece of what a command prints.
type News struct {
	Changed *store.Feed
	Output  *engine.Output
}

// pause is how often the feed is read.
const pause = 50 * time.Millisecond

// mostNews bounds how much may wait for one listener, and mostMissed how much one may have missed.
const (
	mostNews   = 256
	mostMissed = 1000
)

// NewFeed begins to read.
func NewFeed(s *store.Store) *Feed {
	f := &Feed{store: s, listeners: map[chan News]struct{}{}}
	f.ctx, f.cancel = context.WithCancel(context.Background())
	f.passing = newPassing(s, f)
	f.done.Go(f.read)
	f.done.Go(func() { f.passing.run(f.ctx) })
	return f
}

// Stop ends the reading and all listening.
func (f *Feed) Stop() {
	f.cancel()
	f.done.Wait()
}

// Stopped is closed once the feed stops.
func (f *Feed) Stopped() <-chan struct{} { return f.ctx.Done() }

// Output passes on what a command prints, to those who listen here and elsewhere. It does not block.
func (f *Feed) Output(o engine.Output) {
	f.send(News{Output: &o})
	f.passing.add(o)
}

// listened reports whether somebody listens.
func (f *Feed) listened() bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	return len(f.listeners) > 0
}

func (f *Feed) send(n News) {
	f.mu.Lock()
	defer f.mu.Unlock()
	for l := range f.listeners {
		select {
		case l <- n:
		default:
			// Too slow: it is told to read everything anew when it can take something again.
			delete(f.listeners, l)
			close(l)
		}
	}
}

// Listen gives what is news from now on, until Forget, or until the channel is closed: then the listener was too slow.
func (f *Feed) Listen() chan News {
	l := make(chan News, mostNews)
	f.mu.Lock()
	defer f.mu.Unlock()
	f.listeners[l] = struct{}{}
	return l
}

// Forget ends listening.
func (f *Feed) Forget(l chan News) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if _, ok := f.listeners[l]; ok {
		delete(f.listeners, l)
		close(l)
	}
}

func (f *Feed) read() {
	xid, id, err := f.store.FeedEnd(f.ctx)
	for err != nil && f.ctx.Err() == nil {
		time.Sleep(pause)
		xid, id, err = f.store.FeedEnd(f.ctx)
	}
	for {
		select {
		case <-f.ctx.Done():
			return
		case <-time.After(pause):
		}
		rows, err := f.store.FeedAfter(f.ctx, xid, id)
		if err != nil {
			continue
		}
		for i := range rows {
			xid, id = rows[i].Xid, rows[i].ID
			f.send(News{Changed: &rows[i]})
		}
	}
}

// Missed gives what changed since a place in the feed; false where that is too much, or cannot be read.
func (f *Feed) Missed(ctx context.Context, xid string, id int64) ([]store.Feed, bool) {
	rows, err := f.store.FeedAfter(ctx, xid, id)
	return rows, err == nil && len(rows) < mostMissed
}

// Hears reports whether somebody hears of a change.
func Hears(who *access.Principal, changed *store.Feed) bool {
	return access.Can(
		who,
		access.See,
		access.Object{Kind: changed.Topic, Name: changed.Ref, Service: changed.Service},
	) == nil
}
