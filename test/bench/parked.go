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
	parkedRuns = 10_000
	parkedFor  = 90 * time.Second
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
	for _, name := range []string{"parked-wait", "parked-gate"} {
		if err := b.beginMany(e, name, parkedRuns/2); err != nil {
			return err
		}
	}
	if err := b.until("select count(*) from run where runbook like 'parked-%' and state = "+
		"'waiting'", parkedRuns, 4*time.Minute); err != nil {
		return err
	}
	time.Sleep(2 * time.Second)
	heapNow, routinesNow := b.weight()
	more := float64(heapNow-heap) / (1 << 20)
	b.rows = append(
		b.rows,
		figure{"10,000 parked runs, more memory", fmt.Sprintf("%.1f MB", more), "20 MB", verdict(more < 20)},
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
	for end := time.Now().Add(within); time.Now().Before(end); time.Sleep(50 * time.Millisecond) {
		if err := testdb.SQL(b.store).Raw(count).Scan(&got).Error; err != nil {
			return err
		}
		if got >= n {
			return nil
		}
	}
	return fmt.Errorf("%d of %d after %s: %s", got, n, within, count)
}

// wake restarts the engine, asks one of the parked runs to go on, and looks how late the waits end.
func (b *bench) wake(e *engine.Engine) error {
	e.Stop()
	begin := time.Now()
	e, err := b.engine(local.Hand{On: true}, true)
	if err != nil {
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
	if err := b.until("select count(*) from run where runbook = 'parked-gate' and ended_at is not "+
		"null", 1, 30*time.Second); err != nil {
		return err
	}
	ready := time.Since(begin)
	if err := b.until("select count(*) from run where runbook = 'parked-wait' and ended_at is not "+
		"null", parkedRuns/2, 4*time.Minute); err != nil {
		return err
	}
	var late []float64
	err = testdb.SQL(b.store).
		Raw(`select extract(epoch from o.at - s.at) - ? from event s join event o on o.run = s.run
			and o.kind = 'wait.over'
		where s.kind = 'step.begun' and s.path = '1' and s.run in (select id from run
			where runbook = 'parked-wait')`, parkedFor.Seconds()).
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
		figure{"5,000 waits, the latest", fmt.Sprintf("%.0f ms", 1000*worst), "1000 ms", verdict(worst < 1)},
		figure{
			"the same, 99th of 100",
			fmt.Sprintf("%.0f ms", 1000*late[len(late)*99/100]),
			"1000 ms",
			verdict(late[len(late)*99/100] < 1),
		},
	)
	return nil
}
