package main

import (
	"context"
	"fmt"
	"strings"
	"time"

	"urgentis/core/flow"
	"urgentis/internal/act"
	"urgentis/internal/engine"
)

// Of the cost of keeping readings: runs of so many looks, with a reading each and without, turn by turn.
const (
	keptLooks = 60
	keptTurns = 12
)

// prints answers every look at once, so that what a step costs is what we make of it.
type prints string

// Do implements act.Hand.
func (p prints) Do(_ context.Context, job act.Job) act.Result {
	out, _ := act.Streams(job)
	out.Write([]byte(p)) //nolint:errcheck // it takes everything
	return act.Result{State: flow.OK, Stdout: out.Taken()}
}

// kept measures what reading and keeping a number adds to a step.
func (b *bench) kept() error {
	if err := b.clear(); err != nil {
		return err
	}
	for _, reads := range []bool{false, true} {
		if err := b.push(keptBook(reads)); err != nil {
			return err
		}
	}
	e, err := b.engineOf(engine.Hands{"http": prints("depth 12")})
	if err != nil {
		return err
	}
	defer e.Stop()
	if err := e.Start(b.ctx); err != nil {
		return err
	}
	best := map[string]time.Duration{}
	for turn := range keptTurns {
		for _, name := range []string{"kept-none", "kept-one"} {
			took, err := b.runOnce(e, name, keptLooks)
			if err != nil {
				return err
			}
			if turn > 0 && (best[name] == 0 || took < best[name]) { // the first turn warms up
				best[name] = took
			}
		}
	}
	none, one := best["kept-none"]/keptLooks, best["kept-one"]/keptLooks
	b.rows = append(b.rows, figure{"a look that reads a number, which is kept beyond the run", ms(one),
		fmt.Sprintf("%s (1.10 of a look that reads none, %s)", ms(none*11/10), ms(none)), verdict(one <= none*11/10)})
	return nil
}

func keptBook(reads bool) string {
	name, read := "kept-none", ""
	if reads {
		name = "kept-one"
	}
	var steps strings.Builder
	for i := range keptLooks {
		if reads {
			read = fmt.Sprintf("    read:\n      depth_%d: {pattern: 'depth (\\d+)', type: integer}\n", i)
		}
		fmt.Fprintf(&steps, "  - look: L%d\n    http: {url: \"http://127.0.0.1/\"}\n%s", i, read)
	}
	return "urgentis: runbook/1\nname: " + name + "\ntitle: T\nowner: bench\nservice: kept\nsteps:\n" + steps.String() +
		"  - close: false-alarm\n    because: seen\n"
}
