package engine_test

import (
	"context"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/access"
	"urgentis/core/estate"
	"urgentis/internal/store"
	"urgentis/internal/testdb"
)

const queueWatch = `urgentis: watch/1
name: queue
service: berth-queue
every: 1s
looks:
  - look: Depth
    where: {role: consumer}
    run: [berthq, depth, --queue, north]
    read:
      depth: {json: .depth, type: integer, unit: messages, good: low}
`

// watched has a watch taken.
func (b *bench) watched(text string) {
	docs, found := estate.Parse([]estate.File{{Name: "w", Text: text}})
	require.Empty(b.t, found)
	require.NoError(b.t, b.store.Tx(context.Background(), func(tx *store.Tx) error {
		push := &store.Push{By: "iva"}
		if err := tx.AddPush(push); err != nil {
			return err
		}
		if err := tx.PushDocument(push, docs[0]); err != nil {
			return err
		}
		return tx.SetScheduled(docs[0].Watch)
	}))
}

// A watch is taken in its beat, without a run; what it reads is there, and who did not answer is told.
func TestAWatchIsTaken(t *testing.T) {
	b := set(t, source(t))
	b.q.silent = "consumer-2"
	b.watched(queueWatch)
	n := eventually[int](b, `select count(*) from reading r join series s on s.id = r.series where s.name = 'depth'
		and s.target = 'consumer-1' and r.value = 812 and r.run is null having count(*) >= 2`)
	assert.LessOrEqual(t, n, 4, "once a second")
	list, err := b.store.In(context.Background()).ListScheduled(access.Scope{All: true}, "berth-queue")
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Equal(t, 2, list[0].Asked)
	assert.Equal(t, 1, list[0].Answered)
	assert.Equal(t, "consumer-2: no answer", list[0].Trouble)
	var runs, others int
	require.NoError(t, testdb.SQL(b.store).Raw("select count(*) from run").Scan(&runs).Error)
	require.NoError(t, testdb.SQL(b.store).Raw(`select count(*) from reading r join series s on s.id = r.series
		where s.target = 'consumer-2'`).Scan(&others).Error)
	assert.Zero(t, runs)
	assert.Zero(t, others, "what is missing is no reading")
}

// Two instances take a watch once in each beat, and one that stops gives back what it had in hand.
func TestOneWatchOfTwoInstances(t *testing.T) {
	b := set(t, source(t))
	first := b.stop
	b.start()
	b.watched(queueWatch)
	eventually[int](b, "select 1 from reading having count(*) >= 6")
	first()
	var twice int
	require.NoError(t, testdb.SQL(b.store).Raw(`select count(*) from (select at - lag(at) over
		(partition by series order by at) as gap from reading) x where gap < interval '500 milliseconds'`).
		Scan(&twice).Error)
	assert.Zero(t, twice)
	var before int
	require.NoError(t, testdb.SQL(b.store).Raw("select count(*) from reading").Scan(&before).Error)
	eventually[int](b, "select 1 from reading having count(*) >= ?", before+4)
}

// A watch whose targets are slow is not taken again meanwhile, and one that cannot be read harms no other.
func TestSlowAndBrokenWatches(t *testing.T) {
	b := set(t, source(t))
	require.NoError(t, testdb.SQL(b.store).Exec(`insert into scheduled_look (watch, service, number, every)
		values ('gone', 'berth-queue', 9, '1 second')`).Error)
	b.watched(queueWatch)
	eventually[int](b, "select 1 from scheduled_look where watch = 'gone' and trouble like '%not found%'")
	eventually[int](b, "select 1 from reading having count(*) >= 2")
	due := eventually[time.Time](b, "select due_at from scheduled_look where watch = 'queue'")
	assert.Less(t, time.Until(due), 2*time.Second)
}

// A watch whose evaluation always runs out is taken rarer and rarer, and says so; in its own beat once it does not.
func TestAWatchThatRunsOutIsTakenRarer(t *testing.T) {
	b := set(t, source(t))
	b.watched(strings.Replace(queueWatch, "json: .depth", "json: '.depth | until(false; .)'", 1))
	said := eventually[string](b, "select trouble from scheduled_look where ran_out > 0")
	assert.Contains(t, said, "it is taken again in 2s only, and rarer each time")
	after := eventually[float64](b, `select extract(epoch from due_at - taken_at)::float8 from scheduled_look
		where ran_out > 1`)
	assert.Greater(t, after, 4.0)
	b.watched(queueWatch)
	assert.Zero(t, eventually[int](b, "select ran_out from scheduled_look where answered = 2"))
	for ran, rarer := range map[int]time.Duration{0: 0, 1: 2 * time.Minute, 3: 8 * time.Minute, 40: time.Hour} {
		assert.Equal(t, rarer, store.Scheduled{Every: 60, RanOut: ran}.Rarer())
	}
	assert.Zero(t, store.Scheduled{Every: 7200, RanOut: 3}.Rarer())
}
