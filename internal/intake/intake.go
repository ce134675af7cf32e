package intake

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"

	"urgentis/core/alert"
	"urgentis/core/route"
	"urgentis/core/source"
	"urgentis/core/trigger"
	"urgentis/internal/engine"
	"urgentis/internal/meter"
	"urgentis/internal/need"
	"urgentis/internal/store"
)

// Taken is what became of a report.
type Taken struct {
	Alert    string
	Change   alert.Change
	Incident int64 // 0 without one
}

// ErrUncertain says that the database broke off while it committed: send it again, identity absorbs the repeat.
var ErrUncertain = errors.New("it is not certain that the alert was kept; send it again")

// ErrRefused says that a report cannot be kept for what it is: sending it again will not help.
var ErrRefused = errors.New("the alert cannot be kept as it is; the log of the service says more")

// Intake is the one way in for alerts.
type Intake struct {
	store  *store.Store
	engine *engine.Engine
	log    *slog.Logger
	clock  func() time.Time
	lanes  *lanes
	done   sync.WaitGroup
	stop   chan struct{}
	since  time.Time // since when it listens

	triggers cache
	marked   *lru.Cache[string, time.Time] // when each source was last marked
	seen     *seen

	mu      sync.Mutex
	waiting map[string]int // how many reports of each source wait to be kept

	losses losses

	// judgedBy is by which planned work all open alerts are held back, as this instance knows; the one who watches
	// alone reads it.
	judgedBy judgedBy
}

// Item is a report as it is taken.
type Item struct {
	Report alert.Report
	// Times is how often it was made; 0 is once.
	Times int
	// Payload is what was sent, where that is kept; one for all items that came of it.
	Payload *source.Payload
	// Once is by what its sender names it, so that it alters something once; nothing where it is not named.
	Once store.Once
	// Why says why a report is made that nobody sent; "" for one that somebody did.
	Why string
}

// Outcome is what became of an item, or why it was not taken.
type Outcome struct {
	Taken Taken
	Err   error
}

type item struct {
	source  string
	report  alert.Report
	times   int
	payload *source.Payload
	once    store.Once
	why     string
	answer  chan Outcome
	lane    int // the writer that it waits for
}

func (it *item) identity() store.Identity {
	return store.Identity{Source: it.source, Key: it.report.Key}
}

// ErrBusy says that more reports of a source wait to be kept than are taken; the others are not made to wait for it.
var ErrBusy = errors.New("too many reports of this source wait to be kept; send it again in a second")

// maxBatch bounds how many reports share one commit, maxWaiting how many of one source wait for one.
const (
	maxBatch   = 256
	maxWaiting = 4096
)

// Config is what an intake works with.
type Config struct {
	Store  *store.Store   `need:"yes"`
	Engine *engine.Engine `need:"yes"`
	Log    *slog.Logger   `need:"yes"`
	// Clock is the engine's, which goes by the database's time, unless a test sets it.
	Clock func() time.Time
}

// New makes an intake and starts its writers, the one who looks after starts that wait, and the one who looks for
// silent sources. It refuses a configuration in which something is missing.
func New(c Config) (*Intake, error) {
	if err := need.All("an intake", c); err != nil {
		return nil, err
	}
	if c.Clock == nil {
		c.Clock = c.Engine.Clock
	}
	marked, err := lru.New[string, time.Time](10_000)
	if err != nil {
		return nil, fmt.Errorf("make room for sources: %w", err)
	}
	values, err := newSeen()
	if err != nil {
		return nil, err
	}
	in := &Intake{
		seen:  values,
		store: c.Store, engine: c.Engine, log: c.Log, clock: c.Clock, marked: marked, stop: make(chan struct{}),
		waiting: map[string]int{}, lanes: newLanes(),
	}
	for _, lane := range in.lanes.queues {
		in.done.Add(1)
		go in.write(lane)
	}
	in.since = in.clock()
	in.done.Add(4)
	go in.watch()
	go in.look()
	go in.keepTime()
	go in.measure()
	return in, nil
}

// Stop ends the writers; what waits is still written.
func (in *Intake) Stop() {
	close(in.stop)
	in.done.Wait()
}

// Take keeps one report. It returns once that is on disk.
func (in *Intake) Take(ctx context.Context, source string, r alert.Report) (Taken, error) {
	taken, err := in.TakeAll(ctx, source, []alert.Report{r})
	if err != nil {
		return Taken{}, err
	}
	return taken[0], nil
}

// TakeAll keeps reports. It returns once all are on disk; where it returns an error some may be, and identity absorbs
// those when they are sent again.
func (in *Intake) TakeAll(ctx context.Context, source string, reports []alert.Report) ([]Taken, error) {
	items := make([]Item, len(reports))
	for i, r := range reports {
		items[i] = Item{Report: r}
	}
	return in.TakeSent(ctx, source, items)
}

// TakeSent is TakeAll of items, such as a map made of a payload.
func (in *Intake) TakeSent(ctx context.Context, source string, items []Item) ([]Taken, error) {
	out := make([]Taken, len(items))
	for i, o := range in.TakeItems(ctx, source, items) {
		if o.Err != nil {
			return nil, o.Err
		}
		out[i] = o.Taken
	}
	return out, nil
}

// TakeItems keeps reports, and tells of each what became of it. It returns once all that were taken are on disk.
func (in *Intake) TakeItems(ctx context.Context, source string, items []Item) []Outcome {
	out := make([]Outcome, len(items))
	if !in.enter(source, len(items)) {
		for i := range out {
			out[i].Err = ErrBusy
		}
		return out
	}
	defer in.leave(source, len(items))
	sent := make([]*item, len(items))
	for i, x := range items {
		it := &item{source: source, report: x.Report, times: max(1, x.Times), payload: x.Payload, once: x.Once,
			why: x.Why, answer: make(chan Outcome, 1)}
		if in.send(ctx, it) {
			sent[i] = it
		}
	}
	for i, it := range sent {
		if out[i].Err = ErrUncertain; it == nil {
			continue
		}
		select {
		case out[i] = <-it.answer:
		case <-ctx.Done():
		}
	}
	return out
}

// send gives an item to a writer.
func (in *Intake) send(ctx context.Context, it *item) bool {
	select {
	case in.lanes.enter(it) <- it:
		return true
	case <-ctx.Done():
	case <-in.stop:
	}
	in.lanes.leave(it)
	return false
}

// enter lets reports of a source in where there is room for them.
func (in *Intake) enter(source string, n int) bool {
	in.mu.Lock()
	defer in.mu.Unlock()
	if was := in.waiting[source]; was > 0 && was+n > maxWaiting {
		return false
	}
	in.waiting[source] += n
	return true
}

func (in *Intake) leave(source string, n int) {
	in.mu.Lock()
	defer in.mu.Unlock()
	if in.waiting[source] -= n; in.waiting[source] <= 0 {
		delete(in.waiting, source)
	}
}

func (in *Intake) write(lane chan *item) {
	defer in.done.Done()
	for {
		var batch []*item
		select {
		case it := <-lane:
			batch = append(batch, it)
		case <-in.stop:
			if len(lane) == 0 {
				return
			}
		}
		in.keep(gather(lane, batch))
	}
}

// keep commits reports in their order.
func (in *Intake) keep(items []*item) {
	for len(items) > 0 {
		n := together(items)
		in.commit(items[:n])
		items = items[n:]
	}
}

// together counts the first reports that share a commit: what changes an alert comes after the commit that raised or
// changed it, so that the runs begun there hear of it.
func together(batch []*item) int {
	said := map[store.Identity]alert.Severity{}
	for i, it := range batch {
		id := it.identity()
		if was, ok := said[id]; ok && was != it.report.Severity {
			return i
		}
		said[id] = it.report.Severity
	}
	return len(batch)
}

// raced is how often a batch is written that meets what another instance raised in the same moment.
const raced = 5

// ErrApart says that what was to be kept together must be kept one by one: something of it is refused, or too much is
// asked for at once. Nothing of it was kept.
var ErrApart = errors.New("these cannot be kept together")

// TakeTogether keeps reports in one transaction with what else is kept with them; of one condition they have one
// severity. Nothing is kept where it gives an error, save where the database broke off as it committed: ErrApart,
// ErrRefused of a single one, or what will pass.
func (in *Intake) TakeTogether(
	ctx context.Context, source string, items []Item, with func(*store.Tx) error,
) error {
	if len(items) == 0 {
		return in.store.Tx(ctx, with)
	}
	if in.engine.Careful() && len(items) > 1 {
		return ErrApart
	}
	batch := make([]*item, len(items))
	for i, x := range items {
		batch[i] = &item{source: source, report: x.Report, times: max(1, x.Times), payload: x.Payload, once: x.Once,
			why: x.Why}
	}
	taken, err := in.attempt(ctx, batch, with)
	switch {
	case err == nil:
		for _, t := range taken {
			meter.Alerts.WithLabelValues(string(t.Change)).Inc()
		}
		return nil
	case passing(err):
		return err
	case len(items) > 1:
		return fmt.Errorf("%w: %w", ErrApart, err)
	}
	in.refused(ctx, batch[0], err)
	return fmt.Errorf("%w: %w", ErrRefused, err)
}

// attempt writes a batch, and with it what else is kept.
func (in *Intake) attempt(ctx context.Context, batch []*item, with func(*store.Tx) error) (taken []Taken, err error) {
	err = in.engine.Closely(ctx, "alert", batch[0].source+"/"+batch[0].report.Key, func() (err error) {
		for range raced {
			// What another instance raised, or a person merged, in the same moment is there when it is looked at anew.
			if taken, err = in.batch(ctx, batch, with); !store.Raced(err) && !errors.Is(err, errMoved) {
				break
			}
		}
		return err
	})
	return taken, err
}

// passing reports whether what went wrong will pass by itself.
func passing(err error) bool {
	return err != nil && store.Transient(err) || errors.Is(err, errMoved) || errors.Is(err, store.ErrElsewhere)
}

// refused says of a report that it is not kept for what it is.
func (in *Intake) refused(ctx context.Context, it *item, why error) {
	if errors.Is(why, engine.ErrPoison) {
		in.log.Error("an alert is quarantined", "source", it.source, "key", it.report.Key, "error", why)
		in.tellAside(ctx, it, why)
		return
	}
	in.log.Error("an alert is refused", "source", it.source, "error", why)
}

// commit writes a batch; one that is refused is repeated row by row, so that one bad row harms no other.
func (in *Intake) commit(batch []*item) {
	ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
	defer cancel()
	if in.engine.Careful() && len(batch) > 1 {
		for _, it := range batch {
			in.commit([]*item{it})
		}
		return
	}
	taken, err := in.attempt(ctx, batch, nil)
	busy := passing(err)
	if err != nil && len(batch) > 1 && !busy {
		for _, it := range batch {
			in.commit([]*item{it})
		}
		return
	}
	in.lanes.leave(batch...)
	for i, it := range batch {
		switch {
		case err == nil:
			meter.Alerts.WithLabelValues(string(taken[i].Change)).Inc()
			it.answer <- Outcome{Taken: taken[i]}
		case busy:
			in.log.Warn("keep an alert", "source", it.source, "error", err)
			it.answer <- Outcome{Err: ErrUncertain}
		default:
			in.refused(ctx, it, err)
			it.answer <- Outcome{Err: fmt.Errorf("%w: %w", ErrRefused, err)}
		}
	}
}

// tellAside tells the room about an alert that is not taken because instances died of it.
func (in *Intake) tellAside(ctx context.Context, it *item, why error) {
	err := in.engine.Write(ctx, func(sheet *engine.Sheet) error {
		text := fmt.Sprintf("An alert of %s (%s) is not taken: %s. A person must look.", it.source, it.report.Key, why)
		return sheet.Notify(engine.Notice{
			Kind: route.AlertQuarantined, Key: store.NewID("quarantine"), Text: text, Link: in.engine.Link + "/alerts",
		})
	})
	if err != nil {
		in.log.Error("tell about an alert that is quarantined", "error", err)
	}
}

// WouldStart tells what a report would start if it raised an alert at a moment, and why not the others, without any
// effect.
func (in *Intake) WouldStart(
	ctx context.Context, source string, r alert.Report, at alert.Heard,
) ([]trigger.Verdict, error) {
	l, err := in.loaded(ctx)
	if err != nil {
		return nil, err
	}
	snapshot := raised(source, r, at).Snapshot()
	out := l.verdicts(snapshot, alert.New)
	for i, v := range out {
		if !v.Started {
			continue
		}
		if why := l.heldBack(which(v), snapshot, at.Time); why != "" {
			out[i].Started, out[i].Error = false, why
		}
	}
	return out, nil
}

// loaded are the starts as they are now.
func (in *Intake) loaded(ctx context.Context) (*loaded, error) { return in.loadedIn(in.store.In(ctx)) }

func (in *Intake) loadedIn(tx *store.Tx) (*loaded, error) {
	version, err := tx.ConfigVersion()
	if err != nil {
		return nil, err
	}
	return in.triggers.load(tx, in.engine, version)
}
