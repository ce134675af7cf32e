package calendar

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// The next turn is where being inside changes first, minute by minute, whatever the clock on the wall does.
func TestTheNextTurn(t *testing.T) {
	zones := []string{"UTC", "Europe/Lisbon", "Australia/Lord_Howe", "America/St_Johns"}
	weeks := [][]string{
		{"mon-fri 06:00-22:00", "sat-sun 07:00-20:00"}, {"daily 22:00-06:00"}, {"sun 01:30-02:15"},
		{"mon 00:00-24:00", "tue 00:00-12:00"}, {"daily 00:00-24:00"}, {},
	}
	round := 0
	rapid.Check(t, func(t *rapid.T) {
		if round++; round > 30 {
			return // each looks at some ten thousand minutes
		}
		zone, err := time.LoadLocation(rapid.SampledFrom(zones).Draw(t, "zone"))
		require.NoError(t, err)
		c := &Calendar{Zone: zone, Days: map[string][]Hours{"2031-04-02": nil}}
		for _, w := range rapid.SampledFrom(weeks).Draw(t, "week") {
			h, err := ParseWeekly(w)
			require.NoError(t, err)
			c.Weekly = append(c.Weekly, h)
		}
		at := time.Date(2031, 3, 28, 0, rapid.IntRange(0, 7*24*60).Draw(t, "minute"), 17, 0, time.UTC)
		got := c.Turn(at)
		minute := at.Truncate(time.Minute)
		for m := range 9 * 24 * 60 {
			if x := minute.Add(time.Duration(m+1) * time.Minute); c.Inside(x) != c.Inside(at) {
				assert.True(t, x.Equal(got), "%v: %v, not %v", at, x, got)
				return
			}
		}
		assert.True(t, got.IsZero() || got.After(minute.AddDate(0, 0, 9)), got)
	})
}
