package intake

import (
	"context"
	"fmt"
	"log/slog"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/alert"
	"urgentis/internal/engine"
	"urgentis/internal/store"
	"urgentis/internal/testdb"
)

func open(t testing.TB) (*Intake, *store.Store) {
	s := testdb.Open(t)
	in := New(s, engine.New(engine.Config{Store: s, Log: slog.New(slog.DiscardHandler), Link: "http://u"}), slog.New(slog.DiscardHandler))
	t.Cleanup(in.Stop)
	return in, s
}

func report(key string, severity alert.Severity) alert.Report {
	return alert.Report{Key: key, Severity: severity, Summary: "deep " + key, Labels: map[string]string{"a": "b"}, At: time.Now()}
}

const book = `urgentis: runbook/1
name: b
title: B
owner: o
service: s
starts: {any: {alert: alert.severity == "major"}, bad: {alert: alert.severity == "critical"}}
steps: [{note: N, text: n}]
`

func TestManyAtOnceAreEachKeptOnce(t *testing.T) {
	in, s := open(t)
	_, _, err := s.PushRunbook(context.Background(), book, "iva")
	require.NoError(t, err)
	const keys, times = 20, 15
	var wg sync.WaitGroup
	for i := range keys * times {
		wg.Go(func() {
			taken, err := in.Take(context.Background(), "mon", report(fmt.Sprint("k", i%keys), alert.Major))
			assert.NoError(t, err)
			assert.NotEmpty(t, taken.Alert)
			assert.NotZero(t, taken.Incident)
		})
	}
	wg.Wait()
	var got struct{ Alerts, Times, Incidents, Runs, Begun, Bells int }
	require.NoError(t, s.DB.Raw(`select (select count(*) from alert) as alerts, (select sum(count) from alert) as times, (select count(*) from incident) as incidents,
		(select count(*) from run) as runs, (select count(*) from event) as begun, (select count(*) from river_job) as bells`).Scan(&got).Error)
	assert.Equal(t, keys, got.Alerts)
	assert.Equal(t, keys*times, got.Times)
	assert.Equal(t, keys, got.Incidents)
	assert.Equal(t, keys, got.Runs)
	assert.Equal(t, keys, got.Begun)
	assert.Equal(t, keys, got.Bells)
	for n := int64(1); n <= keys; n++ {
		_, err := s.Verify(context.Background(), n)
		assert.NoError(t, err)
	}
}

func TestWorseInOneBatchStartsWhatMatchesNow(t *testing.T) {
	in, s := open(t)
	_, _, err := s.PushRunbook(context.Background(), book, "iva")
	require.NoError(t, err)
	// One batch: a new alert, its repeat, worse, better, cleared, and the next one.
	var items []*item
	for _, sev := range []alert.Severity{alert.Minor, alert.Minor, alert.Major, alert.Critical, alert.Warning, alert.Cleared, alert.Major} {
		items = append(items, &item{source: "mon", report: report("k", sev), answer: make(chan answer, 1)})
	}
	in.commit(items)
	var changes []alert.Change
	for _, it := range items {
		a := <-it.answer
		require.NoError(t, a.err)
		changes = append(changes, a.taken.Change)
	}
	assert.Equal(t, []alert.Change{alert.New, alert.Repeat, alert.Worse, alert.Worse, alert.Better, alert.Clear, alert.New}, changes)
	var started []string
	require.NoError(t, s.DB.Raw("select started_by from run order by incident, begun_at, started_by").Scan(&started).Error)
	assert.ElementsMatch(t, []string{"trigger:b/any", "trigger:b/bad", "trigger:b/any"}, started)
	var count int64
	require.NoError(t, s.DB.Raw("select count from alert where state = 'cleared'").Scan(&count).Error)
	assert.EqualValues(t, 6, count)
}

func TestAnUncertainCommitIsSaid(t *testing.T) {
	in, s := open(t)
	s.Close()
	_, err := in.Take(context.Background(), "mon", report("k", alert.Major))
	assert.ErrorIs(t, err, ErrUncertain)
}
