package store

import "time"

// PastIncident is an incident that is over, with its first alert and a runbook that worked on it.
type PastIncident struct {
	Number                  int64
	Title, Outcome, Because string
	At                      time.Time // when it was closed
	Source, Key, Signal     string    // of its first alert
	Runbook                 string    // "" where none did
}

// mostPast bounds how many incidents of a service are looked back at.
const mostPast = 300

// PastIncidents lists the incidents of a service that are over, the newest first, but for one; one that several
// runbooks worked on comes for each of them.
func (tx *Tx) PastIncidents(service string, but int64) ([]PastIncident, error) {
	return scan[PastIncident](tx, `select i.number, i.title, i.outcome, i.because, i.resolved_at as at,
			coalesce(a.source, '') as source, coalesce(a.key, '') as key, coalesce(a.signal, '') as signal,
			coalesce(r.runbook, '') as runbook
		from (select number, title, outcome, because, resolved_at from incident
			where service = ? and state = 'resolved' and number <> ? and resolved_at is not null
			order by number desc limit ?) i
		left join lateral (select source, key, labels->>'signal' as signal from alert where incident = i.number
			order by first_at, id limit 1) a on true
		left join lateral (select runbook from run where incident = i.number and ended_at is not null
			order by begun_at desc limit 3) r on true
		order by i.number desc`, service, but, mostPast)
}
