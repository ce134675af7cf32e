package testapi

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"urgentis/core/access"
	"urgentis/internal/signin"
	"urgentis/internal/store"
)

// Token makes a token with a role that a person answers for, in the database itself.
func Token(t testing.TB, s *store.Store, name, person string, roles ...access.Role) string {
	value, row := signin.NewToken(name, roles, time.Hour, person)
	require.NoError(t, s.Tx(context.Background(), func(tx *store.Tx) error { return tx.AddToken(row) }))
	return value
}
