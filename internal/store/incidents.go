package store

import (
	"encoding/json"
	"strings"
	"time"

	"urgentis/core/access"
)

// WhichIncidents narrows a list of incidents; what is "" or nil narrows nothing.
type WhichIncidents struct {
	State, Service, Severity, Outcome, Holder string
	// Text is searched in titles, reasons, what alerts said and people wrote, as people write it: words, "phrases", or,
	// -without.
	Text string
	// Label is one that an alert of it has, as name=value; Source one that reported one.
	Label, Source string
	// From and To bound when it was opened.
	From, To *time.Time
}

// Incidents lists incidents, newest first, before a number (0: from the newest).
func (tx *Tx) Incidents(s access.Scope, which WhichIncidents, before int64, most int) ([]Incident, error) {
	where, args := "true", []any(nil)
	for _, f := range []struct{ column, value string }{
		{"state", which.State}, {"service", which.Service}, {"severity", which.Severity}, {"outcome", which.Outcome},
		{"holder", which.Holder},
	} {
		where, args = and(where, args, f.column, f.value)
	}
	add := func(condition string, values ...any) { where, args = where+" and "+condition, append(args, values...) }
	if which.Text != "" {
		add("words @@ websearch_to_tsquery('simple', ?)", which.Text)
	}
	if name, value, ok := strings.Cut(which.Label, "="); ok {
		label, err := json.Marshal(map[string]string{name: value})
		if err != nil {
			return nil, err
		}
		add("exists (select from alert a where a.incident = incident.number and a.labels @> ?::jsonb)", string(label))
	}
	if which.Source != "" {
		add("exists (select from alert a where a.incident = incident.number and a.source = ?)", which.Source)
	}
	if which.From != nil {
		add("opened_at >= ?", *which.From)
	}
	if which.To != nil {
		add("opened_at < ?", *which.To)
	}
	if before != 0 {
		add("number < ?", before)
	}
	where, args = within(s, where, args)
	var out []Incident
	err := tx.db.Order("number desc").Where(where, args...).Limit(most).Find(&out).Error
	return out, err
}

// Incident reads the head of a record.
func (tx *Tx) Incident(number int64) (*Incident, error) {
	return take[Incident](tx, "number = ?", number)
}

// Entries reads the entries of a record after a number, in order.
func (tx *Tx) Entries(incident, after int64, most int) ([]Entry, error) {
	var out []Entry
	err := tx.db.Order("seq").Where("incident = ? and seq > ?", incident, after).Limit(most).Find(&out).Error
	return out, err
}

// EntriesOf reads those entries of some kinds.
func (tx *Tx) EntriesOf(incident, after int64, kinds []string) ([]Entry, error) {
	return list[Entry](tx, "seq", "incident = ? and seq > ? and kind in ?", incident, after, kinds)
}

// WorstAlert is the worst open alert of an incident, of several the one that was raised first, and one for which
// nothing was enough yet before all others; nil without one.
func (tx *Tx) WorstAlert(incident int64) (*Alert, error) {
	for _, narrow := range []string{"not " + settled, "true"} {
		rows, err := scan[Alert](tx, `select * from alert a where incident = ? and state = 'open' and `+narrow+`
			order by array_position(array['critical', 'major', 'minor', 'warning'], severity), first_at, id limit 1`,
			incident)
		if err != nil || len(rows) > 0 {
			return first(rows), err
		}
	}
	return nil, nil
}

// first is the first of several; nil where there is none.
func first[T any](rows []T) *T {
	if len(rows) == 0 {
		return nil
	}
	return &rows[0]
}

// Quiet gives incidents all of whose alerts have been over for a time, on which nothing works or came to another end
// than its own, that wait for nobody's word and that nobody holds. number narrows it to one incident; 0: all.
func (tx *Tx) Quiet(after time.Duration, number int64, most int) ([]int64, error) {
	return scan[int64](tx, `select i.number from incident i where i.state = 'open' and i.holder = '' and i.alerts > 0
		and i.waiting_on in ('nobody', 'person')
		and not exists (select from alert a where a.incident = i.number and (a.state = 'open'
			or coalesce(a.cleared_at, a.last_at) > now() - ? * interval '1 second'))
		and not exists (select from run r where r.incident = i.number
			and (r.ended_at is null or r.state not in ('done', 'handed-over', 'failed')))
		and not exists (select from hand_over h where h.incident = i.number and h.settled_at is null)
		and (? = 0 or i.number = ?) order by i.number limit ?`, after.Seconds(), number, number, most)
}

// Working counts the runs that work on an incident, besides one.
func (tx *Tx) Working(incident int64, besides string) (int64, error) {
	return one[int64](
		tx,
		"select count(*) from run where incident = ? and id <> ? and ended_at is null",
		incident,
		besides,
	)
}

// Waiters is what waits for people in the runs of an incident.
type Waiters struct {
	Gates, Questions int64
	Over             int64 // runs that ended, were not cancelled, and left the incident open
}

// OthersWaiting counts what waits for people in the runs of an incident besides one that was begun at a time: open
// gates, open questions, and the runs that ended since.
func (tx *Tx) OthersWaiting(run *Run) (Waiters, error) {
	i := *run.Incident
	return one[Waiters](tx, `select
		(select count(*) from gate where incident = ? and state = 'open' and run <> ?) as gates,
		(select count(*) from question where incident = ? and state = 'open' and run <> ?) as questions,
		(select count(*) from run where incident = ? and id <> ? and ended_at >= ? and state <> 'cancelled') as over`,
		i, run.ID, i, run.ID, i, run.ID, run.BegunAt)
}

// Counts is how much of each kind there is.
type Counts struct {
	Instances                                                        int
	OpenIncidents, ActiveRuns, OpenGates, OpenQuestions, Undelivered int64
}

// Counts counts what is open, active and not delivered.
func (tx *Tx) Counts() (Counts, error) {
	return one[Counts](tx, `select (select count(*) from instance where fenced_at is null) as instances,
		(select count(*) from incident where state = 'open') as open_incidents,
		(select count(*) from run where ended_at is null) as active_runs,
		(select count(*) from gate where state = 'open') as open_gates,
		(select count(*) from question where state = 'open') as open_questions,
		(select count(*) from delivery where state = 'queued') as undelivered`)
}

// Artifact reads the whole of an output, compressed.
func (tx *Tx) Artifact(id string) (*Artifact, error) { return take[Artifact](tx, "id = ?", id) }

// AddArtifact keeps the whole of an output.
func (tx *Tx) AddArtifact(a *Artifact) error { return tx.db.Create(a).Error }

// The kinds of attachments.
const (
	FileAttached = "file"
	LinkAttached = "link"
)

// Attachment is a file or a link that somebody put to a record.
type Attachment struct {
	ID       string `gorm:"primaryKey"`
	Incident int64
	Kind     string
	Name     string
	URL      string
	Type     string
	Size     int64
	Digest   string // SHA-256 of a file, in hexadecimal
	AddedBy  string
	AddedAt  time.Time
}

// attachmentPiece is a piece of a file.
type attachmentPiece struct {
	Attachment string
	N          int64
	Body       []byte
}

// AddAttachment keeps what was put to a record; the pieces of a file come before.
func (tx *Tx) AddAttachment(a *Attachment) error { return tx.db.Create(a).Error }

// SaveAttachment notes what is known of a file once it is kept.
func (tx *Tx) SaveAttachment(a *Attachment) error { return tx.db.Save(a).Error }

// AddPiece keeps a piece of a file.
func (tx *Tx) AddPiece(attachment string, n int64, body []byte) error {
	return tx.db.Create(&attachmentPiece{attachment, n, body}).Error
}

// Piece reads a piece of a file; nil where there are no more.
func (tx *Tx) Piece(attachment string, n int64) ([]byte, error) {
	rows, err := scan[attachmentPiece](
		tx,
		"select * from attachment_piece where attachment = ? and n = ?",
		attachment,
		n,
	)
	if err != nil || len(rows) == 0 {
		return nil, err
	}
	return rows[0].Body, nil
}

// Attachments lists what was put to a record, oldest first.
func (tx *Tx) Attachments(incident int64) ([]Attachment, error) {
	return list[Attachment](tx, "added_at, id", "incident = ? and size >= 0", incident)
}

// Attachment reads one that is whole.
func (tx *Tx) Attachment(id string) (*Attachment, error) {
	return take[Attachment](tx, "id = ? and size >= 0", id)
}

// DropAttachment takes back a file that did not come in whole.
func (tx *Tx) DropAttachment(id string) error {
	return tx.run("delete from attachment where id = ?", id)
}
