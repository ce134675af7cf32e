package store

import (
	"context"
	"fmt"
	"time"
)

// PoisonAt is how often an instance may die with the same thing in hand before that is quarantined.
const PoisonAt = 2

// dead are the instances that ended without taking their leave, or are about to be found dead.
const dead = "(fenced_at is not null and reported_at is null or fenced_at is null and beat_at < now() - interval '3 " +
	"seconds')"

// Suspect marks, on disk, what an instance takes in hand, and tells how many others died with it in hand. One that
// lives and could not take its mark back, because the database was away, proves nothing.
// It is called only after an unclean end; Cleared takes the mark back.
func (s *Store) Suspect(ctx context.Context, kind, ref, instance string) (deaths int, err error) {
	err = s.unflushed(ctx, func(tx *Tx) error {
		mark := `insert into suspect (kind, ref, instance) values (?, ?, ?)
			on conflict (kind, ref, instance) do update set at = now()`
		if err := tx.run(mark, kind, ref, instance); err != nil {
			return err
		}
		deaths, err = one[int](tx, `select count(*) from suspect s join instance i on i.id = s.instance
			where s.kind = ? and s.ref = ? and i.id <> ? and `+dead, kind, ref, instance)
		return err
	})
	if err != nil {
		return 0, fmt.Errorf("mark what is taken in hand: %w", err)
	}
	return deaths, nil
}

// Cleared says that what was taken in hand did no harm.
func (s *Store) Cleared(ctx context.Context, kind, ref string) error {
	return s.unflushed(ctx, func(tx *Tx) error {
		return tx.run("delete from suspect where kind = ? and ref = ?", kind, ref)
	})
}

// unflushed commits without waiting for the disk: what it writes outlives this program, which is all that a mark must,
// though not the database's own end.
func (s *Store) unflushed(ctx context.Context, f func(tx *Tx) error) error {
	return s.Tx(ctx, func(tx *Tx) error {
		if err := tx.run("set local synchronous_commit = off"); err != nil {
			return err
		}
		return f(tx)
	})
}

// Unclean reports whether an instance died lately without taking its leave, or is about to be found dead.
func (s *Store) Unclean(ctx context.Context, within time.Duration) (bool, error) {
	var yes bool
	err := s.gorm.WithContext(ctx).
		Raw("select exists (select 1 from instance where "+dead+" and coalesce(fenced_at, now()) > now() - ? * "+
			"interval '1 second')", within.Seconds()).
		Scan(&yes).
		Error
	return yes, err
}

// Quarantine takes a run that this instance owns out of all hands, until Release.
func (tx *Tx) Quarantine(r *Run, because string) (bool, error) {
	res := tx.db.Exec(
		`update run set owner = null, rung_at = null, quarantined_at = now(), state = 'waiting',
			waits_on = 'quarantined', because = ?
		where id = ? and owner = ? and epoch = ?`,
		because,
		r.ID,
		*r.Owner,
		r.Epoch,
	)
	return res.RowsAffected == 1, res.Error
}

// Release lets a run that was quarantined go on, and rings for it. It reports false for one that was not.
func (tx *Tx) Release(run string) (bool, error) {
	res := tx.db.Exec(
		"update run set quarantined_at = null, state = 'running', waits_on = '', because = '', rung_at = now() where "+
			"id = ? and quarantined_at is not null and ended_at is null",
		run,
	)
	if res.Error != nil || res.RowsAffected == 0 {
		return false, res.Error
	}
	if err := tx.db.Exec("delete from suspect where kind = 'run' and ref = ?", run).Error; err != nil {
		return false, err
	}
	return true, tx.Enqueue(Doorbell{run})
}
