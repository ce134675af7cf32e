package intake

import (
	"fmt"

	"urgentis/core/alert"
	"urgentis/core/flow"
	"urgentis/internal/store"
)

// raise opens an incident for a new alert, with its facts, and starts what matches.
func (w *writing) raise(a *store.Alert) error {
	title := a.Summary
	if r := []rune(title); len(r) > 200 {
		title = string(r[:199]) + "…"
	}
	inc := &store.Incident{Title: title, State: "open", WaitingOn: "nobody", Severity: a.Severity, Service: a.Service, OpenedAt: w.now}
	if err := w.sheet.Open(inc); err != nil {
		return err
	}
	a.Incident = &inc.Number
	if err := w.sheet.Write(inc, store.NewEntry{At: w.now, Kind: "alert.raised", Actor: "source:" + a.Source, Title: a.Summary, Content: Snapshot(a)}); err != nil {
		return err
	}
	if err := w.send(inc, "opened", fmt.Sprintf("Incident %d (%s): %s", inc.Number, a.Severity, a.Summary)); err != nil {
		return err
	}
	if err := w.start(a, inc, nil); err != nil {
		return err
	}
	w.changed(a)
	w.fresh = append(w.fresh, a)
	return nil
}

func (w *writing) changed(a *store.Alert) {
	w.sheet.Changed(store.Feed{Topic: "alert", Ref: a.ID, Incident: a.Incident}, store.Feed{Topic: "incident", Ref: fmt.Sprint(*a.Incident), Incident: a.Incident})
}

func (w *writing) send(inc *store.Incident, key, text string) error {
	return w.sheet.Room(&inc.Number, fmt.Sprintf("i%d:%s:room", inc.Number, key), text, fmt.Sprintf("%s/incidents/%d", w.in.engine.Link, inc.Number))
}

// alter writes down that an open alert is worse, better or cleared. What is worse may start more.
func (w *writing) alter(a *store.Alert, r alert.Report, change alert.Change) error {
	was := a.Severity
	a.Count, a.LastAt = a.Count+1, r.At
	if change == alert.Clear {
		a.State = "cleared"
	} else {
		a.Severity, a.Summary, a.Labels, a.Link = string(r.Severity), r.Summary, r.Labels, r.Link
	}
	// The runs first, then their incident: in that order everybody locks them.
	news := flow.AlertChanged{State: a.State, Severity: a.Severity, Cleared: change == alert.Clear, Worse: change == alert.Worse}
	if err := w.sheet.AlertChanged(w.tx.Statement.Context, a.ID, news); err != nil {
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
		if err := w.sheet.Write(inc, store.NewEntry{At: w.now, Kind: "alert." + string(change), Actor: "source:" + a.Source, Title: titles[change] + a.Summary, Content: content}); err != nil {
			return err
		}
		verdicts, err := w.letGo(a, inc)
		if err != nil {
			return err
		}
		if change == alert.Worse && inc.State == "open" {
			inc.Severity = a.Severity
			if err := w.start(a, inc, verdicts); err != nil {
				return err
			}
		}
		w.changed(a)
	}
	return w.tx.Save(a).Error
}
