package engine_test

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/flow"
	"urgentis/internal/engine"
	"urgentis/internal/store"
	"urgentis/internal/testdb"
)

// died enters an instance that did not take its leave.
func (b *bench) died() {
	require.NoError(
		b.t,
		b.store.Register(
			context.Background(),
			store.Instance{ID: store.NewID("n"), Host: "elsewhere", PID: 1, Version: "t"},
		),
	)
	require.NoError(
		b.t,
		testdb.SQL(b.store).
			Exec("update instance set beat_at = now() - interval '1 minute', fenced_at = now() where host = "+
				"'elsewhere'").
			Error,
	)
}

// What an instance had in hand when it died is known to the next ones; the third does not take it in hand.
func TestWhatInstancesDieOfIsSetAside(t *testing.T) {
	b := set(t, source(t))
	b.stop()
	b.died()
	ctx := context.Background()
	for range store.PoisonAt {
		e, err := engine.New(engine.Config{
			Store: b.store, Secrets: noSecrets{}, Log: slog.New(slog.DiscardHandler), Link: "http://u"})
		require.NoError(t, err)
		require.NoError(t, e.Start(ctx))
		gone := make(chan struct{})
		go func() {
			defer close(gone)
			//nolint:errcheck // it never comes back, as in a program that dies
			e.Closely(ctx, "run", "r1", func() error { runtime.Goexit(); return nil })
		}()
		<-gone
		e.Stop()
		// It did not take its leave after all.
		require.NoError(
			t,
			testdb.SQL(b.store).Exec("update instance set reported_at = null where reported_at is not null").Error,
		)
	}
	b.start()
	did := false
	err := b.e.Closely(ctx, "run", "r1", func() error { did = true; return nil })
	assert.ErrorIs(t, err, engine.ErrPoison)
	assert.ErrorContains(t, err, "died 2 times")
	assert.False(t, did)
	require.NoError(t, b.e.Closely(ctx, "run", "r2", func() error { did = true; return nil }))
	assert.True(t, did, "others are not concerned")
	var left int
	require.NoError(t, testdb.SQL(b.store).Raw("select count(*) from suspect where ref = 'r2'").Scan(&left).Error)
	assert.Zero(t, left)
}

func TestARunThatWasSetAsideWaitsForAPerson(t *testing.T) {
	b := set(t, source(t))
	b.stop()
	b.died()
	b.died()
	b.start()
	require.NoError(
		t,
		testdb.SQL(b.store).
			Exec("create function poison() returns trigger language plpgsql as $$ begin insert into suspect (kind, "+
				"ref, instance) select 'run', new.id, id from instance where host = 'elsewhere'; return new; end $$").
			Error,
	)
	require.NoError(
		t,
		testdb.SQL(b.store).
			Exec("create trigger poison after insert on run for each row execute function poison()").
			Error,
	)
	taken := b.alert()
	r := eventually[store.Run](b, "select * from run where quarantined_at is not null")
	assert.Equal(t, "quarantined", r.WaitsOn)
	assert.Contains(t, r.Because, "urgentis run resume "+r.ID)
	assert.Contains(t, strings.Join(b.kinds(taken.Incident), " "), "run.quarantined")
	inc := eventually[store.Incident](b, "select * from incident where waiting_on = 'person'")
	assert.Equal(t, taken.Incident, inc.Number)
	time.Sleep(4 * time.Second) // no bell is rung for it, by nobody
	var version int64
	require.NoError(
		t,
		testdb.SQL(b.store).
			Raw("select version from run where id = ? and owner is null and rung_at is null", r.ID).
			Scan(&version).
			Error,
	)
	assert.Equal(t, int64(1), version)

	require.NoError(t, b.release(r.ID, "mara", "try it"))
	assert.ErrorIs(t, b.release(r.ID, "mara", ""), engine.ErrNotQuarantined)
	b.decide(true)
	assert.Equal(t, flow.Done, b.ended().State)
	assert.Contains(t, b.kinds(taken.Incident), "run.resumed")
}

func TestARunThatWasSetAsideCanBeCancelled(t *testing.T) {
	b := set(t, source(t))
	b.alert()
	g := eventually[store.Gate](b, "select * from gate where state = 'open'")
	require.NoError(
		t,
		testdb.SQL(b.store).Exec("update run set quarantined_at = now(), owner = null where id = ?", g.Run).Error,
	)
	require.NoError(t, b.cancel(g.Run, flow.CancelAsked{By: "mara"}))
	run := b.ended()
	assert.Equal(t, flow.Cancelled, run.State)
	assert.Contains(t, run.Because, "nothing was undone")
	var state string
	require.NoError(t, testdb.SQL(b.store).Raw("select state from gate").Scan(&state).Error)
	assert.Equal(t, "withdrawn", state)
}

func digestOf(t *testing.T, g store.Gate) string {
	var raised flow.GateRaised
	require.NoError(t, json.Unmarshal(g.Raised, &raised))
	return raised.Digest
}

// A run that was ended because its log cannot be gone on with leaves nothing open, and a late decision does not
// revive it.
func TestARefusedRunLeavesNothingOpen(t *testing.T) {
	b := set(t, source(t))
	b.alert()
	g := eventually[store.Gate](b, "select * from gate where state = 'open'")
	rules, newer := fmt.Sprintf(`"rules":%d`, flow.Rules), `"rules":99`
	require.NoError(
		t,
		testdb.SQL(b.store).
			Exec("update event set body = replace(body, ?, ?) where seq = 1", rules, newer).
			Error,
	)
	require.NoError(
		t,
		testdb.SQL(b.store).
			Exec("insert into timer (run, due) values (?, now()) on conflict (run) do update set due = now()", g.Run).
			Error,
	)
	run := b.ended()
	assert.Equal(t, flow.StateFail, run.State)
	var state string
	require.NoError(t, testdb.SQL(b.store).Raw("select state from gate").Scan(&state).Error)
	assert.Equal(t, "withdrawn", state)
	require.NoError(
		t,
		testdb.SQL(b.store).
			Exec("update event set body = replace(body, ?, ?) where seq = 1", newer, rules).
			Error,
	)
	err := b.word(g.ID, engine.Word{Approve: true, By: "mara", Comment: "go on", Digest: digestOf(t, g)})
	assert.ErrorIs(t, err, engine.ErrNotOpen)
	var again store.Run
	require.NoError(t, testdb.SQL(b.store).Take(&again).Error)
	assert.NotNil(t, again.EndedAt)
	assert.Equal(t, flow.StateFail, again.State)
	assert.Zero(t, b.q.parked)
}

// A mark that a living instance could not take back, because the database was away, is no death.
func TestAMarkOfALivingInstanceIsNoDeath(t *testing.T) {
	b := set(t, source(t))
	b.stop()
	b.died()
	b.start()
	ctx := context.Background()
	me := eventually[store.Instance](b, "select * from instance where fenced_at is null")
	for _, id := range []string{me.ID, "n-other", "n-third"} {
		if id != me.ID {
			require.NoError(t, b.store.Register(ctx, store.Instance{ID: id, Host: "beside", PID: 1, Version: "t"}))
		}
		_, err := b.store.Suspect(ctx, "run", "r1", id)
		require.NoError(t, err)
	}
	did := false
	require.NoError(t, b.e.Closely(ctx, "run", "r1", func() error { did = true; return nil }))
	assert.True(t, did)
}
