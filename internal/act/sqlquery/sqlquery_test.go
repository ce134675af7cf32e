package sqlquery

import (
	"context"
	"net/url"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/flow"
	"urgentis/core/task"
	"urgentis/internal/act"
	"urgentis/internal/testdb"
)

func ask(t *testing.T, looks bool, timeout int, text string, with ...string) act.Result {
	u, err := url.Parse(testdb.URL(t))
	require.NoError(t, err)
	port, err := strconv.Atoi(u.Query().Get("port"))
	if err != nil {
		port = 5432
	}
	host := u.Query().Get("host")
	if u.Hostname() != "" {
		host = u.Hostname()
		if u.Port() != "" {
			port, err = strconv.Atoi(u.Port())
			require.NoError(t, err)
		}
	}
	user := u.Query().Get("user")
	if u.User != nil {
		user = u.User.Username()
	}
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	return Hand{}.Do(
		ctx,
		act.Job{
			Attempt: "a",
			Request: task.Request{
				Kind:    "sql",
				Looks:   looks,
				Timeout: timeout,
				Target:  task.Facts{Name: "db", Address: host},
				SQL:     &task.Statement{Text: text, With: with, Database: u.Path[1:], User: user, Port: port},
			},
		},
	)
}

func TestLooksAreKeptHonest(t *testing.T) {
	r := ask(t, true, 10, "select $1::int + 1 as n, $2::text as t, $3::bool as b", "41", `"it's; drop table x"`, "true")
	require.Equal(t, flow.OK, r.State, r.Error)
	assert.JSONEq(t, `{"rows":[{"n":42,"t":"it's; drop table x","b":true}],"count":1}`, r.Stdout.Text())

	r = ask(t, true, 10, "create table looked (n int)")
	assert.Equal(t, flow.Failed, r.State)
	assert.Contains(t, r.Error, "read-only transaction")
	// A statement cannot leave the transaction that keeps it honest.
	r = ask(t, true, 10, "commit; create table looked (n int)")
	assert.Equal(t, flow.Failed, r.State)
	r = ask(t, true, 10, "set transaction read write")
	assert.Equal(t, flow.OK, r.State, "what it may say changes nothing once it is over")
}

func TestChangesAndTheirOutcome(t *testing.T) {
	r := ask(t, false, 10, "create table made as select generate_series(1, 3) n")
	require.Equal(t, flow.OK, r.State, r.Error)
	assert.Contains(t, r.Stdout.Text(), `"count":3`)
	r = ask(t, false, 10, "select nonsense")
	assert.Equal(t, flow.Failed, r.State, "the server said that it did nothing")
	r = ask(t, false, 1, "select pg_sleep(30)")
	assert.NotEqual(t, flow.OK, r.State)
	r = Hand{}.Do(
		context.Background(),
		act.Job{Request: task.Request{Timeout: 2, Target: task.Facts{Name: "db", Address: "127.0.0.1"},
			SQL: &task.Statement{Text: "select 1", Database: "x", User: "x", Port: 1}}},
	)
	assert.Equal(t, flow.Failed, r.State)
	assert.Contains(t, r.Error, "no connection to the database")
}

func TestRowsAreBoundedInSize(t *testing.T) {
	r := ask(t, true, 20, "select repeat('x', 100000) as x from generate_series(1, 2000)")
	require.Equal(t, flow.OK, r.State, r.Error)
	assert.LessOrEqual(t, r.Stdout.Len(), act.KeptOutput)
	assert.Less(t, r.Stdout.Size, int64(3*act.KeptOutput), "what is beyond is counted and not kept")
	r = ask(t, true, 20, "select repeat('x', 30000000) as x")
	assert.Equal(t, flow.Failed, r.State, "one value may not be larger than the server may send at once")
}
