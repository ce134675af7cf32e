package app

import (
	"context"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/internal/engine"
	"urgentis/internal/testdb"
)

// Whoever looks on at one process sees what another one's command prints, in its order; for nobody nothing is written.
func TestOutputIsSeenAtAnyProcess(t *testing.T) {
	s := testdb.Open(t)
	here, there := NewFeed(s), NewFeed(s)
	defer here.Stop()
	defer there.Stop()
	written := func() (n int) {
		require.NoError(t, testdb.SQL(s).Raw("select count(*) from piece").Scan(&n).Error)
		return n
	}
	there.Output(engine.Output{Run: "r", Attempt: "a", Text: "nobody looks on"})
	time.Sleep(2 * presentEvery)
	assert.Zero(t, written())

	l := here.Listen()
	require.Eventually(t, func() bool {
		there.passing.mu.Lock()
		defer there.passing.mu.Unlock()
		return there.passing.others.Listen
	}, time.Minute, 20*time.Millisecond)
	want := ""
	for i := range 200 {
		line := fmt.Sprintf("line %d\n", i)
		want += line
		there.Output(engine.Output{Run: "r", Attempt: "a", Path: "1", Target: "t", Text: line})
		if i%20 == 0 {
			time.Sleep(passEvery / 2)
		}
	}
	here.Output(engine.Output{Run: "own", Text: "own"})
	got, own := "", 0
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	for got != want {
		select {
		case n := <-l:
			if n.Output == nil {
				continue
			}
			if n.Output.Run == "own" {
				own++
				continue
			}
			assert.Equal(t, "t", n.Output.Target)
			got += n.Output.Text
		case <-ctx.Done():
			require.Equal(t, want, got)
		}
	}
	assert.Equal(t, 1, own, "what is printed here is not read back")
}

// What is printed faster than it can be passed on is left out, and holds nobody up.
func TestAFloodIsNotPassedOn(t *testing.T) {
	s := testdb.Open(t)
	p := newPassing(s, &Feed{})
	p.others.Listen = true
	for range 100 {
		p.add(engine.Output{Run: "r", Text: string(make([]byte, 32<<10))})
	}
	assert.LessOrEqual(t, p.size, maxPassed+32<<10)
}
