package calendar

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func turn(
	t require.TestingT,
	zone *time.Location,
	from, every string,
	days int,
	span time.Duration,
	people ...string,
) Turn {
	r, err := ParseTurn(zone, from, every)
	require.NoError(t, err)
	return Turn{Rule: r, Days: days, Time: span, People: people}
}

func zoneOf(t require.TestingT, name string) *time.Location {
	z, err := time.LoadLocation(name)
	require.NoError(t, err)
	return z
}

func TestWhoIsOnCall(t *testing.T) {
	zone := zoneOf(t, "Europe/Lisbon")
	r := &Rota{Zone: zone, Lines: [][]Turn{
		{turn(t, zone, "2026-01-05 09:00", "FREQ=WEEKLY;BYDAY=MO", 0, 0, "mara", "jonas", "iva")},
		{turn(t, zone, "2026-01-05 18:00", "FREQ=DAILY;BYDAY=MO,TU,WE,TH,FR", 0, 14*time.Hour, "iva")},
	}}
	at := func(text string) time.Time {
		x, err := time.ParseInLocation("2006-01-02 15:04", text, zone)
		require.NoError(t, err)
		return x
	}
	for when, who := range map[string]string{
		"2026-01-05 08:59": "", "2026-01-05 09:00": "mara", "2026-01-12 08:59": "mara", "2026-01-12 09:00": "jonas",
		"2026-01-26 09:00": "mara", "2026-03-30 08:59": "iva", "2026-03-30 09:00": "mara", // the clock has changed
	} {
		d, ok := r.OnCall(0, at(when), nil)
		assert.Equal(t, who, d.Person, when)
		assert.Equal(t, who != "", ok, when)
	}
	d, ok := r.OnCall(1, at("2026-01-09 23:00"), nil)
	require.True(t, ok)
	assert.Equal(t, Duty{Person: "iva", From: at("2026-01-09 18:00"), Until: at("2026-01-10 08:00")}, d)
	_, ok = r.OnCall(1, at("2026-01-10 23:00"), nil)
	assert.False(t, ok, "a Saturday")
	_, ok = r.OnCall(2, at("2026-01-10 23:00"), nil)
	assert.False(t, ok, "there is no third line")

	holes := r.Holes(1, at("2026-01-05 00:00"), at("2026-01-06 12:00"), nil)
	assert.Equal(t, []Duty{{From: at("2026-01-05 00:00"), Until: at("2026-01-05 18:00")},
		{From: at("2026-01-06 08:00"), Until: at("2026-01-06 12:00")}}, holes)

	in := []StandIn{{From: at("2026-01-06 20:00"), Until: at("2026-01-07 06:00"), Person: "edda", For: "mara"}}
	d, _ = r.OnCall(0, at("2026-01-06 21:00"), in)
	assert.Equal(
		t,
		Duty{Person: "edda", From: at("2026-01-06 20:00"), Until: at("2026-01-07 06:00"), Instead: "mara"},
		d,
	)
	d, _ = r.OnCall(0, at("2026-01-06 19:00"), in)
	assert.Equal(t, Duty{Person: "mara", From: at("2026-01-05 09:00"), Until: at("2026-01-06 20:00")}, d)
	assert.Equal(t, []Twice{{"iva", 0, 1, at("2026-01-19 18:00"), at("2026-01-20 08:00")}},
		r.Twice(at("2026-01-17 00:00"), at("2026-01-20 12:00"), nil), "her own week")
	assert.Empty(t, r.Twice(at("2026-01-05 00:00"), at("2026-01-09 00:00"), in))
	iva := StandIn{From: at("2026-01-06 20:00"), Until: at("2026-01-07 06:00"), Person: "iva"}
	assert.Equal(t, []Twice{{"iva", 0, 1, at("2026-01-06 20:00"), at("2026-01-07 06:00")}},
		r.Twice(at("2026-01-05 00:00"), at("2026-01-09 00:00"), append(in, iva)), "who stands in")
	in = append(in, StandIn{From: at("2026-01-06 00:00"), Until: at("2026-01-08 00:00"), Person: "noor", For: "jonas"})
	d, _ = r.OnCall(0, at("2026-01-06 21:00"), in)
	assert.Equal(t, "edda", d.Person, "noor stands in for somebody else")
}

// A year of a long rota is told in the time of one walk through what was before it.
func BenchmarkAYearOfDuties(b *testing.B) {
	zone := zoneOf(b, "Europe/Lisbon")
	r := &Rota{Zone: zone, Lines: [][]Turn{{
		turn(b, zone, "2010-01-04 09:00", "FREQ=DAILY", 0, 12*time.Hour, "a", "b"),
		turn(b, zone, "2010-01-04 21:00", "FREQ=DAILY", 0, 12*time.Hour, "b", "a"),
	}}}
	at := time.Date(2026, 11, 1, 0, 0, 0, 0, zone)
	for range b.N {
		r.Foresee(at, at.AddDate(2, 0, 0))
		for x := at; x.Before(at.AddDate(0, 0, 400)); x = x.Add(12 * time.Hour) {
			r.OnCall(0, x, nil)
		}
	}
}

func TestTurnsThatCannotBe(t *testing.T) {
	for from, every := range map[string]string{
		"2026-01-05":       "FREQ=WEEKLY",
		"2026-01-05 09:00": "weekly",
		"2026-01-05 09:01": "FREQ=HOURLY",
		"2026-01-05 09:02": "FREQ=DAILY;BYHOUR=3",
		"2026-01-05 09:03": "DTSTART:20260105T090000Z\nRRULE:FREQ=DAILY",
		"2026-01-05 09:04": "FREQ=WEEKLY;BYDAY=XX",
		"2026-01-05 09:05": "FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=30",
		"2026-01-05 09:06": "FREQ=MONTHLY;BYMONTH=4,6;BYMONTHDAY=31",
	} {
		_, err := ParseTurn(time.UTC, from, every)
		assert.Error(t, err, "%s %s", from, every)
	}
}

// TestRotasAgainstASlowReference walks ten years of generated rotas, both changes of the clock each year among them,
// and asks at single moments: a turn is a date that fulfils the rule, counted day by day from the first.
func TestRotasAgainstASlowReference(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		zone := zoneOf(
			t,
			rapid.SampledFrom([]string{"Europe/Lisbon", "America/New_York", "Australia/Lord_Howe", "UTC"}).
				Draw(t, "zone"),
		)
		hour := rapid.IntRange(0, 23).Draw(t, "hour")
		first := time.Date(2025, 12, 29, hour, rapid.SampledFrom([]int{0, 30}).Draw(t, "minute"), 0, 0, zone)
		weekly := rapid.Bool().Draw(t, "weekly")
		every, days := "FREQ=DAILY", 1
		if weekly {
			every, days = "FREQ=WEEKLY;BYDAY=MO", 7
		}
		people := []string{"a", "b", "c"}[:rapid.IntRange(1, 3).Draw(t, "people")]
		lasts := rapid.SampledFrom([]int{0, 8, 12, 24}).Draw(t, "hours")
		r := &Rota{Zone: zone, Lines: [][]Turn{{
			turn(t, zone, first.Format("2006-01-02 15:04"), every, 0, time.Duration(lasts)*time.Hour, people...)}}}
		in := []StandIn{}
		for range rapid.IntRange(0, 3).Draw(t, "stand-ins") {
			from := first.Add(time.Duration(rapid.IntRange(0, 10*365*24*60).Draw(t, "from")) * time.Minute)
			in = append(
				in,
				StandIn{From: from, Person: "s", For: rapid.SampledFrom([]string{"", "a", "b"}).Draw(t, "for"),
					Until: from.Add(time.Duration(rapid.IntRange(1, 60*24*60).Draw(t, "span")) * time.Minute)},
			)
		}
		at := first.Add(time.Duration(rapid.IntRange(-1000, 10*365*24*60).Draw(t, "at")) * time.Minute)
		if rapid.Bool().Draw(t, "near a change") { // of the clock, in March, April, October or November
			year := rapid.IntRange(2026, 2035).Draw(t, "year")
			month := rapid.SampledFrom([]time.Month{3, 4, 10, 11}).Draw(t, "month")
			at = time.Date(year, month, 1, 0, 0, 0, 0, zone).Add(
				time.Duration(rapid.IntRange(0, 31*24*60).Draw(t, "minute of month")) * time.Minute)
		}
		if rapid.Bool().Draw(t, "foreseen") {
			from := at.Add(-time.Duration(rapid.IntRange(-1000, 500*24*60).Draw(t, "seen from")) * time.Minute)
			r.Foresee(from, from.Add(time.Duration(rapid.IntRange(0, 800*24*60).Draw(t, "seen for"))*time.Minute))
		}
		want, n := "", -1
		for day := 0; day < 11*366; day += days {
			begin := time.Date(first.Year(), first.Month(), first.Day()+day, first.Hour(), first.Minute(), 0, 0, zone)
			if begin.After(at) {
				break
			}
			n++
			end := time.Date(begin.Year(), begin.Month(), begin.Day()+days, first.Hour(), first.Minute(), 0, 0, zone)
			if lasts > 0 {
				b := begin.In(zone)
				if e := time.Date(b.Year(), b.Month(), b.Day(), b.Hour()+lasts, b.Minute(), 0, 0, zone); e.Before(end) {
					end = e
				}
			}
			if want = ""; at.Before(end) {
				want = people[n%len(people)]
			}
		}
		would := want
		for _, s := range in {
			if !at.Before(s.From) && at.Before(s.Until) && (s.For == "" || s.For == would) {
				want = s.Person
			}
		}
		d, ok := r.OnCall(0, at, in)
		require.Equal(t, want, d.Person, "at %s", at)
		require.Equal(t, want != "", ok)
		if !ok {
			return
		}
		require.False(t, at.Before(d.From))
		require.True(t, at.Before(d.Until))
		for _, edge := range []time.Time{d.From, d.Until.Add(-time.Minute)} {
			same, _ := r.OnCall(0, edge, in)
			require.Equal(t, d.Person, same.Person, "from %s until %s, at %s", d.From, d.Until, edge)
		}
	})
}
