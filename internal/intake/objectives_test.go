package intake

import (
	"context"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/access"
	"urgentis/core/alert"
	"urgentis/core/estate"
	"urgentis/core/objective"
	"urgentis/internal/store"
	"urgentis/internal/testdb"
)

func init() { measureEvery = time.Hour }

const depthObjective = `urgentis: objective/1
name: queue
service: berth-queue
title: Berths are assigned in time
good_when: max(readings.depth) < 200
target: 99
window: 1d
burns: [{spends: 10, in: 1h, severity: critical}]
`

// measured has an objective measured since so many minutes ago.
func measured(t *testing.T, s *store.Store, text string, minutes int) {
	ctx := context.Background()
	docs, found := estate.Parse([]estate.File{{Name: "o", Text: text}})
	require.Empty(t, found)
	require.NoError(t, s.Tx(ctx, func(tx *store.Tx) error {
		push := &store.Push{By: "iva"}
		if err := tx.AddPush(push); err != nil {
			return err
		}
		if err := tx.PushDocument(push, docs[0]); err != nil {
			return err
		}
		return tx.SetObjective(docs[0].Name, "berth-queue", true)
	}))
	require.NoError(t, testdb.SQL(s).Exec(`update objective set began_at = date_trunc('minute', now())
		- ? * interval '1 minute', measured_until = date_trunc('minute', now()) - ? * interval '1 minute'`,
		minutes, minutes).Error)
}

// read keeps a reading of a target, from one time ago to another, each ten seconds.
func read(t *testing.T, s *store.Store, target string, value float64, from, until time.Duration) {
	ids, err := s.IdentifySeries(context.Background(), []store.Series{
		{Service: "berth-queue", Target: target, Name: "depth"}})
	require.NoError(t, err)
	for _, id := range ids {
		require.NoError(t, testdb.SQL(s).Exec(`insert into reading (series, at, value)
			select ?, g, ? from generate_series(now() - ? * interval '1 second', now() - ? * interval '1 second',
				interval '10 seconds') g`, id, value, from.Seconds(), until.Seconds()).Error)
	}
}

func openKeys(t *testing.T, s *store.Store) string {
	keys, err := s.In(context.Background()).OpenKeys(store.OurSource, "objective/")
	require.NoError(t, err)
	return strings.Join(keys, " ")
}

// An objective that cannot be measured stops none of those behind it, and is tried again.
func TestOneObjectiveStopsNoOther(t *testing.T) {
	in, s := open(t)
	ctx := context.Background()
	require.NoError(t, testdb.SQL(s).Create(&store.Target{Name: "a", Service: "berth-queue", Labels: store.Labels{}}).Error)
	read(t, s, "a", 12, 90*time.Minute, 0)
	measured(t, s, strings.Replace(depthObjective, "name: queue", "name: bad", 1), 60)
	measured(t, s, depthObjective, 30)
	require.NoError(t, testdb.SQL(s).Exec("alter table indicator add constraint no check (objective <> 'bad')").Error)
	minutes := func(name string) (n int) {
		require.NoError(t, testdb.SQL(s).Raw("select count(*) from indicator where objective = ?", name).Scan(&n).Error)
		return n
	}
	require.NoError(t, in.measureDue(ctx))
	assert.Positive(t, minutes("queue"))
	require.NoError(t, testdb.SQL(s).Exec("alter table indicator drop constraint no").Error)
	require.NoError(t, in.measureDue(ctx))
	assert.Positive(t, minutes("bad"))
}

// A budget that burns is an alert of ours, which ends when it burns no more; never because nobody can see it.
func TestABurningBudgetIsAnAlert(t *testing.T) {
	in, s := open(t)
	ctx := context.Background()
	require.NoError(
		t,
		testdb.SQL(s).Create(&store.Target{Name: "a", Service: "berth-queue", Labels: store.Labels{}}).Error,
	)
	read(t, s, "a", 12, 90*time.Minute, 20*time.Minute)
	read(t, s, "a", 900, 20*time.Minute, 15*time.Minute)
	measured(t, s, depthObjective, 60)
	require.NoError(t, in.measureDue(ctx))
	// Of the last minutes nothing is known: what was read 15 minutes ago is too old.
	assert.Equal(t, "", openKeys(t, s))
	var bad, known int
	require.NoError(t, testdb.SQL(s).Raw("select sum(bad), count(*) from indicator").Row().Scan(&bad, &known))
	assert.InDelta(t, 10, bad, 1, "five minutes, and five in which the last reading counted")
	assert.InDelta(t, 50, known, 1)

	read(t, s, "a", 900, 15*time.Minute, 0)
	measured(t, s, depthObjective, 60)
	require.NoError(t, in.measureDue(ctx))
	assert.Equal(t, "objective/queue/in-1h objective/queue/spent", openKeys(t, s))
	list, err := s.In(ctx).Alerts(access.Scope{All: true}, store.WhichAlerts{State: "open"}, store.Place{}, 10)
	require.NoError(t, err)
	for _, a := range list {
		assert.Equal(t, "berth-queue", a.Service)
		assert.Equal(t, "queue", a.Labels["objective"])
		assert.EqualValues(t, 1, a.Count, "it is said once")
	}

	// An instance that was not there does not say that nothing is known; one that was does.
	require.NoError(t, testdb.SQL(s).Exec("delete from indicator").Error)
	require.NoError(t, in.tellObjective(ctx, "queue"))
	assert.NotContains(t, openKeys(t, s), "blind")
	since := in.since
	in.since = since.Add(-time.Hour)
	require.NoError(t, in.tellObjective(ctx, "queue"))
	assert.Contains(t, openKeys(t, s), "objective/queue/blind")
	in.since = since
	require.NoError(t, in.tellObjective(ctx, "queue"))
	assert.Contains(t, openKeys(t, s), "objective/queue/blind", "nor that it is over")
	measured(t, s, depthObjective, 60)
	require.NoError(t, in.measureDue(ctx))
	assert.NotContains(t, openKeys(t, s), "blind")

	// Nothing is read any more: what stands goes on standing.
	require.NoError(t, testdb.SQL(s).Exec("delete from indicator where at > now() - interval '7 minutes'").Error)
	require.NoError(t, in.tellObjective(ctx, "queue"))
	assert.Contains(t, openKeys(t, s), "objective/queue/in-1h")
	require.NoError(t, testdb.SQL(s).Exec("update indicator set good = 1, bad = 0").Error)
	require.NoError(t, testdb.SQL(s).Exec(`insert into indicator (objective, at, span, good, bad)
		select 'queue', date_trunc('minute', now()) - g * interval '1 minute', 60, 1, 0 from generate_series(1, 6) g
		on conflict do nothing`).Error)
	require.NoError(t, in.tellObjective(ctx, "queue"))
	assert.Equal(t, "", openKeys(t, s))

	require.NoError(t, testdb.SQL(s).Exec("update indicator set good = 0, bad = 1").Error)
	require.NoError(t, in.tellObjective(ctx, "queue"))
	assert.NotEqual(t, "", openKeys(t, s))
	require.NoError(t, s.In(ctx).RemoveObjective("queue"))
	require.NoError(t, in.endForgotten(ctx))
	assert.Equal(t, "", openKeys(t, s), "one that is removed burns no more")
}

// Of two instances at once each minute is measured once, and what is behind is caught up with.
func TestEachMinuteIsMeasuredOnce(t *testing.T) {
	in, s := open(t)
	require.NoError(
		t,
		testdb.SQL(s).Create(&store.Target{Name: "a", Service: "berth-queue", Labels: store.Labels{}}).Error,
	)
	read(t, s, "a", 12, 10*time.Hour, 0)
	measured(t, s, depthObjective, 9*60)
	failed := make(chan error, 3)
	for range 3 {
		go func() { failed <- in.measureDue(context.Background()) }()
	}
	for range 3 {
		require.NoError(t, <-failed)
	}
	var known, good int
	require.NoError(t, testdb.SQL(s).Raw("select count(*), sum(good) from indicator").Row().Scan(&known, &good))
	assert.InDelta(t, 9*60, known, 1)
	assert.Equal(t, known, good)
}

// A target that is gone is not missing; one that is there and silent is, and a minute without it is not known.
func TestWhoIsExpected(t *testing.T) {
	in, s := open(t)
	require.NoError(
		t,
		testdb.SQL(s).Create(&store.Target{Name: "a", Service: "berth-queue", Labels: store.Labels{}}).Error,
	)
	require.NoError(
		t,
		testdb.SQL(s).Create(&store.Target{Name: "b", Service: "berth-queue", Labels: store.Labels{}}).Error,
	)
	for _, target := range []string{"a", "b", "gone"} {
		read(t, s, target, 12, time.Hour, 30*time.Minute)
	}
	read(t, s, "a", 12, 30*time.Minute, 0)
	measured(t, s, depthObjective, 20)
	require.NoError(t, in.measureDue(context.Background()))
	row, err := s.In(context.Background()).Objective("queue")
	require.NoError(t, err)
	assert.Equal(t, "no depth from b", row.Unknown)
	require.NoError(t, testdb.SQL(s).Exec("delete from target where name = 'b'").Error)
	measured(t, s, depthObjective, 20)
	require.NoError(t, in.measureDue(context.Background()))
	row, err = s.In(context.Background()).Objective("queue")
	require.NoError(t, err)
	assert.Equal(t, "", row.Unknown)
}

const firstLook = `urgentis: runbook/1
name: photo
title: A photograph
owner: o
service: s
steps:
  - look: Anything
    from: here
    run: [uptime]
    read: {x: {exit: true, type: integer}}
`

// An incident on which nothing starts gets the first look of its service, and waits for a person all the same.
func TestWhatStartsNothingIsLookedAt(t *testing.T) {
	in, s := open(t)
	ctx := context.Background()
	require.NoError(t, testdb.SQL(s).Create(&store.Service{Name: "s", Owner: "o", Stance: "ask",
		FirstLook: "photo"}).Error)
	for _, text := range []string{book, firstLook} { // the first starts on what is major
		_, _, err := s.PushRunbook(ctx, text, "iva")
		require.NoError(t, err)
	}
	take := func(r string, labels map[string]string) (by string, waits string) {
		x := of("s", r, "minor")
		x.Labels = labels
		taken, err := in.Take(ctx, "mon", x)
		require.NoError(t, err)
		require.NoError(
			t,
			testdb.SQL(s).Raw(`select coalesce(string_agg(started_by, ' '), '') from run where incident = ?`,
				taken.Incident).Row().Scan(&by),
		)
		require.NoError(t, testdb.SQL(s).Raw("select waiting_on from incident where number = ?", taken.Incident).Row().
			Scan(&waits))
		require.NoError(t, testdb.SQL(s).Exec("update incident set state = 'closed'").Error)
		return by, waits
	}
	by, waits := take("first", map[string]string{"x": "y"})
	if strings.Contains(by, "trigger") {
		t.Fatal("the runbook of the test starts on it: " + by)
	}
	assert.Equal(t, "first look", by)
	assert.Equal(t, "person", waits)

	// A newer revision that changes something is not begun by itself.
	_, _, err := s.PushRunbook(
		ctx,
		strings.Replace(firstLook, "  - look: Anything\n    from: here\n    run: [uptime]\n    read: {x: {exit: "+
			"true, type: integer}}\n", "  - change: Anything\n    from: here\n    run: [uptime]\n    gate: {ask: team/o}\n", 1),
		"iva",
	)
	require.NoError(t, err)
	by, waits = take("second", map[string]string{"x": "y"})
	assert.Equal(t, "", by)
	assert.Equal(t, "person", waits)
	var title string
	require.NoError(
		t,
		testdb.SQL(s).Raw("select title || ': ' || (content::jsonb ->> 'because') from entry where kind = "+
			"'run.refused'").Row().Scan(&title),
	)
	assert.Equal(
		t,
		`First look not taken: photo: a first look only looks, and the runbook photo has the change "Anything"`,
		title,
	)
}

// An incident that is opened by hand is looked at too.
func TestWhatIsOpenedByHandIsLookedAt(t *testing.T) {
	in, s := open(t)
	ctx := context.Background()
	require.NoError(t, testdb.SQL(s).Create(&store.Service{Name: "s", Owner: "o", Stance: "ask",
		FirstLook: "photo"}).Error)
	_, _, err := s.PushRunbook(ctx, firstLook, "iva")
	require.NoError(t, err)
	i := &store.Incident{Title: "it smells", Severity: "minor", Service: "s"}
	require.NoError(t, in.OpenByHand(ctx, i, "mara", func(*store.Tx) error { return nil }))
	var by string
	require.NoError(t, testdb.SQL(s).Raw("select started_by from run where incident = ?", i.Number).Row().Scan(&by))
	assert.Equal(t, "first look", by)
}

// That an objective suffers makes an incident as severe as it is, and keeps the title that says what is wrong.
func TestAnObjectiveTakesNoTitle(t *testing.T) {
	in, s := open(t)
	ctx := context.Background()
	taken, err := in.Take(ctx, "mon", of("berth-queue", "deep", alert.Major))
	require.NoError(t, err)
	docs, _ := estate.Parse([]estate.File{{Name: "o", Text: depthObjective}})
	burns := objective.Alert{Key: "objective/queue/in-1h", Severity: alert.Critical, Summary: "it burns", On: true}
	require.NoError(t, in.tellOfObjective(ctx, docs[0].Objective, burns))
	i, err := s.In(ctx).Incident(taken.Incident)
	require.NoError(t, err)
	assert.Equal(t, "critical", i.Severity)
	assert.Equal(t, "deep is major", i.Title)
	assert.EqualValues(t, 2, i.Alerts)
}
