package main

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"urgentis/core/access"
	"urgentis/core/alert"
	"urgentis/core/estate"
	"urgentis/internal/app"
	"urgentis/internal/listen"
	"urgentis/internal/store"
)

const heardSource = `urgentis: source/1
name: hosts
takes: syslog
from: [127.0.0.0/8]
`

// heard measures how fast syslog over UDP is received, kept and folded into alerts, and that none of it is lost.
func (b *bench) heard() error {
	const rate, seconds, conditions = 50_000, 5, 200
	a, stop, err := b.app()
	if err != nil {
		return err
	}
	defer stop()
	root := access.OnTheMachine("bench")
	if _, err := a.Push(b.ctx, root, app.Pushing{Files: []estate.File{{Name: "a", Text: heardSource}}}); err != nil {
		return err
	}
	door, err := a.Heard()
	if err != nil {
		return err
	}
	ears, err := listen.Start(b.ctx, listen.Config{SyslogUDP: "127.0.0.1:0", Dir: filepath.Join(b.dir, "heard"),
		Spool: 64 << 20, Door: door, Log: slog.New(slog.DiscardHandler)})
	if err != nil {
		return err
	}
	defer ears.Stop()
	begin := time.Now()
	if err := sendSyslog(ears.Addresses()["syslog-udp"], rate, rate*seconds, conditions); err != nil {
		return err
	}
	sent := time.Since(begin)
	counted, err := b.folded("hosts", rate*seconds)
	if err != nil {
		return err
	}
	took := time.Since(begin)
	lost := ears.Status()[0].Lost
	counting := fmt.Sprintf("%d of %d counted, %d lost", counted, rate*seconds, lost)
	heardAll := counted == rate*seconds && lost == 0
	b.rows = append(b.rows,
		figure{
			fmt.Sprintf("syslog over UDP, messages a second, about %d alerts", conditions),
			fmt.Sprintf("%.0f (%s)", float64(rate*seconds)/sent.Seconds(), counting),
			fmt.Sprintf("%d for %d s, none lost", rate, seconds),
			verdict(heardAll && sent < seconds*1100*time.Millisecond),
		},
		figure{
			"the same, folded into their alerts a second",
			fmt.Sprintf("%.0f", float64(counted)/took.Seconds()),
			"20000",
			verdict(heardAll && float64(counted) >= 20_000*took.Seconds()),
		})
	return b.clear()
}

// sendSyslog sends messages at a rate.
func sendSyslog(address string, rate, n, conditions int) error {
	c, err := net.Dial("udp", address)
	if err != nil {
		return err
	}
	begin := time.Now()
	for i := range n {
		if i%100 == 0 {
			time.Sleep(time.Until(begin.Add(time.Duration(i) * time.Second / time.Duration(rate))))
		}
		if _, err := fmt.Fprintf(c, "<11>1 2026-11-26T02:00:00Z quay-%d pump %d X%d - pressure %d", i%20, i,
			i%(conditions/20),
			i); err != nil {
			return errors.Join(err, c.Close())
		}
	}
	return c.Close()
}

// folded waits until as many reports were counted, or none comes any more.
func (b *bench) folded(source string, want int64) (n int64, err error) {
	for still := 0; still < 40; still++ {
		was := n
		err = b.store.Pool.QueryRow(b.ctx, "select coalesce(sum(count), 0) from alert where source = $1", source).
			Scan(&n)
		if err != nil || n >= want {
			return n, err
		}
		if n != was {
			still = 0
		}
		time.Sleep(50 * time.Millisecond)
	}
	return n, nil
}

// storm measures how soon 20,000 reports of one outage are one incident.
func (b *bench) storm() error {
	const reports, size, senders, things = 20_000, 100, 8, 20
	if err := b.push(book); err != nil {
		return err
	}
	e, err := b.engine(nil, false)
	if err != nil {
		return err
	}
	in, err := b.intakeFor(e)
	if err != nil {
		return err
	}
	defer in.Stop()
	begin := time.Now()
	var wg sync.WaitGroup
	errs := make([]error, senders)
	for s := range senders {
		wg.Go(func() {
			for batch := s; batch < reports/size; batch += senders {
				list := make([]alert.Report, size)
				for i := range list {
					list[i] = report(fmt.Sprint("storm-", batch*size+i))
					list[i].Service = "pier"
					list[i].Labels["n"] = fmt.Sprint("gate-", i%things)
				}
				if _, err := in.TakeAll(b.ctx, "bench", list); err != nil {
					errs[s] = err
				}
			}
		})
	}
	wg.Wait()
	took := time.Since(begin)
	if err := errors.Join(errs...); err != nil {
		return err
	}
	var incidents, alerts, runs int
	err = b.store.Pool.QueryRow(b.ctx, `select (select count(*) from incident), (select count(*) from alert),
		(select count(*) from run)`).Scan(&incidents, &alerts, &runs)
	if err != nil {
		return err
	}
	b.rows = append(b.rows, figure{
		fmt.Sprintf("a storm of %d reports of one outage", reports),
		fmt.Sprintf("%.1f s: %d incidents, %d alerts, %d runs", took.Seconds(), incidents, alerts, runs),
		fmt.Sprintf("4 s, one incident, a run for each of %d things", things), verdict(took < 4*time.Second &&
			incidents == 1 && alerts == reports && runs == things),
	})
	return b.clear()
}

// many measures lists, searches and a large record among a million incidents with ten million entries. It is measured
// only where it is asked for: making them takes minutes, and several gigabytes.
func (b *bench) many() error {
	if *only != "many" {
		return nil
	}
	a, stop, err := b.app()
	if err != nil {
		return err
	}
	defer stop()
	if err := b.makeMany(); err != nil {
		return err
	}
	who := access.OnTheMachine("bench")
	for _, m := range []struct {
		what  string
		times int
		limit time.Duration
		do    func(i int) error
	}{
		{"a page of the list", 60, 50 * time.Millisecond, func(i int) error {
			_, _, err := a.Incidents(b.ctx, who, store.WhichIncidents{}, int64(1_000_000-i*10_000), 25)
			return err
		}},
		{"a page of one service's open ones", 60, 50 * time.Millisecond, func(i int) error {
			_, _, err := a.Incidents(b.ctx, who, store.WhichIncidents{State: "open", Service: fmt.Sprint("service-",
				i)}, 0, 25)
			return err
		}},
		{"a search of words", 60, 150 * time.Millisecond, func(i int) error {
			_, _, err := a.Incidents(b.ctx, who, store.WhichIncidents{Text: fmt.Sprintf("pump%d pressure", i*37)},
				0, 25)
			return err
		}},
		{"a search of a word that many have", 30, 150 * time.Millisecond, func(i int) error {
			_, _, err := a.Incidents(b.ctx, who, store.WhichIncidents{Text: "pressure", Severity: "critical"}, 0, 25)
			return err
		}},
		{"suggested runbooks", 60, 100 * time.Millisecond, func(i int) error {
			_, err := a.Suggest(b.ctx, who, int64(1_000_000-i*50))
			return err
		}},
		{"an incident of 5,000 entries", 20, 150 * time.Millisecond, func(int) error {
			_, err := a.Incident(b.ctx, who, 1_000_001)
			return err
		}},
	} {
		p95, err := percentile(m.times, m.do)
		if err != nil {
			return fmt.Errorf("%s: %w", m.what, err)
		}
		b.rows = append(b.rows, figure{"among a million incidents, " + m.what + ", 95th of a hundred",
			p95.Round(time.Millisecond / 10).String(), m.limit.String(), verdict(p95 <= m.limit)})
	}
	return b.clear()
}

// percentile is the 95th of so many times.
func percentile(times int, do func(i int) error) (time.Duration, error) {
	took := make([]time.Duration, times)
	for i := range times {
		begin := time.Now()
		if err := do(i); err != nil {
			return 0, err
		}
		took[i] = time.Since(begin)
	}
	slices.Sort(took)
	return took[times*95/100], nil
}

// makeMany makes a million incidents of ten entries each, and one of 5,000.
func (b *bench) makeMany() error {
	ctx, cancel := context.WithTimeout(b.ctx, 30*time.Minute)
	defer cancel()
	for _, statement := range []string{
		`insert into incident (number, title, state, waiting_on, severity, service, opened_at, closed_at, entries,
			alerts,
			outcome, because, notes)
			select i, 'pump' || (i % 20000) || ' has no pressure',
				case when i % 50 = 0 then 'open' else 'closed' end, 'nobody',
				(array['critical', 'major', 'minor', 'warning'])[1 + i % 4], 'service-' || (i % 300),
				now() - (1000001 - i) * interval '1 minute', case when i % 50 = 0 then null else now() end, 10, 1,
				'repaired', 'valve ' || (i % 977) || ' was opened', 'a note about deck ' || (i % 5000)
			from generate_series(1, 1000000) i`,
		`insert into incident (number, title, state, waiting_on, severity, service, opened_at, entries)
			values (1000001, 'a long one', 'open', 'nobody', 'major', 'service-1', now(), 5000)`,
		`insert into entry (incident, seq, at, kind, actor, title, content, digest, prev, hash)
			select i, s, now() - (1000001 - i) * interval '1 minute' + s * interval '1 second',
				case when s = 1 then 'alert.raised' when s = 10 then 'incident.closed' else 'look.taken' end,
					'runbook:pumps',
				'Look at pump ' || i, '{"took_ms":12}', md5(i::text), md5(s::text), md5((i + s)::text)
			from generate_series(1, 1000000) i, generate_series(1, 10) s`,
		`insert into entry (incident, seq, at, kind, actor, title, content, digest, prev, hash)
			select 1000001, s, now() + s * interval '1 second', 'look.taken', 'runbook:pumps', 'Look ' || s,
				'{"took_ms":12,"output":"` + string(make400()) + `"}', md5(s::text), md5(s::text), md5(s::text)
			from generate_series(1, 5000) s`,
		"analyze incident", "analyze entry",
	} {
		if _, err := b.store.Pool.Exec(ctx, statement); err != nil {
			return err
		}
	}
	return nil
}

// make400 is output of 400 bytes.
func make400() []byte {
	out := make([]byte, 400)
	for i := range out {
		out[i] = 'x'
	}
	return out
}
