package store

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
)

// connectTime is how long a beat waits for a connection of its own.
const connectTime = time.Second

// Lease is how long an instance counts as alive after its last beat.
const Lease = 5 * time.Second

// Register enters a new instance.
func (s *Store) Register(ctx context.Context, i Instance) error {
	return s.gorm.WithContext(ctx).
		Exec("insert into instance (id, host, pid, version, boot, begun_ticks) values (?, ?, ?, ?, ?, "+
			"?)", i.ID, i.Host, i.PID, i.Version, i.Boot, i.BegunTicks).
		Error
}

// Pulse is a connection for beats alone: they must not wait for those who use up the others. It is used by one
// goroutine.
type Pulse struct {
	s    *Store
	conn *pgx.Conn
}

// Pulse makes one; it connects with the first beat.
func (s *Store) Pulse() *Pulse { return &Pulse{s: s} }

// Connect sees to it that the next beat has a connection of its own. Where the database gives no more of them, beats
// borrow one of the others.
func (p *Pulse) Connect(ctx context.Context) {
	if p.conn != nil && !p.conn.IsClosed() {
		return
	}
	p.conn = nil
	ctx, cancel := context.WithTimeout(ctx, connectTime)
	defer cancel()
	if conn, err := pgx.ConnectConfig(ctx, p.s.Pool.Config().ConnConfig.Copy()); err == nil {
		p.conn = conn
	}
}

// LogMark is a place in the log of one server of the database, in bytes. Where a transaction that wrote read it, the
// database has kept all that is before it once the transaction is answered, and so has whoever it waits for.
type LogMark struct {
	Began time.Time // when the server began
	At    int64
}

const markNow = "pg_postmaster_start_time() as began, (pg_current_wal_insert_lsn() - '0/0')::bigint as at"

// Answer is what the database says to a beat.
type Answer struct {
	Alive bool      // the instance was not fenced meanwhile
	Now   time.Time // by the database
	Mark  LogMark
}

// ErrOtherServer says that a beat met another server than it was meant for; it does not count.
var ErrOtherServer = errors.New("the database's server began anew")

// Beat says that an instance is alive, and how far its machine's clock is off, to the server that began at a time; a
// zero time is any.
func (p *Pulse) Beat(ctx context.Context, id string, skew time.Duration, began time.Time) (h Answer, err error) {
	err = p.ask(ctx, `with beat as (update instance set beat_at = now(), beats = beats + 1, skew_ms = $2
		where id = $1 and fenced_at is null and ($3 or pg_postmaster_start_time() = $4) returning 1)
		select exists (select 1 from beat), clock_timestamp(), `+markNow,
		[]any{id, skew.Milliseconds(), began.IsZero(), began}, &h.Alive, &h.Now, &h.Mark.Began, &h.Mark.At)
	if err == nil && !began.IsZero() && !h.Mark.Began.Equal(began) {
		err = ErrOtherServer
	}
	return h, err
}

// Server is what tells whether the database's server goes on where another stopped: where its log is, and from where on
// it wrote, where it recovered as it began.
type Server struct {
	LogMark
	Start int64
}

// Server tells it of the one that answers now.
func (p *Pulse) Server(ctx context.Context) (v Server, err error) {
	err = p.ask(ctx, "select "+markNow+", (redo_lsn - '0/0')::bigint from pg_control_checkpoint()", nil,
		&v.Began, &v.At, &v.Start)
	return v, err
}

func (p *Pulse) ask(ctx context.Context, sql string, args []any, into ...any) error {
	p.Connect(ctx)
	query := p.s.Pool.QueryRow
	if p.conn != nil {
		query = p.conn.QueryRow
	}
	err := query(ctx, sql, args...).Scan(into...)
	if err != nil {
		p.Close()
	}
	return err
}

// Close ends the connection.
func (p *Pulse) Close() {
	if p.conn == nil {
		return
	}
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	p.conn.Close(ctx) //nolint:errcheck // the server notices
	p.conn = nil
}

// Depart takes an instance off the list and gives back what it owned.
func (s *Store) Depart(ctx context.Context, id string) error {
	return s.Tx(ctx, func(tx *Tx) error {
		if err := tx.db.Exec("update instance set fenced_at = now(), reported_at = now() where id = "+
			"?", id).Error; err != nil {
			return err
		}
		return tx.free()
	})
}

// Beating gives how often each instance has beaten that is not taken for dead.
func (s *Store) Beating(ctx context.Context) (map[string]int64, error) {
	var rows []Instance
	err := s.gorm.WithContext(ctx).Select("id", "beats").Where("fenced_at is null").Find(&rows).Error
	out := make(map[string]int64, len(rows))
	for _, r := range rows {
		out[r.ID] = r.Beats
	}
	return out, err
}

// Fence takes an instance for dead whose count of beats stood still for a lease, by the caller's own time. It reports
// false where it has beaten after all. Only an instance that beat a whole lease unbroken may call it.
func (s *Store) Fence(ctx context.Context, id string, beats int64) (bool, error) {
	res := s.gorm.WithContext(ctx).
		Exec("update instance set fenced_at = now() where id = ? and beats = ? and fenced_at is null", id, beats)
	return res.RowsAffected > 0, res.Error
}

// Touching is whether a change may leave an instance now.
type Touching struct {
	Claimed  bool // the instance may begin changes, and has the run as it knows it
	Halted   bool
	HaltedBy string
	// Unheard says that the database's server began anew, and that not every instance that may know more than it was
	// heard since.
	Unheard bool
}

// unheard: an instance that may know that the database was put back to an older state was not heard since its server
// began.
const unheard = "exists (select 1 from instance where fenced_at is null and beat_at < pg_postmaster_start_time())"

// MayBeOlder reports whether the database may have been put back to an older state unnoticed: what stands in it as to
// be done may have been done.
func (tx *Tx) MayBeOlder() (bool, error) { return one[bool](tx, "select "+unheard) }

// MayTouch tells it, at one moment, for a run of which the instance has the log up to its version.
func (tx *Tx) MayTouch(r *Run) (Touching, error) {
	var t Touching
	err := tx.db.Raw(`select
		exists (select 1 from instance where id = ? and fenced_at is null) and exists
			(select 1 from run where id = ? and owner = ? and epoch = ? and version >= ?) as claimed,
		exists (select 1 from setting where key = 'halted' and value = 'true') as halted,
		coalesce((select by from setting where key = 'halted'), '') as halted_by,
		`+unheard+` as unheard`,
		*r.Owner, r.ID, *r.Owner, r.Epoch, r.Version).Scan(&t).Error
	return t, err
}

// PutBack notes that the database was put back to an older state: everything is halted by somebody's name, the instance
// that saw it counts as dead, so that nothing goes on by what it remembers, what is to be sent may have been sent, and
// the numbers of incidents leave a gap of a thousand. It reports false where that was noted since the server began.
func (tx *Tx) PutBack(instance, by string) (bool, error) {
	n, err := tx.exec(`insert into setting (key, value, by) values ('put_back', pg_postmaster_start_time()::text, ?)
		on conflict (key) do update set value = excluded.value, by = excluded.by, at = now()
		where setting.value <> excluded.value`, by)
	if err == nil && n > 0 {
		err = tx.SetHalted(true, by)
	}
	if err == nil && n > 0 {
		err = tx.doubtSent()
	}
	if err == nil && n > 0 { // no number that was told to anybody names another incident
		err = tx.run("select setval('incident_number_seq', (select last_value from incident_number_seq) + 1000)")
	}
	if err == nil {
		err = tx.db.Exec("update instance set fenced_at = now() where id = ? and fenced_at is null", instance).Error
	}
	return n > 0, err
}

// PutBackAt is when the database was last put back to an older state; zero where it never was.
func (tx *Tx) PutBackAt() (time.Time, error) {
	at, err := scan[time.Time](tx, "select at from setting where key = 'put_back'")
	if err != nil || len(at) == 0 {
		return time.Time{}, err
	}
	return at[0].UTC(), nil
}

// Sweep frees the runs of fenced instances, gives back what runs held until something landed, and rings anew where a
// bell was not answered for 3 s. Only an instance that beat a whole lease unbroken may call it.
func (s *Store) Sweep(ctx context.Context) error {
	return s.Tx(ctx, func(tx *Tx) error {
		if err := tx.free(); err != nil {
			return err
		}
		if err := tx.sweepLanded(); err != nil {
			return err
		}
		return tx.ring(tx.db.Raw(`update run set rung_at = now() where id in
			(select id from run where owner is null and ended_at is null and quarantined_at is null and rung_at
				< now() - interval '3 seconds' limit 500 for update skip locked) returning id`))
	})
}

// GatherStatistics gathers the planner's statistics of tables that have outgrown what is known of them. Statements
// planned while a table was empty stay slow otherwise, until the database looks at it by itself a minute later.
func (s *Store) GatherStatistics(ctx context.Context) error {
	var tables []string
	err := s.gorm.WithContext(ctx).
		Raw(`select quote_ident(s.relname) from pg_stat_user_tables s join pg_class c on c.oid = s.relid
		where s.schemaname = current_schema() and s.n_live_tup > 500 and c.reltuples < s.n_live_tup / 10 limit 20`).
		Scan(&tables).
		Error
	if err != nil {
		return fmt.Errorf("find tables without statistics: %w", err)
	}
	for _, t := range tables {
		if err := s.gorm.WithContext(ctx).Exec("analyze " + t).Error; err != nil {
			return fmt.Errorf("gather statistics of %s: %w", t, err)
		}
	}
	return nil
}

func (tx *Tx) free() error {
	return tx.ring(tx.db.Raw(`update run set owner = null, rung_at = now() where id in
		(select id from run where owner is not null and not exists (select 1 from instance i
			where i.id = run.owner and i.fenced_at is null)
		 limit 500 for update skip locked) returning id`))
}

// OwnedBy gives the runs that an instance owns, each with the version that its log stands at.
func (s *Store) OwnedBy(ctx context.Context, id string) (map[string]int64, error) {
	var rows []Run
	err := s.gorm.WithContext(ctx).Raw("select id, version from run where owner = ?", id).Scan(&rows).Error
	out := make(map[string]int64, len(rows))
	for _, r := range rows {
		out[r.ID] = r.Version
	}
	return out, err
}

// Reported says that an instance that was taken for dead has nothing under way any more.
func (s *Store) Reported(ctx context.Context, id string) error {
	return s.gorm.WithContext(ctx).Exec("update instance set reported_at = now() where id = ?", id).Error
}

// Fenced lists instances that were taken for dead, have not reported, and are not known to be gone.
func (s *Store) Fenced(ctx context.Context) ([]Instance, error) {
	var out []Instance
	err := s.gorm.WithContext(ctx).
		Where("fenced_at is not null and reported_at is null and gone_at is null").
		Find(&out).
		Error
	return out, err
}

// Gone says that an instance is gone: seen by another one, or said by a person.
func (tx *Tx) Gone(id, by string) (bool, error) {
	hosts, err := scan[string](
		tx,
		`update instance set gone_at = now(), gone_by = ?, fenced_at = coalesce(fenced_at, now())
		where id = ? and gone_at is null returning host`,
		by,
		id,
	)
	if err != nil || len(hosts) == 0 {
		return false, err
	}
	if err := tx.freeDeliveries(id); err != nil {
		return true, err
	}
	return true, tx.Audit(by, "instance.gone", id, hosts[0])
}

// MayBegin reports whether an instance may still begin what it intended: it was taken for dead, and has neither
// reported nor is it gone. An instance that nobody knows any more may not.
func (tx *Tx) MayBegin(id string) (bool, string, error) {
	var rows []Instance
	if err := tx.db.Where("id = ? and reported_at is null and gone_at is null", id).Find(&rows).Error; err != nil ||
		len(rows) == 0 {
		return false, "", err
	}
	return true, rows[0].Host, nil
}

// GiveBack frees a run that this instance owns without driving it.
func (s *Store) GiveBack(ctx context.Context, run, owner string) error {
	return s.Tx(ctx, func(tx *Tx) error {
		return tx.ring(
			tx.db.Raw(
				"update run set owner = null, rung_at = now() where id = ? and owner = ? and ended_at is null "+
					"returning id",
				run,
				owner,
			),
		)
	})
}

// Halted tells whether all changes are stopped, and by whom. With a transaction, it stays so until its end.
func (tx *Tx) Halted() (bool, string, error) {
	var rows []struct{ Value, By string }
	err := tx.db.Raw("select value, by from setting where key = 'halted' for share").Scan(&rows).Error
	if err != nil || len(rows) == 0 {
		return false, "", err
	}
	return rows[0].Value == "true", rows[0].By, nil
}

// SetHalted stops all changes, or lets them go on.
func (tx *Tx) SetHalted(halted bool, by string) error {
	value := "false"
	if halted {
		value = "true"
	}
	return tx.db.Exec(`insert into setting (key, value, by) values ('halted', ?, ?)
		on conflict (key) do update set value = excluded.value, by = excluded.by, at = now()`, value, by).Error
}

// Instances lists the instances that beat within a week, the newest first, at most 200.
func (tx *Tx) Instances() ([]Instance, error) {
	var out []Instance
	err := tx.db.Order("begun_at desc").Where("beat_at > now() - interval '7 days'").Limit(200).Find(&out).Error
	return out, err
}

// Instance reads an instance.
func (tx *Tx) Instance(id string) (*Instance, error) { return take[Instance](tx, "id = ?", id) }
