package intake

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/alert"
	"urgentis/internal/store"
	"urgentis/internal/testdb"
)

const steadyBook = `urgentis: runbook/1
name: b
title: B
owner: o
service: s
starts: {patient: {alert: alert.severity != "minor", steady: 1h, at_most: 2 per 1d}}
steps: [{note: N, text: n}]
`

// passTime lets all starts that wait fall due, and begins what may begin.
func passTime(t *testing.T, in *Intake, s *store.Store) {
	require.NoError(t, testdb.SQL(s).Exec("update starting set due = now() - interval '1 second'").Error)
	for {
		// The intake's own watch may be quicker.
		n, _, err := in.ripen(context.Background(), maxRipe)
		require.NoError(t, err)
		var left int64
		require.NoError(t, testdb.SQL(s).Raw("select count(*) from starting where due <= now()").Scan(&left).Error)
		if n == 0 && left == 0 {
			return
		}
	}
}

func told(t *testing.T, s *store.Store, incident int64) []string {
	var kinds []string
	require.NoError(
		t,
		testdb.SQL(s).Raw("select kind from entry where incident = ? order by seq", incident).Scan(&kinds).Error,
	)
	return kinds
}

// fired is what came of triggers for an alert.
func fired(t *testing.T, s *store.Store, alert string) (results []string) {
	require.NoError(t, testdb.SQL(s).Raw("select result from firing where alert = ? order by id", alert).
		Scan(&results).Error)
	return results
}

func TestAStartWaitsWhetherTheAlertStaysSo(t *testing.T) {
	in, s := open(t)
	ctx := context.Background()
	_, _, err := s.PushRunbook(ctx, steadyBook, "iva")
	require.NoError(t, err)
	take := func(key string, sev alert.Severity) Taken {
		got, err := in.Take(ctx, "mon", report(key, sev))
		require.NoError(t, err)
		return got
	}
	runs := func() (n int) {
		require.NoError(t, testdb.SQL(s).Raw("select count(*) from run").Scan(&n).Error)
		return n
	}
	waiting := func(n int64) (on string) {
		require.NoError(t, testdb.SQL(s).Raw("select waiting_on from incident where number = ?", n).Scan(&on).Error)
		return on
	}
	stays, clears, eases, worsens := take(
		"stays",
		alert.Major,
	), take(
		"clears",
		alert.Major,
	), take(
		"eases",
		alert.Major,
	), take(
		"worsens",
		alert.Major,
	)
	assert.Zero(t, runs())
	assert.Equal(t, []string{"alert.raised", "run.held"}, told(t, s, stays.Incident))
	assert.Equal(t, "nobody", waiting(stays.Incident))

	take("clears", alert.Cleared)
	take("eases", alert.Minor)
	take("worsens", alert.Critical)
	passTime(t, in, s)
	assert.Equal(t, 2, runs(), "that which stayed, and that which became worse and is still so")
	for _, x := range []Taken{stays, worsens} {
		assert.Contains(t, told(t, s, x.Incident), "run.begun")
		assert.NotContains(t, told(t, s, x.Incident), "run.dropped")
	}
	for _, x := range []Taken{clears, eases} {
		assert.Contains(t, told(t, s, x.Incident), "run.dropped")
		assert.Equal(t, "person", waiting(x.Incident))
		assert.Equal(t, []string{"held", "dropped"}, fired(t, s, x.Alert), "its trigger says so too")
	}
	assert.Contains(t, told(t, s, eases.Incident), "nothing.started", "what is there still is told")
	assert.NotContains(t, told(t, s, clears.Incident), "nothing.started")

	// It came about twice within the day: a third alert reaches a person instead.
	often := take("often", alert.Major)
	passTime(t, in, s)
	assert.Equal(t, 2, runs())
	assert.Contains(t, told(t, s, often.Incident), "run.refused")
	assert.Equal(t, "person", waiting(often.Incident))
	var because string
	require.NoError(
		t,
		testdb.SQL(s).
			Raw("select content::json->>'because' from entry where kind = 'run.refused'").
			Scan(&because).
			Error,
	)
	assert.Equal(t, "it may start 2 per 24h at most, and has: a person is needed", because)

	// What began long ago no longer counts.
	require.NoError(t, testdb.SQL(s).Exec("update started set at = now() - interval '2 days'").Error)
	take("later", alert.Major)
	passTime(t, in, s)
	assert.Equal(t, 3, runs())
	for n := int64(1); n <= 6; n++ {
		_, err := s.Verify(ctx, n)
		assert.NoError(t, err)
	}
}

// A runbook that cannot begin harms neither its own alert nor those that came with it.
func TestARunbookThatCannotBeginLosesNoAlert(t *testing.T) {
	in, s := open(t)
	ctx := context.Background()
	_, _, err := s.PushRunbook(ctx, `urgentis: runbook/1
name: b
title: B
owner: o
service: s
starts: {any: {alert: alert.severity == "major"}}
steps: [{call: nobody-has-it}]
`, "iva")
	require.NoError(t, err)
	broken, plain := &item{
		source: "mon",
		report: report("k", alert.Major),
		times:  1, answer: make(chan Outcome, 1),
	}, &item{
		source: "mon",
		report: report("l", alert.Minor),
		times:  1, answer: make(chan Outcome, 1),
	}
	in.commit([]*item{broken, plain})
	for _, it := range []*item{broken, plain} {
		a := <-it.answer
		require.NoError(t, a.Err)
		assert.NotZero(t, a.Taken.Incident)
	}
	assert.Equal(t, []string{"alert.raised", "run.refused", "nothing.started"}, told(t, s, 1))
}

// What hours hold back is judged anew as they begin, where the alert is there still: the record and the trigger say so,
// and somebody is told that nothing starts now.
func TestWhatStandsAsHoursBeginIsJudgedThen(t *testing.T) {
	in, s := open(t)
	ctx := context.Background()
	now := time.Now().UTC()
	from := now.Add(2 * time.Hour).Truncate(time.Minute)
	text := fmt.Sprintf("urgentis: calendar/1\nname: shift\nzone: UTC\nweekly: [%q]\n",
		"daily "+from.Format("15:04")+"-"+from.Add(time.Hour).Format("15:04"))
	push(t, s, text, strings.Replace(steadyBook, "steady: 1h, at_most: 2 per 1d", "hours: {inside: shift}", 1))
	take := func(key string, sev alert.Severity) Taken {
		got, err := in.Take(ctx, "mon", report(key, sev))
		require.NoError(t, err)
		return got
	}
	stays, clears, eases := take("stays", alert.Major), take("clears", alert.Major), take("eases", alert.Major)
	for _, x := range []Taken{stays, clears, eases} {
		assert.Equal(t, []string{"alert.raised", "run.held", "nothing.started"}, told(t, s, x.Incident))
		assert.Equal(t, []string{"held"}, fired(t, s, x.Alert))
	}
	items, err := s.In(ctx).Items(stays.Incident)
	require.NoError(t, err)
	require.Len(t, items, 1)
	assert.False(t, items[0].Works, "who is needed is called at once")
	var due time.Time
	require.NoError(t, testdb.SQL(s).Raw("select max(due) from starting").Scan(&due).Error)
	assert.WithinDuration(t, now.Add(rejudgeHours), due, time.Minute, "hours may be altered before they begin")
	passTime(t, in, s)
	assert.Equal(t, []string{"held"}, fired(t, s, stays.Alert), "it is judged anew, and waits without a word")
	take("stays", alert.Critical)
	assert.Equal(t, []string{"held"}, fired(t, s, stays.Alert))

	take("clears", alert.Cleared)
	take("eases", alert.Minor)
	in.clock = func() time.Time { return from.Add(time.Second) }
	passTime(t, in, s)
	assert.Equal(t, []string{"held", "started"}, fired(t, s, stays.Alert))
	assert.Equal(t, []string{"held", "dropped"}, fired(t, s, clears.Alert))
	assert.Equal(t, []string{"held", "dropped"}, fired(t, s, eases.Alert))
	assert.Contains(t, told(t, s, stays.Incident), "run.begun")
}
