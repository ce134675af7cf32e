package store

import (
	"fmt"
	"time"

	"urgentis/core/access"
	"urgentis/core/objective"
)

// Objective is how far an objective is measured.
type Objective struct {
	Name          string `gorm:"primaryKey"`
	Service       string
	Number        int // the revision of its document
	BeganAt       time.Time
	MeasuredUntil time.Time
	Unknown       string // why the last minute is not known; "" where it is
}

// SetObjective has the newest revision of an objective measured. One that is measured differently begins anew.
func (tx *Tx) SetObjective(name, service string, anew bool) error {
	if anew {
		if err := tx.RemoveObjective(name); err != nil {
			return err
		}
	}
	return tx.run(`insert into objective (name, service, number)
		select name, ?, number from document where kind = 'objective' and name = ?
		on conflict (name) do update set service = excluded.service, number = excluded.number`, service, name)
}

// RemoveObjective forgets an objective, and what was measured.
func (tx *Tx) RemoveObjective(name string) error {
	if err := tx.run("delete from indicator where objective = ?", name); err != nil {
		return err
	}
	return tx.run("delete from objective where name = ?", name)
}

// ListObjectives lists objectives by service and name; service "" is every service.
func (tx *Tx) ListObjectives(scope access.Scope, service string) ([]Objective, error) {
	where, args := and("true", nil, "service", service)
	where, args = within(scope, where, args)
	return list[Objective](tx, "service, name", where, args...)
}

// Objective reads one objective.
func (tx *Tx) Objective(name string) (*Objective, error) {
	return take[Objective](tx, "name = ?", name)
}

// HasObjective reports whether there is an objective of a name.
func (tx *Tx) HasObjective(name string) (bool, error) {
	return one[bool](tx, "select exists (select from objective where name = ?)", name)
}

// UnmeasuredObjective takes an objective but some that is measured until before a moment, so that no other instance
// does until the end of the transaction; nil where there is none.
func (tx *Tx) UnmeasuredObjective(before time.Time, but []string) (*Objective, error) {
	rows, err := scan[Objective](tx, `select * from objective where measured_until < ? and name <> all(?::text[])
		order by measured_until, name limit 1 for update skip locked`, before, array{but})
	if err != nil || len(rows) == 0 {
		return nil, err
	}
	return &rows[0], nil
}

// Sampled is a number that was read.
type Sampled struct {
	Name, Target string
	At           time.Time
	Value        float64
}

// MaxSampled bounds how many readings one measuring rests on.
const MaxSampled = 200_000

// Sampled lists the numbers that were read of a service after a moment and until another one, in the order of time.
func (tx *Tx) Sampled(service string, names []string, after, until time.Time) ([]Sampled, error) {
	return scan[Sampled](tx, `select s.name, s.target, r.at, r.value from series s join reading r on r.series = s.id
		where s.service = ? and s.name = any (?::text[]) and r.at > ? and r.at <= ? and r.value is not null
		order by r.at limit ?`, service, array{names}, after, until, MaxSampled)
}

// SampledTargets lists the targets of which a service has such readings and that are still its targets, with their
// labels; "" is the host of the service.
func (tx *Tx) SampledTargets(service string, names []string) ([]Target, error) {
	return scan[Target](tx, `select distinct s.target as name, coalesce(t.labels, '{}') as labels from series s
		left join target t on t.name = s.target and t.service = s.service
		where s.service = ? and s.name = any (?::text[]) and (s.target = '' or t.name is not null) order by 1`,
		service, array{names})
}

// Measured keeps what minutes of an objective came to, and until when it is measured now.
func (tx *Tx) Measured(o *Objective, list []objective.Measured, until time.Time) error {
	var at []time.Time
	var good, bad []float64
	o.Unknown = ""
	for _, m := range list {
		if o.Unknown = m.Unknown; m.Unknown == "" {
			at, good, bad = append(at, m.At), append(good, m.Good), append(bad, m.Bad)
		}
	}
	if len(at) > 0 {
		if err := tx.run(`insert into indicator (objective, at, span, good, bad)
			select ?, at, 60, good, bad from unnest(?::timestamptz[], ?::float8[], ?::float8[]) as v(at, good, bad)
			on conflict do nothing`, o.Name, array{at}, array{good}, array{bad}); err != nil {
			return fmt.Errorf("keep what objective %s came to: %w", o.Name, err)
		}
	}
	return tx.run("update objective set measured_until = ?, unknown = ? where name = ?", until, o.Unknown, o.Name)
}

// Sums adds up what an objective came to from each of these moments until another one.
func (tx *Tx) Sums(name string, from []time.Time, until time.Time) ([]objective.Sum, error) {
	rows, err := scan[struct {
		At              time.Time
		Good, Bad, Span float64
	}](tx, `select f.at, coalesce(sum(i.good), 0) as good, coalesce(sum(i.bad), 0) as bad,
			coalesce(sum(i.span), 0) as span
		from unnest(?::timestamptz[]) with ordinality as f(at, n)
		left join indicator i on i.objective = ? and i.at >= f.at and i.at < ? group by f.n, f.at order by f.n`,
		array{from}, name, until)
	if err != nil {
		return nil, fmt.Errorf("add up objective %s: %w", name, err)
	}
	out := make([]objective.Sum, len(rows))
	for i, r := range rows {
		out[i] = objective.Sum{From: r.At.UTC(), Good: r.Good, Bad: r.Bad,
			Known: time.Duration(r.Span * float64(time.Second))}
	}
	return out, nil
}

// Indicated is what an objective came to within a stretch of time.
type Indicated struct {
	At              time.Time
	Good, Bad, Span float64
}

// Indicated gives what an objective came to between two times, in stretches of which anything is known.
func (tx *Tx) Indicated(name string, from, until time.Time, stretch time.Duration) ([]Indicated, error) {
	return scan[Indicated](tx, `select date_bin(? * interval '1 second', at, ?) as at, sum(good) as good,
			sum(bad) as bad, sum(span) as span
		from indicator where objective = ? and at >= ? and at < ? group by 1 order by 1`,
		stretch.Seconds(), from, name, from, until)
}

// indicatorFine is for how long minutes of objectives are kept; then they are put together to hours.
const indicatorFine = 8 * 24 * time.Hour

// thinIndicators puts minutes together that have become old, a day at a time.
func (tx *Tx) thinIndicators(now time.Time) error {
	end := now.Add(-indicatorFine).UTC().Truncate(24 * time.Hour)
	if err := tx.run(`with old as (delete from indicator i using (select ctid from indicator
			where at < ? and span <= 60 and at <> date_trunc('hour', at, 'UTC') limit 100000) x
			where i.ctid = x.ctid returning i.*)
		insert into indicator (objective, at, span, good, bad)
		select objective, date_trunc('hour', at, 'UTC'), sum(span), sum(good), sum(bad) from old group by 1, 2
		on conflict (objective, at) do update set span = indicator.span + excluded.span,
			good = indicator.good + excluded.good, bad = indicator.bad + excluded.bad`, end); err != nil {
		return fmt.Errorf("put minutes of objectives together: %w", err)
	}
	return tx.run("delete from indicator where at < ?", now.AddDate(-3, 0, 0))
}
