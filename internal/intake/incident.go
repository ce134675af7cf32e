package intake

import (
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"urgentis/core/alert"
	"urgentis/core/expr"
	"urgentis/core/flow"
	"urgentis/core/incident"
	"urgentis/core/plain"
	"urgentis/core/trigger"
	"urgentis/internal/engine"
	"urgentis/internal/store"
)

// raise opens an incident for a new alert, with its facts, and starts what matches.
func (w *writing) raise(a *store.Alert) error {
	title := a.Summary
	if r := []rune(title); len(r) > 200 {
		title = string(r[:199]) + "…"
	}
	inc := &store.Incident{
		Title:     title,
		State:     "open",
		WaitingOn: "nobody",
		Severity:  a.Severity,
		Service:   a.Service,
		OpenedAt:  w.now,
	}
	if err := w.sheet.Open(inc); err != nil {
		return err
	}
	a.Incident = &inc.Number
	if err := w.sheet.Write(inc, store.NewEntry{At: w.now, Kind: incident.AlertRaised, Actor: "source:" + a.Source,
		Title: a.Summary, Content: Snapshot(a)}); err != nil {
		return err
	}
	w.opened = append(w.opened, inc.Number)
	w.changed(a)
	w.fresh = append(w.fresh, a)
	if m := w.index.muted(Snapshot(a), w.now); m != nil {
		return w.mute(a, inc, m)
	}
	if err := w.tellOpened(a, inc); err != nil {
		return err
	}
	if err := w.start(a, inc, alert.New, nil); err != nil {
		return err
	}
	return w.onIncident(inc)
}

// onIncident begins what starts as an incident is opened, by whatever means.
func (w *writing) onIncident(inc *store.Incident) error {
	names := map[string]any{"incident": map[string]any{
		"number": inc.Number, "title": inc.Title, "severity": inc.Severity, "service": inc.Service,
	}}
	for _, which := range w.index.order {
		s := w.index.starts[which]
		if s.Incident == nil {
			continue
		}
		v := &trigger.Verdict{Runbook: which.Runbook, Name: which.Start}
		ok, err := s.Incident.Bool(&expr.Scope{Names: names})
		if err != nil {
			v.Error = err.Error()
			w.fire(*v, nil, inc, store.FiredBack)
		}
		if !ok {
			continue
		}
		w.names = names
		err = w.begin(v, nil, inc, 1)
		w.names = nil
		if err != nil {
			return err
		}
		if v.Started && inc.WaitingOn == "person" {
			inc.WaitingOn = "nobody"
		}
	}
	return nil
}

func (w *writing) tellOpened(a *store.Alert, inc *store.Incident) error {
	return w.send(inc, engine.IncidentOpened, "opened", fmt.Sprintf("Incident %d (%s): %s", inc.Number, a.Severity,
		a.Summary))
}

// mute writes down that planned work holds an alert back: nothing starts and nobody is told, until that is over and the
// alert still there.
func (w *writing) mute(a *store.Alert, inc *store.Incident, m *trigger.Mute) error {
	verdicts := w.index.verdicts(Snapshot(a), alert.New)
	for i := range verdicts {
		if v := &verdicts[i]; v.Started {
			v.Started, v.Error = false, w.index.heldBack(which(*v), Snapshot(a), w.now)
			w.fire(*v, Snapshot(a), inc, store.FiredBack)
		}
	}
	var err error
	if a.Verdicts, err = json.Marshal(verdicts); err != nil {
		return err
	}
	if err := w.tx.AddWaiting(store.Waiting{Alert: a.ID, Start: muteEnds}, m.Until); err != nil {
		return err
	}
	return w.sheet.Write(inc, store.NewEntry{At: w.now, Kind: incident.AlertMuted, Actor: "mute:" + m.Name,
		Title: fmt.Sprintf("Planned work until %s: nothing starts and nobody is told",
			m.Until.UTC().Format("2006-01-02 15:04 MST")),
		Content: map[string]any{"mute": m.Name, "until": m.Until.UTC(), "because": m.Because}})
}

// muteEnds is what waits for the end of a mute, in the place of a start.
const muteEnds = "mute"

// unmute looks at an alert again when its mute should be over: it is muted still, or there, or gone.
func (w *writing) unmute(a *store.Alert) error {
	if err := w.tx.DropWaiting(store.Waiting{Alert: a.ID, Start: muteEnds}); err != nil || a.Incident == nil {
		return err
	}
	if a.State != "open" {
		return nil
	}
	inc, err := w.sheet.Incident(*a.Incident)
	if err != nil || inc.State != "open" {
		return err
	}
	if m := w.index.muted(Snapshot(a), w.now); m != nil {
		return w.tx.AddWaiting(store.Waiting{Alert: a.ID, Start: muteEnds}, m.Until)
	}
	if err := w.sheet.Write(inc, store.NewEntry{At: w.now, Kind: incident.AlertMuted, Actor: "urgentis",
		Title: "The planned work is over, and the alert is still there", Content: Snapshot(a)}); err != nil {
		return err
	}
	if err := w.tellOpened(a, inc); err != nil {
		return err
	}
	if err := w.start(a, inc, alert.New, nil); err != nil {
		return err
	}
	w.changed(a)
	return w.tx.Save(a)
}

// repeated begins what starts at each report of an alert, where anything does.
func (w *writing) repeated(a *store.Alert, times int) error {
	if a.Incident == nil || !w.index.index.Judges(alert.Repeat) {
		return nil
	}
	snapshot := Snapshot(a)
	if !slices.ContainsFunc(w.index.index.Match(snapshot, alert.Repeat), func(v trigger.Verdict) bool {
		return v.Started
	}) {
		return nil
	}
	inc, err := w.sheet.Incident(*a.Incident)
	if err != nil {
		return err
	}
	return w.also(a, inc, alert.Repeat, times)
}

func (w *writing) changed(a *store.Alert) {
	w.sheet.Changed(
		store.Feed{Topic: "alert", Ref: a.ID, Incident: a.Incident, Service: a.Service},
		store.Feed{Topic: "incident", Ref: fmt.Sprint(*a.Incident), Incident: a.Incident, Service: a.Service})
}

func (w *writing) send(inc *store.Incident, kind engine.NoticeKind, key, text string) error {
	return w.sheet.Notify(engine.Notice{
		Kind: kind, Key: fmt.Sprintf("i%d:%s:room", inc.Number, key), Text: text, Incident: &inc.Number,
		Link: fmt.Sprintf("%s/incidents/%d", w.in.engine.Link, inc.Number),
	})
}

// alter writes down that an open alert is worse, better or cleared. What is worse may start more.
func (w *writing) alter(a *store.Alert, it *item, change alert.Change) error {
	was, r := a.Severity, it.report
	if it.why == "" {
		a.Count, a.LastAt = a.Count+int64(it.times), r.At
	}
	if change == alert.Clear {
		a.State = "cleared"
	} else {
		a.Severity, a.Summary, a.Labels, a.Link = string(r.Severity), r.Summary, r.Labels, r.Link
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
	if a.Incident != nil {
		inc, err := w.sheet.Incident(*a.Incident)
		if err != nil {
			return err
		}
		titles := map[alert.Change]string{alert.Worse: "Worse: ", alert.Better: "Better: ", alert.Clear: "Cleared: "}
		content := Snapshot(a)
		content["was"] = was
		actor := "source:" + a.Source
		if it.why != "" {
			content["why"], actor = it.why, "urgentis"
		}
		if err := w.sheet.Write(inc, store.NewEntry{At: w.now, Kind: incident.AlertKind(string(change)),
			Actor: actor, Title: titles[change] + a.Summary, Content: content}); err != nil {
			return err
		}
		verdicts, err := w.letGo(a, inc)
		if err != nil {
			return err
		}
		if change == alert.Worse {
			if verdicts, err = w.worse(a, inc, verdicts); err != nil {
				return err
			}
			if w.index.muted(Snapshot(a), w.now) == nil {
				if err := w.start(a, inc, alert.Worse, verdicts); err != nil {
					return err
				}
			}
		} else if err := w.also(a, inc, change, it.times); err != nil {
			return err
		}
		w.changed(a)
	}
	return w.tx.Save(a)
}

// worse tells that an alert became worse, to a record that was closed too: that is opened again, and what started for
// it before starts again. It gives what started before and need not.
func (w *writing) worse(a *store.Alert, inc *store.Incident, verdicts []trigger.Verdict) ([]trigger.Verdict, error) {
	kind := engine.IncidentWorse
	text := fmt.Sprintf("Incident %d is worse (%s): %s", inc.Number, a.Severity, a.Summary)
	if inc.State != "open" {
		verdicts, kind = nil, engine.IncidentReopened
		text = fmt.Sprintf("Incident %d is open again, its alert is worse (%s): %s", inc.Number, a.Severity, a.Summary)
		if err := w.reopen(inc, "the alert became worse after it was closed"); err != nil {
			return nil, err
		}
	}
	inc.Severity = a.Severity
	return verdicts, w.send(inc, kind, fmt.Sprintf("worse:%d", a.Count), text)
}

// quietTime is how long an alert may go on after its incident was closed, unless its service says otherwise.
const quietTime = 15 * time.Minute

// stillThere opens an incident again whose alert goes on after it was closed.
func (w *writing) stillThere(id string, a *store.Alert) error {
	closed, was := w.closed[id]
	if !was || a.Incident == nil {
		return nil
	}
	quiet := quietTime
	service, err := w.tx.Service(a.Service)
	if err != nil {
		return fmt.Errorf("read the service's quiet time: %w", err)
	}
	if service != nil && service.QuietMinutes > 0 {
		quiet = time.Duration(service.QuietMinutes) * time.Minute
	}
	if w.now.Before(closed.Add(quiet)) {
		return nil
	}
	delete(w.closed, id)
	inc, err := w.sheet.Incident(*a.Incident)
	if err != nil || inc.State == "open" {
		return err
	}
	if err := w.reopen(inc, fmt.Sprintf("the alert is still there, %s after it was closed",
		plain.Span(w.now.Sub(closed).Round(time.Minute)))); err != nil {
		return err
	}
	if err := w.send(inc, engine.IncidentReopened, fmt.Sprintf("still:%d", a.Count), fmt.Sprintf("Incident %d is "+
		"open again, its alert is "+
		"still there (%s): %s", inc.Number, a.Severity, a.Summary)); err != nil {
		return err
	}
	if err := w.start(a, inc, alert.New, nil); err != nil {
		return err
	}
	w.changed(a)
	return w.tx.Save(a)
}

func (w *writing) reopen(inc *store.Incident, because string) error {
	inc.State, inc.WaitingOn, inc.Outcome, inc.Because, inc.ResolvedAt = "open", "nobody", "", "", nil
	return w.sheet.Write(
		inc,
		store.NewEntry{
			At:      w.now,
			Kind:    incident.Reopened,
			Actor:   "urgentis",
			Title:   "Open again: " + because,
			Content: map[string]any{"because": because},
		},
	)
}
