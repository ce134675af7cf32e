package intake

import (
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"urgentis/core/alert"
	"urgentis/core/flow"
	"urgentis/core/incident"
	"urgentis/core/plain"
	"urgentis/core/route"
	"urgentis/core/trigger"
	"urgentis/internal/engine"
	"urgentis/internal/store"
)

// raised is the alert that a first report makes.
func raised(source string, r alert.Report, heard alert.Heard) *store.Alert {
	return &store.Alert{
		ID:       store.NewID("a"),
		Source:   source,
		Key:      r.Key,
		State:    "open",
		Severity: string(r.Severity),
		Summary:  r.Summary,
		Service:  r.Service,
		Link:     r.Link,
		Labels:   r.Labels,
		Count:    1,
		FirstAt:  heard, LastAt: heard,
		Since:     heard,
		FirstSaid: r.At, LastSaid: r.At,
		Verdicts: json.RawMessage("[]"),
	}
}

// raise gives a new alert its incident, one that it joins or one of its own, with its facts, and starts what matches.
func (w *writing) raise(a *store.Alert, it *item) error {
	snapshot := a.Snapshot()
	planned := w.index.muted(snapshot, w.now)
	if planned != nil {
		a.MutedBy, a.MutedUntil = planned.Name, alert.HeardAt(planned.Until)
	}
	inc, joined, err := w.place.incidentOf(a, snapshot)
	if err != nil {
		return err
	}
	a.Incident = &inc.Number
	inc.Alerts++
	inc.Say(a.Summary)
	kind := incident.AlertRaised
	if joined {
		kind = incident.AlertJoined
	}
	if err := w.sheet.Write(inc, store.NewEntry{At: w.now, Kind: kind, Actor: "source:" + a.Source,
		Title: a.Summary, Content: a.Content()}); err != nil {
		return err
	}
	w.changed(a)
	w.keep.fresh = append(w.keep.fresh, a)
	w.sheet.Grows(inc)
	if planned != nil {
		return w.mute(a, w.at(a, inc, it), planned)
	}
	if joined {
		return w.join(a, inc, it)
	}
	if err := w.tellOpened(a, inc); err != nil {
		return err
	}
	if err := w.starts.start(a, w.at(a, inc, it), alert.New, nil); err != nil {
		return err
	}
	return w.starts.onIncident(inc)
}

// quiet is how long an alert may go on, or must not come back, after an incident of its service was closed.
func (m *moment) quiet(service string) (time.Duration, error) {
	s, err := m.tx.Service(service)
	if err != nil {
		return 0, fmt.Errorf("read the service's quiet time: %w", err)
	}
	if s != nil && s.QuietMinutes > 0 {
		return time.Duration(s.QuietMinutes) * time.Minute, nil
	}
	return quietTime, nil
}

// join starts what a joined alert starts. It is told only where it is worse than what was known.
func (w *writing) join(a *store.Alert, inc *store.Incident, it *item) error {
	first, err := w.place.firstOpen(inc)
	if err != nil {
		return err
	}
	if first {
		engine.Follow(inc, a, true)
	} else if alert.Worth(a.Severity) > alert.Worth(inc.Severity) {
		engine.Follow(inc, a, false)
		text := fmt.Sprintf("Incident %d is worse (%s): %s", inc.Number, a.Severity, a.Summary)
		if err := w.send(inc, route.IncidentWorse, "joined:"+a.ID, text); err != nil {
			return err
		}
	}
	return w.starts.start(a, w.at(a, inc, it), alert.New, nil)
}

// goesOn reports whether an alert was reported after its quiet time had passed since a moment.
func (m *moment) goesOn(a *store.Alert, since *time.Time) (bool, error) {
	quiet, err := m.quiet(a.Service)
	return err == nil && since != nil && a.LastAt.After(since.Add(quiet)), err
}

// untreat has a treatment of an alert count no more.
func (m *moment) untreat(a *store.Alert) error {
	a.TreatedRun, a.TreatedAs, a.TreatedWorth, a.TreatedAt, a.Since = "", "", 0, alert.Heard{}, m.heard()
	return m.tx.Lapse(a.ID)
}

// lapsed has a treatment count no more whose alert is still reported, its quiet time after: it is open as if it were
// raised now.
func (w *writing) lapsed(a *store.Alert, it *item) error {
	if a.TreatedRun == "" || a.Incident == nil || a.MutedBy != "" {
		return nil
	}
	on, err := w.goesOn(a, &a.TreatedAt.Time)
	if err != nil || !on {
		return err
	}
	inc, err := w.sheet.Incident(*a.Incident)
	if err != nil || inc.State != "open" {
		return err
	}
	since := plain.Span(w.now.Sub(a.TreatedAt.Time).Round(time.Minute))
	if err := w.untreat(a); err != nil {
		return err
	}
	if err := w.sheet.Write(inc, store.NewEntry{
		At: w.now, Kind: incident.AlertLapsed, Actor: "source:" + a.Source, Content: a.Content(),
		Title: fmt.Sprintf("Still there, %s after it was treated: %s", since, a.Summary),
	}); err != nil {
		return err
	}
	if err := w.starts.start(a, w.at(a, inc, it), alert.New, nil); err != nil {
		return err
	}
	w.changed(a)
	return w.tx.KeepVerdicts(a)
}

// repeated begins what starts at each report of an alert, where anything does.
func (w *writing) repeated(a *store.Alert, it *item) error {
	if a.Incident == nil || !w.index.index.Judges(alert.Repeat) {
		return nil
	}
	snapshot := a.Snapshot()
	if !slices.ContainsFunc(w.index.index.Match(snapshot, alert.Repeat), func(v trigger.Verdict) bool {
		return v.Started
	}) {
		return nil
	}
	inc, err := w.sheet.Incident(*a.Incident)
	if err != nil {
		return err
	}
	return w.starts.also(w.at(a, inc, it), alert.Repeat)
}

// alter writes down that an open alert is worse, better or cleared. What is worse may start more.
func (w *writing) alter(a *store.Alert, it *item, change alert.Change) error {
	was, r := a.Severity, it.report
	if it.why == "" {
		a.Count, a.LastAt, a.LastSaid = a.Count+int64(it.times), w.heard(), r.At
	}
	if change == alert.Clear {
		a.State, a.ClearedAt = "cleared", w.heard()
		w.place.over(a)
	} else {
		a.Severity, a.Summary, a.Labels, a.Link = string(r.Severity), r.Summary, r.Labels, r.Link
		if change == alert.Worse {
			a.Since = w.heard()
		}
	}
	// The runs first, then their incident: in that order everybody locks them.
	news := flow.AlertChanged{
		State:    a.State,
		Severity: a.Severity,
		Cleared:  change == alert.Clear,
		Worse:    change == alert.Worse,
	}
	if err := w.sheet.AlertChanged(a.ID, news); err != nil {
		return err
	}
	if a.Incident == nil {
		return w.tx.Save(a)
	}
	inc, err := w.sheet.Incident(*a.Incident)
	if err != nil {
		return err
	}
	if err := w.record(a, inc, it, change, was); err != nil {
		return err
	}
	if err := w.follows(a, w.at(a, inc, it), change); err != nil {
		return err
	}
	inc.Say(a.Summary)
	w.changed(a)
	if change == alert.Clear || change == alert.Better {
		w.sheet.MayEnd(inc)
	}
	if err := w.tx.Save(a); err != nil || change == alert.Worse {
		return err
	}
	return w.sheet.FollowWorst(inc)
}

// record writes down that an alert changed, from the severity that it was.
func (w *writing) record(a *store.Alert, inc *store.Incident, it *item, change alert.Change, was string) error {
	titles := map[alert.Change]string{alert.Worse: "Worse: ", alert.Better: "Better: ", alert.Clear: "Cleared: "}
	content := a.Content()
	content.Was = was
	actor := "source:" + a.Source
	if it.why != "" {
		content.Why, actor = it.why, "urgentis"
	}
	return w.sheet.Write(inc, store.NewEntry{At: w.now, Kind: incident.AlertKind(string(change)),
		Actor: actor, Title: titles[change] + a.Summary, Content: content})
}

// follows drops the starts for which an alert that changed is no more what they wait for, and begins what the change
// starts.
func (w *writing) follows(a *store.Alert, on occasion, change alert.Change) error {
	verdicts, dropped, err := w.starts.letGo(a, on)
	if err != nil {
		return err
	}
	if change == alert.Worse {
		verdicts, err = w.worse(a, on.inc, verdicts)
		if err == nil && a.MutedBy == "" {
			err = w.starts.start(a, on, alert.Worse, verdicts)
		}
	} else {
		err = w.starts.also(on, change)
	}
	if err != nil || !dropped {
		return err
	}
	if verdicts, err = verdictsOf(a); err != nil {
		return err
	}
	return w.starts.settled(a, on, verdicts)
}

// worse tells that an alert became worse, to a record that was closed too: that is opened again, and what started for
// it before starts again. It gives what started before and need not.
func (w *writing) worse(a *store.Alert, inc *store.Incident, verdicts []trigger.Verdict) ([]trigger.Verdict, error) {
	kind := route.IncidentWorse
	text := fmt.Sprintf("Incident %d is worse (%s): %s", inc.Number, a.Severity, a.Summary)
	if inc.State != "open" && a.MutedBy == "" {
		verdicts, kind = nil, route.IncidentReopened
		text = fmt.Sprintf("Incident %d is open again, its alert is worse (%s): %s", inc.Number, a.Severity, a.Summary)
		if err := w.reopen(inc, "the alert became worse after it was closed"); err != nil {
			return nil, err
		}
	}
	if alert.Worth(a.Severity) >= alert.Worth(inc.Severity) {
		engine.Follow(inc, a, false)
	}
	if a.MutedBy != "" {
		return verdicts, nil // planned work tells nobody
	}
	return verdicts, w.send(inc, kind, fmt.Sprintf("worse:%d", a.Count), text)
}

// quietTime is how long an alert may go on after its incident was closed, unless its service says otherwise.
const quietTime = 15 * time.Minute

// stillThere opens an incident again whose alert goes on after it was closed.
func (w *writing) stillThere(a *store.Alert, it *item) error {
	id := it.identity()
	closed, was := w.count.closed[id]
	if !was || a.Incident == nil || a.MutedBy != "" {
		return nil
	}
	quiet, err := w.quiet(a.Service)
	if err != nil {
		return err
	}
	if w.now.Before(closed.Add(quiet)) {
		return nil
	}
	delete(w.count.closed, id)
	inc, err := w.sheet.Incident(*a.Incident)
	if err != nil || inc.State == "open" {
		return err
	}
	if err := w.reopen(inc, fmt.Sprintf("the alert is still there, %s after it was closed",
		plain.Span(w.now.Sub(closed).Round(time.Minute)))); err != nil {
		return err
	}
	if err := w.untreat(a); err != nil {
		return err
	}
	text := fmt.Sprintf("Incident %d is open again, its alert is still there (%s): %s", inc.Number, a.Severity,
		a.Summary)
	if err := w.send(inc, route.IncidentReopened, fmt.Sprintf("still:%d", a.Count), text); err != nil {
		return err
	}
	if err := w.starts.start(a, w.at(a, inc, it), alert.New, nil); err != nil {
		return err
	}
	w.changed(a)
	return w.tx.KeepVerdicts(a) // its count is written already, or later
}

// reopen opens an incident again, and says why.
func (m *moment) reopen(inc *store.Incident, because string) error {
	if err := m.sheet.OpenAgain(inc, "nobody"); err != nil {
		return err
	}
	return m.sheet.Write(
		inc,
		store.NewEntry{
			At:      m.now,
			Kind:    incident.Reopened,
			Actor:   "urgentis",
			Title:   "Open again: " + because,
			Content: incident.HeadContent{Because: because},
		},
	)
}
