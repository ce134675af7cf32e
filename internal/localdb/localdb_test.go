package localdb

import (
	"context"
	"log/slog"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The account postgres must be able to reach it, which it cannot in t.TempDir when root runs the test.
func dir(t *testing.T) string {
	d, err := os.MkdirTemp("", "urg")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(d, 0o755))
	t.Cleanup(func() { os.RemoveAll(d) })
	return d
}

func TestStartFindStop(t *testing.T) {
	ctx := context.Background()
	d := dir(t)
	s, err := Start(ctx, d)
	require.NoError(t, err)
	assert.True(t, s.started)
	c, err := pgx.Connect(ctx, s.URL)
	require.NoError(t, err)
	_, err = c.Exec(ctx, "create table kept (n int)")
	require.NoError(t, err)
	require.NoError(t, c.Close(ctx))

	// As after a kill -9 of the service: the server is still there and is found.
	again, err := Start(ctx, d)
	require.NoError(t, err)
	assert.False(t, again.started)
	require.NoError(t, again.Stop())

	s, err = Start(ctx, d)
	require.NoError(t, err)
	defer s.Stop() //nolint:errcheck // the directory goes away
	c, err = pgx.Connect(ctx, s.URL)
	require.NoError(t, err)
	defer c.Close(ctx)
	_, err = c.Exec(ctx, "insert into kept values (1)")
	assert.NoError(t, err, "what was committed stays")
}

func TestClearErrors(t *testing.T) {
	_, err := Start(
		context.Background(),
		filepath.Join(
			dir(t),
			"a-very-long-name-indeed-that-goes-on-and-on-and-on-and-on-until-no-socket-fits-any-more",
		),
	)
	assert.ErrorContains(t, err, "choose a shorter --data-dir")
}

// A server that is killed is started again, with what was committed.
func TestKeepStartsAKilledServerAgain(t *testing.T) {
	ctx, cancel := context.WithCancel(context.Background())
	s, err := Start(ctx, dir(t))
	require.NoError(t, err)
	defer s.Stop() //nolint:errcheck // the directory goes away
	done := make(chan struct{})
	go func() { s.Keep(ctx, slog.New(slog.DiscardHandler)); close(done) }()
	defer func() { cancel(); <-done }()
	b, err := os.ReadFile(filepath.Join(s.data, "postmaster.pid"))
	require.NoError(t, err)
	pid, err := strconv.Atoi(strings.SplitN(string(b), "\n", 2)[0])
	require.NoError(t, err)
	require.NoError(t, syscall.Kill(pid, syscall.SIGKILL))
	require.Eventually(t, func() bool {
		c, err := pgx.Connect(ctx, s.URL)
		if err != nil {
			return false
		}
		defer c.Close(ctx)
		var started time.Time
		require.NoError(t, c.QueryRow(ctx, "select pg_postmaster_start_time()").Scan(&started))
		now, err := os.ReadFile(filepath.Join(s.data, "postmaster.pid"))
		return err == nil && !strings.HasPrefix(string(now), strconv.Itoa(pid)+"\n")
	}, time.Minute, 100*time.Millisecond)
}
