package sqlquery

import (
	"context"
	"database/sql"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/flow"
	"urgentis/core/task"
	"urgentis/internal/act"
	"urgentis/internal/testpeers"
)

type database func(looks bool, timeout int, text string, with ...string) act.Result

func asks(s task.Statement) database {
	return func(looks bool, timeout int, text string, with ...string) act.Result {
		s.Text, s.With = text, with
		ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
		defer cancel()
		return Hand{}.Do(ctx, act.Job{Attempt: "a", Request: task.Request{Kind: "sql", Looks: looks, Timeout: timeout,
			Target: task.Facts{Name: "db", Address: "127.0.0.1"}, SQL: &s}})
	}
}

// What a real MariaDB does with looks that would touch, with changes, with floods, and when it hangs.
func TestMariaDB(t *testing.T) {
	t.Parallel()
	d := testpeers.MariaDB(t)
	d.Run(t, "create database harbour", "create user ops@'127.0.0.1' identified by 'p w'",
		"grant all on harbour.* to ops@'127.0.0.1'", "grant process, file on *.* to ops@'127.0.0.1'",
		"create table harbour.berths (id int primary key, name varchar(20), cost decimal(8,2), at datetime)",
		"insert into harbour.berths values (1, 'quay''s', 12.50, '2026-03-02 02:40:00'), (2, null, 3, null)")
	ask := asks(task.Statement{Dialect: "mysql", Database: "harbour", User: "ops", Password: "p w", Port: d.Port})

	r := ask(
		true,
		10,
		"select id, name, cost, at from berths where id < ? and name <> ? order by id",
		"2",
		`"it's; drop"`,
	)
	require.Equal(t, flow.OK, r.State, r.Error)
	assert.JSONEq(t, `{"rows":[{"id":1,"name":"quay's","cost":12.50,"at":"2026-03-02T02:40:00Z"}],"count":1}`,
		r.Stdout.Text())
	r = ask(true, 10, "show full processlist")
	require.Equal(t, flow.OK, r.State, r.Error)
	r = ask(true, 10, "# how many\n select count(*) as n from berths")
	require.Equal(t, flow.OK, r.State, r.Error)
	assert.JSONEq(t, `{"rows":[{"n":2}],"count":1}`, r.Stdout.Text(), "a remark before it hides no rows")

	_, authority := certificate(t, "db")
	r = asks(task.Statement{Dialect: "mysql", Database: "harbour", User: "ops", Password: "p w", Port: d.Port,
		Authority: authority})(false, 10, "insert into berths values (9, 'x', 1, null)")
	require.Equal(t, flow.Failed, r.State)
	require.Nil(t, r.Exit, "it is nobody whom the runbook trusts: nothing was begun")

	for _, touches := range []string{"insert into berths values (3, 'x', 1, null)", "create table looked (n int)",
		"drop table berths", "truncate berths"} {
		r = ask(true, 10, touches)
		assert.Equal(t, flow.Failed, r.State, touches)
		assert.Contains(t, r.Error, "READ ONLY transaction", touches)
	}
	r = ask(true, 10, "select 1; delete from berths")
	assert.Equal(t, flow.Failed, r.State, "one statement at a time")
	assert.Equal(t, "2\n", d.Run(t, "select count(*) from harbour.berths"))

	r = ask(false, 10, "update berths set cost = cost + ? where id <= ?", "1", "2")
	require.Equal(t, flow.OK, r.State, r.Error)
	assert.JSONEq(t, `{"rows":[],"count":2}`, r.Stdout.Text())
	r = ask(false, 10, "delete from berths where id = ? returning name", "1")
	require.Equal(t, flow.OK, r.State, r.Error)
	assert.JSONEq(t, `{"rows":[{"name":"quay's"}],"count":1}`, r.Stdout.Text())
	r = ask(false, 10, "delete from nothing")
	assert.Equal(t, flow.Failed, r.State, "the server said that it did nothing")
	assert.Contains(t, r.Error, "the database refused")

	r = ask(true, 1, "select sleep(30)")
	assert.Equal(t, flow.Failed, r.State)
	assert.Less(t, r.Stdout.Size, int64(100))
	require.Eventually(t, func() bool {
		return d.Run(t, "select count(*) from information_schema.processlist where info like 'select sleep%'") == "0\n"
	}, time.Minute, 100*time.Millisecond, "nothing of it is left on the server")

	r = ask(true, 30, "select repeat('x', 1000000) from seq_1_to_2000")
	assert.Equal(t, flow.Failed, r.State)
	assert.Equal(t, "more than 32 MiB came back", r.Error)
	r = ask(true, 30, "select seq from seq_1_to_20000")
	require.Equal(t, flow.OK, r.State, r.Error)
	assert.LessOrEqual(t, r.Stdout.Len(), act.KeptOutput)

	wrong := asks(task.Statement{Dialect: "mysql", Database: "harbour", User: "ops", Password: "wrong", Port: d.Port})
	r = wrong(false, 5, "delete from berths")
	assert.Equal(t, flow.Failed, r.State, "it was not begun")
	assert.Contains(t, r.Error, "Access denied")
}

func TestSQLite(t *testing.T) {
	t.Parallel()
	file := filepath.Join(t.TempDir(), "tides 100%.db")
	db, err := sql.Open("sqlite", file)
	require.NoError(t, err)
	_, err = db.Exec(
		"create table tides (station text, cm real, n integer); insert into tides values ('pier', 81.5, 7)",
	)
	require.NoError(t, err)
	require.NoError(t, db.Close())
	ask := asks(task.Statement{Dialect: "sqlite", Database: file})

	r := ask(true, 10, "select * from tides where station = $1 and n > $2", `"pier"`, "6")
	require.Equal(t, flow.OK, r.State, r.Error)
	assert.JSONEq(t, `{"rows":[{"station":"pier","cm":81.5,"n":7}],"count":1}`, r.Stdout.Text())
	for touches, says := range map[string]string{
		"delete from tides": "readonly", "pragma query_only = 0": "", "attach database '/tmp/other.db' as o": "too many",
	} {
		r = ask(true, 10, touches)
		if says != "" {
			assert.Equal(t, flow.Failed, r.State, touches)
			assert.Contains(t, r.Error, says, touches)
		}
	}
	for _, remarked := range []string{
		"-- how many\nselect n from tides", "/* a */ /* b */ select n from tides", "\n -- a\n--b\n select n from tides",
	} {
		for _, looks := range []bool{true, false} {
			r = ask(looks, 10, remarked)
			require.Equal(t, flow.OK, r.State, r.Error)
			assert.JSONEq(t, `{"rows":[{"n":7}],"count":1}`, r.Stdout.Text(), remarked)
		}
	}
	r = ask(false, 10, "update tides set n = n + $1", "1")
	require.Equal(t, flow.OK, r.State, r.Error)
	assert.JSONEq(t, `{"rows":[],"count":1}`, r.Stdout.Text())
	r = ask(true, 1, "with recursive c(x) as (select 1 union all select x + 1 from c) select max(x) from c")
	assert.Equal(t, flow.Failed, r.State)
	assert.Equal(t, "no answer in time", r.Error)
	r = ask(true, 10, "select zeroblob(30000000)")
	assert.Equal(t, flow.Failed, r.State, "one value may not be larger")

	gone := filepath.Join(t.TempDir(), "none.db")
	r = asks(task.Statement{Dialect: "sqlite", Database: gone})(false, 5, "create table t (n int)")
	assert.Equal(t, flow.Failed, r.State)
	assert.NoFileExists(t, gone)
}
