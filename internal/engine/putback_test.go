package engine_test

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/flow"
	"urgentis/internal/store"
	"urgentis/internal/testdb"
)

// Where the database was put back to an older state, all is halted; a run from before asks again, and says to the end
// what is not known.
func TestARunFromBeforeTheDatabaseWasPutBackAsksAgain(t *testing.T) {
	ctx := context.Background()
	b := set(t, source(t))
	taken := b.alert()
	first := eventually[store.Gate](b, "select * from gate where state = 'open'")
	noted, err := b.store.In(ctx).PutBack("n-of-another", "urgentis")
	require.NoError(t, err)
	assert.True(t, noted)
	noted, err = b.store.In(ctx).PutBack("n-of-another", "urgentis")
	require.NoError(t, err)
	assert.False(t, noted, "once for each time that the server began")
	b.decide(true)
	eventually[store.Run](b, "select * from run where waits_on = 'halt'")
	require.NoError(t, b.store.In(ctx).SetHalted(false, "iva"))
	require.NoError(t, b.e.Resume(ctx, "iva"))
	second := eventually[store.Gate](b, "select * from gate where state = 'open' and id <> ?", first.ID)
	assert.Contains(t, string(second.Raised), "whether this was begun shortly before is not known")
	assert.Zero(t, b.q.parked)
	b.decide(true)
	run := b.ended()
	assert.Equal(t, flow.Done, run.State, run.Because)
	assert.Contains(t, run.Because, "what was changed shortly before is not known")
	assert.Equal(t, 1, b.q.parked)
	assert.Contains(t, b.kinds(taken.Incident), "database.put-back")
}

// After the database's server began anew, nothing is begun before every instance was heard that may know more than it.
func TestNothingIsBegunBeforeAllWereHeard(t *testing.T) {
	b := set(t, source(t))
	db := testdb.SQL(b.store)
	require.NoError(t, db.Exec(`insert into instance (id, host, pid, version, begun_at, beat_at)
		values ('n-silent', 'h', 1, '', now(), pg_postmaster_start_time() - interval '1 second')`).Error)
	b.alert()
	b.decide(true)
	eventually[store.Event](b, `select * from event where kind = 'attempt.intended' and body like '%"for":"change"%'`)
	time.Sleep(time.Second)
	assert.Zero(t, b.q.parked)
	require.NoError(t, db.Exec("update instance set fenced_at = now() where id = 'n-silent'").Error)
	assert.Equal(t, flow.Done, b.ended().State)
	assert.Equal(t, 1, b.q.parked)
}
