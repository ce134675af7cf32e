package localdb

import (
	"context"
	"os"
	"path/filepath"
	"testing"

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
	_, err := Start(context.Background(), filepath.Join(dir(t), "a-very-long-name-indeed-that-goes-on-and-on-and-on-and-on-until-no-socket-fits-any-more"))
	assert.ErrorContains(t, err, "choose a shorter --data-dir")
}
