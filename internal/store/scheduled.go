package store

import (
	"fmt"
	"time"

	"urgentis/core/access"
	"urgentis/core/watch"
)

// Scheduled is a watch: when it is due, and how it went last.
type Scheduled struct {
	Watch, Service string
	Number         int     // the revision of its document
	Every          float64 // seconds
	DueAt          time.Time
	TakenAt        *time.Time // nil for never
	Asked          int        // how many targets
	Answered       int        // how many of them gave all that was to be read
	Took           float64    // seconds
	Trouble        string     // why not all did; "" where they did
	// RanOut is how often in a row the evaluation of what it read needed more than it may.
	RanOut int
}

// mostRarer is the longest beat of a watch whose evaluations run out, unless its own is longer.
const mostRarer = time.Hour

// Rarer is in how long a watch is taken again whose evaluations run out: each time twice as long. 0: in its own beat.
func (s Scheduled) Rarer() time.Duration {
	every := time.Duration(s.Every * float64(time.Second))
	if s.RanOut == 0 || every >= mostRarer {
		return 0
	}
	return min(mostRarer, every<<min(s.RanOut, 12))
}

// SetScheduled has the newest revision of a watch taken, at once for the first time.
func (tx *Tx) SetScheduled(w *watch.Watch) error {
	return tx.run(`insert into scheduled_look (watch, service, number, every)
		select ?, ?, number, ? * interval '1 second' from document where kind = 'watch' and name = ?
		on conflict (watch) do update set service = excluded.service, number = excluded.number,
			every = excluded.every, due_at = now(), ran_out = 0`, w.Name, w.Service, w.Every.Seconds(), w.Name)
}

// RemoveScheduled takes a watch out of use. What it read stays.
func (tx *Tx) RemoveScheduled(name string) error {
	return tx.run("delete from scheduled_look where watch = ?", name)
}

// scheduled are the columns of a Scheduled.
const scheduled = `watch, service, number, extract(epoch from every) as every, due_at, taken_at, asked, answered,
	extract(epoch from took) as took, trouble, ran_out`

// ListScheduled lists watches by name; service "" is every service.
func (tx *Tx) ListScheduled(scope access.Scope, service string) ([]Scheduled, error) {
	where, args := and("true", nil, "service", service)
	where, args = within(scope, where, args)
	return scan[Scheduled](tx, "select "+scheduled+" from scheduled_look where "+where+" order by watch", args...)
}

// TakeScheduled takes up to so many watches that are due in hand, for at most so long, and says when each is due next:
// in its own beat, and where that was missed from now on.
func (tx *Tx) TakeScheduled(most int, bound time.Duration) ([]Scheduled, error) {
	out, err := scan[Scheduled](tx, `with due as (
			select watch as w from scheduled_look where due_at <= now() and (busy_until is null or busy_until < now())
			order by due_at limit ? for update skip locked)
		update scheduled_look set busy_until = now() + ? * interval '1 second',
			due_at = case when due_at + every > now() then due_at + every else now() + every end
		from due where watch = w returning `+scheduled, most, bound.Seconds())
	if err != nil {
		return nil, fmt.Errorf("find watches that are due: %w", err)
	}
	return out, nil
}

// ScheduledTaken notes how samples went, whatever became of their watches meanwhile.
func (tx *Tx) ScheduledTaken(list []Scheduled) error {
	var names, troubles []string
	var asked, answered []int64
	var at []time.Time
	var took, rarer []float64
	var ranOut []int64
	for _, s := range list {
		ranOut, rarer = append(ranOut, int64(s.RanOut)), append(rarer, s.Rarer().Seconds())
		names, troubles, at = append(names, s.Watch), append(troubles, s.Trouble), append(at, *s.TakenAt)
		asked, answered, took = append(asked, int64(s.Asked)), append(answered, int64(s.Answered)), append(took, s.Took)
	}
	return tx.run(`update scheduled_look set busy_until = null, taken_at = x.at, asked = x.asked, answered = x.answered,
			took = x.took * interval '1 second', trouble = x.trouble, ran_out = x.ran_out,
			due_at = greatest(due_at, case when x.rarer > 0 then now() + x.rarer * interval '1 second' else due_at end)
		from (select * from unnest(?::text[], ?::timestamptz[], ?::bigint[], ?::bigint[], ?::float8[], ?::text[],
			?::bigint[], ?::float8[])
			as v(name, at, asked, answered, took, trouble, ran_out, rarer) order by name) x where watch = x.name`,
		array{names}, array{at}, array{asked}, array{answered}, array{took}, array{troubles}, array{ranOut},
		array{rarer})
}

// ScheduledBack gives watches back that were taken in hand and could not be taken to their end; they are due at once.
func (tx *Tx) ScheduledBack(names []string) error {
	return tx.run("update scheduled_look set busy_until = null, due_at = now() where watch = any (?::text[])",
		array{names})
}
