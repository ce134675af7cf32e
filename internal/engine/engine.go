// Package engine drives core/flow on the store: it writes each intention before it acts and each
// outcome after, and nothing else. What must happen is decided in core/flow.
package engine

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"sync"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"

	"urgentis/core/leave"
	"urgentis/core/runbook"
	"urgentis/internal/act"
	"urgentis/internal/store"
)

// Hands does requests by their kind: ssh, local or http.
type Hands map[string]act.Hand

// Secrets gives what must be masked in what a target prints.
type Secrets interface {
	Values(ctx context.Context, f leave.Facts) []string
}

// Output is a piece of what a command prints, while it prints.
type Output struct {
	Run      string `json:"run"`
	Incident int64  `json:"incident,omitempty"`
	Attempt  string `json:"attempt"`
	Path     string `json:"path"`
	Target   string `json:"target"`
	Text     string `json:"text"`
}

// Config is what an engine works with.
type Config struct {
	Store   *store.Store
	Hands   Hands
	Secrets Secrets
	Log     *slog.Logger
	Version string
	// Link is the address under which people reach this installation, without a slash at the end.
	Link string
	// Live is called with output as it comes; it must not block.
	Live func(Output)
	// Workers are registered with the queue beside the engine's own.
	Workers func(*river.Workers)
	// Clock is time.Now unless a test sets it.
	Clock func() time.Time
}

// Engine is one instance.
type Engine struct {
	Config
	id string

	books    sync.Map // revision -> *runbook.Book
	drives   sync.Map // run -> struct{}
	driving  sync.WaitGroup
	ctx      context.Context
	stop     context.CancelFunc
	changes  context.Context // outlives ctx, so that a change under way can end
	abandon  context.CancelFunc
	slots    chan struct{}
	lastBeat atomic.Int64
	steady   atomic.Int64 // since when this instance has beaten without a break
	queue    *river.Client[pgx.Tx]
	loops    sync.WaitGroup
}

// maxDrives bounds how many runs one instance drives at once; parked runs do not count.
const maxDrives = 256

// grace is how long a change under way may still take when the service stops.
const grace = 20 * time.Second

// New makes an engine; Start begins its work.
func New(c Config) *Engine {
	if c.Clock == nil {
		c.Clock = time.Now
	}
	if c.Live == nil {
		c.Live = func(Output) {}
	}
	e := &Engine{Config: c, slots: make(chan struct{}, maxDrives)}
	e.ctx, e.stop = context.WithCancel(context.Background())
	e.changes, e.abandon = context.WithCancel(context.Background())
	return e
}

// Start registers this instance and begins to work the queue, the timers and the beats.
func (e *Engine) Start(ctx context.Context) error {
	if err := e.register(ctx); err != nil {
		return err
	}
	workers := river.NewWorkers()
	river.AddWorker(workers, &bell{e: e})
	if e.Workers != nil {
		e.Workers(workers)
	}
	var err error
	if e.queue, err = e.Store.WorkQueue(workers, slog.New(slog.DiscardHandler)); err != nil {
		return fmt.Errorf("open the queue: %w", err)
	}
	if err := e.queue.Start(e.ctx); err != nil {
		return fmt.Errorf("start the queue: %w", err)
	}
	e.loops.Add(2)
	go e.beat()
	go e.timers()
	return nil
}

func (e *Engine) register(ctx context.Context) error {
	host, _ := os.Hostname()
	e.id = store.NewID("n")
	now := e.Clock().UnixNano()
	e.lastBeat.Store(now)
	e.steady.Store(now)
	if err := e.Store.Register(ctx, store.Instance{ID: e.id, Host: host, PID: os.Getpid(), Version: e.Version}); err != nil {
		return fmt.Errorf("register this instance: %w", err)
	}
	return nil
}

// Stop ends the work in order: looks are dropped and taken again by whoever goes on, a change under
// way may end within a time of grace, and all claims are given back.
func (e *Engine) Stop() {
	e.stop()
	t := time.AfterFunc(grace, e.abandon)
	e.driving.Wait()
	t.Stop()
	e.abandon()
	e.loops.Wait()
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	if err := e.queue.Stop(ctx); err != nil {
		e.Log.Warn("stop the queue", "error", err)
	}
	if err := e.Store.Leave(ctx, e.id); err != nil {
		e.Log.Warn("leave the list of instances", "error", err)
	}
}

// bell is the worker of doorbells: it claims, starts the drive, and returns.
type bell struct {
	river.WorkerDefaults[store.Doorbell]
	e *Engine
}

// Work implements river.Worker.
func (b *bell) Work(ctx context.Context, job *river.Job[store.Doorbell]) error {
	return b.e.answer(ctx, job.Args.Run)
}

func (e *Engine) answer(ctx context.Context, run string) error {
	select {
	case e.slots <- struct{}{}:
	case <-e.ctx.Done():
		return nil // the bell stays unanswered; the janitor of another instance rings anew
	}
	r, err := e.Store.Claim(ctx, run, e.id)
	if err != nil || r == nil {
		<-e.slots
		return err
	}
	e.drives.Store(run, struct{}{})
	e.driving.Go(func() {
		defer func() { <-e.slots }()
		defer e.drives.Delete(run)
		e.drive(r)
	})
	return nil
}

// beat says each second that this instance is alive, and cleans up after those that are not.
func (e *Engine) beat() {
	defer e.loops.Done()
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for n := 0; ; n++ {
		select {
		case <-e.ctx.Done():
			return
		case <-tick.C:
		}
		ctx, cancel := context.WithTimeout(e.ctx, 2*time.Second)
		e.pulse(ctx)
		if n%600 == 0 {
			if err := e.Store.Forget(ctx); err != nil {
				e.Log.Warn("forget old lines", "error", err)
			}
		}
		cancel()
	}
}

func (e *Engine) pulse(ctx context.Context) {
	now := e.Clock()
	if now.UnixNano()-e.lastBeat.Load() > int64(store.Lease) {
		e.steady.Store(now.UnixNano())
	}
	alive, err := e.Store.Beat(ctx, e.id)
	if err != nil {
		e.Log.Warn("beat", "error", err)
		return
	}
	if !alive {
		e.Log.Error("this instance was taken for dead; it begins anew under another name", "instance", e.id)
		if err := e.register(ctx); err != nil {
			e.Log.Error("register anew", "error", err)
		}
		return
	}
	e.lastBeat.Store(now.UnixNano())
	if now.UnixNano()-e.steady.Load() < int64(store.Lease) {
		return
	}
	if err := e.Store.Sweep(ctx); err != nil {
		e.Log.Warn("sweep", "error", err)
	}
	owned, err := e.Store.OwnedBy(ctx, e.id)
	if err != nil {
		return
	}
	for _, run := range owned {
		if _, ok := e.drives.Load(run); ok {
			continue
		}
		// The claim and the note of the drive are two steps; look once more before it counts as left behind.
		time.Sleep(50 * time.Millisecond)
		if _, ok := e.drives.Load(run); !ok {
			if err := e.Store.GiveBack(ctx, run, e.id); err != nil {
				e.Log.Warn("give back a run", "run", run, "error", err)
			}
		}
	}
}

// leased reports whether this instance still counts as alive for certain.
func (e *Engine) leased() bool {
	return e.Clock().UnixNano()-e.lastBeat.Load() < int64(store.Lease-time.Second)
}

// timers takes due timers and sleeps until the next, at most 250 ms.
func (e *Engine) timers() {
	defer e.loops.Done()
	const longest = 250 * time.Millisecond
	for {
		n, next, err := e.Store.RingDue(e.ctx)
		if err != nil && e.ctx.Err() == nil {
			e.Log.Warn("take due timers", "error", err)
		}
		if n == 500 {
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

// errUnsound marks a runbook that an earlier program took and this one does not.
var errUnsound = errors.New("it is not sound under this program")

// Book gives the runbook of a revision.
func (e *Engine) Book(ctx context.Context, revision string) (*runbook.Book, error) {
	if b, ok := e.books.Load(revision); ok {
		return b.(*runbook.Book), nil
	}
	var r store.Revision
	if err := e.Store.DB.WithContext(ctx).Where("revision = ?", revision).Take(&r).Error; err != nil {
		return nil, fmt.Errorf("read runbook revision %.12s: %w", revision, err)
	}
	b, findings := runbook.Parse([]byte(r.Text))
	if b == nil {
		return nil, fmt.Errorf("runbook %s: %w: %s", r.Name, errUnsound, findings)
	}
	e.books.Store(revision, b)
	return b, nil
}
