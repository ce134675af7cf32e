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

// Token makes a token with a role that a person answers for, in the database itself. A person who is not there yet is
// added, with every role and without a password.
func Token(t testing.TB, s *store.Store, name, person string, roles ...access.Role) string {
	value, row := signin.NewToken(name, roles, time.Now().Add(time.Hour), person)
	require.NoError(t, s.Tx(context.Background(), func(tx *store.Tx) error {
		known, err := tx.Person(person)
		if err != nil {
			return err
		}
		if known == nil {
			p := &store.Person{Name: person, Roles: string(access.Admin), AddedAt: time.Now()}
			if err := tx.SetPerson(p); err != nil {
				return err
			}
		}
		return tx.AddToken(row)
	}))
	return value
}
