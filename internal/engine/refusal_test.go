package engine_test

import (
	"context"
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/flow"
	"urgentis/core/runbook"
	"urgentis/internal/act"
	"urgentis/internal/engine"
	"urgentis/internal/store"
	"urgentis/internal/testdb"
)

// What the database refuses for what it is ends the run with a sentence, after few tries.
func TestWhatCannotBeWrittenEndsTheRun(t *testing.T) {
	b := set(t, source(t))
	require.NoError(t, testdb.SQL(b.store).Exec(`create sequence refusals;
		create function refuse() returns trigger language plpgsql as $$ begin
			perform nextval('refusals'); raise exception 'no such event' using errcode = '22P05'; end $$;
		create trigger refuses
			before insert on event for each row when (new.kind = 'check.judged')
			execute function refuse()`).Error)
	taken := b.alert()
	run := b.ended()
	assert.Equal(t, flow.StateFail, run.State)
	assert.Contains(t, run.Because, "the next step could not be stored")
	assert.Contains(t, b.kinds(taken.Incident), "run.failed")
	var tries int
	require.NoError(t, testdb.SQL(b.store).Raw("select last_value from refusals").Scan(&tries).Error)
	assert.LessOrEqual(t, tries, 5)
	require.Zero(t, b.q.parked)
}

// A database that cannot be written for a while is waited for, and not asked without a pause.
func TestWhatCannotBeWrittenNowIsTriedAgain(t *testing.T) {
	b := set(t, source(t))
	require.NoError(t, testdb.SQL(b.store).Exec(`create sequence refusals;
		create function refuse() returns trigger language plpgsql as $$ begin
			perform nextval('refusals'); raise exception 'the disk is full' using errcode = '53100'; end $$;
		create trigger refuses
			before insert on event for each row when (new.kind = 'check.judged')
			execute function refuse()`).Error)
	b.alert()
	time.Sleep(2 * time.Second)
	var tries int
	require.NoError(t, testdb.SQL(b.store).Raw("select last_value from refusals").Scan(&tries).Error)
	assert.Greater(t, tries, 3)
	assert.Less(t, tries, 20)
	require.NoError(t, testdb.SQL(b.store).Exec("drop trigger refuses on event").Error)
	b.decide(true)
	assert.Equal(t, flow.Done, b.ended().State)
}

// explosive is a hand that the program fails in.
type explosive struct {
	*queue
	at string
}

func (x explosive) Do(ctx context.Context, job act.Job) act.Result {
	if len(job.Request.Words) > 1 && job.Request.Words[1] == x.at {
		panic("no such case")
	}
	return x.queue.Do(ctx, job)
}

// What the program itself fails on is a missing reading, or a question; other runs, and the service, go on.
func TestAPanicInAHandIsAnOutcome(t *testing.T) {
	for _, at := range []string{"depth", "park"} {
		t.Run(at, func(t *testing.T) {
			b := set(t, source(t))
			b.e.Hands["ssh"] = explosive{b.q, at}
			b.alert()
			if at == "depth" {
				run := b.ended()
				assert.Equal(t, flow.HandedOver, run.State)
				assert.Contains(t, run.Because, "no depth")
				return
			}
			b.decide(true)
			q := eventually[store.Question](b, "select * from question where state = 'open'")
			assert.Contains(t, string(q.Raised), "the program failed on it: no such case")
		})
	}
}

// Many transactions at once that must read a runbook first do not wait for one another's connections.
func TestTransactionsNeedOneConnection(t *testing.T) {
	b := set(t, source(t))
	ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
	defer cancel()
	const n = 80
	var books []*runbook.Book
	for i := range n {
		called := fmt.Sprintf(
			"urgentis: runbook/1\nname: called-%d\ntitle: C\nowner: o\nservice: s\nsteps: [{note: N, text: n}]\n",
			i,
		)
		calling := fmt.Sprintf(
			"urgentis: runbook/1\nname: calling-%d\ntitle: C\nowner: o\nservice: s\nsteps: [{call: called-%d}]\n",
			i,
			i,
		)
		_, _, err := b.store.PushRunbook(ctx, called, "iva")
		require.NoError(t, err)
		r, f, err := b.store.PushRunbook(ctx, calling, "iva")
		require.NoError(t, err, f)
		book, _ := runbook.Parse([]byte(r.Text))
		books = append(books, book)
	}
	b.stop()
	b.start() // it has read nothing yet
	var wg sync.WaitGroup
	for i := range n {
		wg.Go(func() {
			_, err := b.e.BeginNow(ctx, engine.Start{Book: books[i], Inputs: map[string]any{}, StartedBy: "mara"})
			assert.NoError(t, err)
		})
	}
	wg.Wait()
}

// rude is a hand whose errors are as others put them: of any length, with what no text may hold.
type rude struct{ *queue }

func (x rude) Do(ctx context.Context, job act.Job) act.Result {
	res := x.queue.Do(ctx, job)
	if res.Error != "" {
		res.Error += ", it said \x00\xff" + strings.Repeat("x", 1<<20)
	}
	return res
}

// What others say as they fail can be written down, whatever it is: the question about a change is asked, a watch is
// told of, and a run that must end says why.
func TestAnyErrorCanBeWrittenDown(t *testing.T) {
	for _, failing := range []string{"change", "look", "watch"} {
		t.Run(failing, func(t *testing.T) {
			b := set(t, source(t))
			b.e.Hands["ssh"] = rude{b.q}
			switch failing {
			case "change":
				b.q.lost = true
				b.alert()
				b.decide(true)
				q := eventually[store.Question](b, "select * from question where state = 'open'")
				assert.Contains(t, string(q.Raised), "the connection was lost, it said \ufffd")
				assert.Less(t, len(q.Raised), 20<<10)
			case "look":
				b.q.silent = "consumer-2"
				b.alert()
				run := b.ended()
				assert.Equal(t, flow.HandedOver, run.State, run.Because)
			default:
				b.q.silent = "consumer-2"
				b.watched(queueWatch)
				trouble := eventually[string](b, "select trouble from scheduled_look where trouble <> '' and answered = 1")
				assert.Contains(t, trouble, "consumer-2: no answer, it said \ufffd")
			}
		})
	}
}

// printing is a hand whose commands print to whoever keeps the whole of it.
type printing struct{ *queue }

func (x printing) Do(ctx context.Context, job act.Job) act.Result {
	if job.Whole != nil {
		job.Whole.Write([]byte("parked m-7\n")) //nolint:errcheck // what is not kept is told at the end
	}
	return x.queue.Do(ctx, job)
}

// A change that was made is no failure because what it printed could not be put to the record.
func TestAChangeIsMadeWhetherOrNotItsOutputCanBeKept(t *testing.T) {
	const undo = "    undo: {run: [berthq, unpark,"
	src := strings.Replace(source(t), undo, "    attach: true\n"+undo, 1)
	require.Contains(t, src, "attach: true")
	b := set(t, src)
	b.e.Hands["ssh"] = printing{b.q}
	require.NoError(t, testdb.SQL(b.store).Exec(`create function refuse() returns trigger language plpgsql as $$ begin
			raise exception 'the disk is full' using errcode = '53100'; end $$;
		create trigger refuses before insert on attachment_piece for each row execute function refuse()`).Error)
	taken := b.alert()
	b.decide(true)
	assert.Equal(t, flow.Done, b.ended().State)
	assert.Equal(t, 1, b.q.parked)
	assert.NotContains(t, b.kinds(taken.Incident), "undo.begun")
	said := eventually[string](b, "select content from entry where kind = 'change.ended'")
	assert.Contains(t, said, "what was printed could not be kept")
}

// A run that cannot go on keeps its locks until what it began has landed: until then nobody else changes those hosts.
func TestARefusedRunKeepsItsLocksUntilItsChangeLanded(t *testing.T) {
	b := set(t, source(t))
	hold, held := make(chan struct{}), make(chan struct{})
	b.q.hold, b.q.held = hold, held
	b.alert()
	b.decide(true)
	<-held
	db := testdb.SQL(b.store)
	holds := func() (keys []string) {
		require.NoError(t, db.Raw("select key from hold order by key").Scan(&keys).Error)
		return keys
	}
	locked := holds()
	require.NotEmpty(t, locked)
	require.NoError(t, db.Exec(`insert into event (run, seq, at, kind, path, body)
		select id, version + 1, now(), 'change.repeated', '4', '{"target":"consumer-1"}' from run`).Error)
	require.NoError(t, db.Exec("update run set version = version + 1").Error)
	run := b.ended()
	assert.Equal(t, flow.StateFail, run.State)
	assert.Contains(t, run.Because, "cannot go on")
	time.Sleep(1500 * time.Millisecond) // a sweep comes by
	assert.Equal(t, locked, holds(), "its command runs on")
	close(hold)
	require.Eventually(t, func() bool { return len(holds()) == 0 }, time.Minute, 20*time.Millisecond)
	var left int
	require.NoError(t, db.Raw("select count(*) from landing").Scan(&left).Error)
	assert.Zero(t, left)
}
