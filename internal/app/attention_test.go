package app_test

import (
	"fmt"
	"maps"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"urgentis/core/alert"
	"urgentis/core/route"
	"urgentis/internal/app"
	"urgentis/internal/store"
	"urgentis/internal/stories"
	"urgentis/internal/telling"
	"urgentis/internal/testdb"
)

const watchers = `urgentis: connection/1
name: texts
kind: text
url: http://127.0.0.1:1/
---
urgentis: connection/1
name: mail
kind: mail
server: 127.0.0.1:1
from: urgentis@merrow.example
---
urgentis: team/1
name: quayside
members: [mara, jonas]
rota:
  zone: UTC
  first:
    - {from: 2026-01-05 09:00, every: FREQ=DAILY, people: [mara]}
  second:
    - {from: 2026-01-05 09:00, every: FREQ=DAILY, people: [jonas]}
`

// night is use cases with people who can be called, and one who calls them.
type night struct {
	*site
	t      require.TestingT
	teller *telling.Teller
}

func atNight(t *testing.T, documents string) *night {
	a := open(t)
	if documents != "" {
		require.NoError(t, testdb.Push(a.Store, documents))
	}
	db := testdb.SQL(a.Store)
	for i, p := range []*struct{ name, roles string }{{"mara", "approver operator"}, {"jonas", "responder"}, {"otto", "viewer"}} {
		require.NoError(t, db.Create(&store.Person{Name: p.name, Roles: p.roles, AddedAt: time.Now()}).Error)
		if documents != "" {
			for place, c := range []string{"texts", "mail"} {
				at := time.Now()
				require.NoError(t, db.Create(&store.Contact{Person: p.name, Place: place, Connection: c,
					Address: fmt.Sprintf("%s-%d", p.name, i), VerifiedAt: &at, AddedAt: at}).Error)
			}
		}
	}
	for _, s := range []string{"north", "south"} {
		require.NoError(t, db.Create(&store.Service{Name: s, Owner: "quayside", Stance: "ask"}).Error)
	}
	return &night{a, t, &telling.Teller{Engine: a.Engine, Stories: stories.New()}}
}

// calls are who is called since the last time, after a while.
func (x *night) calls(after time.Duration) []string {
	if after > 0 {
		later(x.t, x.site, after)
	}
	db := testdb.SQL(x.Store)
	var last int64
	require.NoError(x.t, db.Raw("select coalesce(max(id), 0) from delivery").Scan(&last).Error)
	require.NoError(x.t, x.teller.TellDue(ctx))
	var out []string
	require.NoError(x.t, db.Raw("select receiver || ' ' || address from delivery where id > ? and urgent order by id", last).
		Scan(&out).Error)
	return out
}

func TestAWarningThatBecomesCriticalCalls(t *testing.T) {
	x := atNight(t, watchers)
	_, n := raised(t, x.site, "north", "ramp 1", alert.Warning)
	assert.Empty(t, x.calls(0))
	assert.Empty(t, x.calls(time.Hour))
	_, _ = raised(t, x.site, "north", "ramp 1", alert.Critical)
	assert.Equal(t, []string{"mara texts"}, x.calls(0))
	assert.Equal(t, []string{"mara mail"}, x.calls(61*time.Second))
	assert.Equal(t, []string{"jonas texts"}, x.calls(5*time.Minute))
	_, err := x.Hold(ctx, jonas, n, "jonas", "")
	require.NoError(t, err)
	assert.Empty(t, x.calls(time.Hour), "jonas has it")
	// Another critical alert joins: he has not taken that.
	_, same := raised(t, x.site, "north", "ramp 2", alert.Critical)
	require.Equal(t, n, same)
	assert.Equal(t, []string{"jonas texts"}, x.calls(0), "who has it is called first")
	x.calls(61 * time.Second)
	assert.Equal(t, []string{"mara texts"}, x.calls(5*time.Minute), "and then the others")
}

func TestACriticalAlertThatJoinsCalls(t *testing.T) {
	x := atNight(t, watchers)
	_, n := raised(t, x.site, "north", "lamp", alert.Minor)
	assert.Empty(t, x.calls(0))
	_, same := raised(t, x.site, "north", "ramp", alert.Critical)
	require.Equal(t, n, same)
	assert.Equal(t, []string{"mara texts"}, x.calls(0))
	assert.Empty(t, x.calls(10*time.Second), "once")
}

// Handing on calls whom it is handed to, then whoever had it, then the others; a name that nobody has, and somebody who
// may not answer, are refused. Giving back calls anew.
func TestHandingOnAndGivingBackCall(t *testing.T) {
	x := atNight(t, watchers)
	_, n := raised(t, x.site, "north", "ramp", alert.Critical)
	assert.Equal(t, []string{"mara texts"}, x.calls(0))
	_, err := x.Hold(ctx, mara, n, "mara", "")
	require.NoError(t, err)
	assert.Empty(t, x.calls(time.Hour))
	_, err = x.Hold(ctx, mara, n, "mraa", "")
	assert.ErrorContains(t, err, "there is nobody named mraa")
	_, err = x.Hold(ctx, mara, n, "otto", "")
	assert.ErrorContains(t, err, "otto may not answer for an incident")
	_, err = x.Hold(ctx, mara, n, "jonas", "end of my watch")
	require.NoError(t, err)
	assert.Contains(t, x.calls(0), "jonas texts")
	x.calls(61 * time.Second)
	assert.Contains(t, x.calls(5*time.Minute), "mara texts", "jonas does not answer: whoever had it before")
	_, err = x.Hold(ctx, jonas, n, "jonas", "")
	require.NoError(t, err)
	assert.Empty(t, x.calls(24*time.Hour))
	_, err = x.Hold(ctx, jonas, n, "", "I cannot")
	require.NoError(t, err)
	assert.Equal(t, []string{"mara texts"}, x.calls(0), "it is anybody's again")
}

// Split off, opened again, and opened by hand for others: each calls.
func TestWhatBeginsAnewCalls(t *testing.T) {
	x := atNight(t, watchers)
	ramp, n := raised(t, x.site, "north", "ramp", alert.Critical)
	raised(t, x.site, "north", "lamp", alert.Minor)
	x.calls(0)
	_, err := x.Hold(ctx, mara, n, "mara", "")
	require.NoError(t, err)
	off, err := x.Split(ctx, mara, n, []string{ramp}, "another matter")
	require.NoError(t, err)
	assert.Empty(t, off.Holder, "nobody has taken it")
	assert.Equal(t, []string{"mara texts"}, x.calls(0))
	_, err = x.CloseIncident(ctx, mara, off.Number, "false-alarm", "no")
	require.NoError(t, err)
	assert.Empty(t, x.calls(time.Minute))
	_, err = x.Reopen(ctx, jonas, off.Number, "yes")
	require.NoError(t, err)
	assert.Equal(t, []string{"mara texts"}, x.calls(0))
}

// A fresh installation has nobody: that nobody is called stands in the record.
func TestThatNobodyIsThereIsSaid(t *testing.T) {
	x := atNight(t, "")
	_, n := raised(t, x.site, "north", "ramp", alert.Critical)
	assert.Empty(t, x.calls(0))
	var titles []string
	require.NoError(t, testdb.SQL(x.Store).Raw("select title from entry where incident = ? and kind = 'people.unreached'",
		n).Scan(&titles).Error)
	require.Len(t, titles, 1)
	assert.Contains(t, titles[0], "Nobody was told")
	// Once somebody can be called, they are.
	require.NoError(t, testdb.Push(x.Store, watchers))
	at := time.Now()
	require.NoError(t, testdb.SQL(x.Store).Create(&store.Contact{Person: "mara", Connection: "texts", Address: "m",
		VerifiedAt: &at, AddedAt: at}).Error)
	assert.Equal(t, []string{"mara texts"}, x.calls(time.Second))
}

const planned = `urgentis: mute/1
name: planned
when: alert.service == "north"
from: 2026-01-01T00:00:00Z
until: 2099-01-01T00:00:00Z
because: The ramp is painted.
`

// mutes waits until all open alerts of the north are held back, or none is.
func (x *night) mutes(yes bool) {
	require.Eventually(x.t, func() bool {
		var other int
		require.NoError(x.t, testdb.SQL(x.Store).Raw(`select count(*) from alert where state = 'open' and service = 'north'
			and (muted_by <> '') <> ?`, yes).Scan(&other).Error)
		return other == 0
	}, time.Minute, 5*time.Millisecond)
}

// Planned work tells nobody whatever becomes of its alerts, and ends when it is removed: what is there then calls.
func TestPlannedWorkNeitherLeaksNorLasts(t *testing.T) {
	x := atNight(t, watchers)
	require.NoError(t, testdb.Push(x.Store, planned))
	_, n := raised(t, x.site, "north", "ramp", alert.Minor)
	raised(t, x.site, "north", "ramp", alert.Critical)
	assert.Empty(t, x.calls(0), "worse")
	_, err := x.CloseIncident(ctx, mara, n, "false-alarm", "paint")
	require.NoError(t, err)
	later(t, x.site, 16*time.Minute)
	raised(t, x.site, "north", "ramp", alert.Critical)
	assert.Empty(t, x.calls(0), "reported still")
	i, err := x.Store.In(ctx).Incident(n)
	require.NoError(t, err)
	assert.Equal(t, "closed", i.State)
	var told int
	require.NoError(t, testdb.SQL(x.Store).Raw("select count(*) from delivery").Scan(&told).Error)
	assert.Zero(t, told)
	require.NoError(t, testdb.SQL(x.Store).Exec("delete from document where kind = 'mute'").Error)
	x.mutes(false)
	assert.Equal(t, []string{"mara texts"}, x.calls(0))
	// And begins for what is there already.
	require.NoError(t, testdb.Push(x.Store, planned))
	x.mutes(true)
	assert.Empty(t, x.calls(time.Hour))
}

// fate is what an oracle knows of an alert.
type fate struct {
	id, key, service string
	severity         alert.Severity
	incident         int64
	since            int
	open             bool
}

// oracle follows by lists who must be called.
type oracle struct {
	turn   int
	alerts []*fate
	open   map[int64]bool
	closed map[int64]time.Duration
	holder map[int64]string
	taken  map[int64]int
	wanted map[int64]int // since when an incident itself wants somebody
	now    time.Duration
	muted  bool
}

func (o *oracle) mutedNow(f *fate) bool { return o.muted && f.service == "north" }

func (o *oracle) reopen(n int64) {
	o.open[n] = true
	delete(o.closed, n)
	for _, f := range o.alerts {
		if f.incident == n && f.open {
			f.since = o.turn
		}
	}
}

func (o *oracle) hasOpen(n int64) bool {
	return slices.ContainsFunc(o.alerts, func(f *fate) bool { return f.incident == n && f.open })
}

// called reports whether somebody must be called for an incident.
func (o *oracle) called(n int64, severity string) bool {
	if o.open[n] && !o.hasOpen(n) && o.wanted[n] > 0 {
		return route.Bad(severity) && (o.holder[n] == "" || o.wanted[n] > o.taken[n])
	}
	return o.open[n] && slices.ContainsFunc(o.alerts, func(f *fate) bool {
		bad := f.severity == alert.Critical || f.severity == alert.Major
		return f.incident == n && f.open && bad && !o.mutedNow(f) && (o.holder[n] == "" || f.since > o.taken[n])
	})
}

func (o *oracle) find(key string) *fate {
	for _, f := range o.alerts {
		if f.key == key && f.open {
			return f
		}
	}
	return nil
}

// Whatever becomes of alerts and incidents, by whatever way: somebody is called for what is bad, open, unmuted and
// nobody has, and nobody for anything else.
func TestNobodyIsForgottenAndNobodyIsCalledInVain(t *testing.T) {
	for name, documents := range map[string]string{"with a team": watchers, "with nobody": ""} {
		t.Run(name, func(t *testing.T) {
			x := atNight(t, documents)
			round := 0
			rapid.Check(t, func(t *rapid.T) {
				if round++; round > 40 {
					return // each takes a while
				}
				x.t = t
				o := &oracle{open: map[int64]bool{}, closed: map[int64]time.Duration{}, holder: map[int64]string{},
					taken: map[int64]int{}, wanted: map[int64]int{}}
				defer func() {
					// The next round has nothing of this one.
					db := testdb.SQL(x.Store)
					_ = db.Exec("delete from document where kind = 'mute'").Error
					_ = db.Exec("update alert set state = 'cleared', cleared_at = now()").Error
					_ = db.Exec("update incident set state = 'closed', closed_at = now() - interval '1 day'").Error
					_ = db.Exec("delete from incident_key").Error
				}()
				for range rapid.IntRange(1, 14).Draw(t, "acts") {
					o.turn++
					x.act(t, o, round)
					x.judged(t, o)
				}
			})
		})
	}
}

func (x *night) judged(t *rapid.T, o *oracle) {
	x.calls(0)
	for n := range o.open {
		var rows []store.Notice
		require.NoError(t, testdb.SQL(x.Store).Raw(`select * from notice where incident = ? and urgent and thing = ?
			and state in ('open', 'told')`, n, store.OfIncident(n)).Scan(&rows).Error)
		i, err := x.Store.In(ctx).Incident(n)
		require.NoError(t, err)
		if i.State != "open" && !o.hasOpen(n) {
			o.open[n], o.wanted[n] = false, 0 // all of it was over for a while
		}
		require.Equal(t, o.called(n, i.Severity), len(rows) == 1, "incident %d: %v", n, rows)
		var asked []string
		require.NoError(t, testdb.SQL(x.Store).Raw(`select thing from notice where incident = ? and urgent
			and thing like 'holder/%' and state in ('open', 'told')`, n).Scan(&asked).Error)
		if i.State == "open" && i.Holder != "" && i.HeldAt == nil {
			require.Equal(t, []string{"holder/" + i.Holder}, asked, "it is handed on and not taken: incident %d", n)
		} else {
			require.Empty(t, asked, "incident %d", n)
		}
		if len(rows) == 0 {
			continue
		}
		var told int
		require.NoError(t, testdb.SQL(x.Store).Raw(`select count(*) from notice_told t join delivery d on d.id = t.delivery
			where t.notice = ? and d.queued_at >= ?`, rows[0].ID, rows[0].Since).Scan(&told).Error)
		require.True(t, told > 0 || rows[0].Missed != "", "it is said that nobody could be called")
	}
}

func (x *night) act(t *rapid.T, o *oracle, round int) {
	var list []int64
	for n, yes := range o.open {
		if yes {
			list = append(list, n)
		}
	}
	slices.Sort(list)
	act := rapid.SampledFrom([]string{"raise", "raise", "raise", "raise", "clear", "wait", "take", "hand on", "give back",
		"close", "reopen", "merge", "split", "mute"}).Draw(t, "act")
	switch {
	case act == "raise":
		x.raise(t, o, round)
		return
	case act == "mute":
		if o.muted = !o.muted; o.muted {
			require.NoError(t, testdb.Push(x.Store, planned))
		} else {
			require.NoError(t, testdb.SQL(x.Store).Exec("delete from document where kind = 'mute'").Error)
			for _, f := range o.alerts {
				if f.service == "north" && f.open {
					f.since = o.turn
				}
			}
		}
		x.mutes(o.muted)
		return
	case act == "wait":
		by := rapid.SampledFrom([]time.Duration{4 * time.Minute, 16 * time.Minute}).Draw(t, "by")
		later(t, x.site, by)
		o.now += by
		return
	case len(o.alerts) == 0:
		return
	case act == "clear":
		f := rapid.SampledFrom(o.alerts).Draw(t, "alert")
		cleared(t, x.site, f.service, f.key)
		f.open = false
		for _, g := range o.alerts {
			if g.key == f.key {
				g.open = false
			}
		}
		return
	case act == "reopen":
		closed := slices.Sorted(maps.Keys(o.closed))
		if len(closed) == 0 {
			return
		}
		n := rapid.SampledFrom(closed).Draw(t, "closed")
		if _, err := x.Reopen(ctx, jonas, n, "yes"); err == nil {
			o.reopen(n)
			if !o.hasOpen(n) {
				o.wanted[n] = o.turn
			}
		}
		return
	case len(list) == 0:
		return
	}
	n := rapid.SampledFrom(list).Draw(t, "incident")
	i, err := x.Store.In(ctx).Incident(n)
	require.NoError(t, err)
	if i.State != "open" { // all of it was over for a while
		o.open[n] = false
		o.closed[n] = o.now
		return
	}
	x.onOne(t, o, act, n, list)
}

func (x *night) onOne(t *rapid.T, o *oracle, act string, n int64, list []int64) {
	switch act {
	case "take":
		_, err := x.Hold(ctx, jonas, n, "jonas", "")
		require.NoError(t, err)
		o.holder[n], o.taken[n] = "jonas", o.turn
	case "hand on":
		_, err := x.Hold(ctx, jonas, n, "mara", "")
		require.NoError(t, err)
		o.holder[n], o.taken[n] = "mara", 0
	case "give back":
		_, err := x.Hold(ctx, jonas, n, "", "")
		require.NoError(t, err)
		o.holder[n], o.taken[n] = "", 0
	case "close":
		_, err := x.CloseIncident(ctx, mara, n, "repaired-by-hand", "done")
		require.NoError(t, err)
		o.open[n], o.wanted[n] = false, 0
		o.closed[n] = o.now
	case "merge":
		into := rapid.SampledFrom(list).Draw(t, "into")
		if _, err := x.Merge(ctx, mara, n, into, "one"); err != nil {
			var e *app.Error
			require.ErrorAs(t, err, &e)
			return
		}
		o.open[n] = false
		for _, f := range o.alerts {
			if f.incident == n {
				f.incident = into
			}
		}
	case "split":
		for _, f := range o.alerts {
			if f.incident != n || !f.open {
				continue
			}
			off, err := x.Split(ctx, mara, n, []string{f.id}, "another")
			if err == nil {
				f.incident, f.since = off.Number, o.turn
				o.open[off.Number] = true
			}
			return
		}
	}
}

func (x *night) raise(t *rapid.T, o *oracle, round int) {
	service := rapid.SampledFrom([]string{"north", "south"}).Draw(t, "service")
	key := fmt.Sprint(service, " ", string(rune('a'+round%26)), string(rune('a'+round/26)), " ",
		rapid.SampledFrom([]string{"ramp", "lamp"}).Draw(t, "key"))
	severity := rapid.SampledFrom([]alert.Severity{alert.Warning, alert.Minor, alert.Major, alert.Critical}).
		Draw(t, "severity")
	was := o.find(key)
	id, n := raised(t, x.site, service, key, severity)
	if was == nil {
		f := &fate{id: id, key: key, service: service, severity: severity, incident: n, since: o.turn, open: true}
		o.alerts = append(o.alerts, f)
		if _, closed := o.closed[n]; closed || !o.open[n] {
			o.reopen(n)
		}
		return
	}
	require.Equal(t, was.incident, n)
	worse := alert.Worth(string(severity)) > alert.Worth(string(was.severity))
	at, closed := o.closed[n]
	still := closed && severity == was.severity && o.now-at >= 15*time.Minute
	was.severity = severity
	if worse {
		was.since = o.turn
	}
	if closed && !o.mutedNow(was) && (worse || still) {
		o.reopen(n)
	}
}

// An incident on which the judgement fails is looked at again later, and holds up no other.
func TestOneThatCannotBeJudgedHoldsUpNoOther(t *testing.T) {
	x := atNight(t, watchers)
	_, bad := raised(t, x.site, "north", "ramp", alert.Critical)
	_, good := raised(t, x.site, "south", "lamp", alert.Critical)
	require.NotEqual(t, bad, good)
	db := testdb.SQL(x.Store)
	require.NoError(t, db.Exec(`create function no() returns trigger language plpgsql as
		$$ begin raise exception 'not this one'; end $$`).Error)
	require.NoError(t, db.Exec(fmt.Sprintf(`create trigger no before insert on notice for each row
		when (new.urgent and new.incident = %d) execute function no()`, bad)).Error)
	assert.Equal(t, []string{"mara texts"}, x.calls(0), "for the other")
	require.NoError(t, db.Exec("drop trigger no on notice").Error)
	assert.Contains(t, x.calls(61*time.Second), "mara texts", "and then for this one")
}
