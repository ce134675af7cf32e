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

	"urgentis/core/access"
	"urgentis/core/alert"
	"urgentis/internal/engine"
	"urgentis/internal/secret"
	"urgentis/internal/store"
	"urgentis/internal/testdb"
)

func open(t testing.TB) (*Intake, *store.Store) {
	s := testdb.Open(t)
	in, err := New(Config{Store: s, Engine: engineOn(t, s), Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	t.Cleanup(in.Stop)
	return in, s
}

func engineOn(t testing.TB, s *store.Store) *engine.Engine {
	e, err := engine.New(engine.Config{
		Store: s, Secrets: &secret.Keeper{Store: s}, Log: slog.New(slog.DiscardHandler), Link: "http://u"})
	require.NoError(t, err)
	return e
}

func TestAnIntakeSaysWhatIsMissing(t *testing.T) {
	_, err := New(Config{Log: slog.Default()})
	assert.EqualError(t, err, "an intake cannot do without Store, Engine")
}

func report(key string, severity alert.Severity) alert.Report {
	return alert.Report{
		Key:      key,
		Severity: severity,
		Summary:  "deep " + key,
		Labels:   map[string]string{"a": "b"},
		At:       alert.SaidAt(time.Now()),
	}
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
	require.NoError(
		t,
		testdb.SQL(s).
			Raw(`select (select count(*) from alert) as alerts,
		(select sum(count) from alert) as times,
		(select count(*) from incident) as incidents,
		(select count(*) from run) as runs,
		(select count(*) from event) as begun, (select count(*) from river_job) as bells`).
			Scan(&got).
			Error,
	)
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

// Two instances hear of the same conditions at the same moment: each is one alert, and no report is refused.
func TestTwoInstancesHearOfOneCondition(t *testing.T) {
	in, s := open(t)
	other, err := New(Config{Store: s, Engine: engineOn(t, s), Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	t.Cleanup(other.Stop)
	const keys = 60
	for i := range keys {
		var wg sync.WaitGroup
		for _, x := range []*Intake{in, other} {
			wg.Go(func() {
				_, err := x.Take(context.Background(), "mon", report(fmt.Sprint("k", i), alert.Major))
				assert.NoError(t, err)
			})
		}
		wg.Wait()
	}
	var got struct{ Alerts, Times int }
	require.NoError(t, testdb.SQL(s).Raw("select count(*) as alerts, sum(count) as times from alert").Scan(&got).Error)
	assert.Equal(t, keys, got.Alerts)
	assert.Equal(t, 2*keys, got.Times)
}

// TestReportsOfOneConditionKeepTheirOrder has conditions whose service is now this, now that, or left out as they
// clear.
func TestReportsOfOneConditionKeepTheirOrder(t *testing.T) {
	in, s := open(t)
	var wg sync.WaitGroup
	for c := range 8 {
		wg.Go(func() {
			var list []alert.Report
			for i := range 60 {
				r := report(fmt.Sprint("c", c), alert.Major)
				r.Service = fmt.Sprint("service-", (c+i)%5)
				if i%2 == 1 {
					r.Severity, r.Service = alert.Cleared, ""
				}
				list = append(list, r)
			}
			_, err := in.TakeAll(context.Background(), "mon", list)
			assert.NoError(t, err)
		})
	}
	wg.Wait()
	var got []string
	require.NoError(t, testdb.SQL(s).Raw(`select key || ' ' || state || ' ' || count(*) from alert group by key, state
		order by 1`).Scan(&got).Error)
	want := make([]string, 8)
	for c := range want {
		want[c] = fmt.Sprintf("c%d cleared 30", c)
	}
	assert.Equal(t, want, got)
	assert.Empty(t, in.lanes.underWay)
	assert.Zero(t, in.lanes.items)
}

func TestWorseInOneBatchStartsWhatMatchesNow(t *testing.T) {
	in, s := open(t)
	_, _, err := s.PushRunbook(context.Background(), book, "iva")
	require.NoError(t, err)
	// One batch: a new alert, its repeat, worse, better, cleared, and the next one.
	var items []*item
	for _, sev := range []alert.Severity{alert.Minor, alert.Minor, alert.Major, alert.Critical, alert.Warning,
		alert.Cleared, alert.Major} {
		items = append(items, &item{source: "mon", report: report("k", sev), times: 1, answer: make(chan Outcome, 1)})
	}
	in.keep(items)
	var changes []alert.Change
	for _, it := range items {
		a := <-it.answer
		require.NoError(t, a.Err)
		changes = append(changes, a.Taken.Change)
	}
	assert.Equal(
		t,
		[]alert.Change{alert.New, alert.Repeat, alert.Worse, alert.Worse, alert.Better, alert.Clear, alert.New},
		changes,
	)
	var started []string
	require.NoError(
		t,
		testdb.SQL(s).Raw("select started_by from run order by incident, begun_at, started_by").Scan(&started).Error,
	)
	assert.ElementsMatch(t, []string{"trigger:b/any", "trigger:b/bad"}, started,
		"the next one finds a run for the same under way")
	var count int64
	require.NoError(t, testdb.SQL(s).Raw("select count from alert where state = 'cleared'").Scan(&count).Error)
	assert.EqualValues(t, 6, count)
}

func TestAnUncertainCommitIsSaid(t *testing.T) {
	in, s := open(t)
	s.Close()
	_, err := in.Take(context.Background(), "mon", report("k", alert.Major))
	assert.ErrorIs(t, err, ErrUncertain)
}

// What the database refuses in one report harms no other report of its batch, whatever the error is.
func TestOneBadReportHarmsNoOther(t *testing.T) {
	in, s := open(t)
	_, _, err := s.PushRunbook(context.Background(), book, "iva")
	require.NoError(t, err)
	old, nul, endless := report("old", alert.Major), report("nul", alert.Major), report("endless", alert.Major)
	old.At = alert.SaidAt(time.Date(-5, 1, 1, 0, 0, 0, 0, time.UTC))
	nul.Summary = "a\x00b"
	endless.At = alert.SaidAt(time.Date(999_999, 1, 1, 0, 0, 0, 0, time.UTC))
	var items []*item
	for _, r := range []alert.Report{report("a", alert.Major), old, report("b", alert.Major), nul, endless,
		report("c", alert.Critical)} {
		items = append(items, &item{source: "mon", report: r, times: 1, answer: make(chan Outcome, 1)})
	}
	in.commit(items)
	for i, it := range items {
		a := <-it.answer
		if i == 0 || i == 2 || i == 5 {
			assert.NoError(t, a.Err, it.report.Key)
			continue
		}
		assert.ErrorIs(t, a.Err, ErrRefused, it.report.Key)
	}
	var n int
	require.NoError(t, testdb.SQL(s).Raw("select count(*) from run").Scan(&n).Error)
	assert.Equal(t, 3, n, "each of the good ones starts its run")
}

// A parked run that this program can no longer read does not keep its alert, or others, from being taken.
func TestAnUnsoundRunHarmsNoAlert(t *testing.T) {
	in, s := open(t)
	ctx := context.Background()
	_, _, err := s.PushRunbook(ctx, book, "iva")
	require.NoError(t, err)
	_, err = in.Take(ctx, "mon", report("k", alert.Major))
	require.NoError(t, err)
	require.NoError(t, testdb.SQL(s).Exec("update revision set text = 'urgentis: runbook/0'").Error)
	in.engine = engineOn(t, s) // it has read nothing yet
	got, err := in.Take(ctx, "mon", report("k", alert.Minor))
	require.NoError(t, err)
	assert.Equal(t, alert.Better, got.Change)
}

// A start that waits and cannot be begun is given up, with a sentence; those beside it begin.
func TestOneStartThatCannotBeBegunHarmsNoOther(t *testing.T) {
	in, s := open(t)
	ctx := context.Background()
	_, _, err := s.PushRunbook(ctx, steadyBook, "iva")
	require.NoError(t, err)
	for _, k := range []string{"a", "b"} {
		_, err = in.Take(ctx, "mon", report(k, alert.Major))
		require.NoError(t, err)
	}
	require.NoError(t, testdb.SQL(s).Exec("alter table run add constraint refuses check (incident <> 1)").Error)
	require.NoError(t, testdb.SQL(s).Exec("update starting set due = now() - interval '1 second'").Error)
	require.Eventually(t, func() bool {
		var left, runs int
		require.NoError(t, testdb.SQL(s).Raw("select count(*) from starting").Scan(&left).Error)
		require.NoError(t, testdb.SQL(s).Raw("select count(*) from run where incident = 2").Scan(&runs).Error)
		return left == 0 && runs == 1
	}, time.Minute, 20*time.Millisecond)
	assert.Contains(t, told(t, s, 1), "run.refused")
}

// An open alert whose incident was closed is heard: worse at once, going on after the quiet time.
func TestAnAlertOfAClosedIncidentIsHeard(t *testing.T) {
	in, s := open(t)
	ctx := context.Background()
	_, _, err := s.PushRunbook(ctx, book, "iva")
	require.NoError(t, err)
	require.NoError(t, testdb.Room(s, "room", "http://127.0.0.1:1/"))
	take := func(sev alert.Severity) Taken {
		got, err := in.Take(ctx, "mon", report("k", sev))
		require.NoError(t, err)
		return got
	}
	runs := func() (n int) {
		require.NoError(t, testdb.SQL(s).Raw("select count(*) from run").Scan(&n).Error)
		return n
	}
	state := func() (st string) {
		require.NoError(t, testdb.SQL(s).Raw("select state from incident").Scan(&st).Error)
		return st
	}
	closeIt := func(ago string) {
		require.NoError(
			t,
			testdb.SQL(s).Exec("update incident set state = 'closed', closed_at = now() - ?::interval", ago).Error,
		)
	}
	messages := func() (n int) {
		require.NoError(t, testdb.SQL(s).Raw("select count(*) from notice").Scan(&n).Error)
		return n
	}
	take(alert.Major)
	assert.Equal(t, 1, runs())
	closeIt("1 minute")
	told0 := messages()
	take(alert.Major)
	assert.Equal(t, "closed", state(), "within the quiet time it is what was closed")
	assert.Equal(t, told0, messages())

	take(alert.Critical)
	assert.Equal(t, "open", state())
	assert.Equal(t, 2, runs(), "the start for critical")
	assert.Greater(t, messages(), told0)
	assert.Contains(t, told(t, s, 1), "incident.reopened")

	closeIt("16 minutes")
	told1 := messages()
	take(alert.Critical)
	assert.Equal(t, "open", state(), "it is still there")
	assert.Equal(t, 3, runs(), "what matches starts again")
	assert.Greater(t, messages(), told1)
	take(alert.Critical)
	assert.Equal(t, 3, runs(), "once")

	require.NoError(
		t,
		testdb.SQL(s).
			Exec("insert into service (name, title, owner, stance, quiet_minutes) values ('slow', '', 'o', 'ask', 60)").
			Error,
	)
	require.NoError(t, testdb.SQL(s).Exec("update alert set service = 'slow'").Error)
	closeIt("16 minutes")
	take(alert.Critical)
	assert.Equal(t, "closed", state(), "the service says an hour")
	closeIt("61 minutes")
	take(alert.Critical)
	assert.Equal(t, "open", state())
	_, err = s.Verify(ctx, 1)
	assert.NoError(t, err)
}

// What opens a closed incident again counts each report that came with it, with what they started then.
func TestReportsThatOpenAnIncidentAgainAreCounted(t *testing.T) {
	in, s := open(t)
	_, _, err := s.PushRunbook(context.Background(), book, "iva")
	require.NoError(t, err)
	_, err = in.Take(context.Background(), "mon", report("k", alert.Major))
	require.NoError(t, err)
	require.NoError(t, testdb.SQL(s).Exec("update incident set state = 'closed', closed_at = now() - interval "+
		"'1 day'").Error)
	require.NoError(t, testdb.SQL(s).Exec("update run set ended_at = now(), state = 'done'").Error)
	items := make([]*item, 4)
	for i := range items {
		items[i] = &item{source: "mon", report: report("k", alert.Major), times: 2, answer: make(chan Outcome, 1)}
	}
	in.keep(items)
	for _, it := range items {
		require.NoError(t, (<-it.answer).Err)
	}
	var got struct {
		Count    int
		Verdicts string
		State    string
	}
	require.NoError(t, testdb.SQL(s).Raw("select a.count, a.verdicts::text as verdicts, i.state from alert a "+
		"join incident i on i.number = a.incident").Scan(&got).Error)
	assert.Equal(t, 9, got.Count)
	assert.Equal(t, "open", got.State)
	assert.Contains(t, got.Verdicts, `"started": true`)
}
func TestARunBegunInABatchHearsWhatComesInIt(t *testing.T) {
	in, s := open(t)
	_, _, err := s.PushRunbook(context.Background(), book, "iva")
	require.NoError(t, err)
	var items []*item
	for _, sev := range []alert.Severity{alert.Major, alert.Major, alert.Cleared} {
		items = append(items, &item{source: "mon", report: report("k", sev), times: 1, answer: make(chan Outcome, 1)})
	}
	in.keep(items)
	var heard []string
	require.NoError(t, testdb.SQL(s).Raw("select body from event where body like '%cleared%'").Scan(&heard).Error)
	assert.Len(t, heard, 1)
}

// A source that falls silent is an alert of ours; it ends when the source is heard again, or expects nothing any more.
// What nobody was there to hear is no silence.
func TestASilentSourceIsAnAlert(t *testing.T) {
	in, s := open(t)
	ctx := context.Background()
	says := "urgentis: source/1\nname: mon\nsilent_after: 10m\n"
	require.NoError(t, s.In(ctx).SetSourceText("mon", says))
	require.NoError(t, s.In(ctx).SetSourceText("quiet", "urgentis: source/1\nname: quiet\n"))
	quiet := func(minutes int) {
		require.NoError(t, testdb.SQL(s).Exec(
			"update source set added_at = now() - interval '1 day', last_alert_at = now() - ? * interval '1 minute'",
			minutes).Error)
	}
	silent, expected := map[string]bool{}, map[string]expectation{}
	alerts := func() []store.Alert {
		require.NoError(t, in.hear(ctx, silent, expected))
		list, err := s.In(ctx).Alerts(access.Scope{All: true}, store.WhichAlerts{State: "open"}, store.Place{}, 10)
		require.NoError(t, err)
		return list
	}
	quiet(20)
	assert.Empty(t, alerts(), "this instance has not listened for so long")
	in.since = time.Now().Add(-15 * time.Minute)
	list := alerts()
	require.Len(t, list, 1)
	assert.Equal(t, "Nothing was heard of the source mon for 15m", list[0].Summary)
	assert.Equal(t, "urgentis", list[0].Source)
	require.Len(t, alerts(), 1)
	assert.EqualValues(t, 1, alerts()[0].Count, "it is said once")

	// Another instance, which knows nothing yet, says the same alert.
	require.NoError(t, in.hear(ctx, map[string]bool{}, map[string]expectation{}))
	require.Len(t, alerts(), 1)
	// One that begins to listen now has not heard it either, and does not say so.
	since := in.since
	in.since = time.Now()
	require.NoError(t, in.hear(ctx, map[string]bool{}, map[string]expectation{}))
	in.since = since
	require.Len(t, alerts(), 1)
	_, err := in.Take(ctx, "mon", report("k", alert.Minor))
	require.NoError(t, err)
	list = alerts()
	require.Len(t, list, 1)
	assert.Equal(t, "mon", list[0].Source, "it is heard again")

	quiet(20)
	assert.Len(t, alerts(), 2)
	require.NoError(t, s.In(ctx).SetSourceText("mon", "urgentis: source/1\nname: mon\n"))
	assert.Len(t, alerts(), 1, "it may be silent now")
}
