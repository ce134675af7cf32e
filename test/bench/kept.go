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

// kept measures what keeping a number beyond its run adds to a step.
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
	defer b.store.Pool.Exec(b.ctx, "drop trigger if exists left_out on reading") //nolint:errcheck // the data go away
	if _, err := b.store.Pool.Exec(b.ctx, leavesOut); err != nil {
		return err
	}
	best := map[string]time.Duration{}
	for turn := range keptTurns {
		for _, x := range []struct{ what, book, trigger string }{
			{"none", "kept-none", "disable"}, {"left out", "kept-one", "enable"}, {"kept", "kept-one", "disable"},
		} {
			if _, err := b.store.Pool.Exec(b.ctx, "alter table reading "+x.trigger+" trigger left_out"); err != nil {
				return err
			}
			took, err := b.runOnce(e, x.book, keptLooks)
			if err != nil {
				return err
			}
			if turn > 0 && (best[x.what] == 0 || took < best[x.what]) { // the first turn warms up
				best[x.what] = took
			}
		}
	}
	without, kept := best["left out"]/keptLooks, best["kept"]/keptLooks
	b.rows = append(b.rows, figure{"a look that reads a number, which is kept beyond the run", ms(kept),
		fmt.Sprintf("%s (1.10 of the same with its row left out, %s; one that reads none takes %s)", ms(without*11/10),
			ms(without), ms(best["none"]/keptLooks)), verdict(kept <= without*11/10)})
	return nil
}

// leavesOut makes it so that a reading's row is not written while the trigger is on.
const leavesOut = `create or replace function left_out() returns trigger language plpgsql as 'begin return null; end';
	create trigger left_out before insert on reading for each row execute function left_out()`

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
