package app_test

import (
	"fmt"
	"slices"
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

// later lets time go on for all that decides what joins.
func later(t require.TestingT, a *site, by time.Duration) {
	for _, c := range [][2]string{
		{"incident_key", "until"}, {"alert", "first_at"}, {"alert", "last_at"}, {"alert", "cleared_at"},
		{"incident", "opened_at"}, {"incident", "closed_at"}, {"incident", "held_at"}, {"incident", "wanted_at"},
		{"incident", "severity_at"}, {"alert", "since"}, {"alert", "treated_at"}, {"alert", "muted_until"},
		{"starting", "due"}, {"attention", "due"}, {"notice", "at"}, {"notice", "since"}, {"notice", "look_at"},
		{"notice", "rung_since"}, {"delivery", "queued_at"},
	} {
		require.NoError(t, testdb.SQL(a.Store).Exec(fmt.Sprintf("update %s set %[2]s = %[2]s - ? * interval '1 second'",
			c[0], c[1]), by.Seconds()).Error)
	}
}

// cleared reports that a condition is over.
func cleared(t require.TestingT, a *site, service, key string) {
	_, err := a.Intake.Take(ctx, "mon", alert.Report{Key: key, Service: service, Severity: alert.Cleared})
	require.NoError(t, err)
}

// What is part of another incident is part of all that is part of, and goes on to be.
func TestMergesOfMergesAreOneIncident(t *testing.T) {
	a := open(t)
	_, one := raised(t, a, "north", "ramp", alert.Major)
	_, two := raised(t, a, "south", "lamp", alert.Minor)
	_, three := raised(t, a, "east", "door", alert.Minor)
	for _, m := range [][2]int64{{one, two}, {two, three}} {
		_, err := a.Merge(ctx, mara, m[0], m[1], "one cable")
		require.NoError(t, err)
	}
	_, n := raised(t, a, "north", "bell", alert.Minor)
	assert.Equal(t, three, n)
	for i := range 4 {
		later(t, a, 10*time.Minute)
		_, n = raised(t, a, "north", fmt.Sprint("bell of ", string(rune('a'+i))), alert.Minor)
		assert.Equal(t, three, n, "each alert keeps what it joined by")
	}
}

// A condition that is reported again soon after its incident was closed opens that again, whichever way it came there.
func TestWhatComesBackOpensItsIncidentAgain(t *testing.T) {
	a := open(t)
	require.NoError(t, testdb.SQL(a.Store).Create(&[]store.Service{
		{Name: "gates", Owner: "o", Stance: "ask", DependsOn: []string{"fares"}}, {Name: "fares", Owner: "o", Stance: "ask"},
	}).Error)
	_, err := a.Push(ctx, iva, pushing("urgentis: join/1\nname: pier\nwhen: alert.service in [\"gates\", \"fares\"]\n"+
		"by: [alert.service]\nwithin: 15m\nalso: [depends_on]\n"))
	require.NoError(t, err)
	back := func(service, key string, was int64) {
		t.Helper()
		cleared(t, a, service, key)
		if i, err := a.Store.In(ctx).Incident(was); err == nil && i.State == "open" {
			_, err = a.CloseIncident(ctx, mara, was, "repaired-by-hand", "done")
			require.NoError(t, err)
		}
		later(t, a, time.Minute)
		_, n := raised(t, a, service, key, alert.Minor)
		assert.Equal(t, was, n, "%s of %q", key, service)
		i, err := a.Store.In(ctx).Incident(n)
		require.NoError(t, err)
		assert.Equal(t, "open", i.State)
	}
	_, fares := raised(t, a, "fares", "slow", alert.Major)
	_, gates := raised(t, a, "gates", "shut", alert.Major)
	require.Equal(t, fares, gates)
	back("gates", "shut", fares)

	_, one := raised(t, a, "north", "ramp", alert.Major)
	_, two := raised(t, a, "south", "lamp", alert.Minor)
	_, err = a.Merge(ctx, mara, one, two, "one cable")
	require.NoError(t, err)
	back("north", "ramp", two)

	_, own := raised(t, a, "", "lonely", alert.Minor)
	back("", "lonely", own)
}

// What was split off is a matter of its own also when it comes back while that is open.
func TestWhatWasSplitOffComesBackThere(t *testing.T) {
	a := open(t)
	_, one := raised(t, a, "north", "ramp", alert.Major)
	lamp, same := raised(t, a, "north", "lamp", alert.Minor)
	require.Equal(t, one, same)
	off, err := a.Split(ctx, mara, one, []string{lamp}, "another matter")
	require.NoError(t, err)
	cleared(t, a, "north", "lamp")
	_, n := raised(t, a, "north", "lamp", alert.Minor)
	assert.Equal(t, off.Number, n)
	_, n = raised(t, a, "north", "gate", alert.Minor)
	assert.Equal(t, one, n, "what else its service suffers is where it was")
}

// An alert that is open keeps its incident open to what tells of the same, however long; to all else of its service for
// a while only.
func TestAnOpenAlertIsJoinedByItsLike(t *testing.T) {
	a := open(t)
	_, one := raised(t, a, "north", "disk of quay-1", alert.Minor)
	later(t, a, 16*time.Minute)
	_, n := raised(t, a, "north", "disk of quay-2", alert.Minor)
	assert.Equal(t, one, n)
	later(t, a, 16*time.Minute)
	_, n = raised(t, a, "north", "power", alert.Major)
	assert.NotEqual(t, one, n, "what goes on for long does not take in the next outage")

	_, south := raised(t, a, "south", "disk of hall-1", alert.Minor)
	_, err := a.CloseIncident(ctx, mara, south, "false-alarm", "no")
	require.NoError(t, err)
	later(t, a, 16*time.Minute)
	_, err = a.Reopen(ctx, mara, south, "yes")
	require.NoError(t, err)
	_, n = raised(t, a, "south", "current", alert.Minor)
	assert.Equal(t, south, n, "one that was opened again by hand")
}

// Incidents are merged and split while their alerts come in. No alert is left behind in an incident that is part of
// another, none is counted where it is not, no report is refused, and those that tell of the same are in one.
func TestMergingAndSplittingUnderAStorm(t *testing.T) {
	a := open(t)
	const services, writers, rounds = 6, 4, 12
	var storm, people sync.WaitGroup
	over := make(chan struct{})
	for w := range writers {
		storm.Go(func() {
			for i := 0; ; i++ {
				select {
				case <-over:
					return
				default:
				}
				var list []alert.Report
				for n := range 8 {
					key := fmt.Sprintf("%s-%d-%d", []string{"ramp", "lamp"}[n%2], w, (i*8+n)%40)
					sev := []alert.Severity{alert.Major, alert.Minor, alert.Critical, alert.Cleared}[(i+n)%4]
					list = append(list, alert.Report{Key: key, Service: fmt.Sprint("s", (i+n)%services), Severity: sev,
						Summary: key, Labels: map[string]string{}})
				}
				_, err := a.Intake.TakeAll(ctx, "mon", list)
				assert.NoError(t, err)
			}
		})
	}
	merged, split := 0, 0
	people.Go(func() {
		// A busy machine needs more of them until enough came about.
		for n := 0; n < rounds || merged <= rounds/2 && n < 20*rounds; n++ {
			time.Sleep(20 * time.Millisecond)
			list, _, err := a.Incidents(ctx, mara, store.WhichIncidents{State: "open"}, 0, 20)
			assert.NoError(t, err)
			if len(list) == 0 {
				continue
			}
			if len(list) >= 2 {
				if _, err := a.Merge(ctx, mara, list[0].Number, list[len(list)-1].Number, "one cable"); err == nil {
					merged++
				} else {
					assert.ErrorContains(t, err, "must be open")
				}
			}
			i, err := a.Incident(ctx, mara, list[len(list)-1].Number)
			assert.NoError(t, err)
			if len(i.Alerts) > 2 {
				if _, err := a.Split(ctx, mara, i.Head.Number, []string{i.Alerts[0].ID}, "another"); err == nil {
					split++
				}
			}
		}
	})
	people.Wait()
	close(over)
	storm.Wait()
	assert.Greater(t, merged, rounds/2)
	assert.Positive(t, split)
	whole(t, a)
	for says, query := range map[string]string{
		"alerts of one key, open in several open incidents": `select count(*) from (select a.join_key from alert a
			join incident i on i.number = a.incident and i.state = 'open' where a.state = 'open' and a.join_key <> ''
			group by 1 having count(distinct a.incident) > 1) x`,
		"an alert that keeps a key alive which leads elsewhere": `select count(*) from alert a join incident_key k
			on k.key = a.join_key join incident i on i.number = a.incident
			where a.state = 'open' and i.state = 'open' and k.incident <> a.incident`,
	} {
		none(t, a, says, query) // no incident was opened again here
	}
}

func none(t require.TestingT, a *site, says, query string) {
	var n int
	require.NoError(t, testdb.SQL(a.Store).Raw(query).Scan(&n).Error)
	require.Zero(t, n, says)
}

// whole checks what holds of alerts, incidents and keys, whatever came before.
func whole(t require.TestingT, a *site) {
	for says, query := range map[string]string{
		"an alert in an incident that is part of another": `select count(*) from alert a
			join incident i on i.number = a.incident where i.merged_into is not null`,
		"an incident that counts others than its alerts": `select count(*) from incident i
			where i.alerts <> (select count(*) from alert a where a.incident = i.number)`,
		"a key that leads to a part of another": `select count(*) from incident_key k
			join incident i on i.number = k.incident where i.merged_into is not null`,
	} {
		none(t, a, says, query)
	}
}

// ref is what joins what, by lists and nothing else.
type ref struct {
	now    time.Duration
	alerts []*refAlert
	open   map[int64]bool
	closed map[int64]time.Duration
	leads  map[string]refKey
}

type refKey struct {
	incident int64
	until    time.Duration
}

type refAlert struct {
	id                 string
	service, key, kind string
	incident           int64
	open, holds        bool
}

func (r *ref) alive(key string) int64 {
	k, ok := r.leads[key]
	if !ok || !r.open[k.incident] {
		return 0
	}
	holds := slices.ContainsFunc(r.alerts, func(x *refAlert) bool {
		return x.open && x.holds && x.service+":"+x.kind == key && x.incident == k.incident
	})
	if k.until >= r.now || holds {
		return k.incident
	}
	return 0
}

// raise tells which incident a new alert goes to; 0 is a new one.
func (r *ref) raise(service, key, kind string) int64 {
	last := int64(0)
	for _, x := range r.alerts {
		if x.key == key {
			last = x.incident
		}
	}
	if r.open[last] {
		return last
	}
	if n := r.alive(service + ":" + kind); n != 0 {
		return n
	}
	if at, ok := r.closed[last]; ok && r.now-at <= 15*time.Minute {
		return last
	}
	return r.alive(service)
}

func (r *ref) raised(id, service, key, kind string, n int64) {
	if _, was := r.closed[n]; was { // it is open again
		delete(r.closed, n)
		for k, l := range r.leads {
			if l.incident == n {
				r.leads[k] = refKey{n, r.now + 15*time.Minute}
			}
		}
	}
	r.open[n] = true
	x := &refAlert{id: id, service: service, key: key, kind: kind, incident: n, open: true}
	for _, k := range []string{service + ":" + kind, service} {
		if was := r.alive(k); was == 0 || was == n {
			x.holds = x.holds || k != service
			r.leads[k] = refKey{n, r.now + 15*time.Minute}
		}
	}
	r.alerts = append(r.alerts, x)
}

func (r *ref) clear(key string) {
	for _, x := range r.alerts {
		if x.key == key && x.open {
			x.open = false
			if k := x.service + ":" + x.kind; x.holds && r.leads[k].incident == x.incident {
				r.leads[k] = refKey{x.incident, r.now + 15*time.Minute}
			}
		}
	}
}

// Whatever is reported, merged, split, closed and waited for: each new alert goes where the plain reference says.
func TestJoinsAgainstAPlainReference(t *testing.T) {
	a := open(t)
	turn := 0
	rapid.Check(t, func(t *rapid.T) {
		turn++
		r := &ref{open: map[int64]bool{}, closed: map[int64]time.Duration{}, leads: map[string]refKey{}}
		pick := func(what string) int64 {
			var list []int64
			for n := range r.open {
				list = append(list, n)
			}
			slices.Sort(list)
			return list[rapid.IntRange(0, len(list)-1).Draw(t, what)]
		}
		for range rapid.IntRange(1, 24).Draw(t, "acts") {
			service := fmt.Sprint("t", string(rune('a'+turn/26%26)), string(rune('a'+turn%26)), "-",
				rapid.SampledFrom([]string{"north", "south"}).Draw(t, "service"))
			kind := rapid.SampledFrom([]string{"disk", "power"}).Draw(t, "kind")
			key := fmt.Sprint(service, " ", kind, " ", rapid.IntRange(1, 2).Draw(t, "key"))
			switch act := rapid.SampledFrom([]string{"raise", "raise", "raise", "clear", "wait", "close", "merge",
				"split"}).Draw(t, "act"); {
			case act == "raise":
				if slices.ContainsFunc(r.alerts, func(x *refAlert) bool { return x.key == key && x.open }) {
					continue
				}
				want := r.raise(service, key, kind)
				id, n := raised(t, a, service, key, alert.Minor)
				if want == 0 {
					require.False(t, r.open[n], "%s joined %d, and should have opened one", key, n)
					require.NotContains(t, r.closed, n)
				} else {
					require.Equal(t, want, n, key)
				}
				r.raised(id, service, key, kind, n)
			case act == "clear":
				cleared(t, a, service, key)
				r.clear(key)
			case act == "wait":
				by := rapid.SampledFrom([]time.Duration{4 * time.Minute, 16 * time.Minute}).Draw(t, "by")
				// What waits for a word is not closed by itself meanwhile.
				require.NoError(t, testdb.SQL(a.Store).Exec("update incident set waiting_on = 'approval'").Error)
				later(t, a, by)
				r.now += by
			case len(r.open) == 0:
			case act == "close":
				n := pick("incident")
				_, err := a.CloseIncident(ctx, mara, n, "repaired-by-hand", "done")
				require.NoError(t, err)
				delete(r.open, n)
				r.closed[n] = r.now
			case act == "merge":
				from, into := pick("from"), pick("into")
				if from == into {
					continue
				}
				_, err := a.Merge(ctx, mara, from, into, "one")
				require.NoError(t, err)
				delete(r.open, from)
				for _, x := range r.alerts {
					if x.incident == from {
						x.incident = into
					}
				}
				for k, l := range r.leads {
					if l.incident == from {
						r.leads[k] = refKey{into, l.until}
					}
				}
			case act == "split":
				n := pick("incident")
				i, err := a.Incident(ctx, mara, n)
				require.NoError(t, err)
				if len(i.Alerts) < 2 {
					continue
				}
				x := i.Alerts[0]
				off, err := a.Split(ctx, mara, n, []string{x.ID}, "another")
				require.NoError(t, err)
				r.open[off.Number] = true
				for _, y := range r.alerts {
					if y.id == x.ID {
						y.incident, y.holds = off.Number, false
					}
				}
			}
		}
		whole(t, a)
	})
}

// How it went before is what runs said of the alerts that they were begun for, and not how incidents ended: what came
// back soon was not repaired, and what no run was begun for is to no runbook's credit.
func TestHowItWentBefore(t *testing.T) {
	a := open(t)
	sql := testdb.SQL(a.Store)
	treated := func(run, alert, outcome string, n int64) {
		require.NoError(t, sql.Exec(`insert into run (id, runbook, title, revision, incident, state, started_by, begun_at,
			ended_at) values (?, ?, '', '', ?, 'done', 'x', now(), now())`, run, "mend-"+run, n).Error)
		require.NoError(t, sql.Exec(`insert into treats (run, alert, how, worth, outcome, because, at)
			values (?, ?, 'started', 2, ?, 'said so', now())`, run, alert, outcome).Error)
	}
	ramp, n := raised(t, a, "north", "ramp", alert.Minor)
	lamp, _ := raised(t, a, "north", "lamp", alert.Minor)
	raised(t, a, "north", "door", alert.Critical)
	treated("ramp", ramp, "false-alarm", n)
	treated("lamp", lamp, "repaired", n)
	cleared(t, a, "north", "lamp")
	later(t, a, 5*time.Minute)
	require.NoError(t, sql.Exec("update treats set at = now() - interval '5 minutes'").Error)
	raised(t, a, "north", "lamp", alert.Minor)
	_, err := a.CloseIncident(ctx, mara, n, "repaired-by-hand", "It was the door.")
	require.NoError(t, err)
	list, err := a.Store.In(ctx).PastIncidents("north", 0)
	require.NoError(t, err)
	var says []string
	for _, p := range list {
		says = append(says, p.Key+" "+p.Runbook+" "+p.Outcome+": "+p.Because)
	}
	slices.Sort(says)
	assert.Equal(t, []string{"lamp mend-lamp not-repaired: it came back: said so", "ramp mend-ramp false-alarm: said so"},
		says)
	_, south := raised(t, a, "south", "wind", alert.Minor)
	_, err = a.CloseIncident(ctx, mara, south, "mitigated", "It fell.")
	require.NoError(t, err)
	list, err = a.Store.In(ctx).PastIncidents("south", 0)
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Equal(t, "wind  mitigated", list[0].Key+" "+list[0].Runbook+" "+list[0].Outcome)
}
