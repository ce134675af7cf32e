package main

import (
	"fmt"
	"strings"
	"time"

	"urgentis/core/access"
	"urgentis/library"
)

// Of suggestions: so many incidents that are over, each with its alert and the run that ended it, of so many services,
// of which some have the whole library bound to them.
const (
	pastIncidents = 100_000
	pastServices  = 20
	boundServices = 5
	askedAbout    = 240
)

// suggest measures what it takes to suggest runbooks for an incident.
func (b *bench) suggest() error {
	a, stop, err := b.app()
	if err != nil {
		return err
	}
	defer stop()
	books, err := b.bindAll()
	if err != nil {
		return err
	}
	if err := b.makePast(); err != nil {
		return err
	}
	who := access.OnTheMachine("bench")
	told := 1 << 30
	p95, err := percentile(askedAbout/pastServices*boundServices, func(i int) error {
		got, err := a.Suggest(b.ctx, who, int64(pastIncidents+i/boundServices*pastServices+i%boundServices))
		if err != nil {
			return err
		}
		told = min(told, len(got.Runbooks), len(got.Alike))
		return nil
	})
	if err != nil {
		return err
	}
	b.rows = append(b.rows, figure{
		fmt.Sprintf("suggested runbooks, of %d runbooks and %d past incidents, 95th of a hundred",
			books, pastIncidents),
		ms(p95), "100.0 ms, each with runbooks and incidents like it",
		verdict(p95 <= 100*time.Millisecond && told > 0)})
	return b.clear()
}

// bindAll has the whole library for each of some services.
func (b *bench) bindAll() (books int, err error) {
	for s := range boundServices {
		for _, name := range library.Names() {
			text, _ := library.Text(name)
			own := fmt.Sprint(name, "-", s)
			text = strings.Replace(text, "\nname: "+name+"\n", "\nname: "+own+"\n", 1)
			text = strings.Replace(text, "\nservice: unbound\n", fmt.Sprintf("\nservice: service-%d\n", s), 1)
			if err := b.push(text); err != nil {
				return 0, fmt.Errorf("%s: %w", own, err)
			}
			books++
		}
	}
	return books, nil
}

// makePast makes what is over, and as many open incidents as are asked about.
func (b *bench) makePast() error {
	for _, statement := range []string{
		`insert into incident (number, title, state, waiting_on, severity, service, opened_at, closed_at, entries,
			alerts, outcome, because, notes)
			select i, 'host ' || (i % 2000) || ' runs full', case when over then 'closed' else 'open' end, 'nobody',
				'major', 'service-' || (i % $2::int), opened, case when over then opened + interval '10 minutes' end,
				10, 1, case when over then 'repaired' else '' end, case when over then 'old logs went' else '' end, ''
			from generate_series(1, $1::int + $3::int - 1) i, lateral (select i < $1::int as over,
				now() - ($1::int + 1000 - i) * interval '1 minute' as opened) x`,
		`insert into alert (id, source, key, state, severity, summary, service, link, labels, first_at, last_at,
			incident)
			select 'a-' || i, 'monitor', 'disk:host-' || (i % 2000),
				case when i < $1::int then 'cleared' else 'open' end, 'major',
				'the disk of host ' || (i % 2000) || ' is full', 'service-' || (i % $2::int), '',
				jsonb_build_object('signal', (array['disk', 'memory', 'lag'])[1 + i % 3], 'n', i::text), now(), now(), i
			from generate_series(1, $1::int + $3::int - 1) i`,
		`insert into run (id, runbook, title, revision, incident, state, started_by, begun_at, ended_at)
			select 'r-' || i, (array['host-disk-full', 'host-memory-short'])[1 + i % 2] || '-' || (i % $2::int),
				'A run', '', i, 'ended', 'alert', now(), now()
			from generate_series(1, $1::int - 1) i where $3::int > 0`,
	} {
		if _, err := b.store.Pool.Exec(b.ctx, statement, pastIncidents, pastServices, askedAbout); err != nil {
			return err
		}
	}
	_, err := b.store.Pool.Exec(b.ctx, "analyze incident, alert, run")
	return err
}
