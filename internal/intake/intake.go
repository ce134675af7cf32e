// Package intake takes alerts from outside. What is answered is on disk; many that come at once share a commit.
package intake

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"hash/fnv"
	"log/slog"
	"maps"
	"slices"
	"sync"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"

	"urgentis/core/alert"
	"urgentis/core/incident"
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
	lanes  [2]chan *item
	done   sync.WaitGroup
	stop   chan struct{}
	since  time.Time // since when it listens

	triggers cache
	marked   *lru.Cache[string, time.Time] // when each source was last marked
	seen     *seen

	mu      sync.Mutex
	waiting map[string]int // how many reports of each source wait to be kept

	losses losses
}

// Item is a report as it is taken.
type Item struct {
	Report alert.Report
	// Times is how often it was made; 0 is once.
	Times int
	// Payload is what was sent, where that is kept; one for all items that came of it.
	Payload *alert.Payload
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
	payload *alert.Payload
	why     string
	answer  chan Outcome
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
	// Clock is time.Now unless a test sets it.
	Clock func() time.Time
}

// New makes an intake and starts its two writers, the one who looks after starts that wait, and the one who looks for
// silent sources. Reports with one identity go through the same writer, in order. It refuses a configuration in which
// something is missing.
func New(c Config) (*Intake, error) {
	if err := need.All("an intake", c); err != nil {
		return nil, err
	}
	if c.Clock == nil {
		c.Clock = time.Now
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
		waiting: map[string]int{},
	}
	for i := range in.lanes {
		in.lanes[i] = make(chan *item, 4*maxBatch)
		in.done.Add(1)
		go in.write(in.lanes[i])
	}
	in.since = in.clock()
	in.done.Add(3)
	go in.watch()
	go in.look()
	go in.keepTime()
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
	return in.takeAll(ctx, source, reports, nil)
}

// TakeMapped is TakeAll of what a map made of a payload, which is kept with the alerts that it raises or changes.
func (in *Intake) TakeMapped(
	ctx context.Context, source string, reports []alert.Report, p alert.Payload,
) ([]Taken, error) {
	return in.takeAll(ctx, source, reports, &p)
}

func (in *Intake) takeAll(
	ctx context.Context, source string, reports []alert.Report, p *alert.Payload,
) ([]Taken, error) {
	items := make([]Item, len(reports))
	for i, r := range reports {
		items[i] = Item{Report: r, Payload: p}
	}
	out := make([]Taken, len(reports))
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
		it := &item{source: source, report: x.Report, times: max(1, x.Times), payload: x.Payload, why: x.Why,
			answer: make(chan Outcome, 1)}
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

// send gives an item to the writer of its identity.
func (in *Intake) send(ctx context.Context, it *item) bool {
	h := fnv.New32a()
	h.Write([]byte(it.source + "\x00" + it.report.Key)) //nolint:errcheck // it never fails
	select {
	case in.lanes[h.Sum32()%2] <- it:
		return true
	case <-ctx.Done():
	case <-in.stop:
	}
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
	more:
		for len(batch) < maxBatch {
			select {
			case it := <-lane:
				batch = append(batch, it)
			default:
				break more
			}
		}
		in.keep(batch)
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
	said := map[string]alert.Severity{}
	for i, it := range batch {
		id := it.source + "\x00" + it.report.Key
		if was, ok := said[id]; ok && was != it.report.Severity {
			return i
		}
		said[id] = it.report.Severity
	}
	return len(batch)
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
	var taken []Taken
	err := in.engine.Closely(ctx, "alert", batch[0].source+"/"+batch[0].report.Key, func() (err error) {
		taken, err = in.batch(ctx, batch)
		return err
	})
	if err != nil && len(batch) > 1 && !store.Transient(err) {
		for _, it := range batch {
			in.commit([]*item{it})
		}
		return
	}
	for i, it := range batch {
		switch {
		case err == nil:
			meter.Alerts.WithLabelValues(string(taken[i].Change)).Inc()
			it.answer <- Outcome{Taken: taken[i]}
		case store.Transient(err):
			in.log.Warn("keep an alert", "source", it.source, "error", err)
			it.answer <- Outcome{Err: ErrUncertain}
		case errors.Is(err, engine.ErrPoison):
			in.log.Error("an alert is set aside", "source", it.source, "key", it.report.Key, "error", err)
			in.tellAside(ctx, it, err)
			it.answer <- Outcome{Err: fmt.Errorf("%w: %w", ErrRefused, err)}
		default:
			in.log.Error("an alert is refused", "source", it.source, "error", err)
			it.answer <- Outcome{Err: fmt.Errorf("%w: %w", ErrRefused, err)}
		}
	}
}

// tellAside tells the room about an alert that is not taken because instances died of it.
func (in *Intake) tellAside(ctx context.Context, it *item, why error) {
	err := in.engine.Write(ctx, func(sheet *engine.Sheet) error {
		text := fmt.Sprintf("An alert of %s (%s) is not taken: %s. A person must look.", it.source, it.report.Key, why)
		return sheet.Notify(engine.Notice{
			Kind: engine.AlertSetAside, Key: store.NewID("aside"), Text: text, Link: in.engine.Link + "/alerts",
		})
	})
	if err != nil {
		in.log.Error("tell about an alert that is set aside", "error", err)
	}
}

func (in *Intake) batch(ctx context.Context, batch []*item) (out []Taken, err error) {
	defer func() {
		// One report that the program fails on must not take the others, or the service, with it.
		if r := recover(); r != nil {
			err = fmt.Errorf("the program failed on it: %v", r)
		}
	}()
	out = make([]Taken, len(batch))
	err = in.store.Tx(ctx, func(tx *store.Tx) error {
		b, err := in.open(tx, batch)
		if err != nil {
			return err
		}
		altering, raising := onlyNew(batch, b.open)
		for _, i := range append(altering, raising...) {
			if out[i], err = b.take(batch[i]); err != nil {
				return err
			}
		}
		return b.flush()
	})
	return out, err
}

// writing is one batch inside its transaction.
type writing struct {
	in      *Intake
	tx      *store.Tx
	open    map[string]*store.Alert
	closed  map[string]time.Time // when the incidents of open alerts were closed
	touched map[string]bool
	sources map[string]bool
	now     time.Time
	index   *loaded
	sheet   *engine.Sheet
	fresh   []*store.Alert // raised in this batch, written at its end
	// payloads are what was sent, by the request that sent it, and came are the alerts that came of them.
	payloads map[*alert.Payload]*store.Payload
	came     map[store.AlertPayload]bool
	// firings are what came of triggers, opened the incidents that were opened in this batch, begun those on which a
	// run was begun, working the runs by what they are for.
	firings []*store.Firing
	// joinable are open incidents by what alerts have in common with theirs.
	joinable map[string]int64
	// returning are incidents that were closed, by conditions of theirs that are reported anew.
	returning map[store.Identity]store.ClosedIncident
	opened    []int64
	hasOpen   map[int64]bool // incidents that are known to have an open alert
	begun     map[int64]bool
	working   map[onceIn]store.Firing
	// names are what inputs of a start see that is not about an alert, request the payload that it came with.
	names   map[string]any
	request string
}

// writing begins to write with the triggers as they are now.
func (in *Intake) writing(tx *store.Tx) (*writing, error) {
	w := &writing{
		in:       in,
		tx:       tx,
		open:     map[string]*store.Alert{},
		closed:   map[string]time.Time{},
		touched:  map[string]bool{},
		sources:  map[string]bool{},
		came:     map[store.AlertPayload]bool{},
		payloads: map[*alert.Payload]*store.Payload{},
		begun:    map[int64]bool{},
		working:  map[onceIn]store.Firing{},
		joinable: map[string]int64{}, returning: map[store.Identity]store.ClosedIncident{},
		hasOpen: map[int64]bool{},
		now:     in.clock().UTC().Truncate(time.Microsecond),
		sheet:   in.engine.Sheet(tx),
	}
	version, err := w.sheet.Config()
	if err != nil {
		return nil, err
	}
	w.index, err = in.triggers.load(tx, in.engine, version)
	return w, err
}

func (in *Intake) open(tx *store.Tx, batch []*item) (*writing, error) {
	w, err := in.writing(tx)
	if err != nil {
		return nil, err
	}
	seen := map[store.Identity]bool{}
	ids := make([]store.Identity, 0, len(batch))
	for _, it := range batch {
		w.sources[it.source] = true
		if id := (store.Identity{Source: it.source, Key: it.report.Key}); !seen[id] {
			seen[id] = true
			ids = append(ids, id)
		}
	}
	rows, err := tx.OpenAlerts(ids)
	if err != nil {
		return nil, err
	}
	for i := range rows {
		id := rows[i].Source + "\x00" + rows[i].Key
		if w.open[id] = &rows[i].Alert; rows[i].ClosedAt != nil {
			w.closed[id] = *rows[i].ClosedAt
		}
	}
	return w, w.expect(batch)
}

// expect finds the incidents that alerts of a batch will join, and reserves numbers for those that will be opened, so
// that their numbers have no gaps.
func (w *writing) expect(batch []*item) error {
	keys, own := map[string]bool{}, 0
	var returning []store.Returning
	seen := map[string]bool{}
	for _, it := range batch {
		id := it.source + "\x00" + it.report.Key
		if seen[id] || w.open[id] != nil || it.report.Severity == alert.Cleared {
			continue
		}
		seen[id] = true
		if key, _ := incident.KeyOf(w.index.joins, Snapshot(raised(it.source, it.report))); key != "" {
			keys[key] = true
			returning = append(returning, store.Returning{JoinKey: key,
				Identity: store.Identity{Source: it.source, Key: it.report.Key}})
		} else {
			own++
		}
	}
	all := slices.Collect(maps.Keys(keys))
	if err := w.findJoinable(all); err != nil {
		return err
	}
	for _, k := range all {
		if _, ok := w.joinable[k]; !ok {
			own++
		}
	}
	if err := w.findReturning(returning); err != nil {
		return err
	}
	return w.sheet.Reserve(own)
}

// findReturning finds the incidents that conditions had which are reported anew, where they were closed not long ago.
func (w *writing) findReturning(list []store.Returning) error {
	list = slices.DeleteFunc(list, func(r store.Returning) bool { return w.joinable[r.JoinKey] != 0 })
	closed, err := w.tx.ClosedLately(list, w.now.Add(-longestQuiet))
	if err != nil {
		return fmt.Errorf("find incidents that were closed: %w", err)
	}
	for _, c := range closed {
		w.returning[c.Identity] = c
	}
	return nil
}

// longestQuiet is the longest quiet time that a service may have.
const longestQuiet = 24 * time.Hour

// findJoinable finds the incidents that alerts may join. For what there is none yet, nobody else opens one meanwhile.
func (w *writing) findJoinable(keys []string) error {
	if len(keys) == 0 {
		return nil
	}
	found, err := w.tx.Joinable(keys, w.now)
	if err != nil {
		return err
	}
	var missing []string
	for _, k := range keys {
		if _, ok := found[k]; !ok {
			missing = append(missing, k)
		}
	}
	if len(missing) > 0 {
		if err := w.tx.JoinLock(missing); err != nil {
			return err
		}
		late, err := w.tx.Joinable(missing, w.now)
		if err != nil {
			return err
		}
		maps.Copy(found, late)
	}
	w.joinable = found
	return nil
}

func (w *writing) take(it *item) (Taken, error) {
	id := it.source + "\x00" + it.report.Key
	r := it.report
	a := w.open[id]
	severity := alert.Severity("")
	if a != nil {
		severity = alert.Severity(a.Severity)
	}
	change := alert.Compare(severity, r)
	taken := Taken{Change: change}
	switch change {
	case alert.Idle:
		return taken, nil
	case alert.New:
		a = raised(it.source, r)
		a.Count = int64(it.times)
		if err := w.raise(a); err != nil {
			return taken, err
		}
		w.open[id] = a
	case alert.Repeat:
		a.Count, a.LastAt = a.Count+int64(it.times), r.At
		w.touched[id] = true
		if err := w.stillThere(id, a); err != nil {
			return taken, err
		}
		if err := w.repeated(a, it.times); err != nil {
			return taken, err
		}
	default:
		if err := w.alter(a, it, change); err != nil {
			return taken, err
		}
		if change == alert.Clear {
			delete(w.open, id)
		}
	}
	if it.payload != nil && change != alert.Repeat {
		w.keepPayload(it.payload, a.ID)
	}
	taken.Alert = a.ID
	if a.Incident != nil {
		taken.Incident = *a.Incident
	}
	return taken, nil
}

// keepPayload notes that a payload raised or changed an alert.
func (w *writing) keepPayload(p *alert.Payload, id string) {
	if w.payloads[p] == nil {
		w.payloads[p] = store.NewPayload(*p, w.now)
	}
	w.came[store.AlertPayload{Alert: id, Payload: w.payloads[p].ID}] = true
}

// flush writes what repeats altered, once for each alert, and the marks of the sources.
func (w *writing) flush() error {
	var repeats []*store.Alert
	if err := store.Add(w.sheet.Bulk, w.fresh); err != nil {
		return fmt.Errorf("keep alerts: %w", err)
	}
	if err := store.Add(w.sheet.Bulk, w.firings); err != nil {
		return fmt.Errorf("keep what came of triggers: %w", err)
	}
	if err := store.Add(w.sheet.Bulk, slices.Collect(maps.Values(w.payloads))); err != nil {
		return fmt.Errorf("keep payloads: %w", err)
	}
	if err := store.Add(w.sheet.Bulk, slices.Collect(maps.Keys(w.came))); err != nil {
		return fmt.Errorf("keep payloads of alerts: %w", err)
	}
	for id := range w.touched {
		if a := w.open[id]; a != nil && !slices.Contains(w.fresh, a) {
			repeats = append(repeats, a)
		}
	}
	if err := w.tx.Repeated(repeats); err != nil {
		return err
	}
	for s := range w.sources {
		// Every alert need not lock the source's row: a mark each second is enough.
		if last, ok := w.in.marked.Get(s); ok && w.now.Sub(last) < time.Second {
			continue
		}
		w.in.marked.Add(s, w.now)
		if err := w.tx.MarkSource(s); err != nil {
			return err
		}
	}
	for _, a := range w.fresh {
		w.in.saw(a)
	}
	return w.sheet.Flush()
}

// raised is the alert that a first report makes.
func raised(source string, r alert.Report) *store.Alert {
	return &store.Alert{
		ID:       store.NewID("a"),
		Source:   source,
		Key:      r.Key,
		State:    "open",
		Severity: string(r.Severity),
		Summary:  r.Summary,
		Service:  r.Service,
		Link:     r.Link,
		Labels:   r.Labels,
		Count:    1,
		FirstAt:  r.At,
		LastAt:   r.At,
		Verdicts: json.RawMessage("[]"),
	}
}

// WouldStart tells what a report would start if it raised an alert now, and why not the others, without any effect.
func (in *Intake) WouldStart(ctx context.Context, source string, r alert.Report) ([]trigger.Verdict, error) {
	tx := in.store.In(ctx)
	version, err := tx.ConfigVersion()
	if err != nil {
		return nil, err
	}
	l, err := in.triggers.load(tx, in.engine, version)
	if err != nil {
		return nil, err
	}
	snapshot := Snapshot(raised(source, r))
	out := l.verdicts(snapshot, alert.New)
	for i, v := range out {
		if !v.Started {
			continue
		}
		if why := l.heldBack(which(v), snapshot, in.clock()); why != "" {
			out[i].Started, out[i].Error = false, why
		}
	}
	return out, nil
}

// Snapshot is an alert as expressions see it.
func Snapshot(a *store.Alert) map[string]any {
	labels := map[string]string(a.Labels)
	if labels == nil {
		labels = map[string]string{}
	}
	return map[string]any{
		"id":       a.ID,
		"source":   a.Source,
		"key":      a.Key,
		"severity": a.Severity,
		"state":    a.State,
		"summary":  a.Summary,
		"service":  a.Service,
		"link":     a.Link,
		"labels":   labels,
		"count":    a.Count,
		"first_at": a.FirstAt.UTC(),
		"last_at":  a.LastAt.UTC(),
	}
}
