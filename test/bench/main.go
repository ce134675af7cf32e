// Command bench measures the engine's figures, each beside a limit that is measured in the same run, and
// prints them as a table. With -only it measures one group, with -profile it writes where the processor's time
// went (this program's, not the database's), with -statements what the database was asked, how often and for how long.
package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"text/tabwriter"
	"time"

	"urgentis/core/alert"
	"urgentis/core/expr"
	"urgentis/core/flow"
	"urgentis/core/task"
	"urgentis/core/trigger"
	"urgentis/internal/act"
	"urgentis/internal/act/local"
	"urgentis/internal/app"
	"urgentis/internal/engine"
	"urgentis/internal/intake"
	"urgentis/internal/localdb"
	"urgentis/internal/service"
	"urgentis/internal/store"
	"urgentis/internal/testdb"
)

var (
	only = flag.String(
		"only",
		"",
		"measure one group: matching, printed, latency, steps, intake, mapped, heard, storm, many, suggest, wide, "+
			"kept, beside, scheduled, chart, strangers, console, hurt or parked",
	)
	profile    = flag.String("profile", "", "write a CPU profile to this file")
	held       = flag.String("hold", "", "be the strangers at these doors (of the group strangers)")
	statements = flag.Bool("statements", false, "count the database's statements; makes all slower")
)

func main() {
	flag.Parse()
	service.Tune()
	measure := all
	if *held != "" {
		measure = func() error { return holdAll(*held) }
	}
	if err := measure(); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

type figure struct{ what, got, limit, met string }

func verdict(ok bool) string { return map[bool]string{true: "met", false: "not met"}[ok] }

type bench struct {
	ctx   context.Context
	dir   string
	db    *localdb.Server
	store *store.Store
	rows  []figure
}

// all measures one group after the other. One that fails leaves the others their figures.
func all() error {
	dir, err := os.MkdirTemp("/tmp", "urgentis-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	if err := os.Chmod(dir, 0o755); err != nil {
		return err
	}
	b := &bench{ctx: context.Background(), dir: dir}
	if b.db, err = localdb.Start(b.ctx, filepath.Join(dir, "d")); err != nil {
		return err
	}
	defer b.db.Stop() //nolint:errcheck // the data go away
	if b.store, err = store.Open(b.ctx, b.db.URL, slog.New(slog.DiscardHandler)); err != nil {
		return err
	}
	defer b.store.Close()
	stop, err := b.watchOver()
	if err != nil {
		return err
	}
	var failed error
	for _, g := range []struct {
		name    string
		measure func() error
	}{{"matching", b.matching}, {"printed", b.printed}, {"latency", b.latency}, {"steps", b.steps},
		{"intake", b.intake}, {"mapped", b.mapped}, {"heard", b.heard}, {"storm", b.storm}, {"many", b.many},
		{"suggest", b.suggest}, {"wide", b.wide}, {"kept", b.kept}, {"beside", b.beside}, {"scheduled", b.scheduled},
		{"chart", b.chart}, {"strangers", b.strangers},
		{"console", b.console}, {"hurt", b.hurt}, {"parked", b.parked}} {
		if *only != "" && *only != g.name {
			continue
		}
		if err := g.measure(); err != nil {
			failed = errors.Join(failed, fmt.Errorf("%s: %w", g.name, err))
		}
	}
	failed = errors.Join(failed, stop())
	w := tabwriter.NewWriter(os.Stdout, 0, 0, 2, ' ', 0)
	fmt.Fprintln(w, "WHAT\tMEASURED\tLIMIT, SAME RUN\t")
	for _, r := range b.rows {
		fmt.Fprintf(w, "%s\t%s\t%s\t%s\n", r.what, r.got, r.limit, r.met)
	}
	return errors.Join(failed, w.Flush())
}

func (b *bench) matching() error {
	c, err := expr.NewCompiler(expr.Schema{})
	if err != nil {
		return err
	}
	took := map[int]time.Duration{}
	var explained time.Duration
	a := map[string]any{"severity": "major", "labels": map[string]string{"signal": "s77"}}
	for _, n := range []int{1000, 10_000, 100_000} {
		var all []trigger.Trigger
		for i := range n {
			p, err := c.Compile(
				fmt.Sprintf(`alert.labels.signal == "s%d" && alert.severity in ["critical", "major"]`, i),
				expr.InStart,
			)
			if err != nil {
				return err
			}
			all = append(all, trigger.Trigger{Runbook: "r", Name: fmt.Sprint(i), Start: &trigger.Start{Alert: p}})
		}
		x := trigger.New(all)
		const times = 2000
		runtime.GC() // of what was compiled
		begin := time.Now()
		for range times {
			x.Match(a, alert.New)
		}
		took[n] = time.Since(begin) / times
		if n != 10_000 {
			continue
		}
		begin = time.Now()
		x.ExplainSome(a, alert.New, n-app.PageOfVerdicts, app.PageOfVerdicts)
		explained = time.Since(begin)
	}
	ten, most := took[10_000], took[100_000]
	b.rows = append(
		b.rows,
		figure{"matching an alert with 10,000 triggers", us(ten), "10 µs", verdict(ten < 10*time.Microsecond)},
		figure{"matching an alert with 100,000 triggers", us(most), "25 µs", verdict(most < 25*time.Microsecond)},
		figure{
			"ten times the triggers: 10,000 against 1,000, and 100,000 against 10,000",
			fmt.Sprintf("%.2f and %.2f times", float64(ten)/float64(took[1000]), float64(most)/float64(ten)),
			"2 times",
			verdict(ten < 2*took[1000] && most < 2*ten),
		},
		figure{"why not the others: a page of 200 of 10,000 triggers", ms(explained), "50.0 ms",
			verdict(explained < 50*time.Millisecond)},
	)
	return nil
}

func us(d time.Duration) string { return fmt.Sprintf("%.1f µs", float64(d.Nanoseconds())/1000) }
func ms(d time.Duration) string { return fmt.Sprintf("%.1f ms", float64(d.Microseconds())/1000) }

// watch is a hand that notes when a look begins.
type watch struct {
	mu    sync.Mutex
	begun map[string]time.Time
}

func (w *watch) Do(_ context.Context, job act.Job) act.Result {
	w.mu.Lock()
	w.begun[job.Request.Words[1]] = time.Now()
	w.mu.Unlock()
	exit := 0
	return act.Result{State: flow.OK, Exit: &exit}
}

type none struct{}

func (none) Known(context.Context, task.Facts, []string, []string) ([]string, error) {
	return nil, nil
}

func (none) Fill(_ context.Context, r task.Request) (task.Request, []string, error) {
	return r, nil, nil
}

func (none) Seal(text string) (string, error) { return text, nil }

func (b *bench) engineOf(hands engine.Hands) (*engine.Engine, error) {
	return engine.New(
		engine.Config{
			Link:    "http://u",
			Store:   b.store,
			Hands:   hands,
			Secrets: none{},
			Log:     slog.New(slog.DiscardHandler),
		},
	)
}

func (b *bench) engine(hand act.Hand, start bool) (*engine.Engine, error) {
	e, err := b.engineOf(engine.Hands{"local": hand})
	if err != nil || !start {
		return e, err
	}
	return e, e.Start(b.ctx)
}

func (b *bench) intakeFor(e *engine.Engine) (*intake.Intake, error) {
	return intake.New(intake.Config{Store: b.store, Engine: e, Log: slog.New(slog.DiscardHandler)})
}

func (b *bench) push(text string) error {
	_, _, err := b.store.PushRunbook(b.ctx, text, "bench")
	return err
}

const book = `urgentis: runbook/1
name: bench
title: Bench
owner: bench
service: bench
starts: {any: {alert: alert.labels.signal == "bench", inputs: {n: "{{ alert.labels.n }}"}}}
inputs: {n: {type: text, pattern: "^[a-z0-9][a-z0-9-]*$"}}
steps:
  - look: First
    from: here
    run: [x, "{{ inputs.n }}"]
  - close: false-alarm
    because: measured
`

// latency measures from an accepted alert to the begin of its first look, at 20 alerts a second.
func (b *bench) latency() error {
	single, err := b.commit()
	if err != nil {
		return err
	}
	w := &watch{begun: map[string]time.Time{}}
	e, err := b.engine(w, true)
	if err != nil {
		return err
	}
	defer e.Stop()
	if err := b.push(book); err != nil {
		return err
	}
	in, err := b.intakeFor(e)
	if err != nil {
		return err
	}
	defer in.Stop()
	const count = 200
	accepted := make([]time.Time, count)
	var wg sync.WaitGroup
	for i := range count {
		wg.Go(func() {
			_, err = in.Take(b.ctx, "bench", report(fmt.Sprint("l", i)))
			accepted[i] = time.Now()
		})
		time.Sleep(50 * time.Millisecond)
	}
	wg.Wait()
	time.Sleep(500 * time.Millisecond)
	var took []time.Duration
	for i := range count {
		at, ok := w.begun[fmt.Sprint("l", i)]
		if !ok {
			return fmt.Errorf("run %d did not begin", i)
		}
		took = append(took, max(0, at.Sub(accepted[i])))
	}
	slices.Sort(took[20:]) // the first are the warming up
	took = took[20:]
	p50, p99 := took[len(took)/2], took[len(took)*99/100]
	b.rows = append(
		b.rows,
		figure{
			"alert accepted to first look begun, median, 20 a second",
			ms(p50),
			fmt.Sprintf("%s (12 commits of %s)", ms(12*single), ms(single)),
			verdict(p50 <= 12*single),
		},
		figure{"the same, 99th of 100", ms(p99), "50.0 ms", verdict(p99 <= 50*time.Millisecond)},
	)
	return err
}

func report(n string) alert.Report {
	return alert.Report{
		Key:      n,
		Severity: "major",
		Summary:  "bench " + n,
		Service:  "bench-" + n, // an incident of its own
		Labels:   map[string]string{"signal": "bench", "n": n},
		At:       alert.SaidAt(time.Now()),
	}
}

// commit is the median time of a single-row insert of the same database.
func (b *bench) commit() (time.Duration, error) {
	if _, err := b.store.Pool.Exec(b.ctx, "create table if not exists bench_row (id bigserial primary key, text "+
		"text)"); err != nil {
		return 0, err
	}
	var took []time.Duration
	for range 300 {
		begin := time.Now()
		if _, err := b.store.Pool.Exec(b.ctx, "insert into bench_row (text) values ('x')"); err != nil {
			return 0, err
		}
		took = append(took, time.Since(begin))
	}
	slices.Sort(took)
	return took[len(took)/2], nil
}

// steps compares a run of 100 empty steps with the same commands in a shell loop.
func (b *bench) steps() error {
	var t strings.Builder
	t.WriteString("urgentis: runbook/1\nname: steps\ntitle: Steps\nowner: bench\nservice: bench\nsteps:\n")
	for i := range 100 {
		fmt.Fprintf(&t, "  - look: Step %d\n    from: here\n    run: [\"true\"]\n", i+1)
	}
	if err := b.push(t.String()); err != nil {
		return err
	}
	e, err := b.engine(local.Hand{On: true}, true)
	if err != nil {
		return err
	}
	defer e.Stop()
	rev, err := b.store.In(b.ctx).Newest("steps")
	if err != nil {
		return err
	}
	bk, err := e.Book(b.ctx, rev.Revision)
	if err != nil {
		return err
	}
	var ours, shell []time.Duration
	commits := 0
	for range 5 {
		before, err := b.xid()
		if err != nil {
			return err
		}
		begin := time.Now()
		runs, err := e.BeginNow(b.ctx, engine.Start{Book: bk, StartedBy: "bench"})
		if err != nil {
			return err
		}
		for {
			var r store.Run
			if err := testdb.SQL(b.store).Where("id = ?", runs[0].ID).Take(&r).Error; err != nil {
				return err
			}
			if r.EndedAt != nil {
				ours = append(ours, r.EndedAt.Sub(begin))
				break
			}
			time.Sleep(10 * time.Millisecond)
		}
		after, err := b.xid()
		if err != nil {
			return err
		}
		commits = after - before
		begin = time.Now()
		if err := exec.Command("sh", "-c", "i=0; while [ $i -lt 100 ]; do /usr/bin/env true; i=$((i+1)); "+
			"done").Run(); err != nil {
			return err
		}
		shell = append(shell, time.Since(begin))
	}
	slices.Sort(ours)
	slices.Sort(shell)
	o, s := ours[len(ours)/2], shell[len(shell)/2]
	b.rows = append(
		b.rows,
		figure{
			"100 empty steps",
			ms(o),
			fmt.Sprintf("%s (shell loop of %s and 300 ms)", ms(s+300*time.Millisecond), ms(s)),
			verdict(o < s+300*time.Millisecond),
		},
		figure{
			"write transactions for a step",
			fmt.Sprintf("%.2f", float64(commits)/100),
			"3",
			verdict(commits <= 300),
		},
	)
	return nil
}

func (b *bench) xid() (int, error) {
	var n int
	err := b.store.Pool.QueryRow(b.ctx, "select pg_current_xact_id()::text::bigint").Scan(&n)
	return n, err
}

// clear takes away what one measure leaves undone, so that the next one does not do it.
func (b *bench) clear() error {
	_, err := b.store.Pool.Exec(
		b.ctx,
		"truncate alert, incident, entry, run, went, event, feed, timer, question, hold, "+
			"awaiting, delivery, notice, link, heard_id, early_news, reading, "+
			"starting, started, firing, occasion, seen, unparsed, payload, river_job cascade",
	)
	return err
}
