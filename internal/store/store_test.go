package store_test

import (
	"context"
	"fmt"
	"log/slog"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/flow"
	"urgentis/internal/store"
	"urgentis/internal/testdb"
)

var ctx = context.Background()

func run(t *testing.T, s *store.Store, id string) {
	require.NoError(t, s.Tx(ctx, func(tx *store.Tx) error {
		b := store.NewBulk(tx)
		err := store.AddRuns(
			b,
			[]store.Run{{ID: id, Runbook: "b", Title: "B", Revision: "r", StartedBy: "t", BegunAt: time.Now()}},
			[]flow.Event{{Seq: 1, At: time.Now(), Body: flow.Begun{Rules: 1, Run: id}}},
		)
		if err != nil {
			return err
		}
		if err := b.Write(); err != nil {
			return err
		}
		return tx.Enqueue(store.Doorbell{Run: id})
	}))
}

func note(n int64) flow.Event {
	return flow.Event{Seq: n, At: time.Now(), Place: flow.PlaceOf("1"), Body: flow.Noted{Text: fmt.Sprint(n)}}
}

func add(s *store.Store, r *store.Run, park bool, events ...flow.Event) error {
	err := s.Tx(ctx, func(tx *store.Tx) error {
		b := store.NewBulk(tx)
		if _, err := b.Append(r, events, park, store.Head{State: flow.Running}); err != nil {
			return err
		}
		return b.Write()
	})
	if err == nil {
		r.Version += int64(len(events))
	}
	return err
}

func TestOneOwnerAtATime(t *testing.T) {
	s := testdb.Open(t)
	run(t, s, "r1")
	var wg sync.WaitGroup
	claims := make([]*store.Claimed, 8)
	for i := range claims {
		wg.Go(func() {
			var err error
			claims[i], err = s.Claim(ctx, "r1", fmt.Sprint("n", i))
			assert.NoError(t, err)
		})
	}
	wg.Wait()
	var mine *store.Run
	for _, c := range claims {
		if c != nil {
			assert.Nil(t, mine, "two instances own one run")
			mine = &c.Run
		}
	}
	require.NotNil(t, mine)
	require.NoError(t, add(s, mine, false, note(2), note(3)))

	// The claim is given to another one: the old owner can write nothing more.
	require.NoError(t, s.GiveBack(ctx, "r1", *mine.Owner))
	next, err := s.Claim(ctx, "r1", "other")
	require.NoError(t, err)
	assert.Equal(t, mine.Epoch+1, next.Epoch)
	assert.ErrorIs(t, add(s, mine, false, note(4)), store.ErrMoved)
	owns, err := s.Owns(ctx, mine)
	require.NoError(t, err)
	assert.False(t, owns)
	require.NoError(t, add(s, &next.Run, false, note(4)))
	log, err := s.Log(ctx, "r1", 0)
	require.NoError(t, err)
	assert.Len(t, log, 4)
	assert.Equal(t, flow.Noted{Text: "4"}, log[3].Body)
}

func TestASignalIsNeverLost(t *testing.T) {
	s := testdb.Open(t)
	run(t, s, "r1")
	r, err := s.Claim(ctx, "r1", "me")
	require.NoError(t, err)
	speak := func() {
		require.NoError(t, s.Tx(ctx, func(tx *store.Tx) error {
			row, err := tx.Lock("r1")
			if err != nil {
				return err
			}
			b := store.NewBulk(tx)
			if err := b.Speak(row, []flow.Event{note(row.Version + 1)}, store.Head{State: flow.Running}); err != nil {
				return err
			}
			return b.Write()
		}))
	}
	bells := func() int {
		var n int
		require.NoError(t, testdb.SQL(s).Raw("select count(*) from river_job where kind = 'doorbell'").Scan(&n).Error)
		return n
	}
	before := bells()
	speak()
	assert.Equal(t, before, bells(), "whoever drives the run sees it when parking")
	assert.ErrorIs(t, add(s, &r.Run, true), store.ErrMoved, "the run cannot be parked over a signal")
	r.Version++
	require.NoError(t, add(s, &r.Run, true))
	speak()
	speak()
	assert.Equal(t, before+1, bells(), "one bell for a parked run, not one for each signal")
	again, err := s.Claim(ctx, "r1", "me")
	require.NoError(t, err)
	assert.EqualValues(t, 4, again.Version)
}

// TestABellIsAnsweredOnce: a second bell for one ring, because the first was not answered for a while, drives nothing.
func TestABellIsAnsweredOnce(t *testing.T) {
	s := testdb.Open(t)
	run(t, s, "r1")
	r, err := s.Claim(ctx, "r1", "me")
	require.NoError(t, err)
	require.NotNil(t, r)
	require.NoError(t, add(s, &r.Run, true))
	r, err = s.Claim(ctx, "r1", "me")
	require.NoError(t, err)
	assert.Nil(t, r, "nobody rang for it since it was parked")
}

func TestSilentInstancesAreFenced(t *testing.T) {
	s := testdb.Open(t)
	run(t, s, "r1")
	for _, id := range []string{"dead", "alive"} {
		require.NoError(t, s.Register(ctx, store.Instance{ID: id, Host: "h", PID: 1, Version: "t"}))
	}
	_, err := s.Claim(ctx, "r1", "dead")
	require.NoError(t, err)
	require.NoError(t, s.Sweep(ctx))
	owned, err := s.OwnedBy(ctx, "dead")
	require.NoError(t, err)
	assert.Len(t, owned, 1, "a lease that is not over protects the claim")
	beating, err := s.Beating(ctx)
	require.NoError(t, err)
	fenced, err := s.Fence(ctx, "dead", beating["dead"]-1)
	require.NoError(t, err)
	assert.False(t, fenced, "it has beaten meanwhile")
	fenced, err = s.Fence(ctx, "dead", beating["dead"])
	require.NoError(t, err)
	assert.True(t, fenced)
	require.NoError(t, s.Sweep(ctx))
	heard, err := s.Pulse().Beat(ctx, "dead", 0, time.Time{})
	require.NoError(t, err)
	assert.False(t, heard.Alive, "whoever was fenced learns of it")
	heard, err = s.Pulse().Beat(ctx, "alive", 0, time.Time{})
	require.NoError(t, err)
	assert.True(t, heard.Alive)
	r, err := s.Claim(ctx, "r1", "alive")
	require.NoError(t, err)
	assert.NotNil(t, r)
}

// TestLogsComeAlongWithWhatIsDue: a run that is taken with others has its log, unless it is long.
func TestLogsComeAlongWithWhatIsDue(t *testing.T) {
	s := testdb.Open(t)
	for id, size := range map[string]int{"large": 100 << 10, "small": 10} {
		run(t, s, id)
		r, err := s.Claim(ctx, id, "me")
		require.NoError(t, err)
		body := flow.Event{Seq: 2, At: time.Now(), Body: flow.Noted{Text: strings.Repeat("x", size)}}
		require.NoError(t, add(s, &r.Run, true, body))
		require.NoError(t, s.In(ctx).SetTimer(id, new(time.Duration)))
	}
	runs, _, _, err := s.ClaimDue(ctx, "you", 10)
	require.NoError(t, err)
	require.Len(t, runs, 2)
	for _, r := range runs {
		log, err := store.Decoded(r.Log)
		require.NoError(t, err)
		if r.ID == "large" {
			assert.Empty(t, log)
			continue
		}
		want, err := s.Log(ctx, r.ID, 0)
		require.NoError(t, err)
		assert.Equal(t, want, log)
	}
}

func TestTimersAreTakenOnce(t *testing.T) {
	s := testdb.Open(t)
	for i := range 3 {
		id := fmt.Sprint("r", i)
		run(t, s, id)
		r, err := s.Claim(ctx, id, "me")
		require.NoError(t, err)
		due := time.Duration(i-1) * time.Hour
		require.NoError(t, s.Tx(ctx, func(tx *store.Tx) error {
			if _, err := store.NewBulk(tx).Append(&r.Run, nil, true, store.Head{State: flow.Waiting}); err != nil {
				return err
			}
			return tx.SetTimer(id, &due)
		}))
	}
	for _, want := range []string{"r0", "r1"} {
		runs, late, next, err := s.ClaimDue(ctx, "you", 1)
		require.NoError(t, err)
		assert.Len(t, late, 1, "what is due now, and what was due an hour ago")
		require.Len(t, runs, 1)
		assert.Equal(t, want, runs[0].ID)
		assert.Equal(t, "you", *runs[0].Owner)
		assert.EqualValues(t, 2, runs[0].Epoch, "whoever owned it before cannot write any more")
		assert.Zero(t, runs[0].PutBackAt)
		if want == "r1" {
			assert.InDelta(t, time.Hour.Seconds(), next.Seconds(), 5)
		}
	}
	_, late, _, err := s.ClaimDue(ctx, "you", 10)
	require.NoError(t, err)
	assert.Empty(t, late)
	require.NoError(t, s.In(ctx).SetTimer("r2", nil))
	_, _, next, err := s.ClaimDue(ctx, "you", 10)
	require.NoError(t, err)
	assert.Zero(t, next)
	require.NoError(t, testdb.SQL(s).Exec("update run set rules = 1000").Error)
	require.NoError(t, s.In(ctx).SetTimer("r2", new(time.Duration)))
	_, late, _, err = s.ClaimDue(ctx, "you", 10)
	require.NoError(t, err)
	assert.Empty(t, late, "a run of newer rules is left to a newer program")
}

// A reader of the feed misses no late commit: one that took its number early and committed late.
func TestTheFeedMissesNoLateCommit(t *testing.T) {
	s := testdb.Open(t)
	say := func(tx *store.Tx, ref string) {
		r := store.NewRecordWriter(tx)
		r.Changed(store.Feed{Topic: "t", Ref: ref})
		require.NoError(t, r.Flush())
	}
	var rows []store.Feed
	var err error
	require.NoError(t, s.Tx(ctx, func(slow *store.Tx) error {
		say(slow, "early number, late commit")
		require.NoError(t, s.Tx(ctx, func(tx *store.Tx) error { say(tx, "late number, early commit"); return nil }))
		rows, err = s.FeedAfter(ctx, "0", 0)
		require.NoError(t, err)
		assert.Empty(t, rows, "nothing is read past an open transaction")
		return nil
	}))
	require.Eventually(t, func() bool {
		rows, err = s.FeedAfter(ctx, "0", 0)
		return err == nil && len(rows) == 2
	}, time.Minute, 10*time.Millisecond)
	rows, err = s.FeedAfter(ctx, rows[1].Xid, rows[1].ID)
	require.NoError(t, err)
	assert.Empty(t, rows)
}

// What is under way in another database of the server holds the feed up in none.
func TestTheFeedWaitsForItsOwnDatabaseOnly(t *testing.T) {
	s := testdb.Open(t)
	other, err := pgx.Connect(ctx, testdb.URL(t))
	require.NoError(t, err)
	defer other.Close(ctx) //nolint:errcheck // its database goes
	_, err = other.Exec(ctx, "begin")
	require.NoError(t, err)
	_, err = other.Exec(ctx, "create table busy ()")
	require.NoError(t, err)
	require.NoError(t, s.Tx(ctx, func(tx *store.Tx) error {
		r := store.NewRecordWriter(tx)
		r.Changed(store.Feed{Topic: "t", Ref: "x"})
		return r.Flush()
	}))
	require.Eventually(t, func() bool {
		rows, err := s.FeedAfter(ctx, "0", 0)
		return err == nil && len(rows) == 1
	}, time.Minute, 10*time.Millisecond)
	xid, _, err := s.FeedEnd(ctx)
	require.NoError(t, err)
	assert.NotEqual(t, "0", xid)
}

func TestPushingTheSameTextIsNoNewRevision(t *testing.T) {
	s := testdb.Open(t)
	text := "urgentis: runbook/1\nname: x\ntitle: X\nowner: o\nservice: s\nsteps:\n  - note: N\n    text: a\n"
	r, _, err := s.PushRunbook(ctx, text, "iva")
	require.NoError(t, err)
	assert.Equal(t, 1, r.Number)
	r, _, err = s.PushRunbook(ctx, text, "mara")
	require.NoError(t, err)
	assert.Equal(t, 1, r.Number)
	r, _, err = s.PushRunbook(ctx, text+"    id: n\n", "mara")
	require.NoError(t, err)
	assert.Equal(t, 2, r.Number)
	_, found, err := s.PushRunbook(ctx, "a: b", "iva")
	assert.Error(t, err)
	assert.True(t, found.Failed())
	_, err = s.In(ctx).Newest("none")
	assert.ErrorIs(t, err, store.ErrNotFound)
}

func TestWhatIsOfNoUseIsForgotten(t *testing.T) {
	s := testdb.Open(t)
	ctx := context.Background()
	for _, stmt := range []string{
		"insert into feed (at, topic, ref) values (now() - interval '2 hours', 'run', 'r'), (now(), 'run', 'r')",
		"insert into started values ('b', 's', now() - interval '9 days'), ('b', 's', now())",
		"insert into person (name, password_hash, roles) values ('mara', 'x', 'viewer')",
		"insert into session (hash, person, expires_at) values ('a', 'mara', now() - interval '1 minute'), ('b', " +
			"'mara', now() + interval '1 hour')",
		"insert into token (name, hash, roles, made_by, expires_at) values ('a', 'a', 'viewer', 'mara', now() - " +
			"interval '31 days'), ('b', 'b', 'viewer', 'mara', now() - interval '1 day')",
		"insert into delivery (key, kind, address, body, state, queued_at, sent_at) values ('a', 'room', 'r', '', " +
			"'sent', now(), now() - interval '31 days'), ('b', 'room', 'r', '', 'failed', now() - interval '31 " +
			"days', null)",
		"insert into suspect (kind, ref, instance, at) values ('run', 'a', 'n', now() - interval '31 days'), " +
			"('run', 'b', 'n', now())",
	} {
		require.NoError(t, testdb.SQL(s).Exec(stmt).Error, stmt)
	}
	require.NoError(t, s.Forget(ctx))
	for _, table := range []string{"feed", "started", "session", "token", "delivery", "suspect"} {
		var n int64
		require.NoError(t, testdb.SQL(s).Raw("select count(*) from "+table).Scan(&n).Error)
		assert.EqualValues(t, 1, n, table)
	}
}

func TestTooFewConnectionsAreRefused(t *testing.T) {
	_, err := store.Open(ctx, "postgres://nobody@127.0.0.1:1/x?pool_max_conns=4", slog.New(slog.DiscardHandler))
	assert.EqualError(t, err, "pool_max_conns is 4 in the database address, and an instance needs 12 at least")
}

// An instance of which the database takes no more connections goes on beating over one that it has.
func TestBeatsBorrowAConnection(t *testing.T) {
	ctx := context.Background()
	url := testdb.URL(t)
	s, err := store.Open(ctx, url, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	t.Cleanup(s.Close)
	role := strings.ToLower(store.NewID("r"))
	db := testdb.SQL(s)
	require.NoError(t, db.Exec("create role "+role+" login").Error)
	t.Cleanup(func() { db.Exec("drop owned by " + role); db.Exec("drop role " + role) })
	require.NoError(t, db.Exec("grant all on all tables in schema public to "+role).Error)
	require.NoError(t, db.Exec("grant all on all sequences in schema public to "+role).Error)
	limited, err := store.Open(ctx, url+"&user="+role, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	defer limited.Close()
	require.NoError(t, limited.Register(ctx, store.Instance{ID: "i1", Host: "gate-1"}))
	require.NoError(t, db.Exec("alter role "+role+" connection limit 1").Error)

	pulse := limited.Pulse()
	defer pulse.Close()
	heard, err := pulse.Beat(ctx, "i1", 0, time.Time{})
	require.NoError(t, err)
	assert.True(t, heard.Alive)
	assert.WithinDuration(t, time.Now(), heard.Now, time.Minute)
}

// What is kept read by the number of the configuration is not taken for another one that has the same number, after the
// database was put back and changed otherwise.
func TestANumberOfTheConfigurationMeansOneThing(t *testing.T) {
	s := testdb.Open(t)
	change := func(name string) int64 {
		require.NoError(t, testdb.SQL(s).Create(&store.Service{Name: name, Owner: "o", Stance: "ask"}).Error)
		v, err := s.In(ctx).ConfigVersion()
		require.NoError(t, err)
		return v
	}
	before := change("a")
	lost := change("b")
	assert.Greater(t, lost, before)
	require.NoError(t, testdb.SQL(s).Exec("delete from service where name = 'b'").Error)
	require.NoError(t, testdb.SQL(s).Exec("update config set version = ?", before).Error) // as it is put back
	assert.NotEqual(t, lost, change("c"))
}

// A message whose job ended, and of whose end the database does not know, is sent again, once.
func TestWhatWasForgottenIsSentAgain(t *testing.T) {
	s := testdb.Open(t)
	long := time.Now().Add(-time.Minute)
	list := []store.Delivery{
		{Key: "forgotten", Kind: "desk", Connection: "d", Body: "b", State: "queued", QueuedAt: long},
		{Key: "fresh", Kind: "desk", Connection: "d", Body: "b", State: "queued", QueuedAt: time.Now()},
		{Key: "under way", Kind: "desk", Connection: "d", Body: "b", State: "queued", QueuedAt: long},
		{Key: "over", Kind: "desk", Connection: "d", Body: "b", State: "sent", QueuedAt: long},
	}
	require.NoError(t, s.Tx(ctx, func(tx *store.Tx) error {
		if err := tx.AddDeliveries(list); err != nil {
			return err
		}
		return tx.Enqueue(store.Deliver{ID: list[0].ID}, store.Deliver{ID: list[2].ID})
	}))
	db := testdb.SQL(s)
	require.NoError(t, db.Exec(`update river_job set state = 'completed', finalized_at = now()
		where (args->>'id')::bigint = ?`, list[0].ID).Error)
	for range 2 {
		require.NoError(t, s.SendForgotten(ctx))
	}
	var waiting []int64
	require.NoError(t, db.Raw(`select (args->>'id')::bigint from river_job where kind = 'deliver'
		and state = 'available' order by id`).Scan(&waiting).Error)
	assert.Equal(t, []int64{list[2].ID, list[0].ID}, waiting)
	d, err := s.In(ctx).Delivery(list[0].ID)
	require.NoError(t, err)
	assert.True(t, d.Unsure, "it may have arrived")
}

// When a job is due goes by the time of the database: one that a machine's clock put into the future, or that nobody
// will end, is done now; what is done again later is due later, and keeps count of its tries.
func TestTheQueueGoesByTheTimeOfTheDatabase(t *testing.T) {
	s := testdb.Open(t)
	db := testdb.SQL(s)
	require.NoError(t, s.Tx(ctx, func(tx *store.Tx) error {
		return tx.Enqueue(store.Deliver{ID: 1}, store.Deliver{ID: 2}, store.Deliver{ID: 3}, store.Deliver{ID: 4},
			store.Deliver{ID: 5})
	}))
	set := func(id int, what string) {
		require.NoError(t, db.Exec("update river_job set "+what+" where (args->>'id')::bigint = ?", id).Error)
	}
	set(1, "scheduled_at = now() + interval '1 hour'")
	set(2, "state = 'retryable', scheduled_at = now() + interval '1 hour'")
	set(3, "state = 'running', attempt = 1, attempted_at = now() - interval '2 minutes'")
	set(4, "state = 'running', attempt = 1, attempted_at = now() - interval '10 seconds'")
	set(5, "scheduled_at = now() + interval '1 minute'")
	require.NoError(t, s.KeepQueue(ctx))
	var due []int64
	require.NoError(t, db.Raw(`select (args->>'id')::bigint from river_job where state = 'available'
		and scheduled_at <= now() order by id`).Scan(&due).Error)
	assert.Equal(t, []int64{1, 2, 3}, due)

	var id int64
	require.NoError(t, db.Raw("select id from river_job where (args->>'id')::bigint = 4").Scan(&id).Error)
	require.NoError(t, s.Later(ctx, id, time.Minute, false))
	type row struct {
		Attempt int
		In      float64
	}
	read := func(of string) (r row) {
		require.NoError(t, db.Raw("select attempt, extract(epoch from scheduled_at - now()) as \"in\" from river_job "+
			"where state = 'available' and (args->>'id')::bigint = 4 and "+of, id).Scan(&r).Error)
		return r
	}
	assert.Equal(t, 0, read("id = ?").Attempt, "it was no try")
	assert.InDelta(t, 60, read("id = ?").In, 5)
	set(4, "state = 'completed', finalized_at = now(), attempt = 3")
	require.NoError(t, s.Later(ctx, id, time.Second, true))
	assert.Equal(t, 3, read("id <> ?").Attempt, "somebody ended it meanwhile")
}

// The files of the store are bounded in number and size, and those of each record; what takes the place of another is
// none more.
func TestFilesAreBounded(t *testing.T) {
	s := testdb.Open(t)
	db := testdb.SQL(s)
	begin := func(row store.Attachment) error {
		row.ID, row.AddedAt = store.NewID("f"), time.Now()
		_, err := s.In(ctx).NewFile(row)
		return err
	}
	require.NoError(t, db.Exec(`insert into attachment (id, incident, kind, name, size, added_by)
		select 'a' || n, 0, 'stored', 'file-' || n, 1, 'mara' from generate_series(1, ?) n`, store.MaxFiles).Error)
	assert.ErrorIs(t, begin(store.Attachment{Kind: store.StoredFile, Name: "one-more"}), store.ErrFilesFull)
	assert.NoError(t, begin(store.Attachment{Kind: store.StoredFile, Name: "file-7"}))
	assert.NoError(t, begin(store.Attachment{Kind: store.FileAttached, Incident: 7, Name: "dump"}))
	require.NoError(t, db.Exec(`insert into attachment (id, incident, kind, name, size, added_by)
		values ('big', 8, ?, 'dump', ?, 'mara')`, store.FileAttached, int64(store.MaxFileBytes)).Error)
	assert.ErrorIs(t, begin(store.Attachment{Kind: store.FileAttached, Incident: 8, Name: "dump"}), store.ErrFilesFull)
}
