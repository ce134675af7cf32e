package intake

import (
	"runtime"
	"sync"

	"urgentis/internal/store"
)

// Few reports share few writers, so that more of them share a commit; where manyWait wait, all writers write.
const (
	fewLanes = 2
	manyWait = 512
)

// lanes are the ways to the writers.
type lanes struct {
	queues [4]chan *item

	mu    sync.Mutex
	items [4]int // how many wait for each writer, or are being written by it
	// underWay are the conditions and services of which reports wait.
	underWay map[store.Identity]laneFor
}

// laneFor is the writer that reports wait for, and how many they are.
type laneFor struct{ lane, items int }

func newLanes() *lanes {
	l := &lanes{underWay: map[store.Identity]laneFor{}}
	for i := range l.queues {
		l.queues[i] = make(chan *item, 4*maxBatch)
	}
	return l
}

// enter chooses the writer of a report. What is reported of one condition goes through one writer as long as any of it
// waits, so that it is taken in order. What is reported of one service does so too, as most of it shares an incident,
// whose row two writers would wait for in turn. Anything else goes to the writer that has least to do.
func (l *lanes) enter(it *item) chan<- *item {
	l.mu.Lock()
	defer l.mu.Unlock()
	if u, ok := l.underWay[it.identity()]; ok {
		it.lane = u.lane
	} else if u, ok := l.underWay[serviceOf(it)]; ok && it.report.Service != "" {
		it.lane = u.lane
	} else {
		it.lane = l.idlest()
	}
	l.items[it.lane]++
	for _, what := range affine(it) {
		u, ok := l.underWay[what]
		if !ok {
			u.lane = it.lane
		}
		u.items++
		l.underWay[what] = u
	}
	return l.queues[it.lane]
}

// idlest is the writer that has least to do.
func (l *lanes) idlest() int {
	all := 0
	for _, n := range l.items {
		all += n
	}
	lanes := fewLanes
	if all >= manyWait {
		lanes = len(l.items)
	}
	least := 0
	for i, n := range l.items[:lanes] {
		if n < l.items[least] {
			least = i
		}
	}
	return least
}

// leave says that reports wait no more.
func (l *lanes) leave(items ...*item) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, it := range items {
		l.items[it.lane]--
		for _, what := range affine(it) {
			if u := l.underWay[what]; u.items > 1 {
				u.items--
				l.underWay[what] = u
			} else {
				delete(l.underWay, what)
			}
		}
	}
}

// affine is what reports share a writer by: their condition, and their service if they name one.
func affine(it *item) []store.Identity {
	if it.report.Service == "" {
		return []store.Identity{it.identity()}
	}
	return []store.Identity{it.identity(), serviceOf(it)}
}

// serviceOf is the service of a report, as nothing that is reported can be known: every report has a source.
func serviceOf(it *item) store.Identity { return store.Identity{Key: it.report.Service} }

// patience is how often a writer lets others go before it when nothing waits.
const patience = 16

// gather takes what waits, at most a batch. Those who were just answered may have more to say: they go first, so that
// all of them share the next commit instead of every other one.
func gather(lane <-chan *item, batch []*item) []*item {
	for idle := 0; len(batch) < maxBatch && idle < patience; {
		select {
		case it := <-lane:
			batch, idle = append(batch, it), 0
		default:
			idle++
			runtime.Gosched()
		}
	}
	return batch
}
