package engine_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/alert"
	"urgentis/core/expr"
	"urgentis/core/flow"
	"urgentis/core/leave"
	"urgentis/core/task"
	"urgentis/internal/act"
	"urgentis/internal/engine"
	"urgentis/internal/intake"
	"urgentis/internal/scheduled"
	"urgentis/internal/store"
	"urgentis/internal/testdb"
)

// queue is a host with a berth queue, as a hand.
type queue struct {
	mu     sync.Mutex
	depth  int
	stuck  string
	parked int
	silent string
	// hold blocks the change until it is closed; held says that it is blocked.
	hold, held chan struct{}
	lost       bool
	runs       atomic.Bool // what was begun is seen running
	leaks      bool        // the page fails, and prints what is sealed all the same
}

func (q *queue) Running(context.Context, act.Job) (bool, error) { return q.runs.Load(), nil }

func (q *queue) Do(ctx context.Context, job act.Job) act.Result {
	q.mu.Lock()
	defer q.mu.Unlock()
	r := job.Request
	if r.Target.Name == q.silent {
		return act.NotBegun("no answer")
	}
	exit := 0
	res := act.Result{State: flow.OK, Exit: &exit}
	switch {
	case r.Kind == "http" && q.leaks:
		exit = 500
		res.State, res.Error = flow.Failed, "it said token hunter99"
		res.Stdout.Kept = []byte(`{"state":"hunter99"}`)
	case r.Kind == "http":
		res.Stdout.Kept = []byte(`{"state":"stalled"}`)
	case r.Words[1] == "depth":
		res.Stdout.Kept = []byte(fmt.Sprintf(`{"depth":%d,"stuck_message":%q}`, q.depth, q.stuck))
		if q.stuck == "" {
			q.depth = max(0, q.depth-500)
		}
	case r.Words[1] == "park":
		if q.held != nil {
			close(q.held)
			q.held = nil
			q.mu.Unlock()
			select {
			case <-q.hold:
			case <-ctx.Done():
			}
			q.mu.Lock()
		}
		q.parked++
		q.stuck = ""
		if q.lost {
			return act.Result{State: flow.Unknown, Error: "the connection was lost"}
		}
	}
	res.Stdout.Size = int64(len(res.Stdout.Kept))
	return res
}

type noSecrets struct{}

func (noSecrets) Known(context.Context, task.Facts, []string, []string) ([]string, error) {
	return []string{"hunter22"}, nil
}

func (noSecrets) Fill(_ context.Context, r task.Request) (task.Request, []string, error) {
	return r, nil, nil
}

func (noSecrets) Seal(text string) (string, error) { return expr.SealedMark("c2VhbGVk"), nil }

type bench struct {
	t     testing.TB
	store *store.Store
	e     *engine.Engine
	looks *scheduled.Looker
	in    *intake.Intake
	q     *queue
	// secrets are those of the next engine that starts, and jobs its hand for jobs elsewhere.
	secrets engine.Secrets
	jobs    act.Hand
	stop    func()
}

func source(t testing.TB) string {
	src, err := os.ReadFile("../../examples/ferry/runbooks/berth-queue-backlog.yaml")
	require.NoError(t, err)
	return strings.Replace(string(src), "every: 2s, for: 5m", "every: 100ms, for: 1m", 1)
}

func set(t testing.TB, text string) *bench {
	s := testdb.Open(t)
	b := &bench{t: t, store: s, secrets: noSecrets{}, q: &queue{depth: 812, stuck: "m-7"}}
	ctx := context.Background()
	require.NoError(t, testdb.SQL(s).Create(&[]store.Target{
		{
			Name:    "consumer-1",
			Service: "berth-queue",
			Address: "127.0.10.11",
			Port:    22,
			Account: "ops",
			HostKey: "k",
			Labels:  store.Labels{"role": "consumer"},
		},
		{
			Name:    "consumer-2",
			Service: "berth-queue",
			Address: "127.0.10.12",
			Port:    22,
			Account: "ops",
			HostKey: "k",
			Labels:  store.Labels{"role": "consumer"},
		}}).Error)
	require.NoError(
		t,
		testdb.SQL(s).Create(&store.Service{Name: "berth-queue", Owner: "quayside", Stance: "ask"}).Error,
	)
	require.NoError(
		t,
		testdb.SQL(s).Create(&store.Source{Name: "mon", AddedAt: time.Now()}).Error,
	)
	_, _, err := s.PushRunbook(ctx, text, "iva")
	require.NoError(t, err)
	b.start()
	return b
}

func (b *bench) start() {
	var err error
	b.e, err = engine.New(
		engine.Config{
			Store:   b.store,
			Hands:   engine.Hands{"ssh": b.q, "http": b.q, "job": b.jobs},
			Secrets: b.secrets,
			Log:     slog.New(slog.DiscardHandler),
			Link:    "http://u",
		},
	)
	require.NoError(b.t, err)
	b.looks, err = scheduled.New(b.e)
	require.NoError(b.t, err)
	require.NoError(b.t, b.e.Start(context.Background()))
	b.looks.Start()
	b.in, err = intake.New(intake.Config{Store: b.store, Engine: b.e, Log: slog.New(slog.DiscardHandler)})
	require.NoError(b.t, err)
	e, in := b.e, b.in
	var once sync.Once
	b.stop = func() { once.Do(func() { in.Stop(); e.Stop() }) }
	b.t.Cleanup(b.stop)
}

func (b *bench) alert() intake.Taken {
	taken, err := b.in.Take(
		context.Background(),
		"mon",
		alert.Report{Key: "north", Severity: "major", Summary: "deep", Service: "berth-queue",
			Labels: map[string]string{"signal": "queue_depth", "queue": "north"}, At: alert.SaidAt(time.Now())},
	)
	require.NoError(b.t, err)
	return taken
}

func eventually[T any](b *bench, q string, args ...any) T {
	var out []T
	require.Eventually(b.t, func() bool {
		require.NoError(b.t, testdb.SQL(b.store).Raw(q, args...).Scan(&out).Error)
		return len(out) > 0
	}, time.Minute, 5*time.Millisecond, q)
	return out[0]
}

func (b *bench) decide(approve bool) {
	g := eventually[store.Gate](b, "select * from gate where state = 'open'")
	var raised flow.GateRaised
	require.NoError(b.t, json.Unmarshal(g.Raised, &raised))
	require.NoError(
		b.t,
		b.word(g.ID, engine.Word{Approve: approve, By: "mara", Comment: "go on", Digest: raised.Digest}),
	)
}

// say writes a person's word, as the service does: what is not taken stands in the record too.
func (b *bench) say(f func(s *engine.Sheet) (refused, err error)) error {
	var refused error
	err := b.e.Write(context.Background(), func(s *engine.Sheet) (err error) {
		refused, err = f(s)
		return err
	})
	return errors.Join(err, refused)
}

func (b *bench) word(gate string, w engine.Word) error {
	return b.say(func(s *engine.Sheet) (refused, err error) {
		g, err := s.Tx().Gate(gate)
		if err != nil {
			return nil, err
		}
		return s.Decide(g, w)
	})
}

func (b *bench) answer(question string, r engine.Reply) error {
	q, err := b.store.In(context.Background()).Question(question)
	require.NoError(b.t, err)
	if err := b.e.StillRunning(context.Background(), q, r.Choice); err != nil {
		return err
	}
	return b.say(func(s *engine.Sheet) (refused, err error) { return s.Answer(q, r) })
}

func (b *bench) release(run, by, because string) error {
	return b.e.Write(context.Background(), func(s *engine.Sheet) error { return s.Release(run, by, because) })
}

func (b *bench) cancel(run string, c flow.CancelAsked) error {
	return b.e.Write(context.Background(), func(s *engine.Sheet) error { return s.Cancel(run, c) })
}

func (b *bench) ended() store.Run {
	return eventually[store.Run](b, "select * from run where ended_at is not null")
}

func (b *bench) kinds(incident int64) []string {
	var out []string
	require.NoError(
		b.t,
		testdb.SQL(b.store).Raw("select kind from entry where incident = ? order by seq", incident).Scan(&out).Error,
	)
	return out
}

func TestAlertToClosedIncident(t *testing.T) {
	b := set(t, source(t))
	taken := b.alert()
	assert.Equal(t, alert.New, taken.Change)
	b.decide(true)
	run := b.ended()
	assert.Equal(t, flow.Done, run.State, run.Because)
	assert.Equal(t, 1, b.q.parked)
	inc := eventually[store.Incident](b, "select * from incident where state = 'closed'")
	assert.Equal(t, "repaired", inc.Outcome)
	assert.Equal(t, "nobody", inc.WaitingOn)
	kinds := strings.Join(b.kinds(taken.Incident), " ")
	assert.Regexp(
		t,
		`^alert.raised run.begun look.taken look.taken look.taken look.taken check.passes note gate.raised gate.approved look.taken look.taken change.still change.begun change.ended (look.taken )+check.passes told run.ended incident.closed$`,
		kinds,
	)
	n, err := b.store.Verify(context.Background(), taken.Incident)
	require.NoError(t, err)
	assert.Equal(t, int64(len(strings.Fields(kinds))), n)

	require.NoError(
		t,
		testdb.SQL(b.store).
			Exec("update entry set actor = 'somebody' where incident = ? and kind = 'gate.approved'", taken.Incident).
			Error,
	)
	_, err = b.store.Verify(context.Background(), taken.Incident)
	assert.ErrorContains(t, err, "entry 10 was changed")
}

func TestRepeatsAreOneAndChangesShow(t *testing.T) {
	b := set(t, source(t))
	b.q.depth = 3 // a false alarm
	first := b.alert()
	second := b.alert()
	assert.Equal(t, alert.Repeat, second.Change)
	assert.Equal(t, first.Alert, second.Alert)
	b.ended()
	for _, c := range []struct {
		sev  alert.Severity
		want alert.Change
	}{{"critical", alert.Worse}, {"minor", alert.Better}, {"cleared", alert.Clear}, {"cleared", alert.Idle}} {
		got, err := b.in.Take(
			context.Background(),
			"mon",
			alert.Report{Key: "north", Severity: c.sev, Summary: "deep", Labels: map[string]string{}, At: alert.SaidAt(time.Now())},
		)
		require.NoError(t, err)
		assert.Equal(t, c.want, got.Change)
	}
	var runs int64
	testdb.SQL(b.store).Model(&store.Run{}).Count(&runs)
	assert.EqualValues(t, 1, runs, "what is no worse starts nothing")
	next := b.alert()
	assert.NotEqual(t, first.Alert, next.Alert, "after it cleared it is a new alert")
	assert.Equal(t, first.Incident, next.Incident, "of the same trouble")
}

func TestAHostileQueueNameIsRefusedInTheRecord(t *testing.T) {
	b := set(t, source(t))
	hostile := `x; rm -rf / #{{ "$(reboot)" }}`
	taken, err := b.in.Take(
		context.Background(),
		"mon",
		alert.Report{
			Key:      "k",
			Severity: "major",
			Summary:  hostile,
			Labels:   map[string]string{"signal": "queue_depth", "queue": hostile},
			At:       alert.SaidAt(time.Now()),
		},
	)
	require.NoError(t, err)
	assert.Equal(t, []string{"alert.raised", "run.refused", "nothing.started"}, b.kinds(taken.Incident))
	var content string
	require.NoError(
		t,
		testdb.SQL(b.store).Raw("select content from entry where kind = 'run.refused'").Scan(&content).Error,
	)
	assert.Contains(t, content, "does not match the pattern")
	var inc store.Incident
	require.NoError(t, testdb.SQL(b.store).Take(&inc).Error)
	assert.Equal(t, "person", inc.WaitingOn)
}

func TestASilentTargetIsHandedOver(t *testing.T) {
	b := set(t, source(t))
	b.q.depth, b.q.silent = 3, "consumer-2"
	taken := b.alert()
	run := b.ended()
	assert.Equal(t, flow.HandedOver, run.State)
	assert.Contains(t, run.Because, "no depth from consumer-2")
	assert.NotContains(t, b.kinds(taken.Incident), "incident.closed")
	inc := eventually[store.Incident](b, "select * from incident where waiting_on = 'person'")
	assert.Equal(t, "open", inc.State)
}

func TestDecisionsAreChecked(t *testing.T) {
	b := set(t, source(t))
	b.alert()
	g := eventually[store.Gate](b, "select * from gate where state = 'open'")
	var raised flow.GateRaised
	require.NoError(t, json.Unmarshal(g.Raised, &raised))
	assert.ErrorIs(
		t,
		b.word(g.ID, engine.Word{Approve: true, By: "mara", Comment: "", Digest: strings.Repeat("0", 64)}),
		engine.ErrOtherDigest,
	)
	assert.ErrorIs(
		t,
		b.word("nothing", engine.Word{Approve: true, By: "mara", Comment: "", Digest: raised.Digest}),
		store.ErrNotFound,
	)
	require.NoError(t, b.word(g.ID, engine.Word{Approve: false, By: "mara", Comment: "not now", Digest: raised.Digest}))
	assert.ErrorIs(
		t,
		b.word(g.ID, engine.Word{Approve: true, By: "mara", Comment: "", Digest: raised.Digest}),
		engine.ErrNotOpen,
	)
	assert.Equal(t, flow.HandedOver, b.ended().State)
	assert.Zero(t, b.q.parked)
}

func TestWhoAskedCannotApprove(t *testing.T) {
	b := set(t, source(t))
	ctx := context.Background()
	var rev store.Revision
	require.NoError(t, testdb.SQL(b.store).Take(&rev).Error)
	book, err := b.e.Book(ctx, rev.Revision)
	require.NoError(t, err)
	in, err := book.AcceptAll(map[string]any{"queue": "north"})
	require.NoError(t, err)
	_, err = b.e.BeginNow(ctx, engine.Start{Book: book, Inputs: in, StartedBy: "mara"})
	require.NoError(t, err)
	g := eventually[store.Gate](b, "select * from gate where state = 'open'")
	var raised flow.GateRaised
	require.NoError(t, json.Unmarshal(g.Raised, &raised))
	assert.ErrorIs(
		t,
		b.word(g.ID, engine.Word{Approve: true, By: "mara", Comment: "", Digest: raised.Digest}),
		leave.ErrOwnRequest,
	)
	require.NoError(t, b.word(g.ID, engine.Word{Approve: true, By: "jonas", Comment: "", Digest: raised.Digest}))
	assert.Equal(t, flow.Done, b.ended().State)
}

// A run that a schedule began has no incident, until it needs people: then all that it did stands in one.
func TestARunThatBeganByItselfOpensAnIncidentForPeople(t *testing.T) {
	b := set(t, source(t))
	ctx := context.Background()
	var rev store.Revision
	require.NoError(t, testdb.SQL(b.store).Take(&rev).Error)
	book, err := b.e.Book(ctx, rev.Revision)
	require.NoError(t, err)
	in, err := book.AcceptAll(map[string]any{"queue": "north"})
	require.NoError(t, err)
	_, err = b.e.BeginNow(ctx, engine.Start{Book: book, Inputs: in, StartedBy: "trigger:nightly"})
	require.NoError(t, err)
	g := eventually[store.Gate](b, "select * from gate where state = 'open'")
	require.NotNil(t, g.Incident)
	kinds := b.kinds(*g.Incident)
	assert.Equal(t, []string{"incident.opened", "run.begun", "look.taken"}, kinds[:3])
	assert.Contains(t, kinds, "gate.raised")
	var raised flow.GateRaised
	require.NoError(t, json.Unmarshal(g.Raised, &raised))
	require.NoError(t, b.word(g.ID, engine.Word{Approve: true, By: "jonas", Digest: raised.Digest}))
	run := b.ended()
	assert.Equal(t, *g.Incident, *run.Incident)
	n, err := b.store.Verify(ctx, *g.Incident)
	require.NoError(t, err)
	assert.EqualValues(t, len(b.kinds(*g.Incident)), n)
}

// A change that was approved while all is halted waits until changes go on, and says so.
func TestHaltHoldsAChangeThatWasApproved(t *testing.T) {
	b := set(t, source(t))
	taken := b.alert()
	eventually[store.Gate](b, "select * from gate where state = 'open'")
	require.NoError(t, b.store.In(context.Background()).SetHalted(true, "iva"))
	b.decide(true)
	eventually[store.Run](b, "select * from run where waits_on = 'halt'")
	assert.Zero(t, b.q.parked)
	assert.Contains(t, b.kinds(taken.Incident), "halt.awaited")
	require.NoError(t, b.store.In(context.Background()).SetHalted(false, "iva"))
	require.NoError(t, b.e.Resume(context.Background(), "iva"))
	assert.Equal(t, flow.Done, b.ended().State)
	assert.Equal(t, 1, b.q.parked)
}

// A halt that comes in the last moment, after the intention is on disk, holds the change too.
func TestHaltInTheLastMomentHoldsTheChange(t *testing.T) {
	b := set(t, source(t))
	f := &frozen{hold: make(chan struct{}), held: make(chan struct{})}
	b.stop()
	b.secrets = f
	b.start()
	b.alert()
	b.decide(true)
	<-f.held
	require.NoError(t, b.store.In(context.Background()).SetHalted(true, "iva"))
	close(f.hold)
	eventually[store.Run](b, "select * from run where waits_on = 'halt'")
	assert.Zero(t, b.q.parked)
	require.NoError(t, b.store.In(context.Background()).SetHalted(false, "iva"))
	require.NoError(t, b.e.Resume(context.Background(), "iva"))
	assert.Equal(t, flow.Done, b.ended().State)
	assert.Equal(t, 1, b.q.parked)
	var asked int64
	testdb.SQL(b.store).Model(&store.Question{}).Count(&asked)
	assert.Zero(t, asked, "nothing was begun: nobody is asked what became of it")
}

func TestAStopDuringAChangeWaitsForItsEnd(t *testing.T) {
	b := set(t, source(t))
	b.q.hold, b.q.held = make(chan struct{}), make(chan struct{})
	held := b.q.held
	b.alert()
	b.decide(true)
	<-held
	old := b.e
	stopped := make(chan struct{})
	go func() { old.Stop(); close(stopped) }()
	time.Sleep(50 * time.Millisecond)
	close(b.q.hold)
	<-stopped
	b.start()
	assert.Equal(t, flow.Done, b.ended().State)
	assert.Equal(t, 1, b.q.parked)
	var asked int64
	testdb.SQL(b.store).Model(&store.Question{}).Count(&asked)
	assert.Zero(t, asked, "its end was seen: nobody is asked")
}

func TestAnUnknownOutcomeIsAQuestion(t *testing.T) {
	b := set(t, source(t))
	b.q.lost = true
	b.alert()
	b.decide(true)
	q := eventually[store.Question](b, "select * from question where state = 'open'")
	assert.ErrorIs(t, b.answer(q.ID, engine.Reply{Choice: "perhaps", By: "mara", Comment: ""}), engine.ErrNoChoice)
	b.q.runs.Store(true)
	err := b.answer(q.ID, engine.Reply{Choice: flow.DoItAgain, By: "mara", MayApprove: true})
	assert.ErrorIs(t, err, engine.ErrMayBegin)
	assert.ErrorContains(t, err, "it still runs on consumer-1")
	require.NoError(t, b.answer(q.ID, engine.Reply{Choice: flow.Happened, By: "mara", Comment: "seen on the host"}))
	assert.Equal(t, flow.Done, b.ended().State)
	assert.Equal(t, 1, b.q.parked)
}

func TestGateExpiresByTimer(t *testing.T) {
	b := set(t, strings.Replace(source(t), "within: 20m", "within: 1s", 1))
	b.alert()
	run := b.ended()
	assert.Equal(t, flow.HandedOver, run.State)
	assert.Contains(t, run.Because, "Nobody answered the gate")
	assert.Zero(t, b.q.parked)
}

func TestSecretsAreMasked(t *testing.T) {
	b := set(t, source(t))
	b.q.depth, b.q.stuck = 3, "hunter22"
	b.alert()
	b.ended()
	var found int64
	require.NoError(
		t,
		testdb.SQL(b.store).Raw("select count(*) from event where body like '%hunter22%'").Scan(&found).Error,
	)
	assert.Zero(t, found)
}

// A look that prints what is sealed, and fails, leaves nothing of it anywhere.
func TestASealedReadingOfALookThatFailsIsKeptNowhere(t *testing.T) {
	text := strings.Replace(source(t), "state: {json: .state, type: text}", "state: {json: .state, type: text, sealed: true}", 1)
	require.Contains(t, text, "sealed: true")
	b := set(t, text)
	b.q.depth, b.q.leaks = 3, true
	b.alert()
	b.ended()
	for _, where := range []string{"event where body", "entry where content", "entry where title"} {
		var found int64
		require.NoError(t, testdb.SQL(b.store).Raw("select count(*) from "+where+"::text like '%hunter99%'").
			Scan(&found).Error)
		assert.Zero(t, found, where)
	}
	var kept string
	require.NoError(t, testdb.SQL(b.store).Raw("select body from event where body like '%what it said is not kept%'").
		Scan(&kept).Error)
	assert.NotEmpty(t, kept, "that nothing is kept is said")
}

// An instance that was taken for dead while a change was under way does no harm when it wakes: another one
// asks a person, and the change is not begun again.
func TestAFencedInstanceWakesAndDoesNoHarm(t *testing.T) {
	b := set(t, source(t))
	b.q.hold, b.q.held = make(chan struct{}), make(chan struct{})
	held := b.q.held
	taken := b.alert()
	b.decide(true)
	<-held
	b.start() // a second instance on the same database
	require.NoError(
		t,
		testdb.SQL(b.store).
			Exec("update instance set fenced_at = now() where begun_at = (select min(begun_at) from instance)").
			Error,
	)
	q := eventually[store.Question](b, "select * from question where state = 'open'")
	assert.Zero(t, b.q.parked)
	err := b.answer(q.ID, engine.Reply{Choice: flow.DoItAgain, By: "mara", MayApprove: true})
	assert.ErrorIs(t, err, engine.ErrMayBegin)
	close(b.q.hold) // the first one goes on, and its change ends
	assert.Equal(t, flow.Done, b.ended().State, "what came late answers the question")
	q = eventually[store.Question](b, "select * from question where state = 'settled'")
	err = b.answer(q.ID, engine.Reply{Choice: flow.DidNot, By: "mara", MayApprove: true})
	assert.ErrorIs(t, err, engine.ErrNotOpen)
	assert.Equal(t, 1, b.q.parked)
	_, err = b.store.Verify(context.Background(), taken.Incident)
	assert.NoError(t, err)
}

// frozen is an instance that freezes at the last moment before a change is sent.
type frozen struct {
	noSecrets
	once       sync.Once
	hold, held chan struct{}
}

func (f *frozen) Fill(_ context.Context, r task.Request) (task.Request, []string, error) {
	if len(r.Words) > 1 && r.Words[1] == "park" {
		f.once.Do(func() { close(f.held); <-f.hold })
	}
	return r, nil, nil
}

// An instance that freezes before its request leaves, and wakes after somebody else went on, does no harm:
// "again" is not to be had before it has said that nothing of it can begin any more, and then it is begun by itself.
func TestAFrozenInstanceThatWakesAfterAgainDoesNoHarm(t *testing.T) {
	b := set(t, source(t))
	f := &frozen{hold: make(chan struct{}), held: make(chan struct{})}
	b.stop()
	b.secrets = f
	b.start()
	b.alert()
	b.decide(true)
	<-f.held
	b.secrets = noSecrets{}
	b.start()
	require.NoError(
		t,
		testdb.SQL(b.store).
			Exec("update instance set fenced_at = now() where reported_at is null and begun_at < (select "+
				"max(begun_at) from instance)").
			Error,
	)
	q := eventually[store.Question](b, "select * from question where state = 'open'")
	again := engine.Reply{Choice: flow.DoItAgain, By: "mara", MayApprove: true}
	err := b.answer(q.ID, again)
	require.ErrorIs(t, err, engine.ErrMayBegin)
	assert.Contains(t, err.Error(), "urgentis instance gone")
	close(f.hold) // it wakes
	eventually[store.Entry](b, "select * from entry where kind = 'change.ended'")
	// It was taken for dead and begins nothing; as that is certain, the other one does, without a question.
	assert.Equal(t, flow.Done, b.ended().State)
	assert.Equal(t, 1, b.q.parked)
}

func TestALogOfANewerProgramIsRefusedPlainly(t *testing.T) {
	b := set(t, source(t))
	b.alert()
	g := eventually[store.Gate](b, "select * from gate where state = 'open'")
	require.NoError(
		t,
		testdb.SQL(b.store).
			Exec("insert into event (run, seq, at, path, kind, body) select id, version + 1, now(), '', "+
				"'run.danced', '{}' from run").
			Error,
	)
	require.NoError(
		t,
		testdb.SQL(b.store).
			Exec("update run set version = version + 1, rung_at = now() - interval '10 seconds' where id = ?", g.Run).
			Error,
	)
	run := b.ended() // the janitor rings anew
	assert.Equal(t, flow.StateFail, run.State)
	assert.Contains(t, run.Because, "does not know the event run.danced")
	assert.Zero(t, b.q.parked)
	inc := eventually[store.Incident](b, "select * from incident where waiting_on = 'person'")
	assert.Equal(t, "open", inc.State)
}

const teller = `urgentis: runbook/1
name: teller
title: Tells
owner: quayside
service: berth-queue
starts:
  any: {alert: "true"}
steps:
  - tell: Ships wait
    text: At the north quay.
    to: [team/quayside, connection/log-host, ticket, ticket/openly]
  - close: false-alarm
    because: It was told.
`

// Whom a tell names is told, each once; the tickets follow the record, in which what is for others stands as such.
func TestATellNamesWhomItIsFor(t *testing.T) {
	b := set(t, teller)
	require.NoError(t, testdb.Push(b.store, "urgentis: team/1\nname: quayside\nmembers: [mara]\n"))
	b.alert()
	b.ended()
	type row struct{ Asked, Text string }
	var told []row
	require.NoError(t, testdb.SQL(b.store).Raw("select asked, text from notice where kind = 'said' order by asked").
		Scan(&told).Error)
	const text = "Ships wait: At the north quay."
	assert.Equal(t, []row{{"connection/log-host", text}, {"team/quayside", text}}, told)
	kinds := b.kinds(1)
	assert.Contains(t, kinds, "told")
	assert.Contains(t, kinds, "note.outward")
}
