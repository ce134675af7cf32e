// Package engine drives core/flow on the store: it writes each intention before it acts and each
// outcome after, and nothing else. What must happen is decided in core/flow.
package engine

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"os"
	"runtime/debug"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"
	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"

	"urgentis/core/flow"
	"urgentis/core/leave"
	"urgentis/core/runbook"
	"urgentis/internal/act"
	"urgentis/internal/evaluate"
	"urgentis/internal/store"
)

// Hands does requests by their kind: ssh, local or http.
type Hands map[string]act.Hand

// Secrets opens and seals.
type Secrets interface {
	// Known gives what must be masked in what a target prints: the value that opens it, those of secrets by their names,
	// and those of sealed readings by their marks.
	Known(ctx context.Context, f leave.Facts, names, marks []string) ([]string, error)
	// Fill puts values in the place of the marks in a request; they must be masked in what comes back.
	Fill(ctx context.Context, r leave.Request) (leave.Request, []string, error)
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
	steady   atomic.Int64 // since when this instance has beaten without a break
	careful  atomic.Int64 // until when what is taken in hand is marked on disk; see drive.closely
	inHand   sync.Mutex   // held by whoever has marked something
	queue    *river.Client[pgx.Tx]
	evaluate *evaluate.Pool
	loops    sync.WaitGroup
}

// maxDrives bounds how many runs one instance drives at once; parked runs do not count.
const maxDrives = 256

// maxEvaluations bounds how many jq expressions are evaluated at once.
const maxEvaluations = 2

// maxBooks bounds how many runbooks are kept parsed; the one that was used longest ago is forgotten.
const maxBooks = 2000

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
	books, err := lru.New[string, *runbook.Book](maxBooks)
	if err != nil {
		panic(err) // its size is ours
	}
	e := &Engine{Config: c, books: books, seen: newSeen(), active: map[string]int{}, slots: make(chan struct{}, maxDrives), evaluate: evaluate.New(maxEvaluations)}
	e.ctx, e.stop = context.WithCancel(context.Background())
	e.changes, e.abandon = context.WithCancel(context.Background())
	return e
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
	if e.queue, err = e.Store.WorkQueue(workers, slog.New(slog.DiscardHandler)); err != nil {
		return fmt.Errorf("open the queue: %w", err)
	}
	if err := e.queue.Start(e.ctx); err != nil {
		return fmt.Errorf("start the queue: %w", err)
	}
	e.working.Store(true)
	e.loops.Add(4)
	go e.beat()
	go e.clean()
	go e.timers()
	go e.learn()
	return nil
}

// learn keeps the database's statistics in step with a young installation.
func (e *Engine) learn() {
	defer e.loops.Done()
	tick := time.NewTicker(3 * time.Second)
	defer tick.Stop()
	for {
		select {
		case <-e.ctx.Done():
			return
		case <-tick.C:
		}
		ctx, cancel := context.WithTimeout(e.ctx, 30*time.Second)
		if err := e.Store.Learn(ctx); err != nil && e.ctx.Err() == nil {
			e.Log.Warn("gather statistics", "error", err)
		}
		cancel()
	}
}

func (e *Engine) register(ctx context.Context) error {
	host, _ := os.Hostname()
	id := store.NewID("n")
	now := e.Clock().UnixNano()
	e.lastBeat.Store(now)
	e.steady.Store(now)
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
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	if err := e.queue.Stop(ctx); err != nil {
		e.Log.Warn("stop the queue", "error", err)
	}
	if err := e.Store.Leave(ctx, e.name()); err != nil {
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
	name := e.name()
	r, err := e.Store.Claim(ctx, run, name)
	if err != nil || r == nil || e.ctx.Err() != nil {
		<-e.slots // what was claimed while this instance stops is freed when it takes its leave
		return err
	}
	e.adopt(r)
	return nil
}

// adopt drives a run that this instance owns, in a slot that was taken for it.
func (e *Engine) adopt(r *store.Run) {
	name := *r.Owner
	d := newDrive(e, r)
	e.drives.Store(r.ID, d)
	e.count(name, 1)
	e.driving.Go(func() {
		defer func() { <-e.slots }()
		defer e.count(name, -1)
		defer e.drives.CompareAndDelete(r.ID, d)
		d.safely()
	})
}

// slot takes a slot for a drive, if one is free and this instance works.
func (e *Engine) slot() bool {
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

// count keeps how many drives were begun under a name. When the last one ends under a name that was taken for
// dead, this instance says so: nothing that it intended can be begun any more.
func (e *Engine) count(name string, n int) {
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

// idle reports whether no drive is left that was begun under a name.
func (e *Engine) idle(name string) bool {
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

// guarded does a round of a loop that must go on, whatever happens in it.
func (e *Engine) guarded(what string, f func()) {
	defer func() {
		if r := recover(); r != nil {
			e.Log.Error("the program failed", "in", what, "panic", r, "stack", string(debug.Stack()))
		}
	}()
	f()
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
		e.guarded("beat", func() { e.beatOnce(ctx, pulse) })
		cancel()
	}
}

func (e *Engine) beatOnce(ctx context.Context, pulse *store.Pulse) {
	now := e.Clock()
	if now.UnixNano()-e.lastBeat.Load() > int64(store.Lease) {
		e.steady.Store(now.UnixNano())
	}
	name := e.name()
	alive, err := pulse.Beat(ctx, name)
	if err != nil {
		if e.ctx.Err() == nil {
			e.Log.Warn("beat", "error", err)
		}
		return
	}
	if alive {
		e.lastBeat.Store(now.UnixNano())
		return
	}
	e.Log.Error("this instance was taken for dead; it begins anew under another name", "instance", name)
	if err := e.register(ctx); err != nil {
		e.Log.Error("register anew", "error", err)
	} else if e.idle(name) {
		e.report(name)
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
		e.guarded("clean up", func() { e.cleanOnce(ctx, n%600 == 0) })
		cancel()
	}
}

func (e *Engine) cleanOnce(ctx context.Context, forget bool) {
	warn := func(what string, err error) {
		if err != nil && e.ctx.Err() == nil {
			e.Log.Warn(what, "error", err)
		}
	}
	e.tend(ctx, e.name())
	if now := e.Clock().UnixNano(); e.leased() && now-e.steady.Load() >= int64(store.Lease) {
		n, err := e.Store.Fence(ctx)
		warn("fence", err)
		if n > 0 {
			// Before the runs of the dead are freed: one of them may be what they died of.
			e.beCareful(ctx, true)
		}
		if err == nil {
			warn("sweep", e.Store.Sweep(ctx))
			warn("look for instances that are gone", e.bury(ctx))
		}
	}
	if forget {
		warn("forget old lines", e.Store.Forget(ctx))
	}
}

// tend pokes the drives into whose logs somebody wrote, and gives back runs that are owned and not driven.
func (e *Engine) tend(ctx context.Context, name string) {
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

// bury notes which of the instances that were taken for dead are seen to be gone: those of this process namespace, under
// this boot of its machine, whose process is there no more. Two machines, or two containers, may have one name: where
// another instance ran elsewhere, or before a boot, a person must say that it is gone.
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
		if _, err := e.Store.Gone(ctx, i.ID, e.name()); err != nil {
			return err
		}
	}
	return nil
}

// leased reports whether this instance still counts as alive for certain.
func (e *Engine) leased() bool {
	return e.Clock().UnixNano()-e.lastBeat.Load() < int64(store.Lease-time.Second)
}

// Silent is how long the database has not answered this instance's beats.
func (e *Engine) Silent() time.Duration {
	return time.Duration(e.Clock().UnixNano() - e.lastBeat.Load())
}

// timers takes due timers and sleeps until the next, at most 250 ms.
func (e *Engine) timers() {
	defer e.loops.Done()
	const longest = 250 * time.Millisecond
	const most = 64
	for {
		free := 0
		for free < most && e.slot() {
			free++
		}
		runs, n, next, err := []store.Run(nil), 0, 20*time.Millisecond, error(nil)
		if free > 0 {
			runs, n, next, err = e.Store.ClaimDue(e.ctx, e.name(), free)
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
			e.adopt(&runs[i])
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

// ErrUnsound marks a runbook that an earlier program took and this one does not.
var ErrUnsound = errors.New("it is not sound under this program")

// Book gives the runbook of a revision, without the other runbooks that it calls.
func (e *Engine) Book(ctx context.Context, revision string) (*runbook.Book, error) {
	return e.bookUnder(ctx, revision, flow.Rules)
}

// boundedSince is the version of the rules since which values from outside must be bounded in the words of a command.
const boundedSince = 4

// bookUnder is Book for a run that was begun under a version of the rules.
func (e *Engine) bookUnder(ctx context.Context, revision string, rules int) (*runbook.Book, error) {
	key, parse := revision, runbook.Parse
	if rules < boundedSince {
		key, parse = "old "+revision, runbook.ParseOld
	}
	if b, ok := e.books.Get(key); ok {
		return b, nil
	}
	var r store.Revision
	if err := e.Store.In(ctx).Where("revision = ?", revision).Take(&r).Error; err != nil {
		return nil, fmt.Errorf("read runbook revision %.12s: %w", revision, err)
	}
	b, findings := parse([]byte(r.Text))
	if b == nil {
		return nil, fmt.Errorf("runbook %s: %w: %s", r.Name, ErrUnsound, findings)
	}
	e.books.Add(key, b)
	return b, nil
}

// Linked gives the runbook of a revision with the revisions of the other runbooks that it calls.
func (e *Engine) Linked(ctx context.Context, revision string, calls map[string]string) (*runbook.Book, error) {
	return e.linkedUnder(ctx, revision, calls, flow.Rules)
}

func (e *Engine) linkedUnder(ctx context.Context, revision string, calls map[string]string, rules int) (*runbook.Book, error) {
	b, err := e.bookUnder(ctx, revision, rules)
	if err != nil || len(calls) == 0 {
		return b, err
	}
	key := revision
	if rules < boundedSince {
		key = "old " + key
	}
	for _, n := range slices.Sorted(maps.Keys(calls)) {
		key += " " + calls[n]
	}
	if l, ok := e.books.Get(key); ok {
		return l, nil
	}
	l, findings := b.Link(func(name string) *runbook.Book {
		c, failed := e.bookUnder(ctx, calls[name], rules)
		if failed != nil {
			err = failed
			return nil
		}
		return c
	})
	if err != nil {
		return nil, err
	}
	if l == nil {
		return nil, fmt.Errorf("runbook %s: %w: %s", b.Name, ErrUnsound, findings)
	}
	e.books.Add(key, l)
	return l, nil
}

// bookOf gives the runbook of a log.
func (e *Engine) bookOf(ctx context.Context, log []flow.Event) (*runbook.Book, error) {
	if len(log) == 0 {
		return nil, fmt.Errorf("%w: it is empty", errLog)
	}
	b, ok := log[0].Body.(flow.Begun)
	if !ok {
		return nil, fmt.Errorf("%w: it does not begin with run.begun", errLog)
	}
	return e.linkedUnder(ctx, b.Revision, b.Calls, b.Rules)
}

// resolve finds the newest revision of every runbook that a book calls, and of those that they call.
func (e *Engine) resolve(ctx context.Context, b *runbook.Book) (map[string]string, error) {
	if len(b.Calls()) == 0 {
		return nil, nil
	}
	calls := map[string]string{}
	var failed error
	_, findings := b.Link(func(name string) *runbook.Book {
		r, err := e.Store.Newest(ctx, name)
		if err != nil {
			if !errors.Is(err, store.ErrNotFound) {
				failed = err
			}
			return nil
		}
		c, err := e.Book(ctx, r.Revision)
		if err != nil {
			failed = err
			return nil
		}
		calls[name] = r.Revision
		return c
	})
	if failed == nil && findings.Failed() {
		failed = findings
	}
	return calls, failed
}
