package store

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"urgentis/core/access"
)

// Series is one reading of one target, over time.
type Series struct {
	ID      int64
	Service string
	Target  string // "" for the host of the service itself
	Name    string
	Unit    string
	Good    string // which way is better: low, high or near and a number; "" where nobody said
}

// SeriesKey names a series.
type SeriesKey struct{ Service, Target, Name string }

// Key names it.
func (s Series) Key() SeriesKey { return SeriesKey{s.Service, s.Target, s.Name} }

// Reading is what was read at a moment, or within a span of time. One of Value and Said is set.
type Reading struct {
	Series int64
	At     time.Time
	Span   int      // seconds; 0 for one taking
	Value  *float64 // the last within the span
	Low    *float64 // nil for one taking
	High   *float64
	Said   *string // what is no number
	Run    *string // who took it
}

// MaxSaid bounds what is kept of a reading that is no number, in bytes.
const MaxSaid = 500

// IdentifySeries gives the numbers of series, and begins those that are new. It stands alone, outside of any
// transaction: whoever begins a series waits for nobody who holds something else.
func (s *Store) IdentifySeries(ctx context.Context, list []Series) (map[SeriesKey]int64, error) {
	out := make(map[SeriesKey]int64, len(list))
	var fresh []Series
	for _, x := range list {
		if known, ok := s.series.Get(x.Key()); ok && known.Unit == x.Unit && known.Good == x.Good {
			out[x.Key()] = known.ID
		} else if !slices.ContainsFunc(fresh, func(f Series) bool { return f.Key() == x.Key() }) {
			fresh = append(fresh, x)
		}
	}
	if len(fresh) == 0 {
		return out, nil
	}
	slices.SortFunc(fresh, func(a, b Series) int {
		return strings.Compare(a.Service+"\n"+a.Name+"\n"+a.Target, b.Service+"\n"+b.Name+"\n"+b.Target)
	})
	tx := s.In(ctx)
	var services, targets, names, units, goods []string
	for _, x := range fresh {
		services, targets, names = append(services, x.Service), append(targets, x.Target), append(names, x.Name)
		units, goods = append(units, x.Unit), append(goods, x.Good)
	}
	rows, err := scan[Series](tx, `insert into series (service, target, name, unit, good)
		select * from unnest(?::text[], ?::text[], ?::text[], ?::text[], ?::text[])
		on conflict (service, name, target) do update set unit = excluded.unit, good = excluded.good
		returning *`, array{services}, array{targets}, array{names}, array{units}, array{goods})
	if err != nil {
		return nil, fmt.Errorf("begin series of readings: %w", err)
	}
	for _, r := range rows {
		out[r.Key()] = r.ID
		s.series.Add(r.Key(), r)
	}
	return out, nil
}

// SeriesNow is a series and what was read last of it.
type SeriesNow struct {
	Series
	At    time.Time
	Value *float64
	Said  *string
}

// maxSeries bounds a list of series.
const maxSeries = 1000

// ListSeries lists series with what was read last, by service, name and target; service and name "" are all.
func (tx *Tx) ListSeries(scope access.Scope, service, name string) ([]SeriesNow, error) {
	where, args := and("true", nil, "service", service)
	where, args = and(where, args, "name", name)
	where, args = within(scope, where, args)
	return scan[SeriesNow](tx, `select s.*, l.at, l.value, l.said from
		(select * from series where `+where+` order by service, name, target limit ?) s
		cross join lateral (select at, value, said from reading r where r.series = s.id order by at desc limit 1) l
		order by s.service, s.name, s.target`, append(args, maxSeries)...)
}

// Point is what a series was within a stretch of time.
type Point struct {
	Series    int64
	At        time.Time
	Value     *float64 // the last in it
	Low, High *float64
	Said      *string
}

// Points gives series from one time to another, one point for each stretch in which anything was read, in order.
// Each stretch is looked up by itself, so that only the index is read of what is old (see migration 27).
func (tx *Tx) Points(series []int64, from, to time.Time, stretch time.Duration) ([]Point, error) {
	return scan[Point](tx, `with b as (select s.series, g.bin, w.* from unnest(?::bigint[]) s(series)
			cross join generate_series(?::timestamptz, ?, ? * interval '1 second') g(bin)
			cross join lateral (select max(at) as last,
				min(coalesce(low, value)) as low, max(coalesce(high, value)) as high from reading r
				where r.series = s.series and r.at >= g.bin
					and r.at < least(g.bin + ? * interval '1 second', ?::timestamptz)) w
			where w.last is not null)
		select b.series, b.bin as at, l.value, l.said, b.low, b.high from b
		cross join lateral (select value, said from reading r where r.series = b.series and r.at = b.last limit 1) l
		order by b.series, b.bin`, array{series}, from, to, stretch.Seconds(), stretch.Seconds(), to)
}

// thinning is how old what is kept in one span becomes before it is put together to a wider one.
var thinning = []struct {
	from, to int // spans, in seconds
	after    time.Duration
	slice    time.Duration // so much is put together at once; a whole number of wider spans
}{
	{0, 60, 24 * time.Hour, 10 * time.Minute},
	{60, 3600, 14 * 24 * time.Hour, 6 * time.Hour},
	{3600, 86400, 400 * 24 * time.Hour, 10 * 24 * time.Hour},
}

// ThinReadings puts readings together that have become old: to minutes after a day, to hours after two weeks, to days
// after 400; what is older than three years goes. It does one slice, and tells whether there may be more. Only
// one instance does so at a time.
func (s *Store) ThinReadings(ctx context.Context, now time.Time) (more bool, err error) {
	err = s.Tx(ctx, func(tx *Tx) error {
		mine, err := one[bool](tx, "select pg_try_advisory_xact_lock(hashtextextended('thin readings', 0))")
		if err != nil || !mine {
			return err
		}
		for _, t := range thinning {
			oldest, err := scan[time.Time](tx, "select at from reading where span = ? and at < ? order by at limit 1",
				t.from, now.Add(-t.after))
			if err != nil {
				return err
			}
			if len(oldest) == 0 {
				continue
			}
			begin := oldest[0].UTC().Truncate(t.slice)
			end := begin.Add(t.slice)
			if end.After(now.Add(-t.after)) {
				continue // no slice is whole yet
			}
			more = true
			if err := tx.run(`with old as (delete from reading where span = ? and at >= ? and at < ? returning *)
				insert into reading (series, at, span, value, low, high, said)
				select series, date_bin(? * interval '1 second', at, 'epoch'), ?,
					(array_agg(value order by at desc))[1], min(coalesce(low, value)), max(coalesce(high, value)),
					(array_agg(said order by at desc))[1]
				from old group by 1, 2`, t.from, begin, end, t.to, t.to); err != nil {
				return fmt.Errorf("put readings of %d s together: %w", t.from, err)
			}
			return nil // the finer ones first: what is put together to an hour has all its minutes then
		}
		if err := tx.thinIndicators(now); err != nil {
			return err
		}
		return tx.run("delete from reading where span = 86400 and at < ?", now.AddDate(-3, 0, 0))
	})
	return more, err
}

// NewestWithin gives what was read last of each target of a service between two times, numbers alone, by name.
func (tx *Tx) NewestWithin(service string, from, until time.Time) ([]SeriesNow, error) {
	return scan[SeriesNow](tx, `select s.*, l.at, l.value from
		(select * from series where service = ? order by name, target limit ?) s
		cross join lateral (select at, value from reading r where r.series = s.id and at >= ? and at <= ?
			order by at desc limit 1) l where l.value is not null order by s.name, s.target`,
		service, maxSeries, from, until)
}
