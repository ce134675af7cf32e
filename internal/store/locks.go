package store

import (
	"context"
	"fmt"
	"slices"
)

// HeldError says that another run holds, or waits longer for, what was to be locked.
type HeldError struct {
	Key, Holder string
	// Circle says that the holder waits, itself or by way of others, for what this run holds.
	Circle bool
}

func (e *HeldError) Error() string { return fmt.Sprintf("%s is held by run %s", e.Key, e.Holder) }

// TakeLocks takes locks for a run until it ends or gives them back, all or none. Where one cannot be had the error is a
// *HeldError, and the transaction must be given up.
//
// Whoever holds nothing yet lets those go first who began to wait before it, whatever they wait for: that order is the
// same for every key, so that runs which hold nothing cannot wait for one another in a circle. Whoever holds
// something yields to nobody, so that what it holds comes free; it can only be in a circle of holders, which is found.
func (tx *Tx) TakeLocks(run string, keys []string) error {
	waited, err := tx.waitedFor(run)
	if err != nil {
		return err
	}
	all := slices.Compact(slices.Sorted(slices.Values(keys)))
	if err := tx.keepOthersOff(append(waited, all...)); err != nil {
		return err
	}
	holds := false
	if err := tx.db.Raw("select exists (select 1 from hold where run = ?)", run).Scan(&holds).Error; err != nil {
		return fmt.Errorf("read what the run holds: %w", err)
	}
	before, err := tx.before(run, all, holds)
	if err != nil {
		return err
	}
	if before != nil {
		circle, err := tx.waitsFor(before.Run, run)
		if err != nil {
			return err
		}
		return &HeldError{before.Key, before.Run, holds && circle}
	}
	if err := tx.run(`insert into hold (key, run, shared) select unnest(?::text[]), ?, false
		on conflict (key, run) do update set shared = false`, array{all}, run); err != nil {
		return fmt.Errorf("take locks: %w", err)
	}
	return tx.quit(run, waited)
}

// heldBy is who has a key before another run may.
type heldBy struct{ Key, Run string }

// before is who holds the first of the keys, in their order, or waits for it longer, where the run must yield to that;
// nil where all of them may be had.
func (tx *Tx) before(run string, keys []string, holds bool) (*heldBy, error) {
	list, err := scan[heldBy](tx, `select key, run from hold where key = any (?::text[]) and run <> ?
		order by key, at limit 1`, array{keys}, run)
	if err != nil {
		return nil, fmt.Errorf("read who holds what is wanted: %w", err)
	}
	if len(list) == 0 && !holds {
		list, err = scan[heldBy](tx, `select q.key, q.run from (`+queue+`) q
			where q.key = any (?::text[]) and q.run <> ? and
			(q.rank, q.run) < (coalesce((select min(since) from awaiting where run = ?), now()), ?)
				order by q.key, q.rank, q.run limit 1`, array{keys}, run, run, run)
		if err != nil {
			return nil, fmt.Errorf("read who waits for what is wanted: %w", err)
		}
	}
	if len(list) == 0 {
		return nil, nil
	}
	return &list[0], nil
}

// keepOthersOff keeps everybody else from taking, giving back or waiting for keys until the end of the transaction:
// who looks whether a key is free and then waits for it must not miss its release in between. Sorted keys cannot wait
// in a circle.
func (tx *Tx) keepOthersOff(keys []string) error {
	sorted := slices.Compact(slices.Sorted(slices.Values(keys)))
	if len(sorted) == 0 {
		return nil
	}
	// One after the other, in the order of the list: nothing in this statement sorts it anew.
	if err := tx.run(`select pg_advisory_xact_lock(hashtextextended('lock:' || key, ?))
		from unnest(?::text[]) as key`, aloneLock, array{sorted}); err != nil {
		return fmt.Errorf("keep others off: %w", err)
	}
	return nil
}

func (tx *Tx) waitedFor(run string) ([]string, error) {
	var keys []string
	if err := tx.db.Raw("select key from awaiting where run = ?", run).Scan(&keys).Error; err != nil {
		return nil, fmt.Errorf("read what the run waits for: %w", err)
	}
	return keys, nil
}

// queue lists who waits for what, each with when it began to wait for anything.
const queue = `select a.key, a.run, min(b.since) as rank from awaiting a join awaiting b on b.run = a.run
	join run r on r.id = a.run and r.ended_at is null group by a.key, a.run`

// QuitQueue takes a run out of every queue, and rings for those who let it go first.
func (tx *Tx) QuitQueue(run string) error {
	waited, err := tx.waitedFor(run)
	if err != nil {
		return err
	}
	if err := tx.keepOthersOff(waited); err != nil {
		return err
	}
	return tx.quit(run, waited)
}

func (tx *Tx) quit(run string, waited []string) error {
	if len(waited) == 0 {
		return nil
	}
	if err := tx.db.Exec("delete from awaiting where run = ?", run).Error; err != nil {
		return fmt.Errorf("leave the queue: %w", err)
	}
	return tx.ringFor(waited)
}

// waitsFor reports whether a run waits, itself or by way of others, for what another one holds.
func (tx *Tx) waitsFor(run, other string) (bool, error) {
	var n int64
	err := tx.db.Raw(`with recursive chain (run) as (select cast(? as text) union
		select h.run from chain c join awaiting a on a.run = c.run join hold h on h.key = a.key and h.run <> a.run)
		select count(*) from chain where run = ?`, run, other).Scan(&n).Error
	if err != nil {
		return false, fmt.Errorf("look for a circle of waiting runs: %w", err)
	}
	return n > 0, nil
}

// Await enters a run into the queue for a key. It reports false where the key has become free meanwhile.
func (tx *Tx) Await(run string, held *HeldError) (bool, error) {
	if err := tx.keepOthersOff([]string{held.Key}); err != nil {
		return false, err
	}
	var waits int64
	err := tx.db.Raw(`select count(*) from run r where r.id = ? and r.ended_at is null and
		(exists (select 1 from hold h where h.key = ? and h.run = r.id) or exists (select 1 from awaiting a
			where a.key = ? and a.run = r.id))`,
		held.Holder, held.Key, held.Key).Scan(&waits).Error
	if err != nil || waits == 0 {
		return false, err
	}
	return true, tx.db.Exec("insert into awaiting (key, run) values (?, ?) on conflict do nothing", held.Key, run).Error
}

// ReleaseLocks gives back all that a run holds or waits for, and rings for those who wait for it.
func (tx *Tx) ReleaseLocks(run string) error {
	var keys []string
	if err := tx.db.Raw("select key from hold where run = ? union select key from awaiting where run = "+
		"?", run, run).Scan(&keys).Error; err != nil {
		return fmt.Errorf("read what the run holds: %w", err)
	}
	if len(keys) == 0 {
		return nil
	}
	if err := tx.keepOthersOff(keys); err != nil {
		return err
	}
	for _, table := range []string{"hold", "awaiting"} {
		if err := tx.db.Exec("delete from "+table+" where run = ?", run).Error; err != nil {
			return fmt.Errorf("give locks back: %w", err)
		}
	}
	return tx.ringFor(keys)
}

// ReleaseWhenLanded gives back what a run holds that is over by no event of its log: at once, or when those who began
// something for it have said what became of it, or are gone. What it waits for it gives up at once.
func (tx *Tx) ReleaseWhenLanded(run string) error {
	n, err := tx.exec(`insert into landing (run, instance) select distinct e.run, i.id from event e
		join instance i on i.id = e.body::jsonb ->> 'by' and i.reported_at is null and i.gone_at is null
		where e.run = ? and e.kind = 'attempt.intended' and not exists (select 1 from event o where o.run = e.run
			and o.kind = 'attempt.ended' and o.body::jsonb ->> 'attempt' = e.body::jsonb ->> 'attempt')
		on conflict do nothing`, run)
	if err != nil {
		return fmt.Errorf("find who may have something under way: %w", err)
	}
	if n == 0 {
		return tx.ReleaseLocks(run)
	}
	return tx.run("delete from awaiting where run = ?", run)
}

// Landed says that an instance has nothing under way any more for a run that is over.
func (s *Store) Landed(ctx context.Context, run, instance string) error {
	return s.Tx(ctx, func(tx *Tx) error {
		n, err := tx.exec("delete from landing where run = ? and instance = ?", run, instance)
		if err != nil || n == 0 {
			return err
		}
		return tx.releaseLanded([]string{run})
	})
}

// sweepLanded gives back the locks of runs that are over, whose instances have reported meanwhile or are gone.
func (tx *Tx) sweepLanded() error {
	runs, err := scan[string](tx, `with over as (delete from landing l where not exists (select 1 from instance i
		where i.id = l.instance and i.reported_at is null and i.gone_at is null) returning l.run)
		select distinct run from over`)
	if err != nil {
		return fmt.Errorf("look for what has landed: %w", err)
	}
	return tx.releaseLanded(runs)
}

func (tx *Tx) releaseLanded(runs []string) error {
	for _, run := range runs {
		more, err := one[bool](tx, "select exists (select 1 from landing where run = ?)", run)
		if err != nil {
			return err
		}
		if !more {
			if err := tx.ReleaseLocks(run); err != nil {
				return err
			}
		}
	}
	return nil
}

// GiveLocksBack gives back some of what a run holds, and rings for those who wait for it.
func (tx *Tx) GiveLocksBack(run string, keys []string) error {
	if err := tx.keepOthersOff(keys); err != nil {
		return err
	}
	if err := tx.db.Exec("delete from hold where run = ? and key in ?", run, keys).Error; err != nil {
		return fmt.Errorf("give locks back: %w", err)
	}
	return tx.ringFor(keys)
}

// ringFor rings for the first in each queue, the one after it, and those who yield to nobody: only they can have the
// lock, and a thousand need not be woken to hear no.
func (tx *Tx) ringFor(keys []string) error {
	return tx.ring(tx.db.Raw(`update run set rung_at = now() where id in
		(select run from (select run, row_number() over (partition by key order by rank, run) n
			from (`+queue+`) q where key in ?) q
		 where n <= 2 or exists (select 1 from hold h where h.run = q.run))
		and owner is null and rung_at is null and ended_at is null and quarantined_at is null returning id`, keys))
}

// Waiting lists, by key, the runs that wait for what a run holds, the first first.
func (s *Store) Waiting(ctx context.Context, run string) ([]string, error) {
	var out []string
	err := s.gorm.WithContext(ctx).
		Raw("select q.run from ("+queue+") q join hold h on h.key = q.key where h.run = ? order by q.rank, q.run", run).
		Scan(&out).
		Error
	return out, err
}
