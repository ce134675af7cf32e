package store

import (
	"fmt"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"urgentis/core/route"
)

// Notice is something that people are told, and how far that is.
type Notice struct {
	ID       int64 `gorm:"primaryKey"`
	Key      string
	Kind     route.Kind
	Asked    string // whom it is asked of: team/NAME and the like
	Urgent   bool
	Text     string
	Thing    string // what it is about, such as gate/ID; "" for its incident, or for none
	Link     string
	Incident *int64
	// Subject is what may call somebody: an incident, or a run that belongs to none; "" for neither.
	Subject string
	// Since is since when an urgent one calls: who was told before that was told of something else. Worth is how bad
	// that was.
	Since *time.Time
	Worth int
	At    time.Time
	State string // NoticeOpen and the like
	Rung  int
	// RungSince is since when it stands on its rung; nil before it was looked at.
	RungSince *time.Time
	LookAt    *time.Time // nil: never again
	Missed    string     // who could not be told, as the record says it already
	TakenBy   string
	TakenAt   *time.Time
}

// The states of notices.
const (
	NoticeOpen  = "open"  // it escalates, or waits
	NoticeDone  = "told"  // whoever should be told was; nothing is to come
	NoticeTaken = "taken" // somebody has it
	NoticeOver  = "over"  // what it is about is over, or says itself in another one
)

// DueNotices takes up to so many notices that are due, so that no other instance does until the end of the transaction,
// the oldest first. Those of an incident of which it is still to be judged who must be called come after that, with the
// call.
func (tx *Tx) DueNotices(most int) ([]Notice, error) {
	return scan[Notice](tx, `select * from notice where look_at <= now() and not exists (select from attention a
			where a.subject = 'incident/' || notice.incident and a.due <= now())
		order by look_at, id limit ? for update skip locked`, most)
}

// NextNotice is when the next notice is due; the zero time for none.
func (tx *Tx) NextNotice() (time.Time, error) {
	at, err := one[*time.Time](tx, "select min(look_at) from notice where look_at is not null")
	if err != nil || at == nil {
		return time.Time{}, err
	}
	return *at, nil
}

// SetNotice writes how far a notice is. wait is until it is due again, 0: at once, less: never.
func (tx *Tx) SetNotice(n *Notice, wait time.Duration) error {
	var seconds *float64
	if wait >= 0 {
		s := wait.Seconds()
		seconds = &s
	}
	return tx.run(`update notice set state = ?, rung = ?, rung_since = ?, missed = ?, taken_by = ?, taken_at = ?,
		look_at = now() + ?::float8 * interval '1 second' where id = ?`,
		n.State, n.Rung, n.RungSince, n.Missed, n.TakenBy, n.TakenAt, seconds, n.ID)
}

// NoticeTold is that a message carried a notice.
type NoticeTold struct {
	Notice   int64
	Delivery int64
	Rung     int
}

// AddTold notes which messages carry which notices. What is noted already stands, at the higher rung.
func (tx *Tx) AddTold(list []NoticeTold) error {
	if len(list) == 0 {
		return nil
	}
	higher := clause.OnConflict{
		Columns:   []clause.Column{{Name: "notice"}, {Name: "delivery"}},
		DoUpdates: clause.Assignments(map[string]any{"rung": gorm.Expr("greatest(notice_told.rung, excluded.rung)")}),
	}
	return tx.db.Clauses(higher).Table("notice_told").Create(&list).Error
}

// failing is what counts as not having arrived: what failed, and what is urgent and was tried twice in vain.
const failing = "(d.state in ('failed', 'dropped') or d.urgent and d.state = 'queued' and d.tries >= 2)"

// toldRow is one row of what was sent.
type toldRow struct {
	Notice                        int64
	Receiver, Connection, Address string
	Rung                          int
	QueuedAt                      time.Time
	Failed                        bool
}

func (r toldRow) told() route.Told {
	return route.Told{To: r.Receiver, Contact: route.Contact{Connection: r.Connection, Address: r.Address},
		Rung: r.Rung,
		At:   r.QueuedAt, Failed: r.Failed}
}

// ToldOf reads what was sent of notices.
func (tx *Tx) ToldOf(notices []int64) (map[int64][]route.Told, error) {
	rows, err := scan[toldRow](
		tx,
		`select t.notice, d.receiver, d.address as connection, d.at_address as address, t.rung, d.queued_at, `+failing+
			` as failed from notice_told t join delivery d on d.id = t.delivery join notice n on n.id = t.notice
			where t.notice = any (?) and (n.since is null or d.queued_at >= n.since) order by d.id`,
		array{notices},
	)
	if err != nil {
		return nil, fmt.Errorf("read what was sent of notices: %w", err)
	}
	out := map[int64][]route.Told{}
	for _, r := range rows {
		out[r.Notice] = append(out[r.Notice], r.told())
	}
	return out, nil
}

// ToldAbout reads to whom what was sent about an incident, each way once: the newest.
func (tx *Tx) ToldAbout(incident int64) ([]route.Told, error) {
	rows, err := scan[toldRow](tx, `select distinct on (d.address, d.at_address) d.receiver, d.address as connection,
		d.at_address as address,
		d.queued_at, `+failing+` as failed from delivery d where d.incident = ? and d.receiver <> ''
		order by d.address, d.at_address, d.id desc`, incident)
	if err != nil {
		return nil, fmt.Errorf("read who was told about an incident: %w", err)
	}
	out := make([]route.Told, len(rows))
	for i, r := range rows {
		out[i] = r.told()
	}
	return out, nil
}

// LastMessage is the newest message about an incident by a way; nil for none.
func (tx *Tx) LastMessage(incident int64, way route.Contact) (*Delivery, error) {
	rows, err := scan[Delivery](tx, `select * from delivery where incident = ? and address = ? and at_address = ?
		and receiver <> '' order by id desc limit 1`, incident, way.Connection, way.Address)
	if err != nil || len(rows) == 0 {
		return nil, err
	}
	return &rows[0], nil
}

// ReleaseNotices lets what is held about an incident be told now: its first check has passed, or it needs people.
func (tx *Tx) ReleaseNotices(incident int64) error {
	return tx.run(`update notice set look_at = now() where id in (select id from notice where incident = ? and kind = ?
		and state = ? and look_at > now() for update skip locked)`, incident, route.IncidentOpened, NoticeOpen)
}

// OpenNotices lists the urgent notices that escalate, oldest first; incident 0: of all; thing narrows them to one
// thing. What is only held back yet, and what is over or taken since it was looked at, is none of them.
func (tx *Tx) OpenNotices(incident int64, thing string) ([]Notice, error) {
	return scan[Notice](tx, `select n.* from notice n
		where n.urgent and n.state = ? and n.look_at is not null and n.rung_since is not null
		and (? = 0 or n.incident = ?) and (? = '' or n.thing = ?)
		and (n.subject = '' or `+wanted+`) order by n.id limit 500`,
		NoticeOpen, incident, incident, thing, thing)
}

// Notice reads a notice.
func (tx *Tx) Notice(id int64) (*Notice, error) { return take[Notice](tx, "id = ?", id) }

// NoticesAgain lets the notices of a message that does not arrive be looked at again: others may be told, or the same
// by another way.
func (tx *Tx) NoticesAgain(delivery int64) error {
	return tx.run(`update notice set look_at = least(coalesce(look_at, now()), now()), state = ?
		where id in (select notice from notice_told where delivery = ?) and state in (?, ?)`,
		NoticeOpen, delivery, NoticeOpen, NoticeDone)
}

// WantedStill reports whether any notice of a message is still to be told: what it is about may be over, or somebody
// may have it.
func (tx *Tx) WantedStill(delivery int64) (bool, error) {
	return one[bool](tx, `select not exists (select from notice_told where delivery = ?) or exists (
		select from notice_told t join notice n on n.id = t.notice
		where t.delivery = ? and n.state in ('open', 'told') and (not n.urgent or n.subject = '' or `+wanted+`))`,
		delivery, delivery)
}

// NoticeAbout is the newest notice about an incident of a kind ("": of any); ErrNotFound where there is none.
func (tx *Tx) NoticeAbout(incident int64, kind route.Kind) (*Notice, error) {
	return only(scan[Notice](tx, `select * from notice where incident = ? and (? = '' or kind = ?)
		order by id desc limit 1`, incident, kind, kind))
}
