package store

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"time"

	"gorm.io/gorm/clause"

	"urgentis/core/incident"
)

// NewEntry is an entry before it is sealed into the chain.
type NewEntry struct {
	At      time.Time
	Kind    incident.Kind
	Actor   string
	Run     string
	Step    string
	Title   string
	Content incident.Content // of the type that entries of the kind hold
}

// RecordWriter collects what one transaction writes into the records of incidents and into the feed, and
// writes each kind in one statement. Nothing is on its way before Flush.
type RecordWriter struct {
	tx       *Tx
	reserved []int64
	fresh    []*Incident
	known    map[int64]*Incident
	altered  []altered
	entries  []Entry
	feed     []Feed
	due      []string // of what it is judged again whether somebody must be called
	quiet    bool
}

// altered is an incident that is to be saved, and as it was.
type altered struct {
	*Incident
	was Incident
}

// unsearched are the fields that are searched where none of them was altered: to save one has the database take apart
// the words of all of them, which are many.
func (a altered) unsearched() []string {
	i, was := a.Incident, a.was
	if i.Title != was.Title || i.Outcome != was.Outcome || i.Because != was.Because || i.Service != was.Service ||
		i.Notes != was.Notes {
		return nil
	}
	return []string{"Title", "Outcome", "Because", "Service", "Notes"}
}

// NewRecordWriter begins to collect.
func NewRecordWriter(tx *Tx) *RecordWriter {
	return &RecordWriter{tx: tx, known: map[int64]*Incident{}}
}

// Reserve takes the numbers of incidents that are about to be opened.
func (r *RecordWriter) Reserve(n int) error {
	if n == 0 {
		return nil
	}
	return r.tx.db.Raw("select nextval(pg_get_serial_sequence('incident', 'number')) from generate_series(1, ?)", n).
		Scan(&r.reserved).
		Error
}

// Open opens an incident under the next number.
func (r *RecordWriter) Open(i *Incident) error {
	if len(r.reserved) == 0 {
		if err := r.Reserve(1); err != nil {
			return fmt.Errorf("open an incident: %w", err)
		}
	}
	i.Number, r.reserved = r.reserved[0], r.reserved[1:]
	r.fresh = append(r.fresh, i)
	r.known[i.Number] = i
	return nil
}

// Incident gives an incident that nobody else alters until the end of the transaction. What the caller
// sets on it is written by Flush.
func (r *RecordWriter) Incident(number int64) (*Incident, error) {
	if i := r.known[number]; i != nil {
		return i, nil
	}
	var i Incident
	if err := r.tx.db.Clauses(clause.Locking{Strength: "UPDATE"}).Where("number = ?",
		number).Take(&i).Error; err != nil {
		return nil, err
	}
	r.known[number] = &i
	r.altered = append(r.altered, altered{&i, i})
	return &i, nil
}

// Write seals entries into the record of an incident.
func (r *RecordWriter) Write(i *Incident, entries ...NewEntry) error {
	for _, n := range entries {
		if !n.Kind.Known() {
			return fmt.Errorf("an entry of kind %q, which nothing describes", n.Kind)
		}
		if !n.Kind.Holds(n.Content) {
			return fmt.Errorf("an entry of kind %q cannot hold %T", n.Kind, n.Content)
		}
		e := incident.Entry{
			Incident: strconv.FormatInt(i.Number, 10),
			Seq:      i.Entries + 1,
			At:       n.At,
			Kind:     n.Kind,
			Actor:    n.Actor,
			Run:      n.Run,
			Step:     n.Step,
			Title:    n.Title,
		}
		if err := incident.Seal(&e, i.LastHash, n.Content); err != nil {
			return fmt.Errorf("seal an entry: %w", err)
		}
		i.Entries, i.LastHash = e.Seq, e.Hash
		content := string(e.Content)
		r.entries = append(
			r.entries,
			Entry{
				Incident: i.Number,
				Seq:      e.Seq,
				At:       e.At,
				Kind:     string(e.Kind),
				Actor:    e.Actor,
				Run:      e.Run,
				Step:     e.Step,
				Title:    e.Title,
				Content:  &content,
				Digest:   e.Digest,
				Prev:     e.Prev,
				Hash:     e.Hash,
			},
		)
	}
	return nil
}

// Last is the entry that was written last; nil without one.
func (r *RecordWriter) Last() *Entry {
	if len(r.entries) == 0 {
		return nil
	}
	return &r.entries[len(r.entries)-1]
}

// Changed enters into the feed that something is new; readers learn of it once the transaction commits.
func (r *RecordWriter) Changed(rows ...Feed) { r.feed = append(r.feed, rows...) }

// Due has it judged again whether somebody must be called for something; for each incident that is altered it is
// anyway.
func (r *RecordWriter) Due(subject string) { r.due = append(r.due, subject) }

// Quietly writes without having anything judged again: what is written is what followed of a judgement.
func (r *RecordWriter) Quietly() { r.quiet = true }

// Flush writes all that was collected.
func (r *RecordWriter) Flush() error {
	b := NewBulk(r.tx)
	if err := r.AddTo(b); err != nil {
		return err
	}
	return b.Write()
}

// AddTo saves the incidents that were altered, and gives what is new to be written with other things.
func (r *RecordWriter) AddTo(b *Bulk) error {
	for _, a := range r.altered {
		if err := r.tx.db.Omit(a.unsearched()...).Save(a.Incident).Error; err != nil {
			return fmt.Errorf("save an incident: %w", err)
		}
	}
	if err := r.judge(); err != nil {
		return err
	}
	if err := Add(b, r.fresh); err != nil {
		return err
	}
	if err := Add(b, r.entries); err != nil {
		return err
	}
	return Add(b, r.feed)
}

func (r *RecordWriter) judge() error {
	if r.quiet {
		return r.tx.AttentionDue(r.due...)
	}
	due := r.due
	for _, a := range r.altered {
		due = append(due, OfIncident(a.Number))
	}
	for _, i := range r.fresh {
		due = append(due, OfIncident(i.Number))
	}
	slices.Sort(due)
	return r.tx.AttentionDue(slices.Compact(due)...)
}

// Verify checks the chain of one record; nil when it is whole.
func (s *Store) Verify(ctx context.Context, number int64) (int64, error) {
	var head Incident
	var rows []Entry
	// One snapshot, so that an entry written meanwhile is not taken for a fault.
	err := s.Tx(ctx, func(tx *Tx) error {
		if err := tx.db.Exec("set transaction isolation level repeatable read").Error; err != nil {
			return err
		}
		if err := tx.db.Where("number = ?", number).Take(&head).Error; err != nil {
			return err
		}
		return tx.db.Where("incident = ?", number).Order("seq").Find(&rows).Error
	})
	if err != nil {
		return 0, err
	}
	entries := make([]incident.Entry, len(rows))
	for i, r := range rows {
		entries[i] = r.Sealed()
	}
	if err := incident.Verify(entries, head.Entries, head.LastHash); err != nil {
		return head.Entries, &Broken{err.Error()}
	}
	return head.Entries, nil
}

// Broken says that a record is not as it was written.
type Broken struct{ Reason string }

func (b *Broken) Error() string { return b.Reason }

// feedSettled is the transaction before which nobody writes into the feed any more: the first that is under way. Where
// that has held the feed up for a second, it is the first of those that are not known to be in another database of the
// server, whose snapshots count them too.
const feedSettled = `(select case when exists (select from feed late where late.xid >= pg_snapshot_xmin(s)
		and late.at < now() - interval '1 second')
	then coalesce((select min(x::text::numeric) from pg_snapshot_xip(s) x where not exists (
		select from pg_locks l join pg_stat_activity a on a.pid = l.pid where l.locktype = 'transactionid'
			and l.granted and l.transactionid::text = (x::text::numeric % 4294967296)::text
			and a.datname <> current_database())), pg_snapshot_xmax(s)::text::numeric)::text::xid8
	else pg_snapshot_xmin(s) end from pg_current_snapshot() s)`

// FeedAfter reads what changed after a place in the feed, in commit order, at most 1000 lines. A place is xid and id.
func (s *Store) FeedAfter(ctx context.Context, xid string, id int64) ([]Feed, error) {
	return scan[Feed](s.In(ctx), `select id, xid::text as xid, topic, ref, incident, service from feed
		where (xid, id) > (?::text::xid8, ?) and xid < `+feedSettled+` order by xid, id limit 1000`, xid, id)
}

// FeedEnd is the place in the feed before which everything is known to be committed.
func (s *Store) FeedEnd(ctx context.Context) (xid string, id int64, err error) {
	rows, err := scan[Feed](s.In(ctx), `select id, xid::text as xid from feed where xid < `+feedSettled+`
		order by feed.xid desc, id desc limit 1`)
	if err != nil || len(rows) == 0 {
		return "0", 0, err
	}
	return rows[0].Xid, rows[0].ID, nil
}

// passing are the rows that are of no use after a while. What is a record (incidents, runs, alerts, decisions, outputs,
// acts) is not among them.
var passing = []struct{ table, over string }{
	{"feed", "at < now() - interval '1 hour'"},
	{"started", "at < now() - interval '8 days'"},
	{"session", "expires_at < now()"},
	{"token", "expires_at < now() - interval '30 days'"},
	{"delivery", "state = 'sent' and sent_at < now() - interval '30 days'"},
	{"delivery", "state in ('failed', 'dropped') and queued_at < now() - interval '90 days'"},
	{"notice", "look_at is null and at < now() - interval '30 days'"},
	{"link", "ends_at < now() - interval '1 day'"},
	// Of alerts each report may have an identity: those are many.
	{"heard_id", "at < now() - interval '2 hours' and (door like 'alert/%' or at < now() - interval '1 day')"},
	{"early_news", "at < now() - interval '1 day'"},
	{"payload", "at < now() - interval '30 days'"},
	{"unparsed", "read_at < now() - interval '30 days'"},
	{"source_key", "ends_at < now() - interval '30 days'"},
	{"start_key", "ends_at < now() - interval '30 days'"},
	{"firing", "at < now() - interval '30 days'"},
	{"occasion", "at < now() - interval '7 days'"},
	{"attachment", "size < 0 and added_at < now() - interval '1 day'"},
	{"deployment", "at < now() - interval '90 days'"},
	{"seen", "at < now() - interval '90 days'"},
	{"incident_key", `until < now() - interval '1 day'
		and not exists (select from alert a where a.join_key = incident_key.key and a.state = 'open')`},
	{"spool_place", "at < now() - interval '90 days'"},
	{"suspect", "at < now() - interval '30 days'"},
	{"instance", "coalesce(reported_at, gone_at) < now() - interval '30 days'"},
}

// Forget removes what is no longer of use, a bounded number of rows of each kind at once.
func (s *Store) Forget(ctx context.Context) error {
	const most = 20_000
	for _, p := range passing {
		err := s.gorm.WithContext(ctx).
			Exec("delete from "+p.table+" where ctid = any (array(select ctid from "+p.table+
				" where "+p.over+" limit ?))", most).
			Error
		if err != nil {
			return fmt.Errorf("forget rows of %s: %w", p.table, err)
		}
	}
	return nil
}

// Sealed is an entry as it was sealed.
func (e *Entry) Sealed() incident.Entry {
	out := incident.Entry{
		Incident: strconv.FormatInt(
			e.Incident,
			10,
		), Seq: e.Seq, At: e.At.UTC(), Kind: incident.Kind(e.Kind), Actor: e.Actor,
		Run: e.Run, Step: e.Step, Title: e.Title, Digest: e.Digest, Prev: e.Prev, Hash: e.Hash,
	}
	if e.Content != nil {
		out.Content = json.RawMessage(*e.Content)
	}
	return out
}
