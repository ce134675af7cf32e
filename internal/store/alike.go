package store

import (
	"slices"
	"time"
)

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

// Returns lists the incidents of the same service that began with the very same alert as one, were there before it and
// are over, the newest first; of the last 300 of the service.
func (tx *Tx) Returns(i *Incident) ([]PastIncident, error) {
	alerts, err := scan[Alert](tx, "select * from alert where incident = ? order by first_at, id limit 1", i.Number)
	if err != nil || len(alerts) == 0 {
		return nil, err
	}
	before, err := tx.PastIncidents(i.Service, i.Number)
	if err != nil {
		return nil, err
	}
	var out []PastIncident
	for _, p := range before {
		if p.Source == alerts[0].Source && p.Key == alerts[0].Key && p.Number < i.Number &&
			!slices.ContainsFunc(out, func(r PastIncident) bool { return r.Number == p.Number }) {
			out = append(out, p)
		}
	}
	return out, nil
}
