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
	// Content goes into the entry, with outcome and because.
	Content incident.ClosedContent
	// TellSources has the sources of its open alerts told to close them: a person says that all of it is over.
	TellSources bool
}

// Close closes an incident, and closes the loop: it is the one place for runs, people, merges and what clears by
// itself. The record says so, the sources of its alerts are told, and people who heard of it; tickets follow the record
// (see the desk). What cannot be told is said in the entry.
func (s *Sheet) Close(i *store.Incident, c Closing) error {
	i.State, i.WaitingOn, i.Outcome, i.Because, i.ClosedAt = "closed", "nobody", c.Outcome, c.Because, &c.At
	if i.TitleRun != "" && i.TitleBy == "" {
		i.Title = i.WorstTitle // "0 messages wait" would say nothing of what it was
	}
	i.WantedAt = nil
	content := c.Content
	content.Outcome, content.Because = c.Outcome, c.Because
	if c.Kind == incident.Merged {
		content.Because = c.Content.Because
	}
	if c.TellSources {
		alerts, more, err := s.tx.OpenAlertsOf(i.Number, mostToldBack)
		if err != nil {
			return fmt.Errorf("read the alerts of an incident: %w", err)
		}
		t := &tellingBack{s: s, incident: i.Number, more: more}
		for n := range alerts {
			if err := t.over(&alerts[n], c.Outcome); err != nil {
				return err
			}
		}
		t.into(&content)
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

// tellingBack tells the sources of alerts of an incident what became of them.
type tellingBack struct {
	s         *Sheet
	incident  int64 // 0 for none
	more      int   // alerts that are not told of
	told, not []string
}

// over tells the source of an alert that it is taken care of, unless it was told, and, but where it was not repaired,
// to close it. Both arrive in this order.
func (t *tellingBack) over(a *store.Alert, outcome string) error {
	words := []string{"acknowledge", "close"}
	if outcome == incident.NotRepaired {
		words = words[:1]
	}
	src, err := t.s.tx.Source(a.Source)
	if err != nil {
		return err
	}
	name := a.Source + " " + a.Key
	for _, do := range words {
		if src == nil || !HearsBack(src, do) {
			if do == "close" {
				t.not = append(t.not, name+": how it is told of that is not configured")
			}
			continue
		}
		before, err := t.s.toldBack(a.ID, do)
		if err != nil {
			return err
		}
		if before {
			continue
		}
		if err := t.s.tellBack(src.Name, a.ID, a.Key, do, t.incident, store.NewID("t")); err != nil {
			return err
		}
		if do == words[len(words)-1] {
			t.told = append(t.told, name)
		}
	}
	return nil
}

// into says in an entry which sources were told, and which could not be.
func (t *tellingBack) into(content *incident.ClosedContent) {
	if t.more > 0 {
		t.not = append(t.not, fmt.Sprintf("%d more alerts", t.more))
	}
	content.Told, content.NotTold = t.told, t.not
}

// toldBack reports whether the source of an alert was told something of it, or is by this transaction.
func (s *Sheet) toldBack(alert, do string) (bool, error) {
	thread := store.SourceThread(alert)
	for _, d := range s.out {
		if d.Thread == thread && d.Does == do {
			return true, nil
		}
	}
	return s.tx.ToldBack(thread, do)
}

// tellBack puts into the outbox what the source of an alert is told of it. What it is told of one alert arrives in its
// order.
func (s *Sheet) tellBack(source, alert, key, do string, number int64, once string) error {
	about := map[string]any{"alert": alert, "key": key, "do": do}
	d := store.Delivery{Key: once, Kind: store.DeliverySource, Connection: source, State: "queued", QueuedAt: s.e.Now(),
		Thread: store.SourceThread(alert), Does: do}
	if number != 0 {
		about["incident"], d.Incident = number, &number
	}
	body, err := json.Marshal(about)
	if err != nil {
		return err
	}
	d.Body = string(body)
	s.out = append(s.out, d)
	return nil
}

// mostToldBack bounds how many alerts of an incident their sources are told about as it is closed.
const mostToldBack = 1000
