package engine_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/flow"
	"urgentis/internal/testdb"
)

// What may be repeated is begun once more by itself, without a question, once it is not seen to run on its target any
// more; while it is, nothing is begun beside it.
func TestWhatMayBeRepeatedRestsFirst(t *testing.T) {
	text := strings.Replace(source(t), "    still: own(readings.stuck) != \"\"\n", "    repeatable: true\n", 1)
	require.Contains(t, text, "repeatable: true")
	b := set(t, text)
	b.q.lost = true // the end of what it does is not seen
	b.q.runs.Store(true)
	b.alert()
	b.decide(true)
	count := func(where string) int {
		var n int
		require.NoError(t, testdb.SQL(b.store).Raw("select count(*) from event where "+where).Scan(&n).Error)
		return n
	}
	require.Eventually(t, func() bool { return count(`kind = 'attempt.ended' and body like '%"unknown"%'`) == 1 },
		20*time.Second, 50*time.Millisecond)
	time.Sleep(2 * time.Second)
	b.q.mu.Lock()
	assert.Equal(t, 1, b.q.parked, "it is seen running")
	b.q.lost = false
	b.q.mu.Unlock()
	b.q.runs.Store(false)
	assert.Equal(t, flow.Done, b.ended().State)
	assert.Equal(t, 2, b.q.parked)
	assert.Equal(t, 2, count("kind in ('attempt.rested', 'change.repeated')"))
	assert.Zero(t, count("kind = 'question.raised'"), "nobody was asked")
}
