package store

import (
	"slices"
	"time"
)

// PastIncident is how an alert of an incident that is over ended: by a run that was begun for it, or with its incident.
type PastIncident struct {
	Number                  int64
	Title, Outcome, Because string
	At                      time.Time // when it ended
	Source, Key, Signal     string    // of the alert
	Runbook                 string    // "" where no run said how it ended
}

// mostPast bounds how many incidents of a service are looked back at, mostTreated how many alerts of each.
const (
	mostPast    = 300
	mostTreated = 10
)

// PastIncidents lists the incidents of a service that are over, the newest first, but for one: one row for each alert
// that a run was begun for, and where there was none for its first one. What a run said of an alert that came back
// within its quiet time was not so: it was not repaired.
func (tx *Tx) PastIncidents(service string, but int64) ([]PastIncident, error) {
	return scan[PastIncident](tx, `with past as (select number, title, outcome, because, closed_at from incident
			where service = ? and state = 'closed' and number <> ? and closed_at is not null and merged_into is null
			order by number desc limit ?),
		quiet as (select coalesce((select make_interval(mins => nullif(quiet_minutes, 0)) from service where name = ?),
			interval '15 minutes') as time)
		select i.number, i.title, x.* from past i cross join quiet q cross join lateral (
			(select case when back.at is null then t.outcome else 'not-repaired' end as outcome,
				case when back.at is null then t.because else 'it came back: ' || t.because end as because, t.at,
				coalesce(a.source, '') as source, coalesce(a.key, '') as key,
				coalesce(a.labels->>'signal', '') as signal, r.runbook
			from run r join treats t on t.run = r.id and t.outcome <> '' left join alert a on a.id = t.alert
			left join lateral (select b.first_at as at from alert b where b.source = a.source and b.key = a.key
				and b.first_at > t.at and b.first_at <= t.at + q.time limit 1) back on true
			where r.incident = i.number order by t.at desc limit ?)
			union all
			(select i.outcome, i.because, i.closed_at, coalesce(a.source, ''), coalesce(a.key, ''),
				coalesce(a.labels->>'signal', ''), ''
			from (select 1) one left join lateral (select source, key, labels from alert where incident = i.number
				order by first_at, id limit 1) a on true
			where not exists (select from run r join treats t on t.run = r.id and t.outcome <> ''
				where r.incident = i.number))
		) x order by i.number desc, x.at desc`, service, but, mostPast, service, mostTreated)
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
