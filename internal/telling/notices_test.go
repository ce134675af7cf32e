package telling

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/route"
	"urgentis/internal/engine"
	"urgentis/internal/store"
	"urgentis/internal/stories"
	"urgentis/internal/testdb"
)

const harbour = `urgentis: connection/1
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

// noSecrets opens nothing.
type noSecrets struct{ engine.Secrets }

func newTeller(t *testing.T, s *store.Store) *Teller {
	e, err := engine.New(engine.Config{
		Store: s, Secrets: noSecrets{}, Log: slog.New(slog.DiscardHandler), Link: "http://u",
	})
	require.NoError(t, err)
	return &Teller{Engine: e, Stories: stories.New()}
}

// teller is an engine that drives nothing, whose clock the test sets, with people who can be reached.
type teller struct {
	*Teller
	t  *testing.T
	at time.Time
	// ahead is how far that clock is before the database's.
	ahead time.Duration
	inc   int64
}

func tellingTo(t *testing.T, documents string) *teller {
	s := testdb.Open(t)
	x := &teller{t: t, at: time.Now().UTC()}
	x.Teller = newTeller(t, s)
	x.Clock = func() time.Time { return x.at }
	require.NoError(t, testdb.Push(s, documents))
	db := testdb.SQL(s)
	require.NoError(t, db.Create(&store.Service{Name: "berth-queue", Owner: "quayside", Stance: "ask"}).Error)
	for i, p := range []string{"mara", "jonas"} {
		require.NoError(t, db.Create(&store.Person{Name: p, Roles: "operator approver", AddedAt: x.at}).Error)
		for place, c := range []string{"texts", "mail"} {
			require.NoError(t, db.Create(&store.Contact{Person: p, Place: place, Connection: c,
				Address: fmt.Sprintf("%s-%d", p, i), VerifiedAt: &x.at, AddedAt: x.at}).Error)
		}
	}
	i := &store.Incident{Title: "deep", State: "open", WaitingOn: "person", Severity: "major", Service: "berth-queue",
		OpenedAt: x.at}
	require.NoError(t, x.Write(context.Background(), func(s *engine.Sheet) error { return s.Open(i) }))
	x.inc = i.Number
	return x
}

func (x *teller) notify(list ...engine.Notice) {
	require.NoError(x.t, x.Write(context.Background(), func(s *engine.Sheet) error {
		for _, n := range list {
			n.Incident = &x.inc
			if err := s.Notify(n); err != nil {
				return err
			}
		}
		return nil
	}))
	x.shift()
}

// shift makes what was noted just now due by the database's clock as it is by the test's.
func (x *teller) shift() {
	require.NoError(x.t, testdb.SQL(x.Store).Exec("update notice set look_at = look_at - ? * interval '1 second' "+
		"where rung_since is null and look_at > now() + ? * interval '1 second'", x.ahead.Seconds(),
		x.ahead.Seconds()-1).Error)
}

// look lets the engine look at what is due after a while, and gives who was told since, and of what.
func (x *teller) look(after time.Duration) []string {
	db := testdb.SQL(x.Store)
	var last int64
	require.NoError(x.t, db.Raw("select coalesce(max(id), 0) from delivery").Scan(&last).Error)
	x.at, x.ahead = x.at.Add(after), x.ahead+after
	require.NoError(
		x.t,
		db.Exec("update notice set look_at = look_at - ? * interval '1 second'", after.Seconds()).Error,
	)
	require.NoError(x.t, x.TellDue(context.Background()))
	var rows []store.Delivery
	require.NoError(x.t, db.Raw("select * from delivery where id > ? order by id", last).Scan(&rows).Error)
	out := []string{}
	for _, d := range rows {
		out = append(out, d.Receiver+" "+d.Connection)
	}
	return out
}

// due has it judged anew who must be called.
func (x *teller) due() {
	require.NoError(x.t, testdb.SQL(x.Store).Exec("update attention set due = now()").Error)
}

func (x *teller) kinds() string {
	var out []string
	require.NoError(x.t, testdb.SQL(x.Store).Raw("select kind from entry where incident = ? order by seq", x.inc).
		Scan(&out).Error)
	return strings.Join(out, " ")
}

func TestAnUrgentNoticeEscalatesUntilSomebodyHasIt(t *testing.T) {
	x := tellingTo(t, harbour)
	x.notify(engine.Notice{Kind: route.RunStopped, Key: "a", Text: "it stands still"})
	assert.Equal(t, []string{"mara texts"}, x.look(0))
	assert.Empty(t, x.look(30*time.Second))
	assert.Equal(t, []string{"mara mail"}, x.look(31*time.Second))
	assert.Equal(t, []string{"jonas texts"}, x.look(5*time.Minute))
	assert.Contains(t, x.kinds(), "people.called")
	at := x.at
	require.NoError(t, testdb.SQL(x.Store).Exec("update incident set holder = 'jonas', held_at = ? where number = ?",
		at.Add(time.Second), x.inc).Error)
	x.due()
	assert.Empty(t, x.look(time.Hour), "jonas has it")
	n, err := x.Store.In(context.Background()).NoticeAbout(x.inc, route.RunStopped)
	require.NoError(t, err)
	assert.Equal(t, store.NoticeTaken, n.State)
	assert.Equal(t, "jonas", n.TakenBy)
}

func TestWhatDoesNotArriveIsToldAnotherWay(t *testing.T) {
	x := tellingTo(t, harbour)
	x.notify(engine.Notice{Kind: route.RunStopped, Key: "a", Text: "it stands still"})
	assert.Equal(t, []string{"mara texts"}, x.look(0))
	ctx := context.Background()
	require.NoError(t, x.Store.Tx(ctx, func(tx *store.Tx) error {
		if err := tx.NotSent(1, "queued", "down", false); err != nil {
			return err
		}
		return tx.NotSent(1, "queued", "down", false)
	}))
	require.NoError(t, x.Store.In(ctx).NoticesAgain(1))
	assert.Equal(t, []string{"mara mail"}, x.look(0), "after two tries, while the first is tried on")
}

func TestOneMessageForOnePersonAndThing(t *testing.T) {
	x := tellingTo(t, harbour+"---\nurgentis: connection/1\nname: quay\nkind: room\nurl: http://127.0.0.1:1/\n"+
		"---\nurgentis: route/1\nname: all\ntell: [room/quay]\n")
	x.notify(engine.Notice{Kind: route.IncidentOpened, Key: "a", Text: "opened", Delay: time.Minute},
		engine.Notice{Kind: route.IncidentWorse, Key: "b", Text: "worse"})
	assert.Equal(t, []string{"room/quay quay"}, x.look(0))
	assert.Empty(t, x.look(10*time.Second), "what is held is held")
	x.notify(engine.Notice{Kind: route.IncidentWorse, Key: "c", Text: "still worse"})
	assert.Empty(t, x.look(0), "what can wait follows no sooner than after half a minute")
	x.notify(engine.Notice{Kind: route.IncidentWorse, Key: "d", Text: "worse yet"})
	require.NoError(t, x.Write(context.Background(), func(s *engine.Sheet) error { return s.TellNow(x.inc) }))
	assert.Equal(t, []string{"room/quay quay"}, x.look(31*time.Second), "all of it in one message")
	m, err := x.Store.In(context.Background()).LastMessage(x.inc, route.Contact{Connection: "quay"})
	require.NoError(t, err)
	assert.Contains(t, m.Body, "worse yet")
	assert.Contains(t, m.Body, "still worse")
}

func TestTheSameWordsAreNotSentTwice(t *testing.T) {
	x := tellingTo(t, harbour)
	x.notify(engine.Notice{Kind: route.NobodyStarted, Key: "a", Text: "a person is needed"})
	assert.Len(t, x.look(0), 1)
	x.notify(engine.Notice{Kind: route.NobodyStarted, Key: "b", Text: "a person is needed"})
	assert.Empty(t, x.look(time.Second))
	x.notify(engine.Notice{Kind: route.NobodyStarted, Key: "c", Text: "a person is needed"})
	assert.Len(t, x.look(time.Hour), 1, "hours later it is another matter")
}

func TestTwoInstancesTellOnce(t *testing.T) {
	x := tellingTo(t, harbour)
	other := newTeller(t, x.Store)
	for i := range 30 {
		x.notify(
			engine.Notice{
				Kind: route.RunStopped, Key: fmt.Sprint(i), Text: fmt.Sprint("no ", i), Thing: fmt.Sprint("x/", i),
			},
		)
	}
	var wg sync.WaitGroup
	for _, e := range []*Teller{x.Teller, other, x.Teller, other} {
		wg.Go(func() { assert.NoError(t, e.TellDue(context.Background())) })
	}
	wg.Wait()
	var twice int
	require.NoError(t, testdb.SQL(x.Store).Raw(`select count(*) from (select t.notice, d.address, d.at_address from
		notice_told t join delivery d on d.id = t.delivery group by 1, 2, 3 having count(*) > 1) x`).Scan(&twice).Error)
	assert.Zero(t, twice)
	var told int
	require.NoError(t, testdb.SQL(x.Store).Raw("select count(distinct notice) from notice_told").Scan(&told).Error)
	assert.Equal(t, 30, told)
}

func TestThatNobodyCouldBeToldIsSaid(t *testing.T) {
	x := tellingTo(t, harbour)
	require.NoError(t, testdb.SQL(x.Store).Exec("delete from contact").Error)
	x.notify(engine.Notice{Kind: route.HandOver, Key: "a", Text: "handed over", To: "on-call/quayside"})
	assert.Empty(t, x.look(0))
	assert.Contains(t, x.kinds(), "people.unreached")
	assert.Empty(t, x.look(time.Hour))
	assert.Equal(t, 1, strings.Count(x.kinds(), "people.unreached"), "once")
}

func TestClosingIsToldToThoseWhoHeardOfIt(t *testing.T) {
	x := tellingTo(t, harbour)
	ctx := context.Background()
	closeIt := func() {
		require.NoError(t, x.Write(ctx, func(s *engine.Sheet) error {
			i, err := s.Incident(x.inc)
			if err != nil {
				return err
			}
			return s.Close(i, engine.Closing{Outcome: "repaired", Because: "it fell", By: "mara", At: x.at})
		}))
		x.shift()
	}
	x.notify(engine.Notice{Kind: route.IncidentOpened, Key: "a", Text: "opened", Delay: time.Minute})
	closeIt()
	assert.Empty(t, x.look(time.Hour), "nobody heard of it, and nobody does")
	require.NoError(t, testdb.SQL(x.Store).Exec("update incident set state = 'open'").Error)
	x.notify(engine.Notice{Kind: route.RunStopped, Key: "c", Text: "it stands still"})
	assert.Equal(t, []string{"mara texts"}, x.look(0))
	closeIt()
	assert.Equal(
		t,
		[]string{"mara texts"},
		x.look(time.Second),
		"whoever was woken hears that it is over, and nobody else",
	)
	var last int64
	db := testdb.SQL(x.Store)
	require.NoError(t, db.Raw("select max(id) from delivery").Scan(&last).Error)
	require.NoError(t, x.Store.Tx(ctx, func(tx *store.Tx) error {
		return errors.Join(tx.NotSent(last, "queued", "down", false), tx.NoticesAgain(last))
	}))
	assert.Empty(t, x.look(time.Second), "it is tried on, and nobody hears it twice")
	var due []string
	require.NoError(t, db.Raw("select kind from notice where kind = ? and look_at is not null",
		route.IncidentClosed).Scan(&due).Error)
	assert.Empty(t, due, "and nothing is left to decide")
}
