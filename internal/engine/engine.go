package engine

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"sync"
	"sync/atomic"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"
	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"
	"golang.org/x/sync/semaphore"

	"urgentis/core/runbook"
	"urgentis/core/task"
	"urgentis/internal/act"
	"urgentis/internal/evaluate"
	"urgentis/internal/need"
	"urgentis/internal/store"
)

// Hands does requests by their kind: ssh, local or http.
type Hands map[string]act.Hand

// Secrets opens and seals.
type Secrets interface {
	// Known gives what must be masked in what a target prints: the value that opens it, those of secrets by their
	// names, and those of sealed readings by their marks.
	Known(ctx context.Context, f task.Facts, names, marks []string) ([]string, error)
	// Fill puts values in the place of the marks in a request; they must be masked in what comes back.
	Fill(ctx context.Context, r task.Request) (task.Request, []string, error)
	// Seal gives the mark under which a value stands in the log.
	Seal(text string) (string, error)
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
	Store   *store.Store `need:"yes"`
	Hands   Hands
	Secrets Secrets      `need:"yes"`
	Log     *slog.Logger `need:"yes"`
	Version string
	// Link is the address under which people reach this installation, without a slash at the end.
	Link string `need:"yes"`
	// Live is called with output as it comes; it must not block.
	Live func(Output)
	// Workers are registered with the queue beside the engine's own.
	Workers func(*river.Workers)
	// Clock is the database's time unless a test sets it.
	Clock func() time.Time
}

// Engine is one instance.
type Engine struct {
	Config
	id string

	known    known
	books    *lru.Cache[string, *runbook.Book] // by revision, and those of the runbooks it calls
	drives   sync.Map                          // run -> *drive
	seen     *seen
	mu       sync.Mutex
	active   map[string]int // drives by the name of the instance under which they were begun
	driving  sync.WaitGroup
	ctx      context.Context
	stop     context.CancelFunc
	changes  context.Context // outlives ctx, so that a change under way can end
	abandon  context.CancelFunc
	slots    chan struct{}
	working  atomic.Bool // it drives runs
	lastBeat atomic.Int64
	beating  atomic.Int64        // when it last tried to beat
	printed  *semaphore.Weighted // what was printed and is in hand
	steady   atomic.Int64        // since when this instance has beaten without a break; both as elapsed tells it
	skewTold atomic.Int64
	pulses   map[string]pulseSeen // of the loop that cleans up alone
	db       dbSeen
	careful  atomic.Int64 // until when what is taken in hand is marked on disk; see drive.closely
	inHand   sync.Mutex   // held by whoever has marked something
	queue    *river.Client[pgx.Tx]
	// evaluate is for runs and people; what only keeps watch has a place of its own, so that no run waits for it.
	evaluate, watchEvaluate *evaluate.Pool
	loops                   sync.WaitGroup
}

// maxDrives bounds how many runs one instance drives at once; parked runs do not count.
const maxDrives = 256

// maxEvaluations bounds how many jq expressions are evaluated at once.
const maxEvaluations = 2

// maxWatchEvaluations bounds how many of them are those of watches, beside the others.
const maxWatchEvaluations = 1

// maxBooks bounds how many runbooks are kept parsed; the one that was used longest ago is forgotten.
const maxBooks = 2000

// grace is how long a change under way may still take when the service stops.
const grace = 20 * time.Second

// New makes an engine; Start begins its work. It refuses a configuration in which something is missing.
func New(c Config) (*Engine, error) {
	if err := need.All("an engine", c); err != nil {
		return nil, err
	}
	if c.Live == nil {
		c.Live = func(Output) {}
	}
	books, err := lru.New[string, *runbook.Book](maxBooks)
	if err != nil {
		return nil, fmt.Errorf("make room for runbooks: %w", err)
	}
	e := &Engine{
		Config:   c,
		books:    books,
		seen:     newSeen(),
		active:   map[string]int{},
		slots:    make(chan struct{}, maxDrives),
		printed:  semaphore.NewWeighted(inHand),
		evaluate: evaluate.New(maxEvaluations),

		watchEvaluate: evaluate.New(maxWatchEvaluations).Nice(10),
	}
	if c.Clock != nil {
		e.Store.Clock.Fix(c.Clock)
	}
	e.Clock = e.Store.Clock.Now
	e.ctx, e.stop = context.WithCancel(context.Background())
	e.changes, e.abandon = context.WithCancel(context.Background())
	return e, nil
}

// Start registers this instance and begins to work the queue, the timers and the beats.
func (e *Engine) Start(ctx context.Context) error {
	if err := e.register(ctx); err != nil {
		return err
	}
	e.beCareful(ctx, false)
	workers := river.NewWorkers()
	river.AddWorker(workers, &bell{e: e})
	if e.Workers != nil {
		e.Workers(workers)
	}
	var err error
	if e.queue, err = e.Store.WorkQueue(e.name(), workers, slog.New(slog.DiscardHandler)); err != nil {
		return fmt.Errorf("open the queue: %w", err)
	}
	if err := e.queue.Start(e.ctx); err != nil {
		return fmt.Errorf("start the queue: %w", err)
	}
	e.working.Store(true)
	e.loops.Add(3)
	go e.beat()
	go e.clean()
	go e.timers()
	e.Every(3*time.Second, "gather statistics", e.gatherStatistics)
	e.Every(thinEvery, "put old readings together", e.thinOnce)
	return nil
}

// gatherStatistics keeps the database's statistics in step with a young installation.
func (e *Engine) gatherStatistics(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	return e.Store.GatherStatistics(ctx)
}

func (e *Engine) register(ctx context.Context) error {
	host, _ := os.Hostname()
	id := store.NewID("n")
	sent := time.Now()
	now, err := e.Store.Now(ctx)
	if err != nil {
		return fmt.Errorf("ask the database for its time: %w", err)
	}
	e.Store.Clock.Hear(sent, time.Now(), now)
	e.lastBeat.Store(elapsed())
	e.beating.Store(elapsed())
	e.steady.Store(elapsed())
	self := store.Instance{ID: id, Host: host, PID: os.Getpid(), Version: e.Version}
	self.Boot, self.BegunTicks = process(os.Getpid())
	if err := e.Store.Register(ctx, self); err != nil {
		return fmt.Errorf("register this instance: %w", err)
	}
	e.mu.Lock()
	e.id = id
	e.mu.Unlock()
	return nil
}

// name is the name of this instance. It takes another one when it was taken for dead.
func (e *Engine) name() string {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.id
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
	e.evaluate.Close()
	e.watchEvaluate.Close()
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	if err := e.queue.Stop(ctx); err != nil {
		e.Log.Warn("stop the queue", "error", err)
	}
	if err := e.Store.Depart(ctx, e.name()); err != nil {
		e.Log.Warn("leave the list of instances", "error", err)
	}
}
