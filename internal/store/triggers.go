package store

import (
	"errors"
	"fmt"
	"time"

	"gorm.io/gorm/clause"
)

// SwitchedOff is a trigger that a person switched off.
type SwitchedOff struct {
	Runbook string `gorm:"primaryKey"`
	Start   string `gorm:"primaryKey"`
	By      string
	Because string
	At      time.Time
}

// SwitchedOff lists the triggers that are switched off.
func (tx *Tx) SwitchedOff() ([]SwitchedOff, error) {
	return list[SwitchedOff](tx, "runbook, start", "true")
}

// SwitchOff switches a trigger off.
func (tx *Tx) SwitchOff(s SwitchedOff) error {
	s.At = tx.Time()
	return tx.db.Clauses(clause.OnConflict{UpdateAll: true}).Create(&s).Error
}

// SwitchOn switches a trigger on again; it reports whether it was off.
func (tx *Tx) SwitchOn(runbook, start string) (bool, error) {
	n, err := tx.exec("delete from switched_off where runbook = ? and start = ?", runbook, start)
	return n > 0, err
}

// What came of an occasion.
const (
	FiredStarted = "started"
	FiredDropped = "dropped" // it waited, and what it waited for did not come to be
	FiredHeld    = "held"    // until the alert stayed so, or enough occasions came
	FiredBack    = "back"    // held back: switched off, outside its hours, muted, not enough yet
	FiredRefused = "refused" // the runbook could not begin
	FiredAlready = "already" // a run for the same is under way
)

// Firing is one occasion of a trigger, and what came of it.
type Firing struct {
	ID       int64
	Runbook  string
	Start    string
	At       time.Time
	Alert    string
	Incident *int64
	Run      string
	Result   string
	Why      string
	Payload  string
	// Once names what a run is for; a second one for the same is not begun while it is under way.
	Once string
}

// Firings lists what came of a trigger's occasions, newest first, before one (0: from the newest).
func (tx *Tx) Firings(runbook, start string, before int64, most int) ([]Firing, error) {
	return scan[Firing](tx, `select * from firing where runbook = ? and start = ? and (? = 0 or id < ?)
		order by id desc limit ?`, runbook, start, before, before, most)
}

// Firing reads one firing of a trigger.
func (tx *Tx) Firing(runbook, start string, id int64) (*Firing, error) {
	return only(scan[Firing](tx, "select * from firing where id = ? and runbook = ? and start = ?", id, runbook, start))
}

// LastFirings gives for each trigger that an alert was an occasion of the last one that began a run, and the last one
// that came to anything else.
func (tx *Tx) LastFirings(alert string) ([]Firing, error) {
	return scan[Firing](tx, `select distinct on (runbook, start, result = 'started') * from firing where alert = ?
		order by runbook, start, result = 'started', id desc`, alert)
}

// UnderWay finds the newest run that is under way in an incident, by what it is for; nil without one.
func (tx *Tx) UnderWay(incident int64, once string) (*Firing, error) {
	rows, err := scan[Firing](tx, `select f.* from firing f join run r on r.id = f.run
		where f.incident = ? and f.once = ? and f.result = 'started' and r.ended_at is null order by f.id desc limit 1`,
		incident, once)
	if err != nil || len(rows) == 0 {
		return nil, err
	}
	return &rows[0], nil
}

// Lately is how often a trigger came to each result in a day.
type Lately struct {
	Runbook, Start, Result string
	N                      int64
	LastAt                 time.Time
}

// Lately counts what came of triggers in the last day.
func (tx *Tx) Lately() ([]Lately, error) {
	return scan[Lately](tx, `select runbook, start, result, count(*) as n, max(at) as last_at from firing
		where at > now() - interval '1 day' group by runbook, start, result`)
}

// CountOccasion counts an occasion of a trigger, and gives how many there were within a time; once there are enough,
// counting begins anew.
func (tx *Tx) CountOccasion(
	runbook, start string,
	within time.Duration,
	now time.Time,
	times, enough int,
) (int, error) {
	if err := tx.alone(aloneStarts, "starts"); err != nil {
		return 0, err
	}
	if err := tx.run("insert into occasion (runbook, start, at, times) values (?, ?, ?, ?)", runbook, start, now,
		times); err != nil {
		return 0, err
	}
	n, err := one[int](tx, `select coalesce(sum(times), 0) from occasion where runbook = ? and start = ? and at > ?`,
		runbook, start, now.Add(-within))
	if err != nil || n < enough {
		return n, err
	}
	return n, tx.run("delete from occasion where runbook = ? and start = ?", runbook, start)
}

// Due is when a schedule is due next.
type Due struct {
	Runbook string `gorm:"primaryKey"`
	Start   string `gorm:"primaryKey"`
	Spec    string
	NextAt  time.Time
	LastAt  *time.Time
}

// Dues lists when schedules are due.
func (tx *Tx) Dues() ([]Due, error) { return list[Due](tx, "runbook, start", "true") }

// TakeDue gives the schedules that are due, so that no other instance takes them until the end of the transaction.
func (tx *Tx) TakeDue(now time.Time, most int) ([]Due, error) {
	return scan[Due](
		tx,
		`select * from due where next_at <= ? order by next_at limit ? for update skip locked`,
		now,
		most,
	)
}

// SetDue notes when a schedule is due next. One of another spec is computed anew.
func (tx *Tx) SetDue(d *Due) error {
	return tx.run(`insert into due (runbook, start, spec, next_at, last_at) values (?, ?, ?, ?, ?)
		on conflict (runbook, start) do update set spec = excluded.spec, next_at = excluded.next_at,
			last_at = excluded.last_at`, d.Runbook, d.Start, d.Spec, d.NextAt, d.LastAt)
}

// AddDue notes when a schedule is due that is not known with its spec; two who add it at once agree.
func (tx *Tx) AddDue(d *Due) error {
	return tx.run(`insert into due (runbook, start, spec, next_at) values (?, ?, ?, ?)
		on conflict (runbook, start) do update set spec = excluded.spec, next_at = excluded.next_at, last_at = null
			where due.spec <> excluded.spec`, d.Runbook, d.Start, d.Spec, d.NextAt)
}

// DropDue forgets a schedule that there is no more.
func (tx *Tx) DropDue(runbook, start string) error {
	return tx.run("delete from due where runbook = ? and start = ?", runbook, start)
}

// StartKey is one key of a start address.
type StartKey struct {
	ID         string `gorm:"primaryKey"`
	Runbook    string
	Start      string
	Hash       []byte
	AddedBy    string
	AddedAt    time.Time
	EndsAt     time.Time
	LastUsedAt *time.Time
	WarnedAt   *time.Time
}

// AddStartKey adds a key of a start address. Those that are there end at once, or after keep.
func (tx *Tx) AddStartKey(k *StartKey, keep time.Duration) error {
	err := tx.run(`update start_key set ends_at = least(ends_at, now() + ? * interval '1 second')
		where runbook = ? and start = ? and ends_at > now()`, keep.Seconds(), k.Runbook, k.Start)
	if err != nil {
		return err
	}
	return tx.db.Create(k).Error
}

// StartKeys lists the keys of a start address that open it, newest first.
func (tx *Tx) StartKeys(runbook, start string) ([]StartKey, error) {
	return list[StartKey](tx, "added_at desc, id", "runbook = ? and start = ? and ends_at > now()", runbook, start)
}

// StartKeyOf finds the key with a hash; nil where none opens anything.
func (tx *Tx) StartKeyOf(hash []byte) (*StartKey, error) {
	k, err := take[StartKey](tx, "hash = ? and ends_at > now()", hash)
	if errors.Is(err, ErrNotFound) {
		return nil, nil
	}
	return k, err
}

// MarkStartKey notes that a key was used.
func (tx *Tx) MarkStartKey(id string) error {
	return tx.run("update start_key set last_used_at = now() where id = ?", id)
}

// EndStartKey ends a key now.
func (tx *Tx) EndStartKey(runbook, start, id string) error {
	n, err := tx.exec(`update start_key set ends_at = now() where runbook = ? and start = ? and id = ?
		and ends_at > now()`, runbook, start, id)
	if err == nil && n == 0 {
		err = ErrNotFound
	}
	return err
}

// ExpiringStartKeys takes keys that end within a time, are still used, have no newer one beside them, and whose owner
// was not warned yet.
func (tx *Tx) ExpiringStartKeys(within time.Duration) ([]StartKey, error) {
	return scan[StartKey](tx, `update start_key k set warned_at = now() where warned_at is null and ends_at > now()
		and ends_at < now() + ? * interval '1 second' and not exists (select from start_key n
			where n.runbook = k.runbook and n.start = k.start and n.ends_at > k.ends_at) returning *`, within.Seconds())
}

// Seen is a value that was seen in a field of alerts.
type Seen struct {
	Field string `gorm:"primaryKey"`
	Value string `gorm:"primaryKey"`
	At    time.Time
}

// mostSeen bounds how many values of a field are kept.
const mostSeen = 200

// NoteSeen keeps values that were seen; of each field the newest.
func (tx *Tx) NoteSeen(rows []Seen) error {
	if len(rows) == 0 {
		return nil
	}
	if err := tx.db.Clauses(clause.OnConflict{UpdateAll: true}).Create(&rows).Error; err != nil {
		return fmt.Errorf("note what was seen: %w", err)
	}
	return tx.run(`delete from seen where (field, value) in (select field, value from (
		select field, value, row_number() over (partition by field order by at desc, value) as n from seen) x
		where n > ?)`, mostSeen)
}

// SeenValues lists the values of a field, or with "" of all, the newest first.
func (tx *Tx) SeenValues(field string) ([]Seen, error) {
	return scan[Seen](tx, "select * from seen where ? = '' or field = ? order by field, at desc, value", field, field)
}
