package intake

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"sync"

	"gorm.io/gorm"

	"urgentis/core/alert"
	"urgentis/core/expr"
	"urgentis/core/flow"
	"urgentis/core/runbook"
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
		if change == alert.Worse && inc.State == "open" {
			inc.Severity = a.Severity
		}
		if change == alert.Worse && inc.State == "open" {
			var before []trigger.Verdict
			if err := json.Unmarshal(a.Verdicts, &before); err != nil {
				return err
			}
			if err := w.start(a, inc, before); err != nil {
				return err
			}
		}
		w.changed(a)
	}
	return w.tx.Save(a).Error
}

// maxExplained bounds for how many triggers the alert keeps why they did not start.
const maxExplained = 200

// start begins the runbooks that the alert starts, save those it started before.
func (w *writing) start(a *store.Alert, inc *store.Incident, before []trigger.Verdict) error {
	snapshot := Snapshot(a)
	verdicts := w.index.index.Match(snapshot)
	if len(w.index.books) <= maxExplained {
		verdicts = w.index.index.Explain(snapshot)
	}
	started := map[string]bool{}
	for _, v := range before {
		started[v.Runbook+"/"+v.Name] = v.Started
	}
	var err error
	var starts []engine.Start
	for i, v := range verdicts {
		again := started[v.Runbook+"/"+v.Name]
		if v.Started && !again {
			st, refused := w.prepare(v, snapshot, inc)
			if refused != nil {
				verdicts[i].Started, verdicts[i].Error = false, refused.Error()
				if err := w.refused(inc, v, refused); err != nil {
					return err
				}
				continue
			}
			starts = append(starts, st)
		}
		verdicts[i].Started = v.Started || again
	}
	if a.Verdicts, err = json.Marshal(verdicts); err != nil {
		return err
	}
	if len(starts) == 0 && before == nil {
		inc.WaitingOn = "person"
		if err := w.sheet.Write(inc, store.NewEntry{At: w.now, Kind: "nothing.started", Actor: "urgentis", Title: "No runbook starts by itself; a person is needed", Content: map[string]any{"verdicts": verdicts}}); err != nil {
			return err
		}
		if err := w.send(inc, "nobody", fmt.Sprintf("Incident %d: no runbook starts by itself; a person is needed.", inc.Number)); err != nil {
			return err
		}
	}
	_, err = w.sheet.Begin(starts...)
	return err
}

// refused writes into the record that a runbook matched and could not start, and tells people.
func (w *writing) refused(inc *store.Incident, v trigger.Verdict, why error) error {
	err := w.sheet.Write(inc, store.NewEntry{At: w.now, Kind: "run.refused", Actor: "trigger:" + v.Runbook + "/" + v.Name,
		Title: "Runbook not started: " + v.Runbook, Content: map[string]any{"runbook": v.Runbook, "trigger": v.Name, "because": why.Error()}})
	if err != nil {
		return err
	}
	return w.send(inc, "refused:"+v.Runbook+":"+v.Name, fmt.Sprintf("Incident %d: runbook %s did not start: %s", inc.Number, v.Runbook, why))
}

// prepare renders and checks the inputs of a start.
func (w *writing) prepare(v trigger.Verdict, snapshot map[string]any, inc *store.Incident) (engine.Start, error) {
	b := w.index.books[v.Runbook]
	st := engine.Start{Book: b, Alert: snapshot, Incident: inc, StartedBy: "trigger:" + v.Runbook + "/" + v.Name}
	given := map[string]any{}
	for _, s := range b.Starts {
		if s.Name != v.Name {
			continue
		}
		for name, t := range s.Inputs {
			val, err := t.Value(&expr.Scope{Alert: snapshot})
			if err != nil {
				return st, fmt.Errorf("input %s: %w", name, err)
			}
			given[name] = val
		}
	}
	var err error
	st.Inputs, err = b.AcceptAll(given)
	return st, err
}

// cache keeps the triggers of all runbooks, as they were last pushed.
type cache struct {
	mu      sync.Mutex
	version string
	loaded  *loaded
}

type loaded struct {
	index *trigger.Index
	books map[string]*runbook.Book
}

func (c *cache) load(ctx context.Context, tx *gorm.DB, e *engine.Engine) (*loaded, error) {
	var rows []struct {
		Name     string
		Revision string
	}
	var version string
	if err := tx.Raw("select count(*) || '/' || coalesce(sum(number), 0) from runbook").Scan(&version).Error; err != nil {
		return nil, err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.loaded != nil && c.version == version {
		return c.loaded, nil
	}
	if err := tx.Raw("select r.name, v.revision from runbook r join revision v on v.name = r.name and v.number = r.number order by r.name").Scan(&rows).Error; err != nil {
		return nil, fmt.Errorf("read runbooks: %w", err)
	}
	l := &loaded{books: map[string]*runbook.Book{}}
	var all []trigger.Trigger
	var bad []string
	for _, r := range rows {
		b, err := e.Book(ctx, r.Revision)
		if err != nil {
			bad = append(bad, err.Error())
			continue
		}
		l.books[r.Name] = b
		for _, s := range b.Starts {
			all = append(all, trigger.Trigger{Runbook: r.Name, Name: s.Name, Condition: s.Alert})
		}
	}
	if len(bad) > 0 {
		e.Log.Error("runbooks that this program cannot read do not start", "runbooks", strings.Join(bad, "; "))
	}
	l.index = trigger.New(all)
	c.version, c.loaded = version, l
	return l, nil
}
