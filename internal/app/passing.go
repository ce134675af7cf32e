package app

import (
	"context"
	"encoding/json"
	"sync"
	"time"

	"urgentis/internal/engine"
	"urgentis/internal/store"
)

// Output reaches whoever looks on at another process by the database: what is printed here is written there as long as
// somebody looks on elsewhere, a few times a second, and read where somebody does. Nothing is written for nobody.
const (
	// presentEvery is how often a process says that it is there; so long it may take until the first piece is passed
	// on.
	presentEvery = time.Second
	passEvery    = 150 * time.Millisecond
	// maxPassed bounds what is passed on at once, in bytes; what is beyond is left out.
	maxPassed = 512 << 10
)

// passing passes output on between processes.
type passing struct {
	store *store.Store
	feed  *Feed
	name  string

	mu     sync.Mutex
	others store.Others
	queue  []engine.Output
	size   int
	// last is the newest piece that was read of each teller.
	last map[string]int64
}

func newPassing(s *store.Store, f *Feed) *passing {
	return &passing{store: s, feed: f, name: store.NewID("t"), last: map[string]int64{}}
}

// add takes in what is printed here. It does not block.
func (p *passing) add(o engine.Output) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if !p.others.Listen || p.size > maxPassed {
		return
	}
	p.size += len(o.Text)
	if n := len(p.queue); n > 0 && sameStream(p.queue[n-1], o) {
		p.queue[n-1].Text += o.Text
		return
	}
	p.queue = append(p.queue, o)
}

// sameStream reports whether a piece goes on where another one ended.
func sameStream(a, b engine.Output) bool {
	a.Text, b.Text = "", ""
	return a == b
}

// run passes on until the feed stops. Where the database is away, output is not passed on: the record has it.
func (p *passing) run(ctx context.Context) {
	t := time.NewTicker(passEvery)
	defer t.Stop()
	var present time.Time
	for {
		select {
		case <-ctx.Done():
			return
		case <-t.C:
		}
		if time.Since(present) >= presentEvery {
			present = time.Now()
			if others, err := p.store.Present(ctx, p.name, p.feed.listened()); err == nil {
				p.mu.Lock()
				p.others = others
				p.mu.Unlock()
			}
		}
		p.write(ctx)
		p.read(ctx)
	}
}

func (p *passing) write(ctx context.Context) {
	p.mu.Lock()
	queue := p.queue
	p.queue, p.size = nil, 0
	p.mu.Unlock()
	if len(queue) == 0 {
		return
	}
	bodies := make([]string, 0, len(queue))
	for _, o := range queue {
		if b, err := json.Marshal(o); err == nil {
			bodies = append(bodies, string(b))
		}
	}
	p.store.AddPieces(ctx, p.name, bodies) //nolint:errcheck // the record has it
}

func (p *passing) read(ctx context.Context) {
	p.mu.Lock()
	there := p.others.There
	p.mu.Unlock()
	if !there || !p.feed.listened() {
		return
	}
	pieces, err := p.store.PiecesOf(ctx, p.name)
	if err != nil {
		return
	}
	for _, x := range pieces {
		if x.ID <= p.last[x.Teller] {
			continue
		}
		p.last[x.Teller] = x.ID
		var o engine.Output
		if json.Unmarshal([]byte(x.Body), &o) == nil {
			p.feed.send(News{Output: &o})
		}
	}
}
