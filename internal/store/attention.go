package store

import (
	"fmt"
	"strings"
	"time"

	"urgentis/core/route"
)

// OfIncident and OfRun name what somebody may have to be called for.
func OfIncident(number int64) string { return fmt.Sprintf("incident/%d", number) }

// OfRun is that for a run that belongs to no incident.
func OfRun(id string) string { return "run/" + id }

// AttentionDue has it judged again now whether somebody must be called. In a storm only the first of many writes.
func (tx *Tx) AttentionDue(subjects ...string) error {
	if len(subjects) == 0 {
		return nil
	}
	err := tx.run(`insert into attention (subject, due) select s, now() from unnest(?::text[]) s order by s
		on conflict (subject) do update set due = now() where attention.due > now()`, array{subjects})
	if err != nil {
		return fmt.Errorf("have it judged who must be called: %w", err)
	}
	return nil
}

// Attention is what is due to be judged.
type Attention struct {
	Subject string
	Config  int64   // it was judged by
	Overdue float64 // for how many seconds it has been
}

// DueAttention lists what is due, or was judged by another configuration than this one; the longest due first.
func (tx *Tx) DueAttention(config int64, most int) ([]Attention, error) {
	return scan[Attention](tx, `select subject, config, case when due = 'infinity' then 0 else
		extract(epoch from now() - due) end as overdue from attention
		where due <= now() or config <> ? order by due limit ?`, config, most)
}

// Judged notes when a subject is judged again, and by which configuration it was; the zero time is never, and where it
// is over the row goes.
func (tx *Tx) Judged(subject string, config int64, in time.Duration, over bool) error {
	if over {
		return tx.run("delete from attention where subject = ?", subject)
	}
	if in <= 0 {
		return tx.run("update attention set config = ?, due = 'infinity' where subject = ?", config, subject)
	}
	return tx.run(`update attention set config = ?, due = now() + ? * interval '1 second'
		where subject = ?`, config, in.Seconds(), subject)
}

// LockOpen locks those of several incidents that nobody else holds, in the order of their numbers, and gives them.
// Those that are overdue are waited for.
func (tx *Tx) LockOpen(free, overdue []int64) ([]Incident, error) {
	list, err := scan[Incident](tx, `select * from incident where number = any (?::bigint[]) order by number
		for update skip locked`, array{free})
	if err != nil || len(overdue) == 0 {
		return list, err
	}
	waited, err := scan[Incident](tx, `select * from incident where number = any (?::bigint[]) order by number
		for update`, array{overdue})
	return append(list, waited...), err
}

// Items are what is bad or may be in an incident: its open alerts for which nothing was enough yet, the worst first.
func (tx *Tx) Items(number int64) ([]route.Item, error) {
	type row struct {
		Severity   string
		Since      time.Time
		MutedUntil *time.Time
		Works      bool
	}
	rows, err := scan[row](tx, `select a.severity, coalesce(a.since, a.first_at) as since, a.muted_until,
			exists (select from treats t join run r on r.id = t.run and r.ended_at is null where t.alert = a.id)
			or exists (select from starting w where w.alert = a.id and not w.idle) as works
		from alert a where a.incident = ? and a.state = 'open' and not `+settled+`
		order by array_position(array['critical', 'major', 'minor', 'warning'], a.severity), a.first_at, a.id limit ?`,
		number, mostUnsettled)
	if err != nil {
		return nil, fmt.Errorf("read what is open in incident %d: %w", number, err)
	}
	out := make([]route.Item, len(rows))
	for i, r := range rows {
		out[i] = route.Item{Severity: r.Severity, Since: r.Since, Works: r.Works}
		if r.MutedUntil != nil {
			out[i].MutedUntil = *r.MutedUntil
		}
	}
	return out, nil
}

// WorksOn reports whether a run is under way that was begun for an incident as a whole, and not for an alert of it.
func (tx *Tx) WorksOn(number int64) (bool, error) {
	return one[bool](tx, `select exists (select from run r join treats t on t.run = r.id and t.alert = ''
		where r.incident = ? and r.ended_at is null)`, number)
}

// HasOpen reports whether an alert of an incident is open.
func (tx *Tx) HasOpen(number int64) (bool, error) {
	return one[bool](tx, "select exists (select from alert where incident = ? and state = 'open')", number)
}

// wanted is the condition that what an urgent notice is about is undecided. What a thing is called stands before its
// slash: each is found by its own key.
const wanted = `case split_part(n.thing, '/', 1)
	when 'gate' then exists (select from gate g where g.id = substr(n.thing, 6) and g.state = 'open')
	when 'question' then exists (select from question q where q.id = substr(n.thing, 10) and q.state = 'open')
	when 'run' then exists (select from hand_over h where h.run = substr(n.thing, 5) and h.settled_at is null)
	when 'stopped' then exists (select from run r left join hand_over h on h.run = r.id where r.id = substr(n.thing, 9)
		and (r.ended_at is null and r.quarantined_at is not null or h.run is not null and h.settled_at is null))
	when 'holder' then exists (select from incident i where i.number = n.incident and i.holder = substr(n.thing, 8)
		and i.held_at is null and i.state = 'open')
	else exists (select from incident i where i.number = n.incident and i.state = 'open')
	end`

// Called is an urgent notice, and whether what it is about is undecided.
type Called struct {
	Notice
	Wanted bool
}

// CallsOf lists the calls of a subject that are not over, the oldest first, so that nobody else alters them until the
// end of the transaction. It waits for nobody: all is false where somebody has one of them in hand.
func (tx *Tx) CallsOf(subject string) (list []Called, all bool, err error) {
	const which = "n.subject = ? and n.urgent and n.state <> 'over'"
	list, err = scan[Called](tx, `select n.*, `+wanted+` as wanted from notice n where `+which+`
		order by n.id for update of n skip locked`, subject)
	if err != nil {
		return nil, false, err
	}
	n, err := one[int](tx, "select count(*) from notice n where "+which, subject)
	return list, n == len(list), err
}

// IsAsked reports whether somebody is asked for a thing of a subject, which is not over.
func (tx *Tx) IsAsked(subject, thing string) (bool, error) {
	return one[bool](tx, `select exists (select from notice where subject = ? and thing = ? and urgent
		and state <> 'over')`, subject, thing)
}

// AddCall notes that somebody is to be called, now.
func (tx *Tx) AddCall(n *Notice) error {
	if err := tx.db.Create(n).Error; err != nil {
		return err
	}
	return tx.SetNotice(n, 0)
}

// SetCall writes what a call is for, and has it looked at in a while; less than 0: never again.
func (tx *Tx) SetCall(n *Notice, wait time.Duration) error {
	if err := tx.run("update notice set kind = ?, text = ?, since = ?, worth = ? where id = ?", n.Kind, n.Text, n.Since,
		n.Worth, n.ID); err != nil {
		return err
	}
	return tx.SetNotice(n, wait)
}

// NumberOf is the number of the incident that a subject names; 0 where it names none.
func NumberOf(subject string) (number int64) {
	if rest, ok := strings.CutPrefix(subject, "incident/"); ok {
		_, _ = fmt.Sscan(rest, &number)
	}
	return number
}

// Rejudged is how far all open alerts are judged anew.
type Rejudged struct {
	What, Digest string
	Identity     // the last one that was judged
	Over         bool
}

// MuteChanges counts how often planned work was pushed, altered or removed.
func (tx *Tx) MuteChanges() (int64, error) { return one[int64](tx, "select n from mute_changes") }

// Rejudging gives how far alerts are judged by what has a digest, so that no other instance goes on with it until
// the end of the transaction; nil where they all are, or another instance is at it. Where the digest is a new one, it
// begins anew.
func (tx *Tx) Rejudging(what, digest string) (*Rejudged, error) {
	known, err := one[bool](tx, `select exists (select from rejudge where what = ? and digest = ?
		and over)`, what, digest)
	if err != nil || known {
		return nil, err
	}
	if err := tx.run(`insert into rejudge (what, digest, source, key, over) values (?, '', '', '', true)
		on conflict do nothing`, what); err != nil {
		return nil, err
	}
	rows, err := scan[Rejudged](tx, "select * from rejudge where what = ? for update skip locked", what)
	if err != nil || len(rows) == 0 || rows[0].Digest == digest && rows[0].Over {
		return nil, err
	}
	r := &rows[0]
	if r.Digest != digest {
		r.Digest, r.Identity, r.Over = digest, Identity{}, false
	}
	return r, nil
}

// SetRejudging notes how far it is.
func (tx *Tx) SetRejudging(r *Rejudged) error {
	return tx.run("update rejudge set digest = ?, source = ?, key = ?, over = ? where what = ?", r.Digest, r.Source,
		r.Key, r.Over, r.What)
}
