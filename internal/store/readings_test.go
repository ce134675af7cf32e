package store_test

import (
	"context"
	"math/rand/v2"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/access"
	"urgentis/internal/store"
	"urgentis/internal/testdb"
)

func keepReadings(t *testing.T, s *store.Store, rows ...store.Reading) {
	require.NoError(t, s.Tx(context.Background(), func(tx *store.Tx) error {
		b := store.NewBulk(tx)
		if err := store.Add(b, rows); err != nil {
			return err
		}
		return b.Write()
	}))
}

// Two who begin the same series at once get the same number, also in another order, and a unit that changes is kept.
func TestASeriesHasOneNumber(t *testing.T) {
	s := testdb.Open(t)
	ctx := context.Background()
	list := []store.Series{{Service: "a", Target: "x", Name: "depth", Unit: "m"}, {Service: "a", Name: "load"},
		{Service: "b", Target: "x", Name: "depth"}}
	var got [8]map[store.SeriesKey]int64
	var wg sync.WaitGroup
	for i := range got {
		wg.Go(func() {
			l := slices.Clone(list)
			if i%2 == 1 {
				slices.Reverse(l)
			}
			var err error
			got[i], err = s.IdentifySeries(ctx, append(l, l[0]))
			assert.NoError(t, err)
		})
	}
	wg.Wait()
	for _, g := range got {
		assert.Equal(t, got[0], g)
	}
	assert.Len(t, got[0], 3)
	list[0].Unit = "cm"
	again, err := s.IdentifySeries(ctx, list[:1])
	require.NoError(t, err)
	assert.Equal(t, got[0][list[0].Key()], again[list[0].Key()])
	v := 1.5
	keepReadings(t, s, store.Reading{Series: again[list[0].Key()], At: time.Now(), Value: &v})
	now, err := s.In(ctx).ListSeries(access.Scope{All: true}, "a", "")
	require.NoError(t, err)
	require.Len(t, now, 1, "of what was never read nothing is listed")
	assert.Equal(t, "cm", now[0].Unit)
	assert.InDelta(t, 1.5, *now[0].Value, 0)
	none, err := s.In(ctx).ListSeries(access.Scope{Services: []string{"b"}}, "", "")
	require.NoError(t, err)
	assert.Empty(t, none, "who sees only b sees nothing of a")
}

// Readings are put together as they become old, and whatever is asked of them afterwards has the bounds that a slow
// reference finds among all that were taken.
func TestReadingsAreThinnedAndKeepTheirBounds(t *testing.T) {
	s := testdb.Open(t)
	ctx := context.Background()
	ids, err := s.IdentifySeries(ctx, []store.Series{{Service: "a", Name: "depth"}, {Service: "a", Name: "state"}})
	require.NoError(t, err)
	depth, state := ids[store.SeriesKey{Service: "a", Name: "depth"}], ids[store.SeriesKey{Service: "a", Name: "state"}]
	now := time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC)
	seed := uint64(time.Now().UnixNano())
	r := rand.New(rand.NewPCG(seed, 1)) //nolint:gosec // it is a test
	t.Log("seed", seed)
	var all []store.Reading
	for _, age := range []time.Duration{4 * 365 * 24 * time.Hour, 500 * 24 * time.Hour, 30 * 24 * time.Hour,
		3 * 24 * time.Hour, time.Hour} {
		for i := range 400 {
			v := r.NormFloat64() * 100
			all = append(
				all,
				store.Reading{Series: depth, At: now.Add(-age + time.Duration(i)*10*time.Second), Value: &v},
			)
		}
	}
	keepReadings(t, s, all...)
	well := "well"
	keepReadings(t, s, store.Reading{Series: state, At: now.Add(-48 * time.Hour), Said: &well})
	for n := 0; ; n++ {
		more, err := s.ThinReadings(ctx, now)
		require.NoError(t, err)
		if require.Less(t, n, 400); !more {
			break
		}
	}
	more, err := s.ThinReadings(ctx, now)
	require.NoError(t, err)
	assert.False(t, more)

	var spans []struct{ Span, N int }
	require.NoError(
		t,
		testdb.SQL(s).Raw("select span, count(*) as n from reading where series = ? group by 1 order by 1",
			depth).Scan(&spans).Error,
	)
	require.Len(t, spans, 4)
	assert.Equal(t, 400, spans[0].N, "what is young is as it was taken")
	assert.LessOrEqual(t, spans[1].N, 68, "minutes of 400 readings, 10 s apart")
	assert.LessOrEqual(t, spans[2].N, 3, "hours")
	assert.LessOrEqual(t, spans[3].N, 2, "days; what is older than three years is gone")

	for _, age := range []time.Duration{500 * 24 * time.Hour, 30 * 24 * time.Hour, 3 * 24 * time.Hour, time.Hour} {
		from := now.Add(-age).Truncate(24 * time.Hour)
		points, err := s.In(ctx).Points([]int64{depth}, from, from.Add(48*time.Hour), 48*time.Hour)
		require.NoError(t, err)
		require.Len(t, points, 1)
		var low, high, last float64
		first := true
		for _, x := range all {
			if x.At.Before(from) || !x.At.Before(from.Add(48*time.Hour)) {
				continue
			}
			if first {
				low, high, first = *x.Value, *x.Value, false
			}
			low, high, last = min(low, *x.Value), max(high, *x.Value), *x.Value
		}
		assert.InDelta(t, low, *points[0].Low, 1e-9)
		assert.InDelta(t, high, *points[0].High, 1e-9)
		assert.InDelta(t, last, *points[0].Value, 1e-9)
	}
	points, err := s.In(ctx).Points([]int64{state}, now.Add(-72*time.Hour), now, time.Hour)
	require.NoError(t, err)
	require.Len(t, points, 1)
	assert.Equal(t, "well", *points[0].Said)
	assert.Nil(t, points[0].Value)
}
