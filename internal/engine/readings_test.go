package engine_test

import (
	"context"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"urgentis/core/flow"
	"urgentis/core/runbook"
	"urgentis/core/tell"
	"urgentis/internal/act"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/internal/testdb"
)

// What looks read outlives their run: each taking once, text as text, and nothing of what is sealed.
func TestReadingsOutliveTheirRun(t *testing.T) {
	b := set(t, strings.Replace(source(t), "      depth: {json: .depth,",
		"      token: {json: .stuck_message, type: text, sealed: true}\n      depth: {json: .depth,", 1))
	b.alert()
	b.decide(true)
	run := b.ended()
	type row struct {
		Name, Target, Unit, Good, Said, Run string
		Value                               float64
	}
	var rows []row
	require.NoError(t, testdb.SQL(b.store).Raw(`select s.name, s.target, s.unit, s.good, coalesce(r.said, '') as said,
		coalesce(r.value, -1) as value, r.run from reading r join series s on s.id = r.series
		order by r.at, s.name, s.target`).Scan(&rows).Error)
	count := map[string]int{}
	for _, r := range rows {
		count[r.Name+" "+r.Target]++
		assert.Equal(t, run.ID, r.Run)
	}
	var samples int
	require.NoError(t, testdb.SQL(b.store).Raw(`select count(*) from event where kind = 'attempt.ended'
		and body::jsonb -> 'readings' ? 'depth'`).Scan(&samples).Error)
	assert.Equal(t, samples, count["depth consumer-1"]+count["depth consumer-2"], "each sample is there once")
	assert.NotContains(t, strings.Join(names(count), " "), "token", "what is sealed is kept nowhere else")
	assert.Contains(t, rows, row{Name: "depth", Target: "consumer-1", Unit: "messages", Good: "low", Run: run.ID,
		Value: 812})
	assert.Contains(t, rows, row{Name: "stuck", Target: "consumer-2", Said: "m-7", Run: run.ID, Value: -1})
}

func names(m map[string]int) (out []string) {
	for k := range m {
		out = append(out, k)
	}
	return out
}

// narrow counts how many are asked at once.
type narrow struct {
	*queue
	now, most atomic.Int32
}

func (n *narrow) Do(ctx context.Context, job act.Job) act.Result {
	for at := n.now.Add(1); ; {
		if was := n.most.Load(); at <= was || n.most.CompareAndSwap(was, at) {
			break
		}
	}
	defer n.now.Add(-1)
	time.Sleep(20 * time.Millisecond)
	return n.queue.Do(ctx, job)
}

// A look that says how many targets it asks at once asks no more when it is taken again for people.
func TestALookTakenAgainAsksNoMoreAtOnce(t *testing.T) {
	for atOnce, text := range map[int32]string{1: "    at_once: 1\n", 2: ""} {
		b := set(t, strings.Replace(source(t), "    id: depth\n", "    id: depth\n"+text, 1))
		n := &narrow{queue: b.q}
		b.e.Hands["ssh"] = n
		b.alert()
		b.decide(true)
		run := b.ended()
		log, err := b.store.Log(t.Context(), run.ID, 0)
		require.NoError(t, err)
		book, found := runbook.Parse([]byte(strings.Replace(source(t), "    id: depth\n", "    id: depth\n"+text, 1)))
		require.False(t, found.Failed(), found)
		s, err := flow.Fold(book, log)
		require.NoError(t, err)
		n.most.Store(0)
		for _, look := range tell.LooksTaken(s) {
			_, err := b.looks.TakeAgain(t.Context(), s, run.ID, look)
			require.NoError(t, err)
		}
		assert.Equal(t, atOnce, n.most.Load())
	}
}
