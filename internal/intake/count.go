package intake

import (
	"maps"
	"slices"
	"time"

	"urgentis/internal/store"
)

// counting is the first stage: which conditions are open, and how often each was reported.
type counting struct {
	*moment
	open   map[store.Identity]*store.Alert
	closed map[store.Identity]time.Time // when the incidents of open alerts were closed
	// repeats are open alerts of which the batch only says again what they are.
	repeats map[store.Identity]store.CountedAlert
	// counted is how many reports of an alert are counted, all that the batch has of it; uncounted are alerts of which
	// it repeats what it said itself.
	counted   map[string]int64
	uncounted map[string]store.Repeat
	// heard is what was answered to what came before under its sender's name for it, and answers to what comes now.
	heard, answers map[store.Once]string
}

func newCounting(m *moment) *counting {
	return &counting{m, map[store.Identity]*store.Alert{}, map[store.Identity]time.Time{},
		map[store.Identity]store.CountedAlert{}, map[string]int64{}, map[string]store.Repeat{},
		map[store.Once]string{}, map[store.Once]string{}}
}

// flush counts what the batch repeated of what it said first.
func (c *counting) flush() error {
	if len(c.uncounted) > 0 {
		if _, err := c.tx.CountRepeats(slices.Collect(maps.Values(c.uncounted))); err != nil {
			return err
		}
	}
	first, err := c.tx.HeardNow(c.answers)
	if err == nil && !first {
		return errMoved // another writer took the same in this moment
	}
	return err
}

// findHeard finds what of a batch came before, by what its senders name it.
func (c *counting) findHeard(batch []*item) (err error) {
	var named []store.Once
	for _, it := range batch {
		if it.once.ID != "" {
			named = append(named, it.once)
		}
	}
	c.heard, err = c.tx.HeardBefore(named)
	return err
}

// now notes what is answered to an item that its sender named.
func (c *counting) now(it *item, answer string) {
	if _, was := c.heard[it.once]; it.once.ID != "" && !was {
		c.heard[it.once], c.answers[it.once] = answer, answer
	}
}

// findOpen reads alerts that are open and of which more must be known than that they are.
func (c *counting) findOpen(ids []store.Identity) error {
	slices.SortFunc(ids, store.Identity.Compare)
	rows, err := c.tx.OpenAlerts(ids)
	for i := range rows {
		a := &rows[i]
		a.Count -= c.counted[a.ID] // each is added as it is taken
		id := store.Identity{Source: a.Source, Key: a.Key}
		if c.open[id] = &a.Alert; a.ClosedAt != nil {
			c.closed[id] = *a.ClosedAt
		}
	}
	return err
}

// isOpen reports whether a condition has an alert that is open.
func (c *counting) isOpen(id store.Identity) bool {
	_, repeated := c.repeats[id]
	return repeated || c.open[id] != nil
}

// countLater counts a report that repeats what this batch said first.
func (c *counting) countLater(a *store.Alert, it *item) {
	if c.counted[a.ID] > 0 {
		return
	}
	r := c.uncounted[a.ID]
	r.Identity, r.Severity = store.Identity{Source: a.Source, Key: a.Key}, a.Severity
	r.Times, r.At = r.Times+int64(it.times), it.report.At
	c.uncounted[a.ID] = r
}

// onlyNew gives the items that raise alerts, in their order, after those that alter some: whoever alters an alert locks
// its runs before their incident, and whoever joins an incident locks it at once.
func (c *counting) onlyNew(batch []*item) (altering, raising []int) {
	for i, it := range batch {
		if c.isOpen(it.identity()) {
			altering = append(altering, i)
		} else {
			raising = append(raising, i)
		}
	}
	return altering, raising
}
