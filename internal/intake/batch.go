package intake

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"urgentis/core/alert"
	"urgentis/core/incident"
	"urgentis/core/source"
	"urgentis/internal/engine"
	"urgentis/internal/store"
)

// batch writes reports in one transaction, and with them what else is kept; with may be nil.
func (in *Intake) batch(
	ctx context.Context, batch []*item, with func(*store.Tx) error,
) (out []Taken, err error) {
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
		altering, raising := b.onlyNew(batch)
		for _, i := range append(altering, raising...) {
			if out[i], err = b.take(batch[i]); err != nil {
				return err
			}
		}
		if err := b.flush(); err != nil || with == nil {
			return err
		}
		return with(tx)
	})
	return out, err
}

// writing is one batch inside its transaction.
type writing struct {
	in     *Intake
	tx     *store.Tx
	open   map[store.Identity]*store.Alert
	closed map[store.Identity]time.Time // when the incidents of open alerts were closed
	// repeats are open alerts of which the batch only says again what they are.
	repeats map[store.Identity]store.CountedAlert
	// counted is how many reports of an alert are counted, all that the batch has of it; uncounted are alerts of which
	// it repeats what it said itself.
	counted   map[string]int64
	uncounted map[string]store.Repeat
	sources   map[string]bool
	now       time.Time
	index     *loaded
	sheet     *engine.Sheet
	fresh     []*store.Alert // raised in this batch, written at its end
	// made are what was sent, by the request that sent it, kept those of them that are kept, and came the alerts that
	// came of them.
	made map[*source.Payload]*store.Payload
	kept map[*store.Payload]bool
	came map[store.AlertPayload]bool
	// firings are what came of triggers, opened the incidents that were opened in this batch, begun those on which a
	// run works, working the runs by what they are for.
	firings []*store.Firing
	// joinable are open incidents by what alerts have in common with theirs, keys those that the batch sets.
	joinable, keys map[string]store.IncidentKey
	// last are incidents that are open, or were closed a moment ago, by conditions of theirs that are reported anew.
	last map[store.Identity]store.LastIncident
	// cleared are the keys of alerts that were open until now, with their incidents.
	cleared map[string]int64
	opened  []int64
	hasOpen map[int64]bool // incidents that are known to have an open alert
	begun   map[int64]bool
	working map[onceIn]store.Firing
	// names are what inputs of a start see that is not about an alert, request the payload that it came with.
	names   map[string]any
	request string
}

// writing begins to write with the triggers as they are in a version of the configuration; 0: as they are now.
func (in *Intake) writing(tx *store.Tx, config int64) (*writing, error) {
	w := &writing{
		in:      in,
		tx:      tx,
		open:    map[store.Identity]*store.Alert{},
		closed:  map[store.Identity]time.Time{},
		sources: map[string]bool{},
		repeats: map[store.Identity]store.CountedAlert{},
		counted: map[string]int64{}, uncounted: map[string]store.Repeat{},
		came:     map[store.AlertPayload]bool{},
		made:     map[*source.Payload]*store.Payload{},
		kept:     map[*store.Payload]bool{},
		begun:    map[int64]bool{},
		working:  map[onceIn]store.Firing{},
		joinable: map[string]store.IncidentKey{}, keys: map[string]store.IncidentKey{},
		last: map[store.Identity]store.LastIncident{}, cleared: map[string]int64{},
		hasOpen: map[int64]bool{},
		now:     in.clock().UTC().Truncate(time.Microsecond),
		sheet:   in.engine.Sheet(tx),
	}
	if config != 0 {
		w.sheet.KnowConfig(config)
	}
	version, err := w.sheet.Config()
	if err != nil {
		return nil, err
	}
	w.index, err = in.triggers.load(tx, in.engine, version)
	return w, err
}

func (in *Intake) open(tx *store.Tx, batch []*item) (*writing, error) {
	said, sources := map[store.Identity]*store.Repeat{}, map[string]bool{}
	for _, it := range batch {
		sources[it.source] = true
		id := it.identity()
		if said[id] == nil {
			said[id] = &store.Repeat{Identity: id, Severity: string(it.report.Severity)}
		}
		said[id].Times += int64(it.times)
		said[id].At = it.report.At
	}
	// All reports of an alert in one batch have one severity: those that repeat what is open are counted at once.
	reports := make([]store.Repeat, 0, len(said))
	for _, r := range said {
		reports = append(reports, *r)
	}
	slices.SortFunc(reports, func(a, b store.Repeat) int { return a.Identity.Compare(b.Identity) })
	counted, err := tx.CountRepeats(reports)
	if err != nil {
		return nil, err
	}
	w, err := in.writing(tx, counted.Config)
	if err != nil {
		return nil, err
	}
	w.sources = sources
	var whole []store.Identity
	for _, a := range counted.Alerts {
		r := reports[a.Report]
		if w.counted[a.ID] = r.Times; a.Closed || w.index.index.Judges(alert.Repeat) {
			whole = append(whole, r.Identity)
			continue
		}
		w.repeats[r.Identity] = a
		delete(said, r.Identity)
	}
	if counted.Others > 0 {
		whole = slices.Collect(maps.Keys(said))
	}
	if err := w.findOpen(whole); err != nil {
		return nil, err
	}
	return w, w.expect(batch)
}

// findOpen reads alerts that are open and of which more must be known than that they are.
func (w *writing) findOpen(ids []store.Identity) error {
	slices.SortFunc(ids, store.Identity.Compare)
	rows, err := w.tx.OpenAlerts(ids)
	for i := range rows {
		a := &rows[i]
		a.Count -= w.counted[a.ID] // each is added as it is taken
		id := store.Identity{Source: a.Source, Key: a.Key}
		if w.open[id] = &a.Alert; a.ClosedAt != nil {
			w.closed[id] = *a.ClosedAt
		}
	}
	return err
}

// isOpen reports whether a condition has an alert that is open.
func (w *writing) isOpen(id store.Identity) bool {
	_, repeated := w.repeats[id]
	return repeated || w.open[id] != nil
}

// expect finds the incidents that alerts of a batch will join, and reserves numbers for those that will be opened.
func (w *writing) expect(batch []*item) error {
	type raising struct {
		store.Identity
		incident.Keys
	}
	looked := map[string]bool{}
	var fresh []raising
	var ids []store.Identity
	seen := map[store.Identity]bool{}
	for _, it := range batch {
		id := it.identity()
		if seen[id] || w.isOpen(id) || it.report.Severity == alert.Cleared {
			continue
		}
		seen[id] = true
		k := w.keysOf(raised(it.source, it.report, w.heard()).Snapshot())
		for _, key := range k.All() {
			looked[key] = true
		}
		fresh, ids = append(fresh, raising{id, k}), append(ids, id)
	}
	if len(looked) > maxLooked && len(batch) > 1 {
		return errTooWide
	}
	if err := w.findJoinable(slices.Collect(maps.Keys(looked))); err != nil {
		return err
	}
	if err := w.findLast(ids); err != nil {
		return err
	}
	opens, within := 0, map[string]bool{}
	for _, r := range fresh {
		if _, back := w.last[r.Identity]; back {
			continue
		}
		joins := slices.ContainsFunc(r.All(), func(key string) bool {
			return within[key] || w.joinable[key].Incident != 0
		})
		if !joins {
			opens++
		}
		for _, key := range r.Set() {
			within[key] = true
		}
	}
	return w.sheet.Reserve(opens)
}

// maxLooked bounds by how many keys incidents are looked for in one transaction: each may be a lock, of which the
// database has some thousands for all.
const maxLooked = 1024

// errTooWide lets a batch be taken alert by alert.
var errTooWide = errors.New("the alerts of this batch could join too many incidents to look for all at once")

// errMoved lets a batch be taken anew: an incident that it would join was closed, or became part of another one, in
// the same moment.
var errMoved = errors.New("the incident was closed meanwhile")

// keysOf gives what an alert joins by.
func (w *writing) keysOf(snapshot map[string]any) incident.Keys {
	return incident.KeysOf(w.index.joins, w.index.depends, snapshot)
}

// findLast finds the incidents that conditions had which are reported anew: those that are open, and those that were
// closed within their quiet time.
func (w *writing) findLast(ids []store.Identity) error {
	found, err := w.tx.LastIncidents(ids)
	if err != nil {
		return err
	}
	for _, l := range found {
		if l.State != "open" {
			quiet, err := w.quiet(l.Service)
			if err != nil {
				return err
			}
			if l.ResolvedAt == nil || l.ResolvedAt.Before(w.now.Add(-quiet)) {
				continue
			}
		}
		w.last[l.Identity] = l
	}
	return nil
}

// findJoinable finds the incidents that alerts may join. For what there is none yet, nobody else opens one meanwhile.
func (w *writing) findJoinable(keys []string) error {
	if len(keys) == 0 {
		return nil
	}
	found, err := w.tx.Joinable(keys)
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
		late, err := w.tx.Joinable(missing)
		if err != nil {
			return err
		}
		maps.Copy(found, late)
	}
	w.joinable = found
	return nil
}

func (w *writing) take(it *item) (Taken, error) {
	fired := len(w.firings)
	w.request = w.idOf(it.payload)
	taken, err := w.takeIt(it)
	w.request = ""
	if it.payload != nil && len(w.firings) > fired {
		w.kept[w.made[it.payload]] = true
	}
	return taken, err
}

func (w *writing) takeIt(it *item) (Taken, error) {
	id := it.identity()
	if a, ok := w.repeats[id]; ok {
		taken := Taken{Change: alert.Repeat, Alert: a.ID}
		if a.Incident != nil {
			taken.Incident = *a.Incident
		}
		return taken, nil
	}
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
		a = raised(it.source, r, w.heard())
		a.Count = int64(it.times)
		if err := w.raise(a); err != nil {
			return taken, err
		}
		w.open[id] = a
	case alert.Repeat:
		a.Count, a.LastAt, a.LastSaid = a.Count+int64(it.times), w.heard(), r.At
		w.countLater(a, it)
		if err := w.stillThere(id, a); err != nil {
			return taken, err
		}
		if err := w.lapsed(a); err != nil {
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

// countLater counts a report that repeats what this batch said first. An alert that is raised in it is written as it is
// at its end.
func (w *writing) countLater(a *store.Alert, it *item) {
	if w.counted[a.ID] > 0 || slices.Contains(w.fresh, a) {
		return
	}
	r := w.uncounted[a.ID]
	r.Identity, r.Severity = store.Identity{Source: a.Source, Key: a.Key}, a.Severity
	r.Times, r.At = r.Times+int64(it.times), it.report.At
	w.uncounted[a.ID] = r
}

// idOf is that of a payload; "" without one. It is kept where it raised or changed an alert, or something fired.
func (w *writing) idOf(p *source.Payload) string {
	if p == nil {
		return ""
	}
	if w.made[p] == nil {
		w.made[p] = store.NewPayload(*p, w.now)
	}
	return w.made[p].ID
}

// keepPayload notes that a payload raised or changed an alert.
func (w *writing) keepPayload(p *source.Payload, id string) {
	w.came[store.AlertPayload{Alert: id, Payload: w.idOf(p)}] = true
	w.kept[w.made[p]] = true
}

// flush writes all that was collected, and the marks of the sources.
func (w *writing) flush() error {
	if err := store.Add(w.sheet.Bulk, w.fresh); err != nil {
		return fmt.Errorf("keep alerts: %w", err)
	}
	if err := store.Add(w.sheet.Bulk, w.firings); err != nil {
		return fmt.Errorf("keep what came of triggers: %w", err)
	}
	if err := store.Add(w.sheet.Bulk, slices.Collect(maps.Keys(w.kept))); err != nil {
		return fmt.Errorf("keep payloads: %w", err)
	}
	if err := store.Add(w.sheet.Bulk, slices.Collect(maps.Keys(w.came))); err != nil {
		return fmt.Errorf("keep payloads of alerts: %w", err)
	}
	if len(w.uncounted) > 0 {
		if _, err := w.tx.CountRepeats(slices.Collect(maps.Values(w.uncounted))); err != nil {
			return err
		}
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
	if err := w.sheet.Flush(); err != nil {
		return err
	}
	return w.setKeys()
}

// setKeys writes by what alerts join from now on, once their incidents are written.
func (w *writing) setKeys() error {
	if err := w.tx.KeepKeysOf(w.cleared); err != nil {
		return err
	}
	return w.tx.SetKeys(slices.SortedFunc(maps.Values(w.keys), func(a, b store.IncidentKey) int {
		return cmp.Compare(a.Key, b.Key) // in one order, so that two do not wait for each other
	}))
}

// heard is when this batch is heard.
func (w *writing) heard() alert.Heard { return alert.HeardAt(w.now) }

// raised is the alert that a first report makes.
func raised(source string, r alert.Report, heard alert.Heard) *store.Alert {
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
		FirstAt:  heard, LastAt: heard,
		Since:     heard,
		FirstSaid: r.At, LastSaid: r.At,
		Verdicts: json.RawMessage("[]"),
	}
}
