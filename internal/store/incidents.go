package store

import "urgentis/core/access"

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
