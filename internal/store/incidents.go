package store

import (
	"fmt"
	"slices"
	"time"

	"urgentis/core/access"
)

// WhichIncidents narrows a list of incidents; what is "" narrows nothing.
type WhichIncidents struct{ State, Service string }

// Incidents lists incidents, newest first, before a number (0: from the newest).
func (tx *Tx) Incidents(s access.Scope, which WhichIncidents, before int64, most int) ([]Incident, error) {
	where, args := and("true", nil, "state", which.State)
	where, args = and(where, args, "service", which.Service)
	if before != 0 {
		where, args = where+" and number < ?", append(args, before)
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

// JoinLock lets nobody else open an incident for keys until the end of the transaction.
func (tx *Tx) JoinLock(keys []string) error {
	slices.Sort(keys) // in one order, so that two do not wait for each other
	for _, k := range slices.Compact(keys) {
		if err := tx.alone(aloneJoin, k); err != nil {
			return err
		}
	}
	return nil
}

// Joinable gives the newest open incidents that alerts of keys may join at a time, by their keys.
func (tx *Tx) Joinable(keys []string, at time.Time) (map[string]int64, error) {
	type found struct {
		JoinKey string
		Number  int64
	}
	rows, err := scan[found](tx, `select distinct on (join_key) join_key, number from incident
		where state = 'open' and join_key = any (?::text[]) and join_until >= ? order by join_key, number desc`,
		array{keys}, at)
	if err != nil {
		return nil, fmt.Errorf("find incidents to join: %w", err)
	}
	out := make(map[string]int64, len(rows))
	for _, r := range rows {
		out[r.JoinKey] = r.Number
	}
	return out, nil
}

// ClosedLately finds the newest incident of a join key that was closed since a time and had an alert of an identity; 0
// without one.
func (tx *Tx) ClosedLately(key string, id Identity, since time.Time) (int64, error) {
	rows, err := scan[int64](tx, `select i.number from incident i where i.join_key = ? and i.state = 'resolved'
		and i.resolved_at >= ? and i.merged_into is null
		and exists (select from alert a where a.incident = i.number and a.source = ? and a.key = ?)
		order by i.number desc limit 1`, key, since, id.Source, id.Key)
	if err != nil || len(rows) == 0 {
		return 0, err
	}
	return rows[0], nil
}

// WorstAlert is the worst open alert of an incident, of several the one that was raised first; nil without one.
func (tx *Tx) WorstAlert(incident int64) (*Alert, error) {
	rows, err := scan[Alert](tx, `select * from alert where incident = ? and state = 'open' order by
		array_position(array['critical', 'major', 'minor', 'warning'], severity), first_at, id limit 1`, incident)
	if err != nil || len(rows) == 0 {
		return nil, err
	}
	return &rows[0], nil
}

// Quiet gives incidents all of whose alerts have been over for a time, on which nothing works, that wait for nobody's
// word and that nobody holds.
func (tx *Tx) Quiet(after time.Duration, most int) ([]int64, error) {
	return scan[int64](tx, `select i.number from incident i where i.state = 'open' and i.holder = '' and i.alerts > 0
		and i.waiting_on in ('nobody', 'person')
		and not exists (select from alert a where a.incident = i.number and (a.state = 'open'
			or a.last_at > now() - ? * interval '1 second'))
		and not exists (select from run r where r.incident = i.number and r.ended_at is null)
		order by i.number limit ?`, after.Seconds(), most)
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
