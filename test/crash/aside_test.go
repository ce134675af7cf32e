package crash

import (
	"context"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"net/http"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/api"
	"urgentis/internal/demo"
	"urgentis/internal/store"
	"urgentis/internal/testdb"
)

// aside is what goes on beside the runs of a storm: alerts for which nothing starts, which become worse and better and
// are over; people who merge their incidents, split, take, hand on, close and mute them; a room and a desk whose
// connections drop after they took what was sent.
type aside struct {
	*storm
	r    *rand.Rand
	desk *demo.Desk
	room *demo.Room
	cut  atomic.Bool
	cuts atomic.Int64
	acts map[string]int
	keys int
}

const asideSignal = "aside"

func newAside(s *storm, seed uint64) *aside {
	a := &aside{storm: s, r: rand.New(rand.NewPCG(seed, 1<<40)), acts: map[string]int{}} //nolint:gosec // a test
	at := func(n int) string { return fmt.Sprintf("%s.%d:%d", s.fleet.Net, n, demo.HTTPPort) }
	var err error
	a.room, err = demo.StartRoom(at(3))
	require.NoError(s.t, err)
	s.t.Cleanup(a.room.Stop)
	a.desk, err = demo.StartHarbourDesk(at(7))
	require.NoError(s.t, err)
	s.t.Cleanup(a.desk.Stop)
	var mu sync.Mutex
	drop := rand.New(rand.NewPCG(seed, 1<<41)) //nolint:gosec // it is a test
	whiles := func() {
		mu.Lock()
		n := drop.IntN(3)
		mu.Unlock()
		if a.cut.Load() && n == 0 {
			a.cuts.Add(1)
			panic(http.ErrAbortHandler) // it is done, and nobody hears so
		}
	}
	st, err := store.Open(context.Background(), s.db.URL, slog.New(slog.DiscardHandler))
	require.NoError(s.t, err)
	defer st.Close()
	require.NoError(s.t, testdb.SQL(st).Create(&store.Person{Name: "mara", Roles: "approver responder",
		AddedAt: time.Now()}).Error)
	a.room.Slowly.Taken(whiles)
	a.desk.Slowly.Taken(whiles)
	a.cut.Store(true)
	return a
}

// goOn does one thing after the other until it is stopped.
func (a *aside) goOn(stop <-chan struct{}) {
	for {
		select {
		case <-stop:
			a.cut.Store(false)
			return
		case <-time.After(time.Duration(10+a.r.IntN(100)) * time.Millisecond):
		}
		ctx, cancel := context.WithTimeout(context.Background(), time.Second)
		if what := a.act(ctx, a.nodes[a.r.IntN(len(a.nodes))]); what != "" {
			a.acts[what]++
		}
		cancel()
	}
}

// act does one thing, and says what it was where it was done.
func (a *aside) act(ctx context.Context, n *node) string {
	k := a.r.IntN(100)
	if k < 50 {
		return a.tell(ctx, n)
	}
	which := &api.ListIncidentsParams{Service: "crossing-clocks", Limit: 100}
	list, err := n.admin.ListIncidentsWithResponse(ctx, which)
	if err != nil || list.JSON200 == nil || len(list.JSON200.Items) == 0 {
		return ""
	}
	items := list.JSON200.Items
	i := items[a.r.IntN(len(items))].Number
	because := "the storm"
	switch {
	case k < 62:
		into := items[a.r.IntN(len(items))].Number
		r, err := n.admin.MergeIncidentWithResponse(ctx, i, api.NewMerge{Into: into, Because: because})
		return done("merged", r, err)
	case k < 70:
		one, err := n.admin.GetIncidentWithResponse(ctx, i, nil)
		if err != nil || one.JSON200 == nil || len(one.JSON200.Alerts) < 2 {
			return ""
		}
		taken := one.JSON200.Alerts[a.r.IntN(len(one.JSON200.Alerts))].Id
		r, err := n.admin.SplitIncidentWithResponse(ctx, i, api.NewSplit{Alerts: []string{taken}, Because: because})
		return done("split", r, err)
	case k < 80:
		h := []api.NewHolder{{}, {GiveBack: true}, {To: "mara"}}[a.r.IntN(3)]
		r, err := n.admin.HoldIncidentWithResponse(ctx, i, h)
		return done("taken, handed on or given back", r, err)
	case k < 88:
		r, err := n.admin.CloseIncidentWithResponse(ctx, i, api.Closing{Outcome: "repaired-by-hand", Because: because})
		return done("closed", r, err)
	case k < 94:
		now := time.Now().UTC()
		text := fmt.Sprintf("urgentis: mute/1\nname: aside\nwhen: alert.labels.part == \"%d\"\nfrom: %s\nuntil: %s\n"+
			"because: the storm\n", a.r.IntN(3), now.Add(-time.Hour).Format(time.RFC3339),
			now.Add(time.Duration(2+a.r.IntN(20))*time.Second).Format(time.RFC3339))
		r, err := n.admin.PushWithResponse(ctx, api.NewPush{Files: []api.PushFile{{Name: "mute.yaml", Text: text}}})
		return done("muted", r, err)
	}
	r, err := n.admin.RemoveDocumentWithResponse(ctx, "mute", "aside")
	return done("muted no more", r, err)
}

func done(what string, r interface{ StatusCode() int }, err error) string {
	if err != nil || r.StatusCode() >= 300 {
		return ""
	}
	return what
}

// tell reports an alert of the side, new or known, as bad as may be, or that it is over.
func (a *aside) tell(ctx context.Context, n *node) string {
	if a.keys == 0 || a.r.IntN(3) == 0 {
		a.keys++
	}
	key := fmt.Sprintf("aside-%d", a.r.IntN(a.keys))
	severity := []string{"critical", "major", "minor", "warning", "cleared"}[a.r.IntN(5)]
	body := fmt.Sprintf(`{"key":%q,"severity":%q,"summary":"%s is %s","service":"crossing-clocks",
		"labels":{"signal":%q,"part":"%d"}}`, key, severity, key, severity, asideSignal, a.r.IntN(3))
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, "http://"+n.listen+"/in/harbour-watch",
		strings.NewReader(body))
	if err != nil {
		return ""
	}
	req.Header.Set("Authorization", "Bearer "+a.source)
	a.calm.RLock()
	defer a.calm.RUnlock()
	res, err := quick.Do(req)
	if err != nil {
		return ""
	}
	defer res.Body.Close()
	if res.StatusCode != http.StatusAccepted {
		return ""
	}
	return "reported " + severity
}

// prove proves, once all has settled, that nobody is forgotten: each alert is in an incident that is no part of another
// one, incidents count theirs, and whoever must be called is, and nobody in vain; there is one ticket for each incident
// that has one, and nothing waits to be told.
func (a *aside) prove() {
	t := a.t
	st, err := store.Open(context.Background(), a.db.URL, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	defer st.Close()
	db := testdb.SQL(st)
	count := func(sql string, args ...any) (n int) {
		require.NoError(t, db.Raw(sql, args...).Scan(&n).Error)
		return n
	}
	require.Eventually(t, func() bool {
		r, err := a.nodes[0].admin.RemoveDocumentWithResponse(context.Background(), "mute", "aside")
		return err == nil && (r.StatusCode() < 300 || r.StatusCode() == http.StatusNotFound)
	}, time.Minute, 100*time.Millisecond)
	require.Eventually(t, func() bool {
		for _, n := range a.nodes {
			a.supervise(n)
		}
		return count("select count(*) from attention where due < now() + interval '5 seconds'") == 0 &&
			count("select count(*) from delivery where state = 'queued' and kind = 'desk'") == 0 &&
			count("select count(*) from alert where state = 'open' and muted_by <> ''") == 0
	}, 10*time.Minute, time.Second, "something is still to be told; %s", a)

	assert.Zero(t, count(`select count(*) from alert a join incident i on i.number = a.incident
		where i.merged_into is not null`), "an alert is left behind in what is part of another incident")
	assert.Zero(t, count(`select count(*) from incident i where i.merged_into is null and i.alerts <>
		(select count(*) from alert a where a.incident = i.number)`), "an incident counts its alerts wrongly")
	assert.Zero(t, count(`select count(*) from (select source, key from alert where state = 'open' group by source, key
		having count(*) > 1) x`), "one condition has two open alerts")
	const wanted = `(exists (select from alert a where a.incident = i.number and a.state = 'open' and a.muted_by = ''
		and a.severity in ('critical', 'major') and a.treated_run = ''
		and (i.holder = '' or i.held_at is null or a.since > i.held_at))
		or i.wanted_at is not null and i.severity in ('critical', 'major')
		and (i.holder = '' or i.held_at is null or i.wanted_at > i.held_at)
		and not exists (select from alert a where a.incident = i.number and a.state = 'open'))`
	const notice = `exists (select from notice n where n.subject = 'incident/' || i.number and n.urgent
		and n.state in ('open', 'told')
		and (n.missed <> '' or exists (select from notice_told x where x.notice = n.id)) and `
	const called = notice + `n.thing = n.subject)`
	const handedOn = `i.holder <> '' and i.held_at is null`
	const asked = notice + `n.thing = 'holder/' || i.holder)`
	const beside = `i.service = 'crossing-clocks' and i.state = 'open' and i.merged_into is null`
	var forgotten, vain, unasked []int64
	require.NoError(t, db.Raw("select i.number from incident i where "+beside+" and "+wanted+" and not "+called).
		Scan(&forgotten).Error)
	require.NoError(t, db.Raw("select i.number from incident i where "+beside+" and not "+wanted+" and "+called).
		Scan(&vain).Error)
	require.NoError(t, db.Raw("select i.number from incident i where "+beside+" and ("+handedOn+") <> "+asked).
		Scan(&unasked).Error)
	assert.Empty(t, unasked, "who was handed these incidents is not asked, or somebody else is")
	assert.Empty(t, forgotten, "nobody is called for these incidents")
	assert.Empty(t, vain, "somebody is called for these incidents for nothing")

	for _, n := range slices.Concat(forgotten, vain, unasked) {
		a.show(st, n)
	}
	references := map[string]int{}
	for _, x := range a.desk.Tickets() {
		references[x.Reference]++
	}
	for reference, n := range references {
		assert.Equal(t, 1, n, "%s has %d tickets", reference, n)
	}
	assert.Positive(t, len(references))
	assert.Positive(t, a.cuts.Load())
	t.Logf("beside the runs: %v; %d tickets; %d connections dropped after what was sent was taken", a.acts,
		len(references), a.cuts.Load())
}

// show says all that is known of an incident whose calls are wrong.
func (a *aside) show(st *store.Store, number int64) {
	for what, sql := range map[string]string{
		"it":      "select to_jsonb(i) from incident i where number = ?",
		"alert":   "select to_jsonb(a) - 'labels' - 'verdicts' from alert a where incident = ?",
		"notice":  "select to_jsonb(n) from notice n where subject = 'incident/' || ?::bigint",
		"entry":   "select jsonb_build_array(e.at, e.kind, e.title) from entry e where incident = ? order by seq",
		"due":     "select to_jsonb(x) from attention x where subject = 'incident/' || ?::bigint",
		"treated": "select to_jsonb(t) from treats t join alert a on a.id = t.alert where a.incident = ?",
	} {
		var rows []string
		require.NoError(a.t, testdb.SQL(st).Raw(sql, number).Scan(&rows).Error)
		for _, r := range rows {
			a.t.Logf("incident %d %s: %s", number, what, r)
		}
	}
}
