package app_test

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"path/filepath"
	"reflect"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/access"
	"urgentis/core/alert"
	"urgentis/core/message"
	"urgentis/internal/act/ssh"
	"urgentis/internal/app"
	"urgentis/internal/engine"
	"urgentis/internal/intake"
	"urgentis/internal/scheduled"
	"urgentis/internal/secret"
	"urgentis/internal/signin"
	"urgentis/internal/store"
	"urgentis/internal/stories"
	"urgentis/internal/telling"
	"urgentis/internal/testdb"
)

var (
	ctx = context.Background()
	iva = &access.Principal{Name: "iva", Roles: []access.Role{access.Admin}, Person: true}
	// mara approves, jonas responds.
	mara  = &access.Principal{Name: "mara", Roles: []access.Role{access.Approver, access.Operator}, Person: true}
	jonas = &access.Principal{Name: "jonas", Roles: []access.Role{access.Responder}, Person: true}
)

// site is use cases with what they stand on.
type site struct {
	*app.App
	Store  *store.Store
	Engine *engine.Engine
	Intake *intake.Intake
	Door   *signin.Accounts
}

// open makes use cases whose engine drives nothing, unless it is started.
func open(t *testing.T) *site {
	s := testdb.Open(t)
	log := slog.New(slog.DiscardHandler)
	box, err := secret.OpenFor(ctx, s, filepath.Join(t.TempDir(), "seal.key"))
	require.NoError(t, err)
	keeper := &secret.Keeper{Store: s, Box: box}
	e, err := engine.New(engine.Config{Store: s, Secrets: keeper, Log: log, Link: "http://u"})
	require.NoError(t, err)
	in, err := intake.New(intake.Config{Store: s, Engine: e, Log: log})
	require.NoError(t, err)
	t.Cleanup(in.Stop)
	looker, err := scheduled.New(e)
	require.NoError(t, err)
	door := signin.New(s)
	a, err := app.New(app.Config{
		Store: s, Engine: e, Teller: &telling.Teller{Engine: e, Stories: stories.New()}, Looker: looker, Intake: in,
		Stories:  stories.New(),
		Accounts: door, Secrets: keeper,
		SSH:    ssh.New(ssh.Config{Credential: keeper.Credential}),
		Outbox: &taken{},
		Log:    log, Version: "test", Link: "http://u",
	})
	require.NoError(t, err)
	return &site{a, s, e, in, door}
}

// taken takes every message.
type taken struct{ list []message.Message }

func (x *taken) Send(_ context.Context, _ *message.Connection, m *message.Message) (string, error) {
	x.list = append(x.list, *m)
	return "answered 200", nil
}

func (x *taken) TryDesk(context.Context, *message.Connection, *store.Incident) (string, error) {
	return "opened ticket T1", nil
}

func TestWhatIsMissingIsSaid(t *testing.T) {
	_, err := app.New(app.Config{})
	assert.EqualError(
		t,
		err,
		"the use cases cannot do without Store, Engine, Teller, Looker, Intake, Accounts, Secrets, SSH, Outbox, Stories, Log, Link",
	)
}

// Whatever can be asked for as somebody is refused to nobody, before anything is done.
func TestNobodyMayDoAnything(t *testing.T) {
	a := open(t)
	v, principal, n := reflect.ValueOf(a.App), reflect.TypeFor[*access.Principal](), 0
	for i := range v.NumMethod() {
		m := v.Type().Method(i)
		if m.Type.NumIn() < 3 || m.Type.In(2) != principal {
			continue
		}
		n++
		args := []reflect.Value{reflect.ValueOf(ctx)}
		for j := 2; j < m.Type.NumIn(); j++ {
			args = append(args, reflect.Zero(m.Type.In(j)))
		}
		out := v.Method(i).Call(args)
		err, _ := out[len(out)-1].Interface().(error)
		assert.Error(t, err, m.Name)
		var no *access.Refusal
		var first *app.Error // of what is looked for before it is known whose it is
		assert.True(t, errors.As(err, &no) || errors.As(err, &first), "%s: %v", m.Name, err)
	}
	assert.Greater(t, n, 35)
	var rows int64
	require.NoError(t, testdb.SQL(a.Store).Raw("select count(*) from act").Scan(&rows).Error)
	assert.Zero(t, rows)
}

func TestASecretIsTakenAwayForGood(t *testing.T) {
	a := open(t)
	set := func(value string) int {
		row, err := a.SetSecret(ctx, iva, "berth-key", "password", []byte(value))
		require.NoError(t, err)
		return row.Version
	}
	assert.Equal(t, 1, set("first"))
	assert.Equal(t, 2, set("second"))
	_, err := a.SetService(ctx, iva, app.Change{Name: "berths", Patch: []byte(`{"owner": "quayside"}`)})
	require.NoError(t, err)
	target := app.Change{Name: "b1", Patch: []byte(
		`{"service": "berths", "address": "10.0.0.1", "account": "ops", "secret": "berth-key"}`)}
	_, err = a.SetTarget(ctx, iva, target)
	require.NoError(t, err)
	assert.EqualError(t, a.RemoveSecret(ctx, iva, "berth-key"),
		"secret berth-key opens b1: give them another one first")
	require.NoError(t, a.RemoveTarget(ctx, iva, "b1"))
	require.NoError(t, a.RemoveSecret(ctx, iva, "berth-key"))
	assert.EqualError(t, a.RemoveSecret(ctx, iva, "berth-key"), "there is no secret berth-key")
	list, err := a.Secrets(ctx, iva)
	require.NoError(t, err)
	assert.Empty(t, list)
	var left int64
	require.NoError(
		t,
		testdb.SQL(a.Store).Raw("select count(*) from secret where length(sealed) > 0").Scan(&left).Error,
	)
	assert.Zero(t, left, "no value is kept")
	_, err = a.SetTarget(ctx, iva, target)
	assert.ErrorContains(t, err, "there is no secret berth-key")
	assert.Equal(t, 3, set("third"), "no approval of an old value allows a new one")
}

func TestWhatIsNotThereIsNamed(t *testing.T) {
	a := open(t)
	_, err := a.Runbook(ctx, iva, "berth-queue")
	assert.EqualError(t, err, "there is no runbook berth-queue")
	_, err = a.Incident(ctx, iva, 7)
	assert.EqualError(t, err, "there is no incident 7")
	_, err = a.StartRun(ctx, iva, "berth-queue", nil, app.On{})
	assert.EqualError(t, err, "there is no runbook berth-queue")
	err = a.RemoveTarget(ctx, iva, "broker-1")
	assert.EqualError(t, err, "there is no target broker-1")
	assert.True(t, app.IsMissing(err))
	assert.EqualError(t, a.CancelRun(ctx, iva, "r1", "", false), "there is no run r1")
	_, err = a.DecideGate(ctx, iva, "g1", app.Decision{})
	assert.EqualError(t, err, "there is no gate g1")
}

const gated = `urgentis: runbook/1
name: parked
title: Park a message
owner: quayside
service: berths
steps:
  - change: Park it
    where: {name: broker-1}
    run: [queue, park, m-7]
    gate: {ask: team/quayside}
    undo: {run: [queue, unpark, m-7]}
`

// started sets up a service with a host, and begins a run that asks.
func started(t *testing.T, a *site) store.Gate {
	require.NoError(t, a.Engine.Start(ctx))
	t.Cleanup(a.Engine.Stop)
	for _, set := range []struct {
		noun, name, patch string
	}{
		{"service", "berths", `{"owner": "quayside"}`},
		{"target", "broker-1", `{"service": "berths", "address": "127.0.0.9", "account": "quay",
			"host_key": "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIHcJ3kW5Nt0p0l8gN2yJ5Jr8mP0F0f1l3m0H0o0b8a4X"}`},
	} {
		c := app.Change{Name: set.name, Patch: []byte(set.patch)}
		var err error
		if set.noun == "service" {
			_, err = a.SetService(ctx, iva, c)
		} else {
			_, err = a.SetTarget(ctx, iva, c)
		}
		require.NoError(t, err)
	}
	_, err := a.PushRunbook(ctx, iva, gated)
	require.NoError(t, err)
	_, err = a.StartRun(ctx, jonasAsOperator, "parked", nil, app.On{})
	require.NoError(t, err)
	var open []app.Gate
	require.Eventually(t, func() bool {
		open, err = a.Gates(ctx, mara)
		return err == nil && len(open) == 1
	}, time.Minute, 10*time.Millisecond)
	return open[0].Gate
}

var jonasAsOperator = &access.Principal{
	Name:   "jonas",
	Roles:  []access.Role{access.Operator, access.Approver},
	Person: true,
}

// A decision goes down once: the right, the word, the run's log, the audit and the feed are one commit; and who comes
// too late is told who decided.
func TestADecision(t *testing.T) {
	a := open(t)
	g := started(t, a)
	shown, err := a.Gate(ctx, mara, g.ID)
	require.NoError(t, err)
	assert.True(t, shown.MayDecide)
	own, err := a.Gate(ctx, jonasAsOperator, g.ID)
	require.NoError(t, err)
	assert.False(t, own.MayDecide, "whoever asked does not decide")

	d := app.Decision{Approve: false, Comment: "not tonight", Digest: shown.Raised.Digest}
	_, err = a.DecideGate(ctx, jonas, g.ID, d)
	var no *access.Refusal
	require.ErrorAs(t, err, &no)
	assert.Equal(t, access.Approver, no.Role)
	_, err = a.DecideGate(ctx, jonasAsOperator, g.ID, app.Decision{Approve: true, Digest: shown.Raised.Digest})
	assert.ErrorContains(t, err, "whoever asked for a change cannot approve it")
	after, err := a.DecideGate(ctx, mara, g.ID, d)
	require.NoError(t, err)
	assert.Equal(t, "refused", after.State)
	_, err = a.DecideGate(ctx, iva, g.ID, d)
	assert.EqualError(t, err, "it is no longer open: it was refused by mara")

	acts, _, err := a.Acts(ctx, iva, "", 0, 50)
	require.NoError(t, err)
	var said []string
	for _, act := range acts {
		if act.Subject == g.ID {
			said = append(said, act.Actor+" "+act.Act)
		}
	}
	assert.Equal(t, []string{"mara gate.refuse", "jonas word.turned-away"}, said, "newest first")
}

// key gives a source a new key.
func key(t *testing.T, a *site, n app.NewKey) string {
	shown, err := a.AddSource(ctx, iva, n)
	require.NoError(t, err)
	return shown.Token
}

func TestANewTokenOfASourceLeavesTheRest(t *testing.T) {
	a := open(t)
	_, err := a.AddSource(ctx, iva, app.NewKey{Source: "mon", CallBack: "ftp://mon.example/back"})
	assert.EqualError(t, err, "call_back must be an http or https address")
	_, err = a.AddSource(ctx, iva, app.NewKey{Source: "mon", CallBack: "http://mon.example/back"})
	require.NoError(t, err)
	require.NoError(t, testdb.SQL(a.Store).Exec("update source set last_alert_at = now()").Error)
	token := key(t, a, app.NewKey{Source: "mon"})
	got, err := a.TakeAlerts(ctx, "mon", bearer(token), points(""))
	require.NoError(t, err)
	assert.Contains(t, got.Finding, "severity", "it proves itself; what it says is no report")
	list, err := a.Sources(ctx, jonas)
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.NotEmpty(t, list[0].CallBack)
	assert.NotNil(t, list[0].LastAlertAt)
}

// Lists and the feed can be narrowed to some services: what is not in the scope is not in the answer.
func TestListsTakeAScope(t *testing.T) {
	a := open(t)
	for _, service := range []string{"berths", "fares"} {
		_, err := a.Intake.Take(ctx, "mon", alert.Report{
			Key: service, Severity: alert.Major, Summary: "deep", Service: service, At: alert.SaidAt(time.Now()),
		})
		require.NoError(t, err)
		text := strings.NewReplacer("name: parked", "name: of-"+service, "service: berths", "service: "+service).
			Replace(gated)
		b, _, err := a.Store.PushRunbook(ctx, text, "iva")
		require.NoError(t, err)
		book, err := a.Engine.Book(ctx, b.Revision)
		require.NoError(t, err)
		_, err = a.Engine.BeginNow(ctx, engine.Start{Book: book, Inputs: map[string]any{}, StartedBy: "iva"})
		require.NoError(t, err)
	}
	tx := a.Store.In(ctx)
	for _, c := range []struct {
		scope access.Scope
		want  int
	}{
		{access.Scope{All: true}, 2}, {access.Scope{Services: []string{"fares"}}, 1},
		{access.Scope{Services: []string{"nothing"}}, 0}, {access.Scope{}, 0},
	} {
		alerts, err := tx.Alerts(c.scope, store.WhichAlerts{}, store.Place{}, 10)
		require.NoError(t, err)
		assert.Len(t, alerts, c.want)
		incidents, err := tx.Incidents(c.scope, store.WhichIncidents{State: "open"}, 0, 10)
		require.NoError(t, err)
		assert.Len(t, incidents, c.want)
		runs, err := tx.Runs(c.scope, store.WhichRuns{Active: true}, store.Place{}, 10)
		require.NoError(t, err)
		assert.Len(t, runs, c.want)
		books, err := tx.Runbooks(c.scope)
		require.NoError(t, err)
		assert.Len(t, books, c.want)
	}
	var rows []store.Feed
	// It is read below the oldest open transaction of the whole server, and other tests have theirs.
	require.Eventually(t, func() bool {
		var err error
		rows, err = a.Store.FeedAfter(ctx, "0", 0)
		return assert.NoError(t, err) && len(rows) > 0
	}, time.Minute, 20*time.Millisecond)
	for _, r := range rows {
		assert.NotEmpty(t, r.Service, "%s %s", r.Topic, r.Ref)
		assert.True(t, app.Hears(jonas, &r))
		assert.False(t, app.Hears(nil, &r))
	}
}

func TestAnInstanceThatAnswersIsNotGone(t *testing.T) {
	a := open(t)
	require.NoError(t, a.Store.Register(ctx, store.Instance{ID: "n1", Host: "h", PID: 1, Version: "t"}))
	assert.EqualError(t, a.BuryInstance(ctx, mara, "n1"), "this instance answers: it is not gone")
	require.NoError(t, testdb.SQL(a.Store).Exec("update instance set beat_at = now() - interval '6 seconds'").Error)
	require.NoError(t, a.BuryInstance(ctx, mara, "n1"))
	list, err := a.Instances(ctx, jonas)
	require.NoError(t, err)
	assert.Equal(t, app.Gone, list[0].State)
	assert.EqualError(t, a.BuryInstance(ctx, mara, "n2"), "there is no instance n2")
}

func TestARunbookIsTakenOutOfUseAndBack(t *testing.T) {
	a := open(t)
	first, err := a.PushRunbook(ctx, iva, gated)
	require.NoError(t, err)
	assert.False(t, first.Unchanged)
	again, err := a.PushRunbook(ctx, iva, gated)
	require.NoError(t, err)
	assert.True(t, again.Unchanged)
	second, err := a.PushRunbook(ctx, iva, gated+"about: Another text.\n")
	require.NoError(t, err)
	assert.Equal(t, 2, second.Number)

	require.ErrorAs(t, a.RemoveRunbook(ctx, jonas, "parked"), new(*access.Refusal))
	require.NoError(t, a.RemoveRunbook(ctx, iva, "parked"))
	_, err = a.Runbook(ctx, iva, "parked")
	assert.True(t, app.IsMissing(err))
	_, err = a.StartRun(ctx, iva, "parked", nil, app.On{})
	assert.EqualError(t, err, "there is no runbook parked")
	list, err := a.Revisions(ctx, jonas, "parked")
	require.NoError(t, err)
	assert.Len(t, list, 2, "its revisions stay")
	old, err := a.RevisionOf(ctx, jonas, "parked", 1)
	require.NoError(t, err)
	back, err := a.PushRunbook(ctx, iva, old.Text)
	require.NoError(t, err)
	assert.Equal(t, 3, back.Number, "it goes on with its numbers")
	assert.False(t, back.Unchanged)
	_, err = a.RevisionOf(ctx, jonas, "parked", 9)
	assert.EqualError(t, err, "there is no revision 9 of runbook parked")
}

func TestConnectionsAreTriedAndMessagesListed(t *testing.T) {
	a := open(t)
	require.NoError(t, a.AddConnection(ctx, iva, "room", "room", "http://127.0.0.1:1/"))
	tried, err := a.TryConnection(ctx, iva, "room", "")
	require.NoError(t, err)
	assert.True(t, tried.OK)
	_, err = a.TryConnection(ctx, iva, "rom", "")
	assert.EqualError(t, err, "there is no connection rom")
	require.NoError(t, a.Store.Tx(ctx, func(tx *store.Tx) error {
		for _, key := range []string{"a", "b"} {
			d := store.Delivery{Key: key, Kind: "room", Connection: "room", Body: "{}", State: "failed",
				QueuedAt: time.Now()}
			if err := tx.AddDeliveries([]store.Delivery{d}); err != nil {
				return err
			}
		}
		return nil
	}))
	list, more, err := a.Deliveries(ctx, jonas, "failed", 0, 0, 1)
	require.NoError(t, err)
	assert.True(t, more)
	require.Len(t, list, 1)
	rest, _, err := a.Deliveries(ctx, jonas, "failed", 0, list[0].ID, 10)
	require.NoError(t, err)
	require.Len(t, rest, 1)
	assert.Less(t, rest[0].ID, list[0].ID)
	again, err := a.SendAgain(ctx, jonas, rest[0].ID)
	require.NoError(t, err)
	assert.Equal(t, "queued", again.State)
	_, err = a.SendAgain(ctx, jonas, rest[0].ID)
	assert.EqualError(t, err, fmt.Sprintf("message %d is queued: only what failed or was dropped is sent again", again.ID))
	require.NoError(t, a.RemoveConnection(ctx, iva, "room"))
	assert.EqualError(t, a.RemoveConnection(ctx, iva, "room"), "there is no connection room")
	assert.EqualError(t, a.RemoveService(ctx, iva, "berths"), "there is no service berths")
}
