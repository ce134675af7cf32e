package store

import (
	"encoding/json"
	"fmt"
	"time"

	"urgentis/core/access"
	"urgentis/core/worth"
)

// MostFacts bounds of how many incidents facts are counted at once.
const MostFacts = 200_000

// cameBackWithin is how soon an alert is raised again that came back.
const cameBackWithin = 24 * time.Hour

// Factless lists incidents that are over and of which no facts were gathered since, the newest first.
func (tx *Tx) Factless(most int) ([]Incident, error) {
	return scan[Incident](tx, `select * from incident where state = 'closed' and merged_into is null
		and facts_at is distinct from closed_at order by number desc limit ?`, most)
}

// KeepFacts keeps what was gathered of an incident, unless it was closed at another time than the one that was read.
func (tx *Tx) KeepFacts(f *worth.Facts, closed time.Time) error {
	n, err := tx.exec("update incident set facts_at = closed_at where number = ? and closed_at = ?", f.Number, closed)
	if err != nil || n == 0 {
		return err
	}
	b, err := json.Marshal(f)
	if err != nil {
		return fmt.Errorf("write the facts of incident %d: %w", f.Number, err)
	}
	return tx.run(`insert into incident_fact (number, service, closed_at, source, key, facts)
		values (?, ?, ?, ?, ?, ?::jsonb) on conflict (number) do update set service = excluded.service,
		closed_at = excluded.closed_at, source = excluded.source, key = excluded.key, facts = excluded.facts`,
		f.Number, f.Service, closed, f.Source, f.Key, string(b))
}

// AllFacts reads the facts of incidents that were closed in a time, the oldest first, MostFacts and one at most; of a
// service, "" of all. Titles are those of now.
func (tx *Tx) AllFacts(s access.Scope, service string, from, until time.Time) ([]worth.Facts, error) {
	where, args := "f.closed_at >= ? and f.closed_at < ?", []any{from, until}
	where, args = and(where, args, "f.service", service)
	if !s.All {
		where, args = where+" and f.service in ?", append(args, s.Services)
	}
	rows, err := scan[struct {
		Facts string
		Title string
		Back  bool
	}](tx, `select f.facts::text as facts, i.title,
			f.key <> '' and exists (select from alert b where b.source = f.source and b.key = f.key
				and b.first_at > f.closed_at and b.first_at <= f.closed_at + ? * interval '1 second') as back
		from incident_fact f join incident i on i.number = f.number and i.state = 'closed'
		where `+where+" order by f.closed_at, f.number limit ?",
		append(append([]any{cameBackWithin.Seconds()}, args...), MostFacts+1)...)
	if err != nil {
		return nil, err
	}
	out := make([]worth.Facts, len(rows))
	for i, r := range rows {
		if err := json.Unmarshal([]byte(r.Facts), &out[i]); err != nil {
			return nil, fmt.Errorf("read the facts of an incident: %w", err)
		}
		out[i].Title, out[i].CameBack = r.Title, r.Back
	}
	return out, nil
}
