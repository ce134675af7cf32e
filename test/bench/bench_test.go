package main

import (
	"testing"

	"github.com/stretchr/testify/require"

	"urgentis/internal/testdb"
)

// What every group builds on stands: use cases can be made, and what one leaves is taken away for the next.
func TestGroupsHaveWhatTheyBuildOn(t *testing.T) {
	b := &bench{ctx: t.Context(), dir: t.TempDir(), store: testdb.Open(t)}
	_, stop, err := b.app()
	require.NoError(t, err)
	stop()
	require.NoError(t, b.clear())
}
