package objective_test

import (
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/alert"
	"urgentis/core/estate"
	"urgentis/core/objective"
)

const queue = `urgentis: objective/1
name: queue
service: berth-queue
title: Berths are assigned in time
good_when: max(readings.depth) < 200
target: 99
window: 1d
fresh: 5m
`

func parse(t testing.TB, text string) *objective.Objective {
	docs, found := estate.Parse([]estate.File{{Name: "o", Text: text}})
	require.Empty(t, found)
	return docs[0].Objective
}

var noon = time.Date(2026, 12, 1, 12, 0, 0, 0, time.UTC)

func at(minutes float64) time.Time { return noon.Add(time.Duration(minutes * float64(time.Minute))) }

// What is judged is what was read last of each target; without one of them it is not known, never good.
func TestAMinuteIsJudged(t *testing.T) {
	o := parse(t, queue)
	both := []string{"a", "b"}
	read := func(list ...objective.Sample) map[string][]objective.Sample {
		return map[string][]objective.Sample{"depth": list}
	}
	for name, c := range map[string]struct {
		read      map[string][]objective.Sample
		good, bad float64
		unknown   string
	}{
		"good":            {read(objective.Sample{"a", at(-1), 3}, objective.Sample{"b", at(-2), 5}), 1, 0, ""},
		"one is bad":      {read(objective.Sample{"a", at(-1), 300}, objective.Sample{"b", at(-2), 5}), 0, 1, ""},
		"the last counts": {read(objective.Sample{"a", at(-3), 300}, objective.Sample{"a", at(-1), 5}, objective.Sample{"b", at(-2), 5}), 1, 0, ""},
		"later is not yet": {read(objective.Sample{"a", at(-1), 3}, objective.Sample{"b", at(-2), 5},
			objective.Sample{"b", at(1), 500}), 1, 0, ""},
		"one is missing": {read(objective.Sample{"a", at(-1), 3}), 0, 0, "no depth from b"},
		"one is too old": {read(objective.Sample{"a", at(-1), 3}, objective.Sample{"b", at(-5), 5}), 0, 0, "no depth from b"},
		"nothing":        {nil, 0, 0, "no depth from a, b"},
	} {
		m := o.Measure(noon, both, c.read)
		assert.Equal(t, objective.Measured{At: at(-1), Good: c.good, Bad: c.bad, Unknown: c.unknown}, m, name)
	}
	assert.Equal(t, "reading depth was asked of no target", o.Measure(noon, nil, nil).Unknown)
	bad := parse(t, queue+"missing: bad\n")
	assert.Equal(t, objective.Measured{At: at(-1), Bad: 1}, bad.Measure(noon, both, nil))
}

// Events are what counters went up by; one that begins anew loses nothing but what nobody saw.
func TestEventsAreCounted(t *testing.T) {
	o := parse(t, `urgentis: objective/1
name: served
service: fares
title: Fares are answered
events: {good: served, all: asked}
target: 99.9
window: month
`)
	read := map[string][]objective.Sample{
		"asked":  {{"a", at(-9), 100}, {"a", at(-0.5), 130}, {"b", at(-1.5), 900}, {"b", at(-0.2), 10}},
		"served": {{"a", at(-9), 100}, {"a", at(-0.5), 128}, {"b", at(-1.5), 890}, {"b", at(-0.2), 9}},
	}
	assert.Equal(t, objective.Measured{At: at(-1), Good: 37, Bad: 3}, o.Measure(noon, nil, read))
	assert.Equal(t, "nothing was counted", o.Measure(at(-3), nil, read).Unknown)
	assert.Equal(t, "99.9 % of all asked in each month", o.Says())
}

// sums adds up minutes the slow way.
func sums(o *objective.Objective, at time.Time, minutes []objective.Measured) []objective.Sum {
	var out []objective.Sum
	for _, from := range o.Windows(at) {
		s := objective.Sum{From: from}
		for _, m := range minutes {
			if !m.At.Before(from) && m.At.Before(at) && m.Unknown == "" {
				s.Good, s.Bad, s.Known = s.Good+m.Good, s.Bad+m.Bad, s.Known+objective.Step
			}
		}
		out = append(out, s)
	}
	return out
}

// course makes minutes before noon: g good, b bad, any other unknown; the last letter is the last minute.
func course(text string) []objective.Measured {
	var out []objective.Measured
	for i, c := range text {
		m := objective.Measured{At: at(float64(i - len(text)))}
		switch c {
		case 'g':
			m.Good = 1
		case 'b':
			m.Bad = 1
		default:
			m.Unknown = "it"
		}
		out = append(out, m)
	}
	return out
}

func repeat(c rune, n int) string {
	out := make([]rune, n)
	for i := range out {
		out[i] = c
	}
	return string(out)
}

// on lists the alerts that stand, and those of which nobody knows.
func on(o *objective.Objective, b objective.Budget) (on, unsure []string) {
	for _, a := range o.Alerts(b) {
		if a.On {
			on = append(on, a.Key)
		}
		if a.Unsure {
			unsure = append(unsure, a.Key)
		}
	}
	return on, unsure
}

func TestBudgets(t *testing.T) {
	o := parse(t, queue+"burns: [{spends: 10, in: 1h, severity: critical}]\n")
	for name, c := range map[string]struct {
		minutes string
		left    float64
		unknown time.Duration
		on      []string
	}{
		// One percent of a day is 14.4 minutes.
		"all is good":      {repeat('g', 1440), 1, 0, nil},
		"half":             {repeat('b', 7) + repeat('g', 1433), 1 - 7/14.4, 0, nil},
		"spent":            {repeat('b', 15) + repeat('g', 1425), 1 - 15/14.4, 0, []string{"objective/queue/spent"}},
		"burns":            {repeat('g', 1438) + "bb", 1 - 2/14.4, 0, []string{"objective/queue/in-1h"}},
		"burnt before":     {repeat('g', 1400) + "bb" + repeat('g', 38), 1 - 2/14.4, 0, nil},
		"one minute":       {repeat('g', 1439) + "b", 1 - 1/14.4, 0, nil},
		"young and good":   {repeat('g', 20), 1, 0, nil},
		"young and bad":    {"bb", 1 - 2/14.4, 0, []string{"objective/queue/in-1h"}},
		"gone for a while": {repeat('g', 1400) + repeat('?', 14) + repeat('g', 26), 1, 14 * time.Minute, nil},
		"blind":            {repeat('g', 1420) + repeat('?', 20), 1, 20 * time.Minute, []string{"objective/queue/blind"}},
	} {
		minutes := course(c.minutes)
		b := o.Stand(noon, minutes[0].At, sums(o, noon, minutes))
		require.NotNil(t, b.Left, name)
		assert.InDelta(t, c.left, *b.Left, 1e-9, name)
		assert.Equal(t, c.unknown, b.Unknown, name)
		stand, _ := on(o, b)
		assert.Equal(t, c.on, stand, name)
	}
}

// What burns while nobody can see whether it still does is not over.
func TestMissingEvidenceEndsNoAlert(t *testing.T) {
	o := parse(t, queue+"burns: [{spends: 10, in: 1h, severity: critical}]\n")
	minutes := course(repeat('g', 1420) + "bbbbbbbb" + repeat('?', 12))
	stand, unsure := on(o, o.Stand(noon, minutes[0].At, sums(o, noon, minutes)))
	assert.Empty(t, stand)
	assert.Equal(t, []string{"objective/queue/in-1h"}, unsure)
}

// Whatever comes: unknown time is never taken for good, the budget never grows by what is bad, and what burns in both
// windows stands.
func TestBudgetsAsProperties(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	o := parse(t, queue)
	for range 300 {
		n := 2 + r.IntN(1438)
		text := make([]rune, n)
		for i := range text {
			text[i] = []rune("ggggggb?")[r.IntN(8)]
		}
		minutes := course(string(text))
		b := o.Stand(noon, minutes[0].At, sums(o, noon, minutes))
		bad, unknown := 0.0, time.Duration(0)
		for _, c := range text {
			switch c {
			case 'b':
				bad++
			case '?':
				unknown += time.Minute
			}
		}
		assert.Equal(t, bad, b.Bad)
		assert.Equal(t, unknown, b.Unknown)
		assert.InDelta(t, 1-bad/14.4, *b.Left, 1e-9)
		text[r.IntN(n)] = 'b'
		worse := o.Stand(noon, minutes[0].At, sums(o, noon, course(string(text))))
		assert.LessOrEqual(t, *worse.Left, *b.Left)
		for i := range b.Burns {
			assert.GreaterOrEqual(t, worse.Burns[i].Long+1e-9, b.Burns[i].Long)
			assert.Equal(t, b.Burns[i].On, b.Burns[i].Long >= b.Burns[i].Limit && b.Burns[i].Short >= b.Burns[i].Limit)
		}
	}
}

func TestWindows(t *testing.T) {
	oslo, err := time.LoadLocation("Europe/Oslo")
	require.NoError(t, err)
	for name, c := range map[string]struct{ from, to string }{
		"week":    {"2026-10-19T00:00:00+02:00", "2026-10-26T00:00:00+01:00"},
		"month":   {"2026-10-01T00:00:00+02:00", "2026-11-01T00:00:00+01:00"},
		"quarter": {"2026-10-01T00:00:00+02:00", "2027-01-01T00:00:00+01:00"},
	} {
		// The night in which the clocks go back.
		from, to := objective.Window{Calendar: name, Zone: oslo}.Around(time.Date(2026, 10, 25, 3, 30, 0, 0, oslo))
		assert.Equal(t, []string{c.from, c.to}, []string{from.Format(time.RFC3339), to.Format(time.RFC3339)}, name)
	}
	from, to := objective.Window{Rolling: 28 * 24 * time.Hour}.Around(noon)
	assert.Equal(t, 28*24*time.Hour, to.Sub(from))
	assert.Equal(t, "in 28 days", objective.Window{Rolling: 28 * 24 * time.Hour}.String())
}

// What a burn asks for is the same as the trade's rates: 2 % of 30 days in an hour is 14.4 times too fast.
func TestDefaultRates(t *testing.T) {
	o := &objective.Objective{Window: objective.Window{Rolling: 30 * 24 * time.Hour}, Burns: objective.DefaultBurns()}
	var rates []float64
	for _, b := range o.Burns {
		rates = append(rates, o.Rate(b, noon))
	}
	assert.InDeltaSlice(t, []float64{14.4, 6, 1}, rates, 1e-9)
	assert.Equal(t, alert.Critical, o.Burns[0].Severity)
	assert.Equal(t, 5*time.Minute, o.Burns[0].Short())
}
