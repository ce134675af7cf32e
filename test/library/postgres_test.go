package library

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/internal/testpeers"
)

// postgres is a server with the accounts of the library's runbooks, and some seats.
func postgres(t *testing.T) *testpeers.Postgres {
	p := testpeers.NewPostgres(t)
	p.Run(t, "create table seat (n int primary key, taken int not null)", "insert into seat values (1, 0), (2, 0)",
		"create role looker login password '"+looks+"' in role pg_monitor",
		// Whoever ends sessions of superusers must be one; here the desks are superusers.
		"create role mender superuser login password '"+mends+"'")
	return p
}

// began is a session that began something and is idle.
func began(t *testing.T, p *testpeers.Postgres) {
	c := p.Session(t)
	for _, s := range []string{"begin", "update seat set taken = 1 where n = 1"} {
		_, err := c.Exec(context.Background(), s)
		require.NoError(t, err)
	}
}

// later runs a statement that takes long, and gives what becomes of it.
func later(t *testing.T, p *testpeers.Postgres, statement string) <-chan error {
	c := p.Session(t)
	done := make(chan error, 1)
	go func() {
		_, err := c.Exec(context.Background(), statement)
		done <- err
	}()
	return done
}

func TestPostgresIdleInTransaction(t *testing.T) {
	t.Parallel()
	p := postgres(t)
	began(t, p)
	time.Sleep(1200 * time.Millisecond)
	at(t, "database").repairs("postgres-idle-in-transaction", map[string]any{"port": p.Port, "after": 1})
	p.Run(t, "update seat set taken = taken + 1 where n = 1")
	assert.Equal(t, "1", p.Asks(t, "select taken from seat where n = 1"), "what was not committed is gone")
}

func TestPostgresIdleInTooManyTransactions(t *testing.T) {
	t.Parallel()
	p := postgres(t)
	for range 3 {
		c := p.Session(t)
		_, err := c.Exec(context.Background(), "begin")
		require.NoError(t, err)
	}
	time.Sleep(1200 * time.Millisecond)
	at(t, "database").finds("postgres-idle-in-transaction", map[string]any{"port": p.Port, "after": 1, "most": 2},
		"handed-over")
}

func TestPostgresBlocking(t *testing.T) {
	t.Parallel()
	p := postgres(t)
	began(t, p)
	first := later(t, p, "update seat set taken = 2 where n = 1")
	second := later(t, p, "update seat set taken = 3 where n = 1")
	time.Sleep(1500 * time.Millisecond)
	at(t, "database").repairs("postgres-blocking", map[string]any{"port": p.Port, "after": 1})
	assert.NoError(t, <-first)
	assert.NoError(t, <-second)
}

func TestPostgresStatementLong(t *testing.T) {
	t.Parallel()
	p := postgres(t)
	done := later(t, p, "select pg_sleep(300)")
	time.Sleep(2200 * time.Millisecond)
	at(t, "database").repairs("postgres-statement-long", map[string]any{"port": p.Port, "after": 2})
	assert.ErrorContains(t, <-done, "canceling statement")
}

func TestPostgresConnectionsShort(t *testing.T) {
	t.Parallel()
	p := postgres(t)
	for range 20 {
		c := p.Session(t)
		_, err := c.Exec(context.Background(), "select 1")
		require.NoError(t, err)
	}
	time.Sleep(1200 * time.Millisecond)
	at(t, "database").repairs("postgres-connections-short", map[string]any{"port": p.Port, "most": 12, "after": 1,
		"count": 10})
}

func TestPostgresReplicationLate(t *testing.T) {
	t.Parallel()
	p := postgres(t)
	replica := p.Standby(t)
	here := at(t, "replica")
	inputs := map[string]any{"port": replica.Port}
	here.finds("postgres-replication-late", inputs, "false-alarm")
	replica.Run(t, "select pg_wal_replay_pause()")
	p.Run(t, "update seat set taken = 7 where n = 2")
	here.repairs("postgres-replication-late", inputs)
	require.Eventually(t, func() bool { return replica.Asks(t, "select taken from seat where n = 2") == "7" },
		10*time.Second, 100*time.Millisecond)
}
