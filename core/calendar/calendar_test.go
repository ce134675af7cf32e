package calendar

import (
	"fmt"
	"testing"
	"time"
	_ "time/tzdata"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func zone(t require.TestingT, name string) *time.Location {
	z, err := time.LoadLocation(name)
	require.NoError(t, err)
	return z
}

// reference walks through every minute that passes, and keeps in mind what the clock on the wall has shown: obvious,
// and slow.
func reference(
	minutes, hours map[int]bool,
	day func(time.Time) bool,
	z *time.Location,
	from, to time.Time,
) []time.Time {
	var out []time.Time
	every := len(hours) == 24
	shown := map[string]bool{}
	last := from.In(z).Add(-time.Minute)
	for t := from.In(z); t.Before(to); t = t.Add(time.Minute) {
		due := hours[t.Hour()] && minutes[t.Minute()] && day(t)
		if !every {
			// What the clock skipped on its way from the minute before.
			wall := func(t time.Time) time.Time {
				return time.Date(t.Year(), t.Month(), t.Day(), t.Hour(), t.Minute(), 0, 0, time.UTC)
			}
			for w := wall(last).Add(time.Minute); w.Before(wall(t)); w = w.Add(time.Minute) {
				due = due || hours[w.Hour()] && minutes[w.Minute()] && day(w)
			}
			key := t.Format("2006-01-02 15:04")
			due = due && !shown[key]
			shown[key] = true
			if len(shown) > 5000 {
				shown = map[string]bool{key: true}
			}
		}
		if due {
			out = append(out, t)
		}
		last = t
	}
	return out
}

var zones = []string{
	"Europe/Lisbon",
	"America/New_York",
	"Australia/Lord_Howe",
	"America/Sao_Paulo",
	"Asia/Kolkata",
	"UTC",
	"Africa/Casablanca",
	"Pacific/Apia",
}

// A schedule is due when the reference says: over ten years, and both changes of the clock of each.
func TestScheduleAgainstASlowReference(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		z := zone(t, rapid.SampledFrom(zones).Draw(t, "zone"))
		from := time.Date(
			rapid.IntRange(2015, 2024).Draw(t, "year"),
			time.Month(rapid.IntRange(1, 12).Draw(t, "month")),
			rapid.IntRange(1, 28).Draw(t, "day"),
			0,
			0,
			0,
			0,
			time.UTC,
		)
		to := from.AddDate(0, 1, 0)
		pick := func(name string, of int) (string, map[int]bool) {
			switch rapid.IntRange(0, 2).Draw(t, name) {
			case 0:
				all := map[int]bool{}
				for i := range of {
					all[i] = true
				}
				return "*", all
			case 1:
				n := rapid.IntRange(0, of-1).Draw(t, name)
				return fmt.Sprint(n), map[int]bool{n: true}
			}
			a, b := rapid.IntRange(0, of/2).Draw(t, name), rapid.IntRange(of/2, of-1).Draw(t, name)
			return fmt.Sprintf("%d,%d", a, b), map[int]bool{a: true, b: true}
		}
		minute, minutes := pick("minute", 60)
		hour, hours := pick("hour", 24)
		weekday, on := "*", func(time.Time) bool { return true }
		if rapid.Bool().Draw(t, "weekly") {
			d := rapid.IntRange(0, 6).Draw(t, "weekday")
			weekday, on = fmt.Sprint(d), func(t time.Time) bool { return t.Weekday() == time.Weekday(d) }
		}
		s, err := ParseSchedule(fmt.Sprintf("%s %s * * %s", minute, hour, weekday), z)
		require.NoError(t, err)
		want := reference(minutes, hours, on, z, from, to)
		at := from.Add(-time.Nanosecond)
		for _, w := range want {
			at = s.Next(at)
			require.Equal(t, w.UTC(), at.UTC(), "%s in %s", s.Text, z)
		}
		require.False(t, s.Next(at).Before(to), "it is due once more: %s", s.Next(at))
	})
}

func TestScheduleAtBothChangesOfTheClock(t *testing.T) {
	z := zone(t, "Europe/Lisbon")
	next := func(text, after string) string {
		s, err := ParseSchedule(text, z)
		require.NoError(t, err)
		at, err := time.ParseInLocation("2006-01-02 15:04", after, z)
		require.NoError(t, err)
		return s.Next(at).UTC().Format("2006-01-02 15:04")
	}
	// On 29 March 2026 the clock goes from 00:59 to 02:00 (summer time begins at 01:00 UTC).
	assert.Equal(t, "2026-03-29 01:00", next("30 1 * * *", "2026-03-28 12:00"), "the hour is not there: right after it")
	assert.Equal(t, "2026-03-30 00:30", next("30 1 * * *", "2026-03-29 12:00"))
	assert.Equal(t, "2026-03-29 01:10", next("*/10 * * * *", "2026-03-29 02:00"))
	// On 25 October 2026 the hour from 01:00 comes twice.
	assert.Equal(t, "2026-10-25 00:30", next("30 1 * * *", "2026-10-24 12:00"), "the first time")
	assert.Equal(t, "2026-10-26 01:30", next("30 1 * * *", "2026-10-25 12:00"), "and not the second")
	s, err := ParseSchedule("30 * * * *", z)
	require.NoError(t, err)
	at := time.Date(2026, 10, 25, 0, 30, 0, 0, time.UTC)
	assert.Equal(t, at.Add(time.Hour), s.Next(at).UTC(), "each hour that passes")
}

func TestSchedulesThatAreNone(t *testing.T) {
	for text, want := range map[string]string{
		"":                      "five fields",
		"* * * *":               "five fields",
		"@daily":                "five fields",
		"TZ=UTC 1 2 * * *":      "the key zone says the zone",
		"61 2 * * *":            "above maximum",
		"0 0 30 2 *":            "there is no such day",
		"0 0 * * * * *":         "five fields",
		"a b c d e":             "five fields",
		fmt.Sprintf("%300d", 1): "200 bytes",
	} {
		_, err := ParseSchedule(text, time.UTC)
		assert.ErrorContains(t, err, want, text)
	}
	s, err := ParseSchedule("0 12 29 2 1", time.UTC)
	require.NoError(t, err)
	assert.Equal(t, time.Monday, s.Next(time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC)).Weekday(), "either day is enough")
}

func FuzzSchedule(f *testing.F) {
	f.Add("30 2 * * *")
	f.Add("*/7 1-5,9 1,15 */2 mon-fri")
	z := zone(f, "Europe/Lisbon")
	f.Fuzz(func(t *testing.T, text string) {
		s, err := ParseSchedule(text, z)
		if err != nil {
			return
		}
		at := time.Date(2026, 3, 28, 12, 0, 0, 0, z)
		for range 5 {
			next := s.Next(at)
			require.True(t, next.After(at))
			require.Zero(t, next.Second())
			at = next
		}
	})
}

func TestHours(t *testing.T) {
	c := &Calendar{Zone: zone(t, "Europe/Lisbon"), Days: map[string][]Hours{"2026-12-25": nil}}
	for _, text := range []string{"mon-fri 07:00-19:00", "sat 22:00-06:00"} {
		h, err := ParseWeekly(text)
		require.NoError(t, err)
		c.Weekly = append(c.Weekly, h)
	}
	short, err := ParseHours("08:00-12:00")
	require.NoError(t, err)
	c.Days["2026-12-24"] = []Hours{short}
	for at, want := range map[string]bool{
		"2026-11-27 06:59": false, "2026-11-27 07:00": true, "2026-11-27 18:59": true, "2026-11-27 19:00": false,
		"2026-11-28 12:00": false, "2026-11-28 22:00": true, "2026-11-29 05:59": true, "2026-11-29 06:00": false,
		"2026-12-25 10:00": false, "2026-12-24 10:00": true, "2026-12-24 13:00": false,
		// Both changes of the clock fall into a night that is staffed.
		"2026-03-29 00:59": true, "2026-03-29 05:59": true, "2026-10-25 05:59": true, "2026-10-25 06:00": false,
	} {
		t1, err := time.ParseInLocation("2006-01-02 15:04", at, c.Zone)
		require.NoError(t, err)
		assert.Equal(t, want, c.Inside(t1), at)
	}
	for text, want := range map[string]string{
		"mon 7-8": "not like", "mon-fry 07:00-08:00": "is no day", "mon 07:00-24:01": "no such time",
		"mon 07:60-08:00": "no such time", "mon 07:00-07:00": "no time at all", "x": "not like",
	} {
		_, err := ParseWeekly(text)
		assert.ErrorContains(t, err, want, text)
	}
}

// A week has as many staffed minutes as its hours say, whatever the zone, but for what the clock skips or shows twice.
func TestHoursThroughAWeek(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		z := zone(t, rapid.SampledFrom(zones).Draw(t, "zone"))
		h := Hours{Days: [7]bool{1: true, 2: true, 3: true, 4: true, 5: true},
			From: rapid.IntRange(0, 1439).Draw(t, "from"), To: rapid.IntRange(0, 1440).Draw(t, "to")}
		if h.From == h.To {
			return
		}
		c := &Calendar{Zone: z, Weekly: []Hours{h}}
		long := h.To - h.From
		if long <= 0 {
			long += Midnight
		}
		from := time.Date(2026, 6, 1, 0, 0, 0, 0, z) // no clock is changed in that week
		n := 0
		for m := range 7 * 24 * 60 {
			if c.Inside(from.Add(time.Duration(m) * time.Minute)) {
				n++
			}
		}
		require.Equal(t, 5*long, n)
	})
}
