package intake

import (
	"context"
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"urgentis/core/alert"
	"urgentis/internal/testdb"
)

const heardBook = `urgentis: runbook/1
name: heard
title: Hears of its alert
owner: o
service: s
inputs: {of: {type: text}}
starts: {any: {alert: alert.severity != "info", inputs: {of: "{{ alert.id }}"}}}
steps: [{note: N, text: n}]
`

// TestEveryRunHearsEachChangeOfItsAlert reports conditions in any order and in batches of any size, some with what the
// database refuses, and wants of every alert one run, which has heard of each change after it was begun, and that each
// report is counted.
func TestEveryRunHearsEachChangeOfItsAlert(t *testing.T) {
	in, s := open(t)
	_, _, err := s.PushRunbook(context.Background(), heardBook, "iva")
	require.NoError(t, err)
	round := 0
	rapid.Check(t, func(t *rapid.T) {
		round++
		open := map[string]alert.Severity{} // what is open now, by key
		raised := map[string]int{}          // how often a key was raised
		changes := map[string]int{}         // by key and how-manieth alert
		counts := map[string]int{}          // likewise
		var batch []*item
		var wrong []bool
		for range rapid.IntRange(1, 25).Draw(t, "reports") {
			key := fmt.Sprintf("p%d-%d", round, rapid.IntRange(0, 2).Draw(t, "key"))
			sev := rapid.SampledFrom([]alert.Severity{alert.Major, alert.Major, alert.Minor, alert.Critical,
				alert.Cleared}).
				Draw(t, "severity")
			r := report(key, sev)
			times := rapid.IntRange(1, 3).Draw(t, "times")
			bad := rapid.IntRange(0, 9).Draw(t, "bad") == 0
			if bad {
				r.Summary = "no text\x00"
				r.Key += "-bad"
			} else {
				switch alert.Compare(open[key], r) {
				case alert.New:
					raised[key]++
					open[key] = sev
				case alert.Worse, alert.Better:
					changes[fmt.Sprint(key, raised[key])]++
					open[key] = sev
				case alert.Clear:
					changes[fmt.Sprint(key, raised[key])]++
					counts[fmt.Sprint(key, raised[key])] += times
					delete(open, key)
				}
				if open[key] != "" {
					counts[fmt.Sprint(key, raised[key])] += times
				}
			}
			batch, wrong = append(
				batch,
				&item{source: "mon", report: r, times: times, answer: make(chan Outcome, 1)},
			), append(
				wrong,
				bad && sev != alert.Cleared,
			)
		}
		for rest := batch; len(rest) > 0; {
			n := rapid.IntRange(1, len(rest)).Draw(t, "together")
			in.keep(rest[:n])
			rest = rest[n:]
		}
		for i, it := range batch {
			require.Equal(t, wrong[i], (<-it.answer).Err != nil, "%q", it.report.Summary)
		}
		for key, times := range raised {
			var heard []struct{ Changes, Count int }
			require.NoError(
				t,
				testdb.SQL(s).
					Raw(`select (select count(*) from event e where e.run = r.id and e.kind = 'alert.changed') as changes,
				a.count from alert a join run r on r.alert = a.id where a.key = ? order by a.first_at, a.id`, key).
					Scan(&heard).
					Error,
			)
			require.Len(t, heard, times, "one run for each time that it was raised")
			var all, want int
			for i, n := range heard {
				all, want = all+n.Changes, want+changes[fmt.Sprint(key, i+1)]
				require.Equal(t, counts[fmt.Sprint(key, i+1)], n.Count, "reports of %s", key)
			}
			require.Equal(t, want, all, key)
		}
	})
}
