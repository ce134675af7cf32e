package stories_test

import (
	"context"
	"errors"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/incident"
	"urgentis/core/story"
	"urgentis/internal/store"
	"urgentis/internal/stories"
	"urgentis/internal/testdb"
)

var ctx = context.Background()

// write opens an incident, or adds notes to it.
func write(tx *store.Tx, number *int64, texts ...string) error {
	w := store.NewRecordWriter(tx)
	i := &store.Incident{Title: "Deep", State: "open", WaitingOn: "nobody", Severity: "minor", OpenedAt: time.Now()}
	var err error
	if *number == 0 {
		if err = w.Open(i); err == nil {
			*number = i.Number
		}
	} else {
		i, err = w.Incident(*number)
	}
	if err != nil {
		return err
	}
	for _, text := range texts {
		if err := w.Write(i, store.NewEntry{At: time.Now(), Kind: incident.Note, Actor: "mara", Title: "Note",
			Content: incident.NoteContent{Text: text}}); err != nil {
			return err
		}
	}
	return w.Flush()
}

// A story grows with its record. What a transaction wrote that was rolled back is not in it, and a record that was put
// back to an older state is read anew.
func TestAStoryFollowsItsRecord(t *testing.T) {
	s, kept := testdb.Open(t), stories.New()
	var n int64
	add := func(texts ...string) {
		require.NoError(t, s.Tx(ctx, func(tx *store.Tx) error { return write(tx, &n, texts...) }))
	}
	read := func(tx *store.Tx) (out []string) {
		require.NoError(t, kept.Read(tx, n, func(f *story.Folder) {
			for _, r := range f.Rows(0) {
				out = append(out, r.Says.String())
			}
		}))
		return out
	}
	add("a", "b")
	assert.Equal(t, []string{"a", "b"}, read(s.In(ctx)))
	add("c")
	assert.Equal(t, []string{"a", "b", "c"}, read(s.In(ctx)))

	gone := errors.New("gone")
	require.ErrorIs(t, s.Tx(ctx, func(tx *store.Tx) error {
		require.NoError(t, write(tx, &n, "never"))
		assert.Equal(t, []string{"a", "b", "c", "never"}, read(tx))
		return gone
	}), gone)
	add("d")
	assert.Equal(t, []string{"a", "b", "c", "d"}, read(s.In(ctx)))

	require.NoError(t, testdb.SQL(s).Exec("delete from entry where incident = ? and seq > 1", n).Error)
	assert.Equal(t, []string{"a"}, read(s.In(ctx)), "the database was put back")
}

func TestManyStories(t *testing.T) {
	s, kept := testdb.Open(t), stories.New()
	for i := range 70 {
		var n int64
		require.NoError(t, s.Tx(ctx, func(tx *store.Tx) error { return write(tx, &n, fmt.Sprint(i)) }))
		require.NoError(t, kept.Read(s.In(ctx), n, func(f *story.Folder) {
			require.Equal(t, fmt.Sprint(i), f.Rows(0)[0].Says.String())
		}))
	}
}
