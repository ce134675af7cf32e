package engine

import (
	"cmp"
	"encoding/json"
	"fmt"
	"time"

	"urgentis/core/incident"
	"urgentis/core/route"
	"urgentis/internal/store"
)

// Closing is why an incident is over, and by whom.
type Closing struct {
	Outcome, Because string
	By               string
	Run              string // "" where no run closes it
	At               time.Time
	// Kind and Says are of the entry; "" for that it is closed, with the outcome.
	Kind incident.Kind
	Says string
	// Content goes into the entry beside outcome and because.
	Content map[string]any
	// SourceTold says that there is nothing to tell the sources of its alerts: a runbook did, or they go on elsewhere.
	SourceTold bool
}

// Close resolves an incident, and closes the loop: it is the one place for runs, people, merges and what clears by
// itself. The record says so, the sources of its alerts are told, and people who heard of it; tickets follow the record
// (see the desk). What cannot be told is said in the entry.
func (s *Sheet) Close(i *store.Incident, c Closing) error {
	i.State, i.WaitingOn, i.Outcome, i.Because, i.ResolvedAt = "resolved", "nobody", c.Outcome, c.Because, &c.At
	content := map[string]any{"outcome": c.Outcome, "because": c.Because}
	for k, v := range c.Content {
		content[k] = v
	}
	if !c.SourceTold {
		told, not, err := s.closeAtSources(i)
		if err != nil {
			return err
		}
		if len(told) > 0 {
			content["sources_told"] = told
		}
		if len(not) > 0 {
			content["sources_not_told"] = not
		}
	}
	title, kind := cmp.Or(c.Says, "Closed: "+c.Outcome), cmp.Or(c.Kind, incident.Closed)
	if err := s.RecordWriter.Write(i, store.NewEntry{
		At: c.At, Kind: kind, Actor: c.By, Run: c.Run, Title: title, Content: content,
	}); err != nil {
		return err
	}
	s.Changed(store.Feed{Topic: "incident", Ref: fmt.Sprint(i.Number), Incident: &i.Number, Service: i.Service})
	return s.Notify(Notice{
		Kind: route.IncidentClosed, Key: fmt.Sprintf("i%d:closed:%d", i.Number, i.Entries),
		Text: fmt.Sprintf("Incident %d is closed, %s: %s", i.Number, c.Outcome, c.Because), Incident: &i.Number,
		Link: fmt.Sprintf("%s/incidents/%d", s.e.Link, i.Number),
	})
}

// closeAtSources tells the sources of an incident's alerts that they are over. It says which were told of, and of which
// why not.
func (s *Sheet) closeAtSources(i *store.Incident) (told, not []string, err error) {
	alerts, err := s.tx.AlertsOf(i.Number)
	if err != nil {
		return nil, nil, fmt.Errorf("read the alerts of an incident: %w", err)
	}
	if len(alerts) > mostToldBack {
		not = append(not, fmt.Sprintf("%d more alerts", len(alerts)-mostToldBack))
		alerts = alerts[:mostToldBack]
	}
	for _, a := range alerts {
		if a.State != "open" {
			continue // its source says itself that it is over
		}
		src, err := s.tx.Source(a.Source)
		if err != nil {
			return nil, nil, err
		}
		name := a.Source + " " + a.Key
		if src == nil || !HearsBack(src, "close") {
			not = append(not, name+": how it is told of that is not configured")
			continue
		}
		body, err := json.Marshal(map[string]any{"alert": a.ID, "key": a.Key, "do": "close", "incident": i.Number})
		if err != nil {
			return nil, nil, err
		}
		told = append(told, name)
		s.out = append(s.out, store.Delivery{
			Key: fmt.Sprintf(
				"i%d:close:%d:%s",
				i.Number,
				i.Entries,
				a.ID,
			), Kind: store.DeliverySource, Address: src.Name,
			Body: string(body), Incident: &i.Number, State: "queued", QueuedAt: s.e.Now(),
		})
	}
	return told, not, nil
}

// mostToldBack bounds how many alerts of an incident their sources are told about as it is closed.
const mostToldBack = 200
