package intake

import (
	"context"
	"fmt"
	"time"

	"urgentis/core/incident"
	"urgentis/core/route"
	"urgentis/internal/engine"
	"urgentis/internal/store"
)

// OpenByHand opens an incident that a person asks for; alerts of its service may join it. and is done in the same
// transaction.
func (in *Intake) OpenByHand(ctx context.Context, i *store.Incident, by string, and func(tx *store.Tx) error) error {
	return in.store.Tx(ctx, func(tx *store.Tx) error {
		w, err := in.writing(tx, 0)
		if err != nil {
			return err
		}
		i.State, i.WaitingOn, i.OpenedAt = "open", "person", w.now
		if err := w.sheet.Open(i); err != nil {
			return err
		}
		if err := w.place.byHand(i); err != nil {
			return err
		}
		if err := w.sheet.Write(i, store.NewEntry{At: w.now, Kind: incident.Opened, Actor: by, Title: i.Title,
			Content: incident.HeadContent{Severity: i.Severity, Service: i.Service}}); err != nil {
			return err
		}
		w.sheet.Changed(
			store.Feed{Topic: "incident", Ref: fmt.Sprint(i.Number), Incident: &i.Number, Service: i.Service},
		)
		if err := w.send(i, route.IncidentOpened, "opened", fmt.Sprintf("Incident %d (%s), opened by %s: %s", i.Number,
			i.Severity, by, i.Title)); err != nil {
			return err
		}
		if err := w.starts.onIncident(i); err != nil {
			return err
		}
		if i.WaitingOn == "person" {
			if err := w.starts.firstLook(occasion{inc: i}); err != nil {
				return err
			}
		}
		if err := and(tx); err != nil {
			return err
		}
		return w.flush()
	})
}

// tellOpened tells that an incident was opened, once its first check has passed or nobody works on it, or after a
// while: a false alarm disturbs nobody. Whether somebody is called is judged elsewhere (core/route.Attention).
func (m *moment) tellOpened(a *store.Alert, inc *store.Incident) error {
	n := m.notice(inc, route.IncidentOpened, "opened", fmt.Sprintf("Incident %d (%s): %s", inc.Number, a.Severity,
		a.Summary))
	n.Delay = holdOpening
	return m.sheet.Notify(n)
}

// holdOpening is how long the first check of a runbook may take before people are told of an incident.
const holdOpening = time.Minute

// changed says that an alert is another one than pages show.
func (m *moment) changed(a *store.Alert) {
	m.sheet.Changed(
		store.Feed{Topic: "alert", Ref: a.ID, Incident: a.Incident, Service: a.Service},
		store.Feed{Topic: "incident", Ref: fmt.Sprint(*a.Incident), Incident: a.Incident, Service: a.Service})
}

func (m *moment) send(inc *store.Incident, kind route.Kind, key, text string) error {
	return m.sheet.Notify(m.notice(inc, kind, key, text))
}

// notice is something to tell about an incident.
func (m *moment) notice(inc *store.Incident, kind route.Kind, key, text string) engine.Notice {
	return engine.Notice{
		// The same may happen to it again, such as that it comes back and nothing starts.
		Kind: kind, Key: fmt.Sprintf("i%d:%s:%d", inc.Number, key, inc.Entries), Text: text, Incident: &inc.Number,
		Link: fmt.Sprintf("%s/incidents/%d", m.in.engine.Link, inc.Number),
	}
}
