package secret_test

import (
	"context"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/task"
	"urgentis/internal/secret"
	"urgentis/internal/testdb"
)

func TestAllThatMayBePrintedIsKnown(t *testing.T) {
	s := testdb.Open(t)
	ctx := context.Background()
	box, err := secret.OpenFor(ctx, s, filepath.Join(t.TempDir(), "seal.key"))
	require.NoError(t, err)
	k := &secret.Keeper{Store: s, Box: box}
	for _, v := range []string{"old-canary", "new-canary"} {
		_, err := k.Set(s.In(ctx), "api", "text", []byte(v), "iva")
		require.NoError(t, err)
	}
	_, err = k.Set(s.In(ctx), "host", "password", []byte("host-canary"), "iva")
	require.NoError(t, err)
	mark, err := k.Seal("sealed-canary")
	require.NoError(t, err)
	known, err := k.Known(ctx, task.Facts{Name: "h", Secret: "host@1"}, []string{"api"}, []string{mark})
	require.NoError(t, err)
	assert.ElementsMatch(
		t,
		[]string{"old-canary", "new-canary", "host-canary", "sealed-canary"},
		known,
		"of a secret that was changed meanwhile every version",
	)
	gone, cancel := context.WithCancel(ctx)
	cancel()
	_, err = k.Known(gone, task.Facts{}, []string{"api"}, nil)
	assert.Error(t, err, "where it cannot be asked, nothing may be printed")
}
