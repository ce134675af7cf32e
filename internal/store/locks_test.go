package store_test

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/internal/store"
	"urgentis/internal/testdb"
)

// take asks for locks, and enters the queue where they cannot be had. It returns nil where they are taken.
func take(t *testing.T, s *store.Store, run string, keys ...string) *store.HeldError {
	var held *store.HeldError
	err := s.Tx(ctx, func(tx *store.Tx) error { return tx.TakeLocks(run, keys) })
	if err == nil {
		return nil
	}
	require.ErrorAs(t, err, &held)
	require.NoError(t, s.Tx(ctx, func(tx *store.Tx) error {
		_, err := tx.Await(run, held)
		return err
	}))
	return held
}

func release(t *testing.T, s *store.Store, run string) {
	require.NoError(t, s.Tx(ctx, func(tx *store.Tx) error { return tx.ReleaseLocks(run) }))
}

func TestLocksAreTakenAllOrNone(t *testing.T) {
	s := testdb.Open(t)
	for _, r := range []string{"r1", "r2", "r3"} {
		run(t, s, r)
	}
	require.Nil(t, take(t, s, "r1", "b"))
	held := take(t, s, "r2", "a", "b", "c")
	require.NotNil(t, held)
	assert.Equal(t, store.HeldError{Key: "b", Holder: "r1"}, *held)
	var holds []string
	require.NoError(t, testdb.SQL(s).Raw("select key from hold where run = 'r2'").Scan(&holds).Error)
	assert.Empty(t, holds)
	waiting, err := s.Waiting(ctx, "r1")
	require.NoError(t, err)
	assert.Equal(t, []string{"r2"}, waiting)
	assert.Nil(t, take(t, s, "r3", "a"), "what somebody else will want as well is free until then")
	release(t, s, "r3")
	release(t, s, "r1")
	assert.Nil(t, take(t, s, "r2", "a", "b", "c"))
	var left int64
	require.NoError(t, testdb.SQL(s).Raw("select count(*) from awaiting").Scan(&left).Error)
	assert.Zero(t, left, "who has taken what it wanted waits no more")
}

// Two runs that hold nothing and wait in two queues in different order must not let each other go first for ever.
func TestQueuesAreInOneOrder(t *testing.T) {
	s := testdb.Open(t)
	for _, r := range []string{"h1", "h2", "a", "c"} {
		run(t, s, r)
	}
	require.Nil(t, take(t, s, "h1", "x"))
	require.Equal(t, "h1", take(t, s, "a", "w", "x").Holder)
	require.Nil(t, take(t, s, "h2", "w"), "a waits for x only")
	require.Equal(t, "h2", take(t, s, "c", "w", "x").Holder)
	release(t, s, "h1")
	require.Equal(t, "h2", take(t, s, "a", "w", "x").Holder)
	release(t, s, "h2")
	assert.Equal(t, "a", take(t, s, "c", "w", "x").Holder, "a began to wait before it")
	assert.Nil(t, take(t, s, "a", "w", "x"))
	release(t, s, "a")
	assert.Nil(t, take(t, s, "c", "w", "x"))
}

func TestACircleOfHoldersIsFound(t *testing.T) {
	s := testdb.Open(t)
	for _, r := range []string{"r1", "r2", "r3"} {
		run(t, s, r)
	}
	require.Nil(t, take(t, s, "r1", "a"))
	require.Nil(t, take(t, s, "r2", "b"))
	require.Nil(t, take(t, s, "r3", "c"))
	assert.False(t, take(t, s, "r1", "b").Circle)
	assert.False(t, take(t, s, "r2", "c").Circle)
	assert.True(t, take(t, s, "r3", "a").Circle, "r3 waits for r1, which waits for r2, which waits for r3")
}

// Many runs, each wanting some keys and then, while it holds them, some more: whatever the order in which they ask,
// all come to their end, as long as a circle of holders is broken by one of them.
func TestEverybodyComesToAnEnd(t *testing.T) {
	s := testdb.Open(t)
	const runs, keys = 14, 6
	r := rand.New(rand.NewPCG(7, 11)) //nolint:gosec // it is a test
	wants := map[string][][]string{}
	var left []string
	for i := range runs {
		id := fmt.Sprintf("r%02d", i)
		run(t, s, id)
		left = append(left, id)
		for range 1 + r.IntN(2) {
			var some []string
			for _, k := range r.Perm(keys)[:1+r.IntN(3)] {
				some = append(some, fmt.Sprint("k", k))
			}
			wants[id] = append(wants[id], some)
		}
	}
	for round := 0; len(left) > 0; round++ {
		require.Less(t, round, 40*runs, "%d runs wait for one another for ever", len(left))
		i := r.IntN(len(left))
		id := left[i]
		held := take(t, s, id, wants[id][0]...)
		if held == nil {
			wants[id] = wants[id][1:]
		}
		if len(wants[id]) == 0 || held != nil && held.Circle {
			release(t, s, id)
			left = append(left[:i], left[i+1:]...)
		}
		var twice int64
		require.NoError(
			t,
			testdb.SQL(s).
				Raw("select count(*) from (select key from hold group by key having count(*) > 1) x").
				Scan(&twice).
				Error,
		)
		require.Zero(t, twice, "no key has two holders")
	}
}

func rung(t *testing.T, s *store.Store, run string) bool {
	var yes bool
	require.NoError(t, testdb.SQL(s).Raw("select rung_at is not null from run where id = ?", run).Scan(&yes).Error)
	return yes
}

// Who finds a lock held and waits for it must not miss its release in between, in whichever order the two commit.
func TestNoWakeUpIsLostBetweenAwaitAndRelease(t *testing.T) {
	for _, releaseFirst := range []bool{true, false} {
		s := testdb.Open(t)
		run(t, s, "r1")
		run(t, s, "r2")
		require.Nil(t, take(t, s, "r1", "k"))
		require.NoError(t, testdb.SQL(s).Exec("update run set owner = null, rung_at = null").Error)
		held := &store.HeldError{Key: "k", Holder: "r1"}
		waits := true
		first := func(tx *store.Tx) (err error) { waits, err = tx.Await("r2", held); return err }
		second := func(tx *store.Tx) error { return tx.ReleaseLocks("r1") }
		if releaseFirst {
			first, second = second, first
		}
		begun, done := make(chan struct{}), make(chan error, 1)
		require.NoError(t, s.Tx(ctx, func(tx *store.Tx) error {
			if err := first(tx); err != nil {
				return err
			}
			go func() {
				done <- s.Tx(ctx, func(tx *store.Tx) error { close(begun); return second(tx) })
			}()
			<-begun
			// The other one is at it, and waits for this transaction.
			select {
			case err := <-done:
				return fmt.Errorf("it did not wait: %w", err)
			case <-time.After(300 * time.Millisecond):
				return nil
			}
		}))
		require.NoError(t, <-done)
		assert.True(t, !waits || rung(t, s, "r2"), "release first: %t", releaseFirst)
	}
}

// Who gives up waiting wakes those who let it go first.
func TestWhoLeavesTheQueueWakesTheNext(t *testing.T) {
	s := testdb.Open(t)
	for _, r := range []string{"r1", "r2", "r3"} {
		run(t, s, r)
	}
	require.Nil(t, take(t, s, "r1", "k"))
	require.NotNil(t, take(t, s, "r2", "k"))
	require.NotNil(t, take(t, s, "r3", "k"))
	release(t, s, "r1")
	require.NoError(t, testdb.SQL(s).Exec("update run set owner = null, rung_at = null").Error)
	require.NoError(t, s.Tx(ctx, func(tx *store.Tx) error { return tx.QuitQueue("r2") }))
	assert.True(t, rung(t, s, "r3"))
	assert.Nil(t, take(t, s, "r3", "k"))
}
