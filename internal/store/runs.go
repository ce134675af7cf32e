package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"urgentis/core/access"
	"urgentis/core/flow"
)

// ErrClaimLost says that a run is no longer this instance's to drive.
var ErrClaimLost = errors.New("the claim on the run was lost")

// ErrMoved says that somebody appended to the log meanwhile: read on and decide anew.
var ErrMoved = errors.New("the log has moved on")

// Claimed is a run that was just taken.
type Claimed struct {
	Run
	PutBackAt time.Time // when the database was last put back to an older state; zero where it never was
	Log       []Event   `gorm:"-"` // all of it; nil where it is still to be read
	Timed     bool      `gorm:"-"` // whether a timer may be set for it
}

// claimed is what a claim returns.
const claimed = "returning *, (select at from setting where key = 'put_back') as put_back_at"

// Claim takes a run that was rung for and that nobody owns. It returns nil where somebody does, where another bell for
// it was answered, where the run is over, or where it was begun under rules that this program does not know: its bell
// stays out until a newer instance answers.
func (s *Store) Claim(ctx context.Context, run, owner string) (*Claimed, error) {
	rows, err := scan[Claimed](s.In(ctx), `update run set owner = ?, epoch = epoch + 1, rung_at = null
		where id = ? and owner is null and rung_at is not null and ended_at is null and quarantined_at is null
			and rules <= ? `+claimed,
		owner, run, flow.Rules)
	if err != nil || len(rows) == 0 {
		return nil, err
	}
	rows[0].Timed = true
	return &rows[0], nil
}

// Log reads a run's log from after a sequence number.
func (s *Store) Log(ctx context.Context, run string, after int64) ([]flow.Event, error) {
	return s.In(ctx).Log(run, after)
}

// Log reads a run's log from after a sequence number.
func (tx *Tx) Log(run string, after int64) ([]flow.Event, error) {
	var rows []Event
	if err := tx.db.Where("run = ? and seq > ?", run, after).Order("seq").Find(&rows).Error; err != nil {
		return nil, fmt.Errorf("read the log of run %s: %w", run, err)
	}
	return Decoded(rows)
}

// Decoded is the log that rows tell.
func Decoded(rows []Event) ([]flow.Event, error) {
	out := make([]flow.Event, len(rows))
	for i, r := range rows {
		b, err := flow.Decode(r.Kind, []byte(r.Body))
		if err != nil {
			return nil, err
		}
		out[i] = flow.Event{Seq: r.Seq, At: r.At.UTC(), Place: flow.PlaceOf(r.Path), Body: b}
	}
	return out, nil
}

// RowOf is an event of a run as it is kept.
func RowOf(run string, e flow.Event) (Event, error) {
	body, err := json.Marshal(e.Body)
	if err != nil {
		return Event{}, fmt.Errorf("write event %s: %w", e.Body.Kind(), err)
	}
	return Event{Run: run, Seq: e.Seq, At: e.At, Path: e.Place.String(), Kind: e.Body.Kind(), Body: string(body)}, nil
}

// shortLog and smallLog are up to how many events and bytes a log is read together with those of others.
const (
	shortLog = 50
	smallLog = 64 << 10
)

// readShort reads the logs of runs that this transaction has just taken, where they are short.
func (tx *Tx) readShort(runs []Claimed) error {
	at := map[string]*Claimed{}
	var ids []string
	for i, r := range runs {
		if r.Version <= shortLog {
			at[r.ID], ids = &runs[i], append(ids, r.ID)
		}
	}
	if len(ids) == 0 {
		return nil
	}
	rows, err := list[Event](tx, "run, seq", `run in (select run from event where run in ? group by run
		having sum(octet_length(body)) <= ?)`, ids, smallLog)
	if err != nil {
		return fmt.Errorf("read the logs of runs that are due: %w", err)
	}
	for _, row := range rows {
		at[row.Run].Log = append(at[row.Run].Log, row)
	}
	return nil
}

// addEvents takes in events under the numbers they carry.
func addEvents(b *Bulk, run string, events []flow.Event) error {
	rows := make([]Event, len(events))
	for i, e := range events {
		var err error
		if rows[i], err = RowOf(run, e); err != nil {
			return err
		}
	}
	return Add(b, rows)
}

// Head is what a run's row tells of its log.
type Head struct {
	State, WaitsOn, Because, Awaits string
	EndedAt                         *time.Time
}

// Append raises the version of a run that this instance owns, at the version that was seen, and takes in the events
// of its log: both hold once the bulk is written. With park, the claim is given back in the same statement. The
// events carry their numbers. It gives where the database's log is by then; see LogMark.
func (b *Bulk) Append(r *Run, events []flow.Event, park bool, h Head) (LogMark, error) {
	set := "version = version + ?, state = ?, waits_on = ?, because = ?, ended_at = ?, awaits = ?"
	if park {
		set += ", owner = null, rung_at = null"
	}
	marks, err := scan[LogMark](
		b.tx, "update run set "+set+" where id = ? and owner = ? and epoch = ? and version = ? returning "+markNow,
		len(events), h.State, h.WaitsOn, h.Because, h.EndedAt, h.Awaits, r.ID, *r.Owner, r.Epoch, r.Version,
	)
	if err != nil {
		return LogMark{}, err
	}
	if len(marks) == 0 {
		return LogMark{}, ErrMoved
	}
	return marks[0], addEvents(b, r.ID, events)
}

// ErrPutBack says that the database knows less of a run than was written there.
var ErrPutBack = errors.New("the database was put back to an older state")

// Owns reports whether this instance still owns the run.
func (s *Store) Owns(ctx context.Context, r *Run) (bool, error) {
	var now Run
	err := s.gorm.WithContext(ctx).Where("id = ?", r.ID).Take(&now).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return false, nil // a database that was restored does not know it any more
	}
	if err != nil {
		return false, err
	}
	if now.Version < r.Version {
		return false, ErrPutBack
	}
	return now.Owner != nil && *now.Owner == *r.Owner && now.Epoch == r.Epoch, nil
}

// Speak appends events to a run without owning it, and rings if nobody drives it and no bell is out.
// The run's row must be locked by the transaction; the events are written with the bulk.
func (b *Bulk) Speak(r *Run, events []flow.Event, h Head) error {
	for i := range events {
		events[i].Seq = r.Version + int64(i) + 1
	}
	if err := addEvents(b, r.ID, events); err != nil {
		return err
	}
	if r.EndedAt != nil || r.QuarantinedAt != nil {
		// A late fact of a run that is over decides nothing and revives nothing; one that is quarantined hears it
		// later.
		return b.tx.db.Exec("update run set version = version + ? where id = ?", len(events), r.ID).Error
	}
	ring := r.Owner == nil && r.RungAt == nil
	set := "version = version + ?, state = ?, waits_on = ?, because = ?, ended_at = ?, awaits = ?"
	if ring {
		set += ", rung_at = now()"
	}
	if err := b.tx.db.Exec("update run set "+set+" where id = ?", len(events), h.State, h.WaitsOn, h.Because, h.EndedAt,
		h.Awaits, r.ID).Error; err != nil {
		return err
	}
	if ring {
		return b.tx.Enqueue(Doorbell{r.ID})
	}
	return nil
}

// Lock reads a run's row and keeps it until the end of the transaction.
func (tx *Tx) Lock(run string) (*Run, error) {
	var r Run
	err := tx.db.Clauses(clause.Locking{Strength: "UPDATE"}).Where("id = ?", run).Take(&r).Error
	return &r, err
}

// AddRuns takes in new runs with the first event of each. Somebody must ring for those that have no owner.
func AddRuns(b *Bulk, runs []Run, begun []flow.Event) error {
	now := b.tx.Time()
	events := make([]Event, len(runs))
	for i := range runs {
		runs[i].Version, runs[i].State, runs[i].Rules = 1, flow.Running, flow.Rules
		if runs[i].Owner == nil {
			runs[i].RungAt = &now
		} else {
			runs[i].Epoch = 1
		}
		var err error
		if events[i], err = RowOf(runs[i].ID, begun[i]); err != nil {
			return err
		}
	}
	if err := Add(b, runs); err != nil {
		return err
	}
	return Add(b, events)
}

// SetTimer makes a run due at a time; a zero time takes its timer away.
func (tx *Tx) SetTimer(run string, after *time.Duration) error {
	if after == nil {
		return tx.db.Exec("delete from timer where run = ?", run).Error
	}
	return tx.db.Exec(
		"insert into timer (run, due) values (?, clock_timestamp() + ? * interval '1 second') on conflict (run) do "+
			"update set due = excluded.due",
		run,
		after.Seconds(),
	).Error
}

// ClaimDue takes up to most due timers, and the runs that wait for them, for an owner who drives them at once, with
// their logs where these are short. Runs of rules that this program does not know are left to a newer one. It returns
// how late each timer was taken, and when the next is due by the database's clock; zero without one.
func (s *Store) ClaimDue(
	ctx context.Context,
	owner string,
	most int,
) (runs []Claimed, late []time.Duration, next time.Duration, err error) {
	err = s.Tx(ctx, func(tx *Tx) error {
		type taken struct {
			Run  string
			Late float64
		}
		found, err := scan[taken](
			tx,
			`delete from timer where run in (select t.run from timer t join run r on r.id = t.run
			where t.due <= now() and r.rules <= ? order by t.due limit ? for update of t skip locked)
				returning run, extract(epoch from now() - due) as late`,
			flow.Rules,
			most,
		)
		if err != nil {
			return err
		}
		due := make([]string, len(found))
		for i, t := range found {
			due[i] = t.Run
			late = append(late, time.Duration(t.Late*float64(time.Second)))
		}
		if len(due) > 0 {
			runs, err = scan[Claimed](tx, `update run set owner = ?, epoch = epoch + 1 where id in ? and owner is null
				and rung_at is null and ended_at is null and quarantined_at is null `+claimed, owner, due)
			if err != nil {
				return err
			}
			if err := tx.readShort(runs); err != nil {
				return err
			}
		}
		next, err = tx.until("select extract(epoch from min(due) - now()) from timer")
		return err
	})
	return runs, late, next, err
}

func (tx *Tx) ring(ids *gorm.DB) error {
	var rung []string
	if err := ids.Scan(&rung).Error; err != nil {
		return err
	}
	jobs := make([]Job, len(rung))
	for i, id := range rung {
		jobs[i] = Doorbell{id}
	}
	return tx.Enqueue(jobs...)
}

// WhichRuns narrows a list of runs; what is "" or 0 narrows nothing.
type WhichRuns struct {
	Active           bool // only those that are not over
	Left             bool // only those that left something to people which is not done with
	Runbook, Service string
	State, By        string // By is who or what started it
	Incident         int64
	// Text is searched in what it was begun with, as people write it: words, "phrases", or, -without.
	Text string
	// Input is one of its inputs, as name=value.
	Input string
	// From and To bound when it was started.
	From, To *time.Time
}

// begunWith are the conditions on what a run was begun with; its first event says it.
func (w WhichRuns) begunWith(where string, args []any) (string, []any) {
	const first = " and id in (select e.run from event e where e.seq = 1 and "
	if w.Text != "" {
		where += first + `jsonb_to_tsvector('simple', begun_with(e.body), '["string", "numeric", "boolean"]')
			@@ websearch_to_tsquery('simple', ?))`
		args = append(args, w.Text)
	}
	if name, value, ok := strings.Cut(w.Input, "="); ok {
		where += first + "(begun_with(e.body) -> 'inputs' @> ?::jsonb or begun_with(e.body) -> 'inputs' @> ?::jsonb))"
		args = append(args, inputIs(name, value, false), inputIs(name, value, true))
	}
	if w.From != nil {
		where, args = where+" and begun_at >= ?", append(args, *w.From)
	}
	if w.To != nil {
		where, args = where+" and begun_at < ?", append(args, *w.To)
	}
	return where, args
}

// inputIs is an input as JSON: as text, or as the number or truth value that its text writes, if it writes one.
func inputIs(name, value string, typed bool) string {
	var v any = value
	var scalar any
	if typed && json.Unmarshal([]byte(value), &scalar) == nil {
		switch scalar.(type) {
		case float64, bool:
			v = json.RawMessage(value)
		}
	}
	b, err := json.Marshal(map[string]any{name: v})
	if err != nil {
		panic(err) // texts and JSON are always JSON
	}
	return string(b)
}

// Runs lists runs, newest first.
func (tx *Tx) Runs(s access.Scope, which WhichRuns, from Place, most int) ([]Run, error) {
	where, args := from.after("begun_at")
	if which.Active {
		where += " and ended_at is null"
	}
	if which.Left {
		where += " and exists (select from hand_over h where h.run = run.id and h.settled_at is null)"
	}
	where, args = and(where, args, "runbook", which.Runbook)
	where, args = and(where, args, "service", which.Service)
	where, args = and(where, args, "state", which.State)
	where, args = and(where, args, "started_by", which.By)
	where, args = which.begunWith(where, args)
	if which.Incident != 0 {
		where, args = where+" and incident = ?", append(args, which.Incident)
	}
	where, args = within(s, where, args)
	var out []Run
	err := tx.db.Order("begun_at desc, id").Where(where, args...).Limit(most).Find(&out).Error
	return out, err
}

// Run reads the head of a run.
func (tx *Tx) Run(id string) (*Run, error) { return take[Run](tx, "id = ?", id) }

// RunsOf lists the runs of an incident, oldest first.
func (tx *Tx) RunsOf(incident int64) ([]Run, error) {
	return list[Run](tx, "begun_at", "incident = ?", incident)
}

// OverOf lists the newest runs of a runbook that are over; not those in which one change of it was tried alone.
func (tx *Tx) OverOf(runbook string, most int) ([]Run, error) {
	var out []Run
	err := tx.db.Order("begun_at desc").
		Where("runbook = ? and ended_at is not null and revision not in (select revision from alone)", runbook).
		Limit(most).
		Find(&out).
		Error
	return out, err
}

// HaltedRuns lists the runs that wait because all is halted.
func (tx *Tx) HaltedRuns() ([]string, error) {
	return scan[string](tx, "select id from run where waits_on = 'halt' and ended_at is null order by id")
}

// RunsOfAlert lists the runs that an alert started and that are not over.
func (tx *Tx) RunsOfAlert(alert string) ([]string, error) {
	return scan[string](tx, "select id from run where alert = ? and ended_at is null order by id", alert)
}

// EndUnparsed ends a run that this instance owns without its log, which it cannot go on with. It reports false where
// the run is no longer its own.
func (tx *Tx) EndUnparsed(r *Run, because string) (bool, error) {
	n, err := tx.exec(
		`update run set owner = null, rung_at = null, state = ?, because = ?, waits_on = '', ended_at = now()
		where id = ? and owner = ? and epoch = ?`,
		flow.StateFail,
		because,
		r.ID,
		*r.Owner,
		r.Epoch,
	)
	return n > 0, err
}

// CancelQuarantined cancels a run that was quarantined: nobody plans it any more.
func (tx *Tx) CancelQuarantined(run, because string) error {
	return tx.run(
		"update run set state = 'cancelled', waits_on = '', because = ?, ended_at = now() where id = ?",
		because,
		run,
	)
}

// SetIncident notes to which incident a run belongs from now on.
func (tx *Tx) SetIncident(run string, incident int64) error {
	return tx.run("update run set incident = ? where id = ?", incident, run)
}
