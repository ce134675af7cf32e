package library

import (
	"context"
	"database/sql"
	"fmt"
	"strings"
	"testing"
	"time"

	_ "github.com/go-sql-driver/mysql" // the driver
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/internal/testpeers"
)

// mariadb is a server with the accounts of the library's runbooks, and some seats.
func mariadb(t *testing.T, options ...string) *testpeers.Database {
	d := testpeers.MariaDB(t, options...)
	d.Run(t, "create database harbour", "create table harbour.seat (n int primary key, taken int not null)",
		"insert into harbour.seat values (1, 0), (2, 0)",
		"create user looker@'127.0.0.1' identified by '"+looks+"'",
		"grant process, replica monitor, binlog monitor on *.* to looker@'127.0.0.1'",
		"create user mender@'127.0.0.1' identified by '"+mends+"'",
		"grant process, connection admin, super, replication slave admin on *.* to mender@'127.0.0.1'",
		"create user desk@'127.0.0.1' identified by 'desk'", "grant all on harbour.* to desk@'127.0.0.1'")
	return d
}

// desk is a session of somebody who books.
func desk(t *testing.T, d *testpeers.Database) *sql.Conn {
	db, err := sql.Open("mysql", fmt.Sprintf("desk:desk@tcp(127.0.0.1:%d)/harbour", d.Port))
	require.NoError(t, err)
	t.Cleanup(func() { db.Close() }) //nolint:errcheck // it may be gone
	c, err := db.Conn(context.Background())
	require.NoError(t, err)
	return c
}

// does runs a statement; what becomes of it is of no matter where bad is set.
func does(t *testing.T, c *sql.Conn, statement string) {
	_, err := c.ExecContext(context.Background(), statement)
	require.NoError(t, err)
}

func TestMariaDBIdleInTransaction(t *testing.T) {
	t.Parallel()
	d := mariadb(t)
	does(t, desk(t, d), "start transaction")
	held := desk(t, d)
	does(t, held, "start transaction")
	does(t, held, "update seat set taken = 1 where n = 1")
	time.Sleep(2200 * time.Millisecond)
	at(t, "database").repairs("mariadb-idle-in-transaction", map[string]any{"port": d.Port, "after": 1})
	does(t, desk(t, d), "update seat set taken = taken + 1 where n = 1")
	assert.Equal(t, "1\n", d.Run(t, "select taken from harbour.seat where n = 1"), "what was not committed is gone")
}

func TestMariaDBBlocking(t *testing.T) {
	t.Parallel()
	d := mariadb(t)
	head, waits := desk(t, d), desk(t, d)
	does(t, head, "start transaction")
	does(t, head, "update seat set taken = 1 where n = 1")
	done := make(chan error, 1)
	go func() {
		_, err := waits.ExecContext(context.Background(), "update seat set taken = 2 where n = 1")
		done <- err
	}()
	require.Eventually(t, func() bool {
		return d.Run(t, "select count(*) from information_schema.innodb_lock_waits") == "1\n"
	}, time.Minute, 50*time.Millisecond)
	at(t, "database").repairs("mariadb-blocking", map[string]any{"port": d.Port})
	assert.NoError(t, <-done, "whoever waited goes on")
}

func TestMariaDBStatementLong(t *testing.T) {
	t.Parallel()
	d := mariadb(t)
	long := desk(t, d)
	done := make(chan error, 1)
	go func() {
		_, err := long.ExecContext(context.Background(), "update seat set taken = sleep(300)")
		done <- err
	}()
	time.Sleep(2500 * time.Millisecond)
	at(t, "database").repairs("mariadb-statement-long", map[string]any{"port": d.Port, "after": 2})
	assert.ErrorContains(t, <-done, "interrupted")
	does(t, long, "select 1") // its session stays
}

func TestMariaDBConnectionsShort(t *testing.T) {
	t.Parallel()
	d := mariadb(t, "--max-connections=12")
	for range 9 {
		desk(t, d)
	}
	at(t, "database").repairs("mariadb-connections-short", map[string]any{"port": d.Port, "most": 70, "allowed": 60})
	assert.Equal(t, "60\n", d.Run(t, "select @@max_connections"))
}

func TestMariaDBReplicationStopped(t *testing.T) {
	t.Parallel()
	primary := mariadb(t, "--server-id=1", "--log-bin="+t.TempDir()+"/b", "--gtid-domain-id=1")
	primary.Run(t, "create user replica@'127.0.0.1' identified by 'r'",
		"grant replication slave on *.* to replica@'127.0.0.1'")
	replica := mariadb(t, "--server-id=2", "--gtid-domain-id=2")
	at0 := strings.Fields(primary.Run(t, "show master status"))
	replica.Run(t, fmt.Sprintf("change master to master_host='127.0.0.1', master_port=%d, master_user='replica', "+
		"master_password='r', master_log_file='%s', master_log_pos=%s, master_connect_retry=1", primary.Port, at0[0],
		at0[1]), "start slave")
	seats := func(n string) {
		require.Eventually(
			t,
			func() bool { return replica.Run(t, "select taken from harbour.seat where n = 2") == n+"\n" },
			time.Minute,
			100*time.Millisecond,
		)
	}
	primary.Run(t, "update harbour.seat set taken = 5 where n = 2")
	seats("5")
	p := at(t, "replica")
	inputs := map[string]any{"port": replica.Port}
	p.finds("mariadb-replication-stopped", inputs, "false-alarm")
	replica.Run(t, "stop slave")
	primary.Run(t, "update harbour.seat set taken = 6 where n = 2")
	p.repairs("mariadb-replication-stopped", inputs)
	seats("6")

	// One that broke is not started into the same error again.
	replica.Run(t, "delete from harbour.seat where n = 1")
	primary.Run(t, "set session binlog_format = row", "delete from harbour.seat where n = 1")
	require.Eventually(t, func() bool {
		return strings.Contains(replica.Run(t, "show slave status\\G"), "Could not execute Delete_rows")
	}, time.Minute, 100*time.Millisecond)
	p.finds("mariadb-replication-stopped", inputs, "handed-over")
}
