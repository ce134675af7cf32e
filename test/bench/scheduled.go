package main

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"syscall"
	"time"

	"urgentis/core/access"
	"urgentis/core/estate"
	"urgentis/internal/act/httpcall"
	"urgentis/internal/engine"
	"urgentis/internal/scheduled"
	"urgentis/internal/store"
	"urgentis/internal/testdb"
)

// Of scheduled looks: so many watches, each taken each minute, of targets that answer over HTTP.
const (
	watches     = 10_000
	watchTime   = 60 * time.Second
	watchWarm   = 70 * time.Second // until each was taken once
	watchTarget = 100
)

// scheduled measures 10,000 scheduled looks a minute on one instance, and what they take of the processor.
func (b *bench) scheduled() error {
	srv := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		fmt.Fprint(w, `{"depth": 12, "state": "consuming"}`)
	})}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	go srv.Serve(l) //nolint:errcheck // it ends with Close
	defer srv.Close()
	if err := b.clear(); err != nil {
		return err
	}
	if err := b.pushWatches(l.Addr().(*net.TCPAddr).Port); err != nil {
		return err
	}
	allowed, err := httpcall.ParseAllowed([]string{"127.0.0.0/8"})
	if err != nil {
		return err
	}
	e, err := b.engineOf(engine.Hands{"http": httpcall.New(allowed)})
	if err != nil {
		return err
	}
	defer e.Stop()
	if err := startLooking(b.ctx, e); err != nil {
		return err
	}
	time.Sleep(watchWarm)
	before, cpu := b.readings(), processor()
	time.Sleep(watchTime)
	taken, used := b.readings()-before, processor()-cpu
	cores := used.Seconds() / watchTime.Seconds()
	b.rows = append(b.rows,
		figure{"scheduled looks in a minute, of 10,000 that are due", fmt.Sprint(taken), "9,900",
			verdict(taken >= watches*99/100)},
		figure{"cores that this takes, without the database's", fmt.Sprintf("%.2f", cores), "1.00", verdict(cores < 1)},
	)
	late, err := b.store.In(b.ctx).ListScheduled(access.Scope{All: true}, "")
	if err != nil {
		return err
	}
	for _, s := range late {
		if s.Trouble != "" {
			return fmt.Errorf("watch %s: %s", s.Watch, s.Trouble)
		}
	}
	return b.dropWatches()
}

// startLooking starts an engine that takes watches.
func startLooking(ctx context.Context, e *engine.Engine) error {
	looker, err := scheduled.New(e)
	if err != nil {
		return err
	}
	if err := e.Start(ctx); err != nil {
		return err
	}
	looker.Start()
	return nil
}

// pushWatches has watches taken, each of one target.
func (b *bench) pushWatches(port int) error {
	sql := testdb.SQL(b.store)
	if err := sql.Create(&store.Service{Name: "scheduled", Owner: "bench", Stance: "ask"}).Error; err != nil {
		return err
	}
	for i := range watchTarget {
		if err := sql.Create(&store.Target{Name: fmt.Sprintf("w-%03d", i), Service: "scheduled", Address: "127.0.0.1",
			Labels: store.Labels{"n": fmt.Sprint(i)}}).Error; err != nil {
			return err
		}
	}
	return b.store.Tx(b.ctx, func(tx *store.Tx) error {
		push := &store.Push{By: "bench"}
		if err := tx.AddPush(push); err != nil {
			return err
		}
		for i := range watches {
			text := fmt.Sprintf("urgentis: watch/1\nname: w-%d\nservice: scheduled\nevery: 60s\nlooks:\n"+
				"  - look: Depth\n    where: {n: \"%d\"}\n    http: {url: \"http://{{ target.address }}:%d/\"}\n"+
				"    read: {d%d: {json: .depth, type: integer}}\n", i, i%watchTarget, port, i)
			docs, found := estate.Parse([]estate.File{{Name: "w", Text: text}})
			if len(docs) != 1 {
				return fmt.Errorf("a watch is not sound: %v", found)
			}
			if err := tx.PushDocument(push, docs[0]); err != nil {
				return err
			}
			if err := tx.SetScheduled(docs[0].Watch); err != nil {
				return err
			}
		}
		return nil
	})
}

func (b *bench) dropWatches() error {
	for _, q := range []string{"delete from scheduled_look", "delete from document where kind = 'watch'",
		"delete from target where service = 'scheduled'", "delete from service where name = 'scheduled'",
		"truncate reading"} {
		if _, err := b.store.Pool.Exec(b.ctx, q); err != nil {
			return err
		}
	}
	return nil
}

func (b *bench) readings() (n int) {
	b.store.Pool.QueryRow(b.ctx, "select count(*) from reading").Scan(&n) //nolint:errcheck // 0 shows as not met
	return n
}

// processor is how much time of processors this program used so far.
func processor() time.Duration {
	var u syscall.Rusage
	if err := syscall.Getrusage(syscall.RUSAGE_SELF, &u); err != nil {
		return 0
	}
	return time.Duration(u.Utime.Nano() + u.Stime.Nano())
}

// Of a chart: a reading that is taken each ten seconds, over thirty days, as age has thinned it. Others are read beside
// it, so that its rows do not lie next to each other.
const (
	chartTargets = 4
	chartBeside  = 56
)

// chart measures what a chart over thirty days takes.
func (b *bench) chart() error {
	var list []store.Series
	for i := range chartTargets + chartBeside {
		list = append(list, store.Series{Service: "chart", Target: fmt.Sprint("c-", i), Name: "depth"})
	}
	ids, err := b.store.IdentifySeries(b.ctx, list)
	if err != nil {
		return err
	}
	var all []int64
	for _, s := range list {
		all = append(all, ids[s.Key()])
	}
	now := time.Now()
	if err := b.readThirtyDays(all); err != nil {
		return err
	}
	for _, n := range []int{1, chartTargets} {
		took := time.Duration(1 << 62)
		points := 0
		for range 7 {
			begin := time.Now()
			stretch := (30 * 24 * time.Hour / 300).Truncate(time.Second)
			got, err := b.store.In(context.Background()).Points(all[:n], now.AddDate(0, 0, -30), now, stretch)
			if err != nil {
				return err
			}
			took, points = min(took, time.Since(begin)), len(got)
		}
		b.rows = append(b.rows, figure{
			fmt.Sprintf("a chart over 30 days, read each 10 s, targets: %d of %d (%d points)", n, len(all), points),
			ms(took), "100.0 ms", verdict(took < 100*time.Millisecond)})
	}
	_, err = b.store.Pool.Exec(b.ctx, "truncate reading")
	return err
}

// readThirtyDays writes what thirty days of readings are once they are thinned, in the order in which it is written.
// The last day is as it is before the database has tidied up after it.
func (b *bench) readThirtyDays(series []int64) error {
	for _, part := range []struct {
		span                     int
		from, until, step, after string
	}{
		{3600, "30 days", "14 days", "1 hour", "select"},
		{60, "14 days", "1 day", "1 minute", "vacuum reading"},
		{0, "1 day", "0", "10 seconds", "analyze reading"},
	} {
		if _, err := b.store.Pool.Exec(b.ctx, `insert into reading (series, at, span, value, low, high)
			select s, g, $2, 12 + random() * 100, 10, 120 from generate_series(now() - cast($3 as interval),
				now() - cast($4 as interval), cast($5 as interval)) g, unnest($1::bigint[]) s order by g, s`,
			series, part.span, part.from, part.until, part.step); err != nil {
			return err
		}
		if _, err := b.store.Pool.Exec(b.ctx, part.after); err != nil {
			return err
		}
	}
	return nil
}
