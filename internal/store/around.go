package store

import (
	"fmt"
	"time"

	"urgentis/core/incident"
)

// Mark is something that happened to a service, as it is drawn over its readings.
type Mark struct {
	At       time.Time
	What     string // deployment, change, undo, incident or setting
	Service  string
	Title    string
	By       string
	Incident *int64
	Link     string
}

// longest is how long an incident may be open at most to be seen from its end.
const longest = 30 * 24 * time.Hour

// maxMarks bounds how many marks are given at once.
const maxMarks = 200

// Marks lists what happened to services between two times, the newest first: what was deployed, what was changed by
// runs, which incidents were opened, and what of the services and their targets was set otherwise.
func (tx *Tx) Marks(services []string, from, until time.Time) ([]Mark, error) {
	out, err := scan[Mark](
		tx,
		`select * from (
		select at, 'deployment' as what, service,
			trim(coalesce(nullif(summary, ''), 'deployed') || ' ' || version) as title,
			by, null::bigint as incident, link
		from deployment where service = any (cast(@services as text[])) and at >= @from and at < @until
		union all
		select e.at, case when e.kind = @begun then 'change' else 'undo' end, i.service, e.title, e.actor,
			i.number, ''
		from incident i join entry e on e.incident = i.number and e.kind in (@begun, @undone)
			and e.at >= @from and e.at < @until
		where i.service = any (cast(@services as text[])) and i.opened_at < @until
			and i.opened_at >= @back
			and (i.closed_at is null or i.closed_at >= @from)
		union all
		select opened_at, 'incident', service, title, '', number, '' from incident
		where service = any (cast(@services as text[])) and opened_at >= @from and opened_at < @until
		union all
		select a.at, 'setting', coalesce(t.service, a.subject),
			a.subject || ': ' || coalesce(nullif(left(a.detail, 200), ''), split_part(a.act, '.', 2)),
			a.actor, null, ''
		from act a left join target t on t.name = a.subject and a.act like 'target.%'
		where a.at >= @from and a.at < @until and (
			a.act like 'service.%' and a.subject = any (cast(@services as text[]))
			or t.service = any (cast(@services as text[])))
		) x order by at desc, what, title limit @most`,
		map[string]any{
			"services": array{services},
			"from":     from,
			"until":    until,
			"back":     from.Add(-longest),
			"most":     maxMarks,
			"begun":    incident.ChangeBegun,
			"undone":   incident.UndoBegun,
		},
	)
	if err != nil {
		return nil, fmt.Errorf("read what happened to services: %w", err)
	}
	return out, nil
}

// maxThings bounds how many alerts of one service are given; the others are counted.
const maxThings = 20

// BadThings lists the alerts of services that stood at any moment between two times, the first of each service first,
// and tells how many there were in all.
func (tx *Tx) BadThings(services []string, from, until time.Time) ([]incident.BadThing, map[string]int, error) {
	rows, err := scan[struct {
		ID, Service, Severity, Summary, Target string
		Incident                               *int64
		At                                     time.Time
		Over                                   bool
		Of                                     int
	}](tx, `select * from (select a.id, a.service, a.severity, a.summary, a.incident, a.first_at as at,
			a.state <> 'open' as over, count(*) over (partition by a.service) as of,
			row_number() over (partition by a.service order by a.first_at, a.id) as n,
			coalesce(a.labels->>'host', a.labels->>'target', a.labels->>'instance', '') as target
		from incident i join alert a on a.incident = i.number
		where i.service = any (?::text[]) and a.service = any (?::text[])
			and i.opened_at < ? and i.opened_at >= ? and (i.closed_at is null or i.closed_at >= ?)
			and a.first_at < ? and (a.state = 'open' or a.last_at >= ?)) x
		where n <= ? order by at, id`, array{services}, array{services}, until, from.Add(-longest), from, until,
		from, maxThings)
	if err != nil {
		return nil, nil, fmt.Errorf("read the alerts around an incident: %w", err)
	}
	out, count := make([]incident.BadThing, len(rows)), map[string]int{}
	for i, r := range rows {
		out[i] = incident.BadThing{ID: r.ID, Service: r.Service, Severity: r.Severity, Summary: r.Summary,
			Target: r.Target, At: r.At.UTC(), Over: r.Over}
		if count[r.Service] = r.Of; r.Incident != nil {
			out[i].Incident = *r.Incident
		}
	}
	return out, count, nil
}
