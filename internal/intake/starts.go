package intake

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"slices"

	"urgentis/core/alert"
	"urgentis/core/expr"
	"urgentis/core/field"
	"urgentis/core/incident"
	"urgentis/core/plain"
	"urgentis/core/route"
	"urgentis/core/trigger"
	"urgentis/internal/engine"
	"urgentis/internal/meter"
	"urgentis/internal/store"
)

// maxExplained bounds for how many triggers the alert keeps why they did not start.
const maxExplained = 200

// start begins the runbooks that the alert starts as it changes, save those it started before or that wait whether it
// stays so. before is nil for an alert that is new.
func (w *writing) start(
	a *store.Alert, inc *store.Incident, c alert.Change, before []trigger.Verdict,
) error {
	snapshot := a.Snapshot()
	verdicts := keepWhatBegan(w.index.verdicts(snapshot, c), before)
	for i := range verdicts {
		v := &verdicts[i]
		if !v.Started ||
			slices.ContainsFunc(before, func(old trigger.Verdict) bool { return same(old, *v) && began(old) }) {
			v.Started = v.Started && v.StartsAt == nil
			continue
		}
		if at := w.index.hoursBegin(which(*v), w.now); !at.IsZero() {
			if err := w.untilHours(a, inc, v, at); err != nil {
				return err
			}
			continue
		}
		if st := w.occasion(*v); st.Steady > 0 {
			if err := w.hold(a, inc, v, st.Steady); err != nil {
				return err
			}
			continue
		}
		if err := w.begin(v, snapshot, inc, 1); err != nil {
			return err
		}
	}
	var err error
	if a.Verdicts, err = json.Marshal(verdicts); err != nil {
		return err
	}
	if before != nil || slices.ContainsFunc(verdicts, began) || inc.WaitingOn == "person" {
		return nil
	}
	return w.nothingStarted(inc, verdicts, snapshot)
}

func same(a, b trigger.Verdict) bool { return a.Runbook == b.Runbook && a.Name == b.Name }

// began reports whether a runbook was begun, or waits.
func began(v trigger.Verdict) bool { return v.Started || v.StartsAt != nil }

// keepWhatBegan carries over what an alert started before.
func keepWhatBegan(verdicts, before []trigger.Verdict) []trigger.Verdict {
	for _, old := range before {
		i := slices.IndexFunc(verdicts, func(v trigger.Verdict) bool { return same(v, old) })
		switch {
		case i < 0 && old.Started:
			verdicts = append(verdicts, old)
		case i >= 0:
			verdicts[i].StartsAt, verdicts[i].HoursAt = old.StartsAt, old.HoursAt
			if old.Started {
				verdicts[i] = old
			}
		}
	}
	return verdicts
}

// nothingStarted says that a person is needed, as no runbook starts by itself and none works on the incident.
func (w *writing) nothingStarted(inc *store.Incident, verdicts []trigger.Verdict, snapshot map[string]any) error {
	active, err := w.works(inc)
	if err != nil || active {
		return err
	}
	inc.WaitingOn = "person"
	if err := w.sheet.Write(inc, store.NewEntry{At: w.now, Kind: incident.NothingStarted, Actor: "urgentis",
		Title:   "No runbook starts by itself; a person is needed",
		Content: map[string]any{"verdicts": verdicts}}); err != nil {
		return err
	}
	if err := w.firstLook(inc, snapshot); err != nil {
		return err
	}
	if err := w.sheet.TellNow(inc.Number); err != nil || route.Bad(inc.Severity) {
		return err // somebody is called for what is bad
	}
	return w.send(inc, route.NobodyStarted, "nobody", fmt.Sprintf(
		"No runbook starts by itself for incident %d; a person is needed: %s", inc.Number, inc.Title))
}

// firstLook begins the first look of an incident's service, so that its record has a photograph of the moment. snapshot
// is nil where no alert opened it. It works on nothing: whoever is needed still is.
func (w *writing) firstLook(inc *store.Incident, snapshot map[string]any) error {
	name := w.index.firstLook[inc.Service]
	if name == "" {
		return nil
	}
	why := "there is no runbook " + name
	if b := w.index.books[name]; b != nil {
		if why = b.NoFirstLook(inc.Service); why == "" {
			st := engine.Start{Book: b, Alert: snapshot, Incident: inc, StartedBy: engine.FirstLook}
			var refused error
			if st.Inputs, refused = b.AcceptAll(nil); refused == nil {
				_, err := w.sheet.Begin(st)
				return err
			}
			why = refused.Error()
		}
	}
	return w.sheet.Write(inc, store.NewEntry{At: w.now, Kind: incident.RunRefused, Actor: engine.FirstLook,
		Title:   "First look not taken: " + name,
		Content: map[string]any{"runbook": name, "because": why}})
}

// works reports whether a run works on an incident that is older than this batch.
func (w *writing) works(inc *store.Incident) (bool, error) {
	if w.begun[inc.Number] {
		return true, nil
	}
	if slices.Contains(w.opened, inc.Number) {
		return false, nil
	}
	n, err := w.tx.Working(inc.Number, "")
	w.begun[inc.Number] = n > 0
	return n > 0, err
}

// also begins what starts at changes of an alert but those at which it is judged by default: each time anew.
func (w *writing) also(a *store.Alert, inc *store.Incident, c alert.Change, times int) error {
	snapshot := a.Snapshot()
	if inc.State != "open" {
		inc = nil // a record that is closed takes no new run
	}
	for _, v := range w.index.index.Match(snapshot, c) {
		if !v.Started {
			continue
		}
		if err := w.begin(&v, snapshot, inc, times); err != nil {
			return err
		}
	}
	return nil
}

// occasion finds the start that a verdict is about; an empty one where there is none any more.
func (w *writing) occasion(v trigger.Verdict) *trigger.Start {
	if s := w.index.starts[which(v)]; s != nil {
		return s
	}
	return &trigger.Start{}
}

func which(v trigger.Verdict) Which { return Which{v.Runbook, v.Name} }

// begin begins the run of a verdict, or writes down why it cannot. times is how often its occasion came.
func (w *writing) begin(v *trigger.Verdict, snapshot map[string]any, inc *store.Incident, times int) error {
	v.StartsAt, v.HoursAt = nil, nil
	back, err := w.keptBack(*v, snapshot, times)
	if err != nil {
		return err
	}
	if back != "" {
		v.Started, v.Error = false, back
		w.fire(*v, snapshot, inc, store.FiredBack)
		return nil
	}
	st, refused := w.prepare(*v, snapshot, inc)
	if refused == nil {
		run, err := w.underWay(st, inc)
		if err != nil {
			return err
		}
		if run != "" {
			v.Started, v.Error = false, "a run for the same is under way: "+run
			if snapshot != nil {
				same := engine.ForAlert(store.TreatsSame, snapshot)
				same.Run = run
				w.sheet.Same(same)
			}
			w.fire(*v, snapshot, inc, store.FiredAlready)
			return nil
		}
		if refused, err = w.tooOften(*v); err != nil {
			return err
		}
	}
	if refused == nil {
		refused = w.beginRun(v, st, snapshot, inc)
	}
	if v.Started = refused == nil; v.Started {
		w.count("started")
		return nil
	}
	return w.refuse(v, snapshot, inc, refused)
}

// beginRun begins a run. What the database refuses fails the transaction by itself; what is left is a runbook that
// cannot begin.
func (w *writing) beginRun(v *trigger.Verdict, st engine.Start, snapshot map[string]any, inc *store.Incident) error {
	runs, err := w.sheet.Begin(st)
	if err != nil {
		return err
	}
	f := w.fire(*v, snapshot, inc, store.FiredStarted)
	f.Run = runs[0].ID
	if inc != nil {
		f.Once = once(st)
		w.begun[inc.Number] = true
		w.working[onceIn{inc.Number, f.Once}] = *f
	}
	return nil
}

// refuse writes down that a runbook did not start though it should have.
func (w *writing) refuse(v *trigger.Verdict, snapshot map[string]any, inc *store.Incident, refused error) error {
	w.count("refused")
	v.Error = refused.Error()
	w.fire(*v, snapshot, inc, store.FiredRefused)
	text := fmt.Sprintf("Runbook %s did not start: %s", v.Runbook, v.Error)
	if inc == nil {
		return w.sheet.Notify(engine.Notice{
			Kind: route.RunRefused, Key: store.NewID("refused"), Text: text, Link: w.in.engine.Link +
				"/runbooks/" + v.Runbook,
		})
	}
	err := w.sheet.Write(
		inc,
		store.NewEntry{
			At:      w.now,
			Kind:    incident.RunRefused,
			Actor:   actor(*v),
			Title:   "Runbook not started: " + v.Runbook,
			Content: map[string]any{"runbook": v.Runbook, "trigger": v.Name, "because": v.Error},
		},
	)
	if err != nil {
		return err
	}
	return w.send(
		inc,
		route.RunRefused,
		"refused:"+v.Runbook+":"+v.Name,
		fmt.Sprintf("Incident %d: runbook %s did not start: %s", inc.Number, v.Runbook, v.Error),
	)
}

// keptBack says why a trigger whose condition holds does not start; "" where nothing keeps it.
func (w *writing) keptBack(v trigger.Verdict, snapshot map[string]any, times int) (string, error) {
	if why := w.index.heldBack(which(v), snapshot, w.now); why != "" {
		return why, nil
	}
	st := w.occasion(v)
	if st.Count == 0 {
		return "", nil
	}
	n, err := w.tx.CountOccasion(v.Runbook, v.Name, st.Within, w.now, times, st.Count)
	if err != nil || n >= st.Count {
		return "", err
	}
	return fmt.Sprintf("it starts each %d times within %s: this was number %d", st.Count, plain.Span(st.Within), n), nil
}

// onceIn is what a run is for, in an incident.
type onceIn struct {
	incident int64
	once     string
}

// once names what a run is for: the runbook and its inputs, and where it looks at its alert itself, what that says.
func once(st engine.Start) string {
	what := map[string]any{"runbook": st.Book.Name, "inputs": st.Inputs}
	if st.Book.LooksAtAlert() && st.Alert != nil {
		what["labels"], what["service"] = st.Alert["labels"], st.Alert["service"]
	}
	b, err := json.Marshal(what)
	if err != nil {
		return "" // it is the only one of its kind
	}
	h := sha256.Sum256(b)
	return hex.EncodeToString(h[:12])
}

// underWay finds a run that is for the same in the same incident, and was begun for another alert; "" without one.
func (w *writing) underWay(st engine.Start, inc *store.Incident) (string, error) {
	if inc == nil {
		return "", nil
	}
	key := onceIn{inc.Number, once(st)}
	f, known := w.working[key]
	if !known && !slices.Contains(w.opened, inc.Number) {
		found, err := w.tx.UnderWay(inc.Number, key.once)
		if err != nil || found == nil {
			return "", err
		}
		f = *found
		w.working[key] = f
	}
	if id, _ := st.Alert["id"].(string); f.Alert == id {
		return "", nil // its own alert started it: another start of that is another matter
	}
	return f.Run, nil
}

// fire notes what came of an occasion.
func (w *writing) fire(v trigger.Verdict, snapshot map[string]any, inc *store.Incident, result string) *store.Firing {
	f := &store.Firing{
		Runbook: v.Runbook, Start: v.Name, At: w.now, Result: result, Why: v.Error, Payload: w.request,
	}
	if id, ok := snapshot["id"].(string); ok {
		f.Alert = id
	}
	if inc != nil {
		f.Incident = &inc.Number
	}
	w.firings = append(w.firings, f)
	return f
}

func actor(v trigger.Verdict) string { return "trigger:" + which(v).Full() }

// prepare renders and checks the inputs of a start.
func (w *writing) prepare(v trigger.Verdict, snapshot map[string]any, inc *store.Incident) (engine.Start, error) {
	b := w.index.books[v.Runbook]
	if b == nil {
		return engine.Start{}, fmt.Errorf("there is no runbook %s", v.Runbook)
	}
	st := engine.Start{Book: b, Alert: snapshot, Incident: inc, StartedBy: actor(v),
		Treats: []store.Treats{engine.ForAlert(store.TreatsStarted, snapshot)}}
	given, err := field.Values(w.occasion(v).Inputs, &expr.Scope{Alert: snapshot, Names: w.names})
	if err != nil {
		return st, fmt.Errorf("input %w", err)
	}
	st.Inputs, err = b.AcceptAll(given)
	return st, err
}

// tooOften counts a start against its bound, and says so where that is reached.
func (w *writing) tooOften(v trigger.Verdict) (refused, err error) {
	st := w.occasion(v)
	if st.AtMost == 0 {
		return nil, nil
	}
	counted, err := w.tx.CountStart(v.Runbook, v.Name, st.AtMost, w.now.Add(-st.Per), w.now)
	if err == nil && !counted {
		refused = fmt.Errorf(
			"it may start %d per %s at most, and has: a person is needed",
			st.AtMost,
			plain.Span(st.Per),
		)
	}
	return refused, err
}

// count counts what became of a start, once it is on disk.
func (w *writing) count(result string) {
	w.tx.After(func(committed bool) {
		if committed {
			meter.Starts.WithLabelValues(result).Inc()
		}
	})
}
