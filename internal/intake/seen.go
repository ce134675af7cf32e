package intake

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"sync"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"

	"urgentis/internal/store"
)

// seen are the values that alerts had, on their way to where they are kept for whoever writes a condition. They are
// written now and then, beside the alerts' own transactions.
type seen struct {
	mu    sync.Mutex
	noted *lru.Cache[seenIn, time.Time] // when each was last written
	fresh map[seenIn]time.Time
}

// seenIn is a value of a field.
type seenIn struct{ field, value string }

const (
	// noteSeenEvery is how often it is noted that a value is still seen.
	noteSeenEvery = time.Hour
	// maxSeenValue bounds a value that is offered, in bytes; maxFresh how many wait to be written.
	maxSeenValue = 80
	maxFresh     = 2000
)

func newSeen() (*seen, error) {
	noted, err := lru.New[seenIn, time.Time](20_000)
	if err != nil {
		return nil, fmt.Errorf("make room for values: %w", err)
	}
	return &seen{noted: noted, fresh: map[seenIn]time.Time{}}, nil
}

// saw takes in the values of an alert.
func (in *Intake) saw(a *store.Alert) {
	now := in.clock().UTC()
	in.seen.mu.Lock()
	defer in.seen.mu.Unlock()
	note := func(field, value string) {
		k := seenIn{field, value}
		last, known := in.seen.noted.Get(k)
		if value == "" || len(value) > maxSeenValue || len(field) > maxSeenValue ||
			known && now.Sub(last) < noteSeenEvery ||
			len(in.seen.fresh) >= maxFresh {
			return
		}
		in.seen.noted.Add(k, now)
		in.seen.fresh[k] = now
	}
	note("source", a.Source)
	note("service", a.Service)
	for k, v := range a.Labels {
		note("labels."+k, v)
	}
}

// noteSeen writes what was seen since the last time.
func (in *Intake) noteSeen(ctx context.Context) error {
	in.seen.mu.Lock()
	rows := make([]store.Seen, 0, len(in.seen.fresh))
	for k, at := range in.seen.fresh {
		rows = append(rows, store.Seen{Field: k.field, Value: k.value, At: at})
	}
	in.seen.fresh = map[seenIn]time.Time{}
	in.seen.mu.Unlock()
	slices.SortFunc(rows, func(a, b store.Seen) int { // in one order, so that two instances do not wait for each other
		return cmp.Or(cmp.Compare(a.Field, b.Field), cmp.Compare(a.Value, b.Value))
	})
	return in.store.In(ctx).NoteSeen(rows)
}
