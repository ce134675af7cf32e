package main

import (
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestTheConsoleHasTheKindsOfToday(t *testing.T) {
	has, err := os.ReadFile("../../console/src/composables/kinds.gen.ts")
	require.NoError(t, err)
	assert.Equal(t, typescript(), string(has), "make generate")
}
