package intake

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"time"

	"urgentis/core/alert"
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
		w, err := in.open(tx, batch)
		if err != nil {
			return err
		}
		altering, raising := w.count.onlyNew(batch)
		for _, i := range append(altering, raising...) {
			if out[i], err = w.take(batch[i]); err != nil {
				return err
			}
		}
		if err := w.flush(); err != nil || with == nil {
			return err
		}
		return with(tx)
	})
	return out, err
}

// moment is what all stages of a batch share: its transaction, when it is heard, and the configuration then.
type moment struct {
	in    *Intake
	tx    *store.Tx
	now   time.Time
	index *loaded
	sheet *engine.Sheet
}

// heard is when this batch is heard.
func (m *moment) heard() alert.Heard { return alert.HeardAt(m.now) }

// writing is one batch inside its transaction. What it reports goes through its stages, each with values of its own:
// it is counted, what is new is placed in an incident, what that means is judged (by writing itself), runbooks are
// begun, and what came of it is kept.
type writing struct {
	*moment
	count  *counting
	place  *placing
	starts *starting
	keep   *keeping
}

// writing begins to write with the triggers as they are in a version of the configuration; 0: as they are now.
func (in *Intake) writing(tx *store.Tx, config int64) (*writing, error) {
	m := &moment{in: in, tx: tx, now: in.clock().UTC().Truncate(time.Microsecond), sheet: in.engine.Sheet(tx)}
	if config != 0 {
		m.sheet.KnowConfig(config)
	}
	version, err := m.sheet.Config()
	if err != nil {
		return nil, err
	}
	if m.index, err = in.triggers.load(tx, in.engine, version); err != nil {
		return nil, err
	}
	w := &writing{moment: m, count: newCounting(m), place: newPlacing(m), keep: newKeeping(m)}
	w.starts = newStarting(m, w.place)
	return w, nil
}

// flush writes all that was collected, in the order in which one refers to another.
func (w *writing) flush() error {
	if err := w.keep.flush(w.starts.firings); err != nil {
		return err
	}
	if err := w.count.flush(); err != nil {
		return err
	}
	if err := w.keep.mark(); err != nil {
		return err
	}
	if err := w.sheet.Flush(); err != nil {
		return err
	}
	return w.place.flush()
}

// open begins to write a batch: it is counted, and where what is new of it belongs is looked for.
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
	w.keep.sources = sources
	var whole []store.Identity
	for _, a := range counted.Alerts {
		r := reports[a.Report]
		if w.count.counted[a.ID] = r.Times; a.Closed || w.index.index.Judges(alert.Repeat) {
			whole = append(whole, r.Identity)
			continue
		}
		w.count.repeats[r.Identity] = a
		delete(said, r.Identity)
	}
	if counted.Others > 0 {
		whole = slices.Collect(maps.Keys(said))
	}
	if err := w.count.findOpen(whole); err != nil {
		return nil, err
	}
	if err := w.count.findHeard(batch); err != nil {
		return nil, err
	}
	return w, w.place.expect(batch, w.count)
}

// take takes one report.
func (w *writing) take(it *item) (Taken, error) {
	id := it.identity()
	if a, ok := w.count.repeats[id]; ok {
		w.count.now(it, a.ID)
		taken := Taken{Change: alert.Repeat, Alert: a.ID}
		if a.Incident != nil {
			taken.Incident = *a.Incident
		}
		return taken, nil
	}
	if before, was := w.count.heard[it.once]; was {
		// It was sent again by one who heard no answer: what it said then may be over since.
		return Taken{Change: alert.Repeat, Alert: before}, nil
	}
	r := it.report
	a := w.count.open[id]
	severity := alert.Severity("")
	if a != nil {
		severity = alert.Severity(a.Severity)
	}
	change := alert.Compare(severity, r)
	taken := Taken{Change: change}
	switch change {
	case alert.Idle:
		w.count.now(it, "")
		return taken, nil
	case alert.New:
		a = raised(it.source, r, w.heard())
		a.Count = int64(it.times)
		if err := w.raise(a, it); err != nil {
			return taken, err
		}
		w.count.open[id] = a
	case alert.Repeat:
		a.Count, a.LastAt, a.LastSaid = a.Count+int64(it.times), w.heard(), r.At
		if !slices.Contains(w.keep.fresh, a) { // one that is raised in this batch is written as it is at its end
			w.count.countLater(a, it)
		}
		if err := w.stillThere(a, it); err != nil {
			return taken, err
		}
		if err := w.lapsed(a, it); err != nil {
			return taken, err
		}
		if err := w.repeated(a, it); err != nil {
			return taken, err
		}
	default:
		if err := w.alter(a, it, change); err != nil {
			return taken, err
		}
		if change == alert.Clear {
			delete(w.count.open, id)
		}
	}
	if change != alert.Repeat {
		w.keep.changedBy(it.payload, a.ID)
	}
	w.count.now(it, a.ID)
	taken.Alert = a.ID
	if a.Incident != nil {
		taken.Incident = *a.Incident
	}
	return taken, nil
}
