package main

import (
	"encoding/json"
	"errors"
	"fmt"
	"runtime"
	"slices"
	"time"

	"urgentis/core/flow"
	"urgentis/internal/act/local"
	"urgentis/internal/engine"
	"urgentis/internal/store"
	"urgentis/internal/testdb"
)

const parkedBooks = `urgentis: runbook/1
name: %s
title: Parked
owner: bench
service: bench
steps:
%s  - close: false-alarm
    because: measured
`

const (
	parkedRuns  = 100_000
	parkedWaits = 20_000 // of them
	parkedFor   = 3 * time.Minute
)

// parked measures what runs cost that wait at gates and for a time.
func (b *bench) parked() error {
	for name, step := range map[string]string{
		"parked-wait": "  - wait: A while\n    for: " + parkedFor.String() + "\n",
		"parked-gate": "  - change: Alter\n    from: here\n    run: [\"true\"]\n    gate: {ask: team/bench, within: " +
			"2h}\n",
	} {
		if err := b.push(fmt.Sprintf(parkedBooks, name, step)); err != nil {
			return err
		}
	}
	e, err := b.engine(local.Hand{On: true}, true)
	if err != nil {
		return err
	}
	time.Sleep(2 * time.Second)
	heap, routines := b.weight()
	for _, x := range []struct {
		name string
		n    int
	}{{"parked-gate", parkedRuns - parkedWaits}, {"parked-wait", parkedWaits}} {
		if err := b.beginMany(e, x.name, x.n); err != nil {
			return err
		}
		if err := b.until("select count(*) from run where runbook = '"+x.name+"' and state = 'waiting'", int64(x.n),
			10*time.Minute); err != nil {
			return err
		}
	}
	time.Sleep(2 * time.Second)
	heapNow, routinesNow := b.weight()
	more := float64(heapNow-heap) / (1 << 20)
	b.rows = append(
		b.rows,
		figure{"100,000 parked runs, more memory", fmt.Sprintf("%.1f MB", more), "64 MB", verdict(more < 64)},
		figure{
			"the same, more goroutines",
			fmt.Sprint(routinesNow - routines),
			"far fewer than runs (100)",
			verdict(routinesNow-routines < 100),
		},
	)
	return b.wake(e)
}

func (b *bench) weight() (heap int64, routines int) {
	runtime.GC()
	runtime.GC()
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	return int64(m.HeapAlloc), runtime.NumGoroutine() //nolint:gosec // far below the limit
}

func (b *bench) beginMany(e *engine.Engine, name string, n int) error {
	rev, err := b.store.In(b.ctx).Newest(name)
	if err != nil {
		return err
	}
	bk, err := e.Book(b.ctx, rev.Revision)
	if err != nil {
		return err
	}
	for ; n > 0; n -= 250 {
		starts := make([]engine.Start, min(n, 250))
		for i := range starts {
			starts[i] = engine.Start{Book: bk, StartedBy: "bench"}
		}
		if _, err := e.BeginNow(b.ctx, starts...); err != nil {
			return err
		}
	}
	return nil
}

func (b *bench) until(count string, n int64, within time.Duration) error {
	var got int64
	for end := time.Now().Add(within); time.Now().Before(end); {
		asked := time.Now()
		if err := testdb.SQL(b.store).Raw(count).Scan(&got).Error; err != nil {
			return err
		}
		if got >= n {
			return nil
		}
		time.Sleep(max(20*time.Millisecond, 20*time.Since(asked))) // what is measured has the processor
	}
	return fmt.Errorf("%d of %d after %s: %s", got, n, within, count)
}

// dueAt is one moment at which all waits are due.
func (b *bench) dueAt() (at time.Time, err error) {
	const of = "from timer where run in (select id from run where runbook = 'parked-wait')"
	db := testdb.SQL(b.store)
	if err := db.Raw("select greatest(max(due), now()) + interval '15 seconds' " + of).Scan(&at).Error; err != nil {
		return at, err
	}
	return at, db.Exec("update timer set due = ? where run in (select id from run where runbook = 'parked-wait')",
		at).Error
}

// wake restarts the engine, asks one of the parked runs to go on, and looks how late the waits end.
func (b *bench) wake(e *engine.Engine) error {
	rows, err := b.singleRows()
	if err != nil {
		return err
	}
	due, err := b.dueAt()
	if err != nil {
		return err
	}
	e.Stop()
	begin := time.Now()
	if e, err = b.engine(local.Hand{On: true}, true); err != nil {
		return err
	}
	defer e.Stop()
	var g store.Gate
	if err := testdb.SQL(b.store).Where("state = 'open'").Order("raised_at").Take(&g).Error; err != nil {
		return err
	}
	var raised flow.GateRaised
	if err := json.Unmarshal(g.Raised, &raised); err != nil {
		return err
	}
	word := engine.Word{Approve: true, By: "mara", Digest: raised.Digest}
	err = e.Write(b.ctx, func(s *engine.Sheet) error {
		refused, err := s.Decide(&g, word)
		return errors.Join(err, refused)
	})
	if err != nil {
		return err
	}
	if err := b.until("select count(*) from run where id = '"+g.Run+"' and ended_at is not null", 1,
		30*time.Second); err != nil {
		return err
	}
	ready := time.Since(begin)
	if err := b.until("select count(*) from run where runbook = 'parked-wait' and ended_at is not "+
		"null", parkedWaits, parkedFor+4*time.Minute); err != nil {
		return err
	}
	var late []float64
	err = testdb.SQL(b.store).
		Raw(`select extract(epoch from at - ?::timestamptz) from event where kind = 'wait.over'
			and run in (select id from run where runbook = 'parked-wait')`, due).
		Scan(&late).
		Error
	if err != nil {
		return err
	}
	slices.Sort(late)
	worst := late[len(late)-1]
	b.rows = append(
		b.rows,
		figure{"a parked run goes on after a restart, within", ms(ready), "2000.0 ms", verdict(ready < 2*time.Second)},
		figure{
			"20,000 waits due at one moment, the latest",
			fmt.Sprintf("%.0f ms", 1000*worst),
			fmt.Sprintf("1000 ms (as many single rows by 32 clients: %.0f ms)", 1000*parkedWaits/rows),
			verdict(worst < 1),
		},
		figure{
			"the same, 99th of 100",
			fmt.Sprintf("%.0f ms", 1000*late[len(late)*99/100]),
			"1000 ms",
			verdict(late[len(late)*99/100] < 1),
		},
	)
	return nil
}
