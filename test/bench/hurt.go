package main

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"github.com/riverqueue/river"

	"urgentis/core/flow"
	"urgentis/core/message"
	"urgentis/internal/act"
	"urgentis/internal/act/httpcall"
	"urgentis/internal/connect"
	"urgentis/internal/engine"
	"urgentis/internal/store"
	"urgentis/internal/stories"
	"urgentis/internal/telling"
	"urgentis/internal/testdb"
)

const (
	hangBook = `urgentis: runbook/1
name: hang
title: Hang
owner: bench
service: bench
steps:
  - look: Hangs
    from: here
    run: [hang, "x"]
    timeout: 5m
  - close: false-alarm
    because: measured
`
	hungryBook = `urgentis: runbook/1
name: hungry
title: Hungry
owner: bench
service: bench
steps:
  - look: Takes all there is
    from: here
    run: [print, "x"]
    read: {n: {json: '"x" * 1e9 | length', type: integer}}
  - close: false-alarm
    because: measured
`
	restBook = `urgentis: runbook/1
name: rest
title: Rest
owner: bench
service: bench
steps:
  - wait: Long
    for: 1h
  - close: false-alarm
    because: measured
`
)

// hurtHand notes when a look begins, and hangs where it is told to.
type hurtHand struct {
	watch
	hung atomic.Int64
}

func (h *hurtHand) Do(ctx context.Context, job act.Job) act.Result {
	switch job.Request.Words[0] {
	case "hang":
		h.hung.Add(1)
		<-ctx.Done()
		return act.Result{State: flow.Unknown, Error: "it hung"}
	case "print":
		return act.Answered(job, map[string]any{}).Result()
	}
	return h.watch.Do(ctx, job)
}

// hurt measures how far one run, one room or one host in trouble slows the others down: the time from an accepted alert
// to its first look, against a quiet time of the same run.
func (b *bench) hurt() error {
	for _, text := range []string{book, hangBook, hungryBook, restBook} {
		if err := b.push(text); err != nil {
			return err
		}
	}
	allowed, err := httpcall.ParseAllowed([]string{"127.0.0.0/8"})
	if err != nil {
		return err
	}
	hand := &hurtHand{watch: watch{begun: map[string]time.Time{}}}
	start := func() (*engine.Engine, error) {
		var e *engine.Engine
		teller := &telling.Teller{Stories: stories.New()}
		outbox, err := connect.New(connect.Config{
			Store: b.store, Allowed: allowed, Secrets: noSecret{}, Link: "http://u", Log: slog.New(slog.DiscardHandler),
			Connections: func(ctx context.Context, name string) (*message.Connection, error) {
				return e.Connection(b.store.In(ctx), name)
			},
			Desk: func(tx *store.Tx, inc *store.Incident) (map[string]any, error) { return teller.DeskNames(tx, inc) },
		})
		if err != nil {
			return nil, err
		}
		e, err = engine.New(
			engine.Config{
				Link:    "http://u",
				Store:   b.store,
				Hands:   engine.Hands{"local": hand},
				Secrets: none{},
				Log:     slog.New(slog.DiscardHandler),
				Workers: func(w *river.Workers) { river.AddWorker(w, outbox) },
			},
		)
		if err != nil {
			return nil, err
		}
		teller.Engine = e
		if err := e.Start(b.ctx); err != nil {
			return nil, err
		}
		teller.Start()
		return e, nil
	}
	e, err := start()
	if err != nil {
		return err
	}
	defer func() { e.Stop() }()
	if _, err := b.firstLooks(e, hand, "warm", 60); err != nil {
		return err
	}
	quiet, err := b.firstLooks(e, hand, "quiet", 200)
	if err != nil {
		return err
	}
	note := func(what string, took time.Duration) {
		b.rows = append(
			b.rows,
			figure{
				"first look, 99th of 100, " + what,
				ms(took),
				fmt.Sprintf("%s (twice the quiet %s)", ms(2*quiet), ms(quiet)),
				verdict(took <= 2*quiet),
			},
		)
	}

	// 40 looks that hang.
	if err := b.beginMany(e, "hang", 40); err != nil {
		return err
	}
	for end := time.Now().Add(20 * time.Second); hand.hung.Load() < 40 && time.Now().Before(end); {
		time.Sleep(20 * time.Millisecond)
	}
	took, err := b.firstLooks(e, hand, "hung", 200)
	if err != nil {
		return err
	}
	note(fmt.Sprintf("while %d looks hang", hand.hung.Load()), took)
	if err := b.cancelAll(e, "hang"); err != nil {
		return err
	}

	// A room that takes connections and never answers.
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	defer l.Close() //nolint:errcheck // it is over
	if err := testdb.Room(b.store, "hangs", "http://"+l.Addr().String()); err != nil {
		return err
	}
	stopTelling := b.tellOften()
	took, err = b.firstLooks(e, hand, "room", 200)
	stopTelling()
	if err != nil {
		return err
	}
	var messages int
	err = testdb.SQL(b.store).Raw("select count(*) from delivery where address = 'hangs'").Scan(&messages).Error
	if err != nil {
		return err
	}
	if messages < 150 {
		return fmt.Errorf("the room that hangs was sent %d messages; then it measures nothing", messages)
	}
	note("while a room hangs", took)
	if _, err := b.store.Pool.Exec(b.ctx, "delete from document where kind = 'connection'; delete from notice; "+
		"delete from delivery; delete from river_job "+
		"where kind = 'deliver'"); err != nil {
		return err
	}

	// Runs that take all the memory they are given, again and again.
	stop := make(chan struct{})
	var hungry sync.WaitGroup
	hungry.Go(func() {
		for {
			select {
			case <-stop:
				return
			case <-time.After(500 * time.Millisecond):
				err = b.beginMany(e, "hungry", 1)
			}
		}
	})
	took, failed := b.firstLooks(e, hand, "hungry", 200)
	close(stop)
	hungry.Wait()
	if failed != nil || err != nil {
		return fmt.Errorf("hungry runs: %w, %w", failed, err)
	}
	note("while runs take all the memory they may", took)

	// After an instance died, all that is taken in hand is marked on disk: a poisoned run must not slow the others
	// down.
	e.Stop()
	if _, err := b.store.Pool.Exec(b.ctx, "insert into instance (id, host, pid, version, fenced_at) values "+
		"('n-died', 'bench', 1, '', now())"); err != nil {
		return err
	}
	if e, err = start(); err != nil {
		return err
	}
	if took, err = b.firstLooks(e, hand, "poison", 200); err != nil {
		return err
	}
	note("after an instance died of a run", took)
	if err := b.manyEnd(e); err != nil {
		return err
	}
	// What is measured next must not be careful because of it.
	_, err = b.store.Pool.Exec(b.ctx, "delete from instance where id = 'n-died'")
	return err
}

// noSecret opens nothing.
type noSecret struct{}

func (noSecret) Value(context.Context, string) (string, error) {
	return "", errors.New("there are no secrets here")
}

// tellOften lets the room be told 20 things a second, until what it gives is called.
func (b *bench) tellOften() (stop func()) {
	ctx, cancel := context.WithCancel(b.ctx)
	var done sync.WaitGroup
	done.Go(func() {
		for ctx.Err() == nil {
			// One that fails is missed below, where they are counted.
			_, _ = b.store.Pool.Exec(
				ctx,
				"insert into notice (key, kind, text, at, look_at) values ($1, 'said', $1, now(), now())",
				store.NewID("said"),
			)
			time.Sleep(50 * time.Millisecond)
		}
	})
	return func() {
		cancel()
		done.Wait()
	}
}

// firstLooks reports alerts, 20 a second, and gives the 99th of 100 of the times to their first look.
func (b *bench) firstLooks(e *engine.Engine, hand *hurtHand, name string, count int) (time.Duration, error) {
	in, err := b.intakeFor(e)
	if err != nil {
		return 0, err
	}
	defer in.Stop()
	accepted := make([]time.Time, count)
	var wg sync.WaitGroup
	var failed atomic.Pointer[error]
	for i := range count {
		wg.Go(func() {
			if _, err := in.Take(b.ctx, "bench", report(fmt.Sprint(name, i))); err != nil {
				failed.Store(&err)
			}
			accepted[i] = time.Now()
		})
		time.Sleep(50 * time.Millisecond)
	}
	wg.Wait()
	if err := failed.Load(); err != nil {
		return 0, *err
	}
	time.Sleep(2 * time.Second)
	var took []time.Duration
	hand.mu.Lock()
	defer hand.mu.Unlock()
	for i := range count {
		at, ok := hand.begun[fmt.Sprint(name, i)]
		if !ok {
			return 0, fmt.Errorf("the first look of %s%d did not begin within 2 s", name, i)
		}
		took = append(took, max(0, at.Sub(accepted[i])))
	}
	slices.Sort(took)
	return took[len(took)*99/100], nil
}

// cancelAll cancels all runs of a runbook, many at once, and waits for their ends.
func (b *bench) cancelAll(e *engine.Engine, name string) error {
	var ids []string
	if err := testdb.SQL(b.store).Raw("select id from run where runbook = ? and ended_at is "+
		"null", name).Scan(&ids).Error; err != nil {
		return err
	}
	next := make(chan string)
	var wg sync.WaitGroup
	for range 64 {
		wg.Go(func() {
			for id := range next {
				//nolint:errcheck // what is over is over
				e.Write(b.ctx, func(s *engine.Sheet) error { return s.Cancel(id, flow.CancelAsked{By: "bench"}) })
			}
		})
	}
	for _, id := range ids {
		next <- id
	}
	close(next)
	wg.Wait()
	return b.until(
		"select count(*) from run where runbook = '"+name+"' and ended_at is not null",
		int64(len(ids)),
		2*time.Minute,
	)
}

// manyEnd lets 1,200 runs end at once and looks how late the beats come meanwhile.
func (b *bench) manyEnd(e *engine.Engine) error {
	const runs = 1200
	if err := b.beginMany(e, "rest", runs); err != nil {
		return err
	}
	if err := b.until("select count(*) from run where runbook = 'rest' and state = 'waiting'", runs,
		2*time.Minute); err != nil {
		return err
	}
	stop := make(chan struct{})
	var longest time.Duration
	var beats sync.WaitGroup
	beats.Go(func() {
		for {
			select {
			case <-stop:
				return
			case <-time.After(20 * time.Millisecond):
			}
			var since float64
			row := b.store.Pool.QueryRow(
				b.ctx,
				"select extract(epoch from clock_timestamp() - max(beat_at))::float8 from instance where fenced_at "+
					"is null",
			)
			if row.Scan(&since) == nil {
				longest = max(longest, time.Duration(since*float64(time.Second)))
			}
		}
	})
	begin := time.Now()
	err := b.cancelAll(e, "rest")
	took := time.Since(begin)
	close(stop)
	beats.Wait()
	b.rows = append(
		b.rows,
		figure{
			fmt.Sprintf("longest time without a beat while 1,200 runs end (in %s)", ms(took)),
			ms(longest),
			"2000.0 ms",
			verdict(longest < 2*time.Second),
		},
	)
	return err
}
