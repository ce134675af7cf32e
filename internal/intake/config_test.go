package intake

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/alert"
	"urgentis/core/flow"
	"urgentis/internal/store"
	"urgentis/internal/testdb"
)

// begunBy gives how the run of an incident was begun.
func begunBy(t *testing.T, s *store.Store, incident int64) flow.Begun {
	var run string
	require.NoError(t, testdb.SQL(s).Raw("select id from run where incident = ?", incident).Scan(&run).Error)
	log, err := s.Log(context.Background(), run, 0)
	require.NoError(t, err)
	require.NotEmpty(t, log)
	return log[0].Body.(flow.Begun)
}

// What intake keeps read holds only until somebody changes it.
func TestWhatIsKeptReadFollowsEveryChange(t *testing.T) {
	in, s := open(t)
	ctx := context.Background()
	first, _, err := s.PushRunbook(ctx, book, "iva")
	require.NoError(t, err)
	take := func(key string) flow.Begun {
		got, err := in.Take(ctx, "mon", report(key, alert.Major))
		require.NoError(t, err)
		return begunBy(t, s, got.Incident)
	}
	notices := func() (n int) {
		require.NoError(t, testdb.SQL(s).Raw("select count(*) from notice").Scan(&n).Error)
		return n
	}
	b := take("1")
	assert.Equal(t, first.Revision, b.Revision)
	assert.Empty(t, b.Estate)
	assert.Equal(t, "o", b.Service["owner"])
	assert.Zero(t, notices())

	require.NoError(
		t,
		testdb.SQL(s).
			Create(&store.Target{Name: "h1", Service: "s", Address: "127.0.0.9", Port: 22,
				Labels: store.Labels{"role": "x"}}).
			Error,
	)
	assert.Len(t, take("2").Estate, 1)
	require.NoError(t, testdb.SQL(s).Exec("update target set labels = '{\"role\": \"y\"}'").Error)
	assert.Equal(t, "y", take("3").Estate[0].Labels["role"])
	require.NoError(t, testdb.SQL(s).Exec("delete from target").Error)
	assert.Empty(t, take("4").Estate)
	require.NoError(t, testdb.SQL(s).Create(&store.Service{Name: "s", Owner: "harbour", Stance: "ask"}).Error)
	assert.Equal(t, "harbour", take("5").Service["owner"])
	require.NoError(t, testdb.Room(s, "room", "http://127.0.0.9/"))
	take("6")
	assert.NotZero(t, notices())
	second, _, err := s.PushRunbook(ctx, book+"about: Another text.\n", "iva")
	require.NoError(t, err)
	assert.Equal(t, second.Revision, take("7").Revision)
	assert.NotEqual(t, first.Revision, second.Revision)
}

// A database that breaks off while the triggers are read must not leave an instance without triggers.
func TestTriggersThatCouldNotBeReadAreNotKept(t *testing.T) {
	in, s := open(t)
	ctx := context.Background()
	_, _, err := s.PushRunbook(ctx, book, "iva")
	require.NoError(t, err)
	gone, cancel := context.WithCancel(ctx)
	cancel()
	require.NoError(t, s.Tx(ctx, func(tx *store.Tx) error {
		_, err := in.triggers.load(tx.With(gone), in.engine, 99)
		assert.ErrorIs(t, err, context.Canceled)
		l, err := in.triggers.load(tx, in.engine, 99)
		require.NoError(t, err)
		assert.Len(t, l.books, 1)
		return nil
	}))
}
