package intake

import (
	"fmt"
	"math/rand/v2"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
)

func reportOf(key, service string) *item {
	it := &item{source: "mon"}
	it.report.Key, it.report.Service = key, service
	return it
}

func TestReportsGoWhereLeastWaits(t *testing.T) {
	l := newLanes()
	var all []*item
	for i := range 32 {
		it := reportOf(fmt.Sprint("k", i), "")
		l.enter(it)
		all = append(all, it)
	}
	assert.Equal(t, [4]int{16, 16}, l.items, "few reports share two writers")
	l.leave(all[0], all[2], all[4]) // of the first writer: who was answered comes back to it
	for i := range 3 {
		it := reportOf(fmt.Sprint("again", i), "")
		l.enter(it)
		assert.Zero(t, it.lane)
	}
	for i := range manyWait {
		l.enter(reportOf(fmt.Sprint("many", i), ""))
	}
	assert.NotZero(t, l.items[2])
	assert.NotZero(t, l.items[3])
}

func TestOneConditionAndOneServiceShareAWriter(t *testing.T) {
	l := newLanes()
	first := reportOf("k", "berths")
	l.enter(first)
	l.enter(reportOf("x", ""))
	for i := range 10 {
		it := reportOf(fmt.Sprint("of the service ", i), "berths")
		l.enter(it)
		assert.Equal(t, first.lane, it.lane)
	}
	cleared := reportOf("k", "") // it no longer says its service
	l.enter(cleared)
	assert.Equal(t, first.lane, cleared.lane)
	moved := reportOf("x", "berths") // its condition counts for more: it is taken in order
	l.enter(moved)
	assert.NotEqual(t, first.lane, moved.lane)
	next := reportOf("of the service, once more", "berths")
	l.enter(next)
	assert.Equal(t, first.lane, next.lane)
}

// TestNothingIsLeftUnderWay lets many come and go at once; a condition never waits for two writers.
func TestNothingIsLeftUnderWay(t *testing.T) {
	l := newLanes()
	var mu sync.Mutex
	waiting := map[string]laneFor{}
	var wg sync.WaitGroup
	for c := range 16 {
		wg.Go(func() {
			r := rand.New(rand.NewPCG(uint64(c), 1))
			for range 500 {
				it := reportOf(fmt.Sprint("k", r.IntN(20)), []string{"", "a", "b", "c"}[r.IntN(4)])
				mu.Lock() // as one, so that what the test knows is what there is
				l.enter(it)
				w := waiting[it.report.Key]
				if w.items > 0 {
					assert.Equal(t, w.lane, it.lane)
				}
				waiting[it.report.Key] = laneFor{it.lane, w.items + 1}
				mu.Unlock()
				mu.Lock()
				l.leave(it)
				waiting[it.report.Key] = laneFor{it.lane, waiting[it.report.Key].items - 1}
				mu.Unlock()
			}
		})
	}
	wg.Wait()
	assert.Empty(t, l.underWay)
	assert.Zero(t, l.items)
}

func TestABatchIsGatheredWholeAndNoMore(t *testing.T) {
	lane := make(chan *item, 4*maxBatch)
	for i := range maxBatch + 5 {
		lane <- reportOf(fmt.Sprint("k", i), "")
	}
	batch := gather(lane, []*item{<-lane})
	assert.Len(t, batch, maxBatch)
	for i, it := range batch {
		assert.Equal(t, fmt.Sprint("k", i), it.report.Key, "in the order in which they came")
	}
	assert.Len(t, gather(lane, []*item{<-lane}), 5)
}
