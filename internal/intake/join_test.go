package intake

import (
	"context"
	"fmt"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"urgentis/core/alert"
	"urgentis/internal/store"
	"urgentis/internal/testdb"
)

func of(service, key string, sev alert.Severity) alert.Report {
	r := report(key, sev)
	r.Service, r.Summary = service, fmt.Sprint(key, " is ", sev)
	return r
}

// Alerts of a service are one incident, whose title and severity are those of the worst; what comes later is another.
func TestAlertsOfAServiceJoin(t *testing.T) {
	in, s := open(t)
	ctx := context.Background()
	take := func(r alert.Report) int64 {
		taken, err := in.Take(ctx, "mon", r)
		require.NoError(t, err)
		return taken.Incident
	}
	first := take(of("quay", "a", alert.Minor))
	assert.Equal(t, first, take(of("quay", "b", alert.Critical)))
	other := take(of("fuel", "c", alert.Minor))
	assert.NotEqual(t, first, other)
	assert.NotEqual(
		t,
		take(of("", "d", alert.Minor)),
		take(of("", "e", alert.Minor)),
		"what says no service joins nothing",
	)
	head := func() *store.Incident {
		i, err := s.In(ctx).Incident(first)
		require.NoError(t, err)
		return i
	}
	assert.Equal(t, "b is critical", head().Title)
	assert.Equal(t, "critical", head().Severity)
	assert.EqualValues(t, 2, head().Alerts)
	take(of("quay", "a", alert.Major))
	assert.Equal(t, "b is critical", head().Title, "worse, and not the worst")
	take(of("quay", "b", alert.Cleared))
	assert.Equal(t, "a is major", head().Title)
	assert.Equal(t, "major", head().Severity)
	_, err := s.Verify(ctx, first)
	require.NoError(t, err)

	// After the time within which alerts join, another incident begins.
	require.NoError(
		t,
		testdb.SQL(s).Exec("update incident_key set until = now() - interval '1 second' where incident = ?",
			first).Error,
	)
	later := take(of("quay", "late", alert.Minor))
	assert.NotEqual(t, first, later)
	assert.Equal(t, later, take(of("quay", "later", alert.Minor)), "the newest one is joined")

	// A condition that comes back soon after its incident was closed opens that again.
	take(of("fuel", "c", alert.Cleared))
	require.NoError(
		t,
		testdb.SQL(s).Exec("update incident set state = 'closed', closed_at = now() where number = ?",
			other).Error,
	)
	assert.NotEqual(t, other, take(of("fuel", "x", alert.Minor)), "another condition is another matter")
	require.NoError(
		t,
		testdb.SQL(s).Exec("update incident set state = 'closed', closed_at = now() where state = 'open' "+
			"and service = 'fuel'").Error,
	)
	assert.Equal(t, other, take(of("fuel", "c", alert.Minor)))
	i, err := s.In(ctx).Incident(other)
	require.NoError(t, err)
	assert.Equal(t, "open", i.State)
}

const alongThePier = `urgentis: join/1
name: along-the-pier
by: [alert.service]
within: 10m
also: [depends_on, needed_by]
`

// What one service needs and another lacks is one trouble: in whichever order their alerts come, also at once.
func TestAlertsJoinAlongDependencies(t *testing.T) {
	in, s := open(t)
	ctx := context.Background()
	require.NoError(t, testdb.SQL(s).Create(&[]store.Service{
		{Name: "gates", Owner: "o", Stance: "ask", DependsOn: []string{"fares"}},
		{Name: "kiosks", Owner: "o", Stance: "ask", DependsOn: []string{"fares"}},
		{Name: "fares", Owner: "o", Stance: "ask"},
	}).Error)
	push(t, s, alongThePier)
	take := func(service, key string) int64 {
		taken, err := in.Take(ctx, "mon", of(service, key, alert.Major))
		require.NoError(t, err)
		return taken.Incident
	}
	over := func() {
		require.NoError(t, testdb.SQL(s).Exec("update alert set state = 'cleared'").Error)
		require.NoError(t, testdb.SQL(s).Exec("update incident_key set until = now() - interval '1 second'").Error)
	}
	effect := take("gates", "g1")
	other := take("kiosks", "k1")
	assert.Equal(t, effect+1, other, "two that need the same third are not near by that alone; no number is left out")
	assert.Equal(t, effect, take("fares", "f1"), "the cause is seen after its effect")
	assert.Equal(t, effect, take("gates", "g2"))
	assert.Equal(t, other, take("kiosks", "k2"))
	over()
	effect = take("fares", "f3")
	assert.Equal(t, effect, take("gates", "g3"), "the effect is seen after its cause")
	assert.Equal(t, effect, take("kiosks", "k3"), "the cause of both is in it")
	i := &store.Incident{Title: "Fares are slow", Severity: "major", Service: "fares"}
	over()
	require.NoError(t, in.OpenByHand(ctx, i, "mara", func(*store.Tx) error { return nil }))
	assert.Equal(t, i.Number, take("fares", "f2"), "one that was opened by hand")

	over()
	var wg sync.WaitGroup
	for n := range 20 {
		wg.Go(func() { take([]string{"gates", "fares"}[n%2], fmt.Sprint("at-once-", n)) })
	}
	wg.Wait()
	var count int
	require.NoError(t, testdb.SQL(s).Raw(`select count(distinct incident) from alert where key like 'at-once-%'`).
		Scan(&count).Error)
	assert.Equal(t, 1, count)
}

// Where alerts could join more incidents than can be looked for at once, they are taken one by one.
func TestManyDependenciesAtOnce(t *testing.T) {
	in, s := open(t)
	var services []store.Service
	var list []alert.Report
	for n := range 40 {
		hub := store.Service{Name: fmt.Sprint("hub-", n), Owner: "o", Stance: "ask"}
		for d := range 30 {
			hub.DependsOn = append(hub.DependsOn, fmt.Sprintf("d-%d-%d", n, d))
		}
		services = append(services, hub)
		list = append(list, of(hub.Name, fmt.Sprint("k", n), alert.Major))
	}
	require.NoError(t, testdb.SQL(s).Create(&services).Error)
	push(t, s, alongThePier)
	items := make([]*item, len(list))
	for i, r := range list {
		items[i] = &item{source: "mon", report: r, times: 1, answer: make(chan Outcome, 1)}
	}
	in.keep(items)
	incidents := map[int64]bool{}
	for _, it := range items {
		o := <-it.answer
		require.NoError(t, o.Err)
		incidents[o.Taken.Incident] = true
	}
	assert.Len(t, incidents, 40)
}

const perLabel = `urgentis: join/1
name: by-rack
when: alert.source == "mon"
by: [alert.labels.a]
within: 10m
`

// A storm of one outage is one incident; what it would start thousands of times starts once for each thing, and is
// counted.
func TestAStormIsOneIncident(t *testing.T) {
	in, s := open(t)
	ctx := context.Background()
	push(
		t,
		s,
		simple,
		perLabel,
		besides("alert: alert.source == \"mon\"\ninputs: {what: \"{{ alert.labels.what }}\"}\n"),
	)
	const n = 1000
	var senders sync.WaitGroup
	begin := time.Now()
	for c := range 20 {
		senders.Go(func() {
			var list []alert.Report
			for i := range n / 20 {
				r := of(fmt.Sprint("s", i), fmt.Sprint(c, "-", i), alert.Major)
				r.Labels = map[string]string{"a": "rack 7", "what": fmt.Sprint("w", i%3)}
				list = append(list, r)
			}
			_, err := in.TakeAll(ctx, "mon", list)
			assert.NoError(t, err)
		})
	}
	senders.Wait()
	t.Log(time.Since(begin))
	var incidents, alerts, runs, already int
	raw := func(sql string, into *int) { require.NoError(t, testdb.SQL(s).Raw(sql).Scan(into).Error) }
	raw("select count(*) from incident", &incidents)
	raw("select count(*) from alert", &alerts)
	raw("select count(*) from run", &runs)
	raw("select count(*) from firing where result = 'already'", &already)
	assert.Equal(t, 1, incidents)
	assert.Equal(t, n, alerts)
	assert.Equal(t, 3, runs, "once for each input")
	assert.Equal(t, n-3, already, "each other one is counted")
	got, err := s.Verify(ctx, 1)
	require.NoError(t, err)
	assert.Positive(t, got)
}

// Whatever comes in whatever order, each alert has one incident, incidents hold what their keys say, and every record
// is whole.
func TestJoinsAgainstASlowReference(t *testing.T) {
	in, s := open(t)
	ctx := context.Background()
	turn := 0
	rapid.Check(t, func(t *rapid.T) {
		turn++
		expected := map[string]int64{} // by service
		open := map[string]alert.Severity{}
		for range rapid.IntRange(1, 25).Draw(t, "reports") {
			service := fmt.Sprint(turn, rapid.SampledFrom([]string{"a", "b"}).Draw(t, "service"))
			key := fmt.Sprint(service, rapid.IntRange(0, 4).Draw(t, "key"))
			sev := rapid.SampledFrom([]alert.Severity{alert.Minor, alert.Major, alert.Critical, alert.Cleared}).
				Draw(t, "severity")
			taken, err := in.Take(ctx, "mon", of(service, key, sev))
			require.NoError(t, err)
			if sev == alert.Cleared && open[key] == "" {
				continue
			}
			if open[key] = sev; sev == alert.Cleared {
				delete(open, key)
			}
			if was, ok := expected[service]; ok {
				require.Equal(t, was, taken.Incident)
			}
			expected[service] = taken.Incident
		}
		for service, number := range expected {
			i, err := s.In(ctx).Incident(number)
			require.NoError(t, err)
			worst := ""
			for key, sev := range open {
				if key[:len(service)] == service && alert.Worth(string(sev)) > alert.Worth(worst) {
					worst = string(sev)
				}
			}
			if worst != "" {
				require.Equal(t, worst, i.Severity, service)
			}
			_, err = s.Verify(ctx, number)
			require.NoError(t, err)
		}
	})
}

// An incident that is over is closed by itself, but for one that somebody holds or that waits for a person's word.
func TestWhatIsOverIsClosed(t *testing.T) {
	in, s := open(t)
	ctx := context.Background()
	raise := func(service string) int64 {
		taken, err := in.Take(ctx, "mon", of(service, service, alert.Minor))
		require.NoError(t, err)
		return taken.Incident
	}
	over, held, waits, still := raise("over"), raise("held"), raise("waits"), raise("still")
	for _, service := range []string{"over", "held", "waits"} {
		_, err := in.Take(ctx, "mon", of(service, service, alert.Cleared))
		require.NoError(t, err)
	}
	require.NoError(t, in.closeQuiet(ctx))
	state := func(n int64) string {
		i, err := s.In(ctx).Incident(n)
		require.NoError(t, err)
		return i.State + " " + i.Outcome
	}
	assert.Equal(t, "open ", state(over), "it has been over for a moment only")
	sql := testdb.SQL(s)
	require.NoError(t, sql.Exec("update alert set cleared_at = now() - interval '11 minutes'").Error)
	require.NoError(t, sql.Exec("update incident set holder = 'mara' where number = ?", held).Error)
	require.NoError(t, sql.Exec("update incident set waiting_on = 'approval' where number = ?", waits).Error)
	require.NoError(t, in.closeQuiet(ctx))
	assert.Equal(t, "closed cleared-itself", state(over))
	for _, n := range []int64{held, waits, still} {
		assert.Equal(t, "open ", state(n))
	}
	_, err := s.Verify(ctx, over)
	require.NoError(t, err)
}

// Alerts of a source that says so are over when nothing reports them any more.
func TestAlertsThatNothingReportsAreOver(t *testing.T) {
	in, s := open(t)
	ctx := context.Background()
	taken, err := in.Take(ctx, "mon", of("quay", "a", alert.Minor))
	require.NoError(t, err)
	in.since = in.since.Add(-time.Hour)
	expected := map[string]expectation{"mon": {over: 10 * time.Minute}, "other": {}}
	require.NoError(t, in.endQuiet(ctx, expected))
	a, err := s.In(ctx).Alert(taken.Alert)
	require.NoError(t, err)
	assert.Equal(t, "open", a.State)
	require.NoError(t, testdb.SQL(s).Exec("update alert set last_at = now() - interval '11 minutes'").Error)
	require.NoError(t, in.endQuiet(ctx, expected))
	a, err = s.In(ctx).Alert(taken.Alert)
	require.NoError(t, err)
	assert.Equal(t, "cleared", a.State)
	assert.EqualValues(t, 1, a.Count, "nobody reported it")
	entries, err := s.In(ctx).Entries(taken.Incident, 0, 10)
	require.NoError(t, err)
	last := entries[len(entries)-1]
	assert.Equal(t, "urgentis", last.Actor)
	assert.Contains(t, *last.Content, "nothing reported it again for 10m")
}
