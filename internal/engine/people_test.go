package engine_test

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/flow"
	"urgentis/core/leave"
	"urgentis/internal/engine"
	"urgentis/internal/store"
	"urgentis/internal/testdb"
)

// begin starts the runbook by hand.
func (b *bench) begin(by, person string) {
	ctx := context.Background()
	var rev store.Revision
	require.NoError(b.t, testdb.SQL(b.store).Take(&rev).Error)
	book, err := b.e.Book(ctx, rev.Revision)
	require.NoError(b.t, err)
	in, err := book.AcceptAll(map[string]any{"queue": "north"})
	require.NoError(b.t, err)
	_, err = b.e.BeginNow(ctx, engine.Start{Book: book, Inputs: in, StartedBy: by, Person: person})
	require.NoError(b.t, err)
}

// A person and that person's tokens are one: neither approves what the other asked for, and both are not two.
func TestAPersonAndTheirTokenAreOne(t *testing.T) {
	b := set(t, source(t))
	b.begin("night-job", "mara")
	g := eventually[store.Gate](b, "select * from gate where state = 'open'")
	word := engine.Word{Approve: true, Comment: "yes", Digest: digestOf(t, g)}
	for _, c := range []struct{ by, person string }{{"mara", ""}, {"night-job", "mara"}, {"other-job", "mara"}} {
		w := word
		w.By, w.Person = c.by, c.person
		assert.ErrorIs(t, b.word(g.ID, w), leave.ErrOwnRequest, c.by)
	}
	word.By = "jonas"
	require.NoError(t, b.word(g.ID, word))
	assert.Equal(t, flow.Done, b.ended().State)
}

// Who pushed the revision is not the only one who approves its changes, by token neither.
func TestTheAuthorIsNotTheOnlyApprover(t *testing.T) {
	b := set(t, source(t)) // pushed by iva
	b.alert()
	g := eventually[store.Gate](b, "select * from gate where state = 'open'")
	word := engine.Word{Approve: true, Comment: "yes", Digest: digestOf(t, g), By: "iva"}
	assert.ErrorIs(t, b.word(g.ID, word), leave.ErrOnlyAuthor)
	word.By, word.Person = "job", "iva"
	assert.ErrorIs(t, b.word(g.ID, word), leave.ErrOnlyAuthor)
	word.By, word.Person, word.Approve = "iva", "", false
	require.NoError(t, b.word(g.ID, word), "refusing is everybody's")
}
