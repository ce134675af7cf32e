package intake

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/alert"
	"urgentis/internal/testdb"
)

// A source writes since when its condition is there, not when it reports it: each report has the same time. Such an
// alert is neither over while it is reported, nor is its incident closed the moment it clears.
func TestASendersClockDecidesNothing(t *testing.T) {
	for name, clock := range map[string]time.Duration{"an hour behind": -time.Hour, "years behind": -3e5 * time.Hour} {
		in, s := open(t)
		ctx := context.Background()
		since := time.Now().Add(clock)
		report := func(severity alert.Severity) Taken {
			r := of("quay", "a", severity)
			r.At = alert.SaidAt(since)
			taken, err := in.Take(ctx, "mon", r)
			require.NoError(t, err)
			return taken
		}
		in.since = in.since.Add(-time.Hour)
		first := report(alert.Minor)
		for range 3 {
			require.NoError(t, in.endQuiet(ctx, map[string]expectation{"mon": {over: 10 * time.Minute}}))
			assert.Equal(t, alert.Repeat, report(alert.Minor).Change, name)
		}
		a, err := s.In(ctx).Alert(first.Alert)
		require.NoError(t, err)
		assert.Equal(t, "open", a.State)
		assert.WithinDuration(t, time.Now(), a.LastAt.Time, time.Minute)
		assert.WithinDuration(t, since, a.LastSaid.Time, time.Second)

		report(alert.Cleared)
		require.NoError(t, in.closeQuiet(ctx))
		i, err := s.In(ctx).Incident(first.Incident)
		require.NoError(t, err)
		assert.Equal(t, "open", i.State, "%s: it is over for a moment only", name)
		require.NoError(t, testdb.SQL(s).Exec("update alert set cleared_at = now() - interval '11 minutes'").Error)
		require.NoError(t, in.closeQuiet(ctx))
		i, err = s.In(ctx).Incident(first.Incident)
		require.NoError(t, err)
		assert.Equal(t, "closed", i.State)
	}
}
