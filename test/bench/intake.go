package main

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"sync"
	"time"

	"urgentis/core/alert"
	"urgentis/internal/intake"
)

// intake measures how many alerts a second 32 clients can hand in, each durable with its run's doorbell, against how
// many single rows 32 clients of the database insert.
func (b *bench) intake() error {
	if _, err := b.commit(); err != nil { // makes the table
		return err
	}
	if err := b.push(book); err != nil {
		return err
	}
	e, err := b.engine(nil, false) // runs are rung for, not driven
	if err != nil {
		return err
	}
	in, err := b.intakeFor(e)
	if err != nil {
		return err
	}
	defer in.Stop()
	every := []struct {
		what  string
		size  int
		key   func(client, i int) string
		times float64 // of pgbench's rows; what is not a goal has none
	}{
		{"new alerts a second, each with incident, record, run and doorbell, 32 clients", 1,
			func(client, i int) string { return fmt.Sprintf("c%d-%d", client, i) }, 0},
		{"new alerts a second, posted 100 at a time", 100,
			func(client, i int) string { return fmt.Sprintf("h%d-%d", client, i) }, 0},
		{"repeated alerts a second, 32 clients", 1,
			func(client, _ int) string { return fmt.Sprintf("same-%d", client) }, 1.5},
		{"the same, posted 100 at a time", 100,
			func(client, i int) string { return fmt.Sprintf("same-%d-%d", client, i%100) }, 5},
	}
	before, err := b.singleRows()
	if err != nil {
		return err
	}
	for i, x := range every {
		if x.times > 0 { // what is repeated is there already
			if err := b.once(in, x.size, x.key); err != nil {
				return err
			}
		}
		got, err := b.hammer(in, x.size, x.key)
		if err != nil {
			return err
		}
		after, err := b.singleRows()
		if err != nil {
			return err
		}
		rows := (before + after) / 2 // the machine is not equally fast all the time
		before = after
		limit, met := fmt.Sprintf("%.0f (pgbench, single rows)", rows), ""
		if x.times > 0 {
			limit, met = fmt.Sprintf("%.0f (%.1f times pgbench's single rows)", x.times*rows, x.times),
				verdict(got >= x.times*rows)
		}
		b.rows = append(b.rows, figure{x.what, fmt.Sprintf("%.0f", got), limit, met})
		if i > 0 {
			continue
		}
		each, err := b.rowsOfAnAlert()
		if err != nil {
			return err
		}
		b.rows = append(b.rows, figure{fmt.Sprintf("the same, as rows: %.0f for each", each),
			fmt.Sprintf("%.0f", each*got), fmt.Sprintf("%.0f (2.0 times pgbench's single rows)", 2*rows),
			verdict(each*got >= 2*rows)})
	}
	return b.clear()
}

var tps = regexp.MustCompile(`tps = ([0-9.]+)`)

// singleRows tells how many rows a second pgbench inserts from 32 clients, each in a transaction of its own.
func (b *bench) singleRows() (float64, error) {
	if _, err := b.commit(); err != nil { // which makes the table
		return 0, err
	}
	script := filepath.Join(b.dir, "insert.sql")
	if err := os.WriteFile(script, []byte("insert into bench_row (text) values ('x');\n"),
		0o644); err != nil { //nolint:gosec // another account reads it
		return 0, err
	}
	host := regexp.MustCompile(`host=([^&]+)`).FindStringSubmatch(b.db.URL)[1]
	bin, err := pgbench()
	if err != nil {
		return 0, err
	}
	out, err := exec.Command(bin, "-n", "-h", host, "-U", "urgentis", "-c", "32", "-j", "2", "-T", "3", "-f", script,
		"postgres").
		CombinedOutput()
	if err != nil {
		return 0, fmt.Errorf("pgbench: %w: %s", err, out)
	}
	return strconv.ParseFloat(tps.FindStringSubmatch(string(out))[1], 64)
}

// rowsOfAnAlert counts the rows that one new alert leaves behind.
func (b *bench) rowsOfAnAlert() (float64, error) {
	var alerts, runs, all float64
	err := b.store.Pool.QueryRow(b.ctx, `select (select count(*) from alert),
		(select count(*) from run where alert <> ''),
		(select count(*) from alert) + (select count(*) from incident) + (select count(*) from entry)
		+ (select count(*) from run) + (select count(*) from event) + (select count(*)
			from feed) + (select count(*) from river_job) + (select count(*) from firing)
		+ (select count(*) from incident_key) + (select count(*) from treats) + (select count(*) from attention)`).
		Scan(&alerts, &runs, &all)
	if err == nil && runs != alerts {
		err = fmt.Errorf("%.0f alerts began %.0f runs", alerts, runs)
	}
	return all / alerts, err
}

// once hands in what each of 32 clients would hand in first.
func (b *bench) once(in *intake.Intake, size int, key func(client, i int) string) error {
	for c := range 32 {
		if _, err := in.TakeAll(b.ctx, "bench", reports(size, func(j int) string { return key(c, j) })); err != nil {
			return err
		}
	}
	return nil
}

func reports(size int, key func(j int) string) []alert.Report {
	list := make([]alert.Report, size)
	for j := range list {
		list[j] = report(key(j))
	}
	return list
}

// hammer hands in alerts from 32 clients for five seconds, so many in one request, and counts them.
func (b *bench) hammer(in *intake.Intake, size int, key func(client, i int) string) (float64, error) {
	requests, err := clients(func(client, i int) error {
		list := reports(size, func(j int) string { return key(client, i*size+j) })
		_, err := in.TakeAll(b.ctx, "bench", list)
		return err
	})
	return requests * float64(size), err
}

// clients lets 32 clients send for five seconds, each one request after the other, and gives how many went through a
// second.
func clients(send func(client, i int) error) (float64, error) {
	const count, time5 = 32, 5 * time.Second
	var wg sync.WaitGroup
	sent := make([]int, count)
	errs := make([]error, count)
	end := time.Now().Add(time5)
	for c := range count {
		wg.Go(func() {
			for time.Now().Before(end) && errs[c] == nil {
				if errs[c] = send(c, sent[c]); errs[c] == nil {
					sent[c]++
				}
			}
		})
	}
	wg.Wait()
	total := 0
	for _, n := range sent {
		total += n
	}
	return float64(total) / time5.Seconds(), errors.Join(errs...)
}

func pgbench() (string, error) {
	if p, err := exec.LookPath("pgbench"); err == nil {
		return p, nil
	}
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/pgbench")
	if len(found) == 0 {
		return "", fmt.Errorf("pgbench is not installed; it comes with the Debian package postgresql")
	}
	return found[len(found)-1], nil
}
