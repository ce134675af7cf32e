package main

import (
	"bytes"
	"context"
	"fmt"
	"log/slog"
	"runtime/debug"
	"runtime/metrics"
	"sync"
	"time"

	"urgentis/core/task"
	"urgentis/internal/act"
	"urgentis/internal/engine"
	"urgentis/internal/store"
	"urgentis/internal/testdb"
)

const (
	printers     = 150
	printedLimit = 300 << 20
)

const printedBook = `urgentis: runbook/1
name: printed
title: Printed
owner: bench
service: printed
steps:
  - look: All of them
    where: {role: printer}
    run: [report]
    at_once: 150
    read:
      failures: {lines: 'FAIL', type: integer}
  - close: false-alarm
    because: seen
`

// printer prints a megabyte, when all of them do.
type printer struct {
	report []byte
	all    *sync.WaitGroup
}

func (p printer) Do(_ context.Context, job act.Job) act.Result {
	p.all.Done()
	p.all.Wait()
	stdout, _ := act.Streams(job)
	for piece := p.report; len(piece) > 0; {
		n := min(32<<10, len(piece))
		stdout.Write(piece[:n]) //nolint:errcheck // it takes everything
		piece = piece[n:]
	}
	return act.Ended(0, true).Printed(stdout.Taken(), act.Captured{}).Result()
}

// hiding has some values to hide, as there are in life.
type hiding struct{ none }

func (hiding) Known(context.Context, task.Facts, []string, []string) ([]string, error) {
	return []string{"correct horse battery", "hunter2222", "staple-of-the-harbour"}, nil
}

// printed measures the memory that this process holds while many targets print a megabyte at once.
func (b *bench) printed() error {
	var text bytes.Buffer
	for i := 0; text.Len() < act.KeptOutput; i++ {
		fmt.Fprintf(&text, "%06d berth %d took %dms, said %x\n", i, i%37, i*7919%1000, i*2654435761)
	}
	var rows []store.Target
	for i := range printers {
		rows = append(rows, store.Target{Name: fmt.Sprintf("p-%03d", i), Service: "printed", Address: fmt.Sprintf(
			"10.1.0.%d", i), Labels: store.Labels{"role": "printer"}})
	}
	if err := testdb.SQL(b.store).Create(&rows).Error; err != nil {
		return err
	}
	if err := b.push(printedBook); err != nil {
		return err
	}
	all := &sync.WaitGroup{}
	all.Add(printers)
	e, err := engine.New(engine.Config{
		Link: "http://u", Store: b.store, Secrets: hiding{}, Log: slog.New(slog.DiscardHandler),
		Hands: engine.Hands{"ssh": printer{text.Bytes()[:act.KeptOutput], all}},
	})
	if err != nil {
		return err
	}
	if err := e.Start(b.ctx); err != nil {
		return err
	}
	defer e.Stop()
	debug.FreeOSMemory()
	stop, peak := make(chan struct{}), make(chan uint64)
	go func() { peak <- peakMemory(stop) }()
	took, err := b.runOnce(e, "printed", printers)
	close(stop)
	most := <-peak
	if err != nil {
		return err
	}
	b.rows = append(b.rows, figure{
		fmt.Sprintf("memory while %d targets print 1 MB at once (%s)", printers, ms(took)),
		fmt.Sprintf("%d MB", most>>20), fmt.Sprintf("%d MB", printedLimit>>20), verdict(most < printedLimit),
	})
	return nil
}

// peakMemory is the most that this process held of the machine, until it is told to stop.
func peakMemory(stop <-chan struct{}) uint64 {
	s := []metrics.Sample{{Name: "/memory/classes/total:bytes"}, {Name: "/memory/classes/heap/released:bytes"}}
	most := uint64(0)
	for {
		metrics.Read(s)
		most = max(most, s[0].Value.Uint64()-s[1].Value.Uint64())
		select {
		case <-stop:
			return most
		case <-time.After(2 * time.Millisecond):
		}
	}
}
