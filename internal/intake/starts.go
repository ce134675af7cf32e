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

// starting is the stage that begins runs, once it is known which incident they are for.
type starting struct {
	*moment
	place *placing
	// firings are what came of triggers, begun the incidents on which a run works, working the runs by what they are
	// for.
	firings []*store.Firing
	begun   map[int64]bool
	working map[onceIn]store.Firing
}

func newStarting(m *moment, p *placing) *starting {
	return &starting{moment: m, place: p, begun: map[int64]bool{}, working: map[onceIn]store.Firing{}}
}

// occasion is what a start is judged at.
type occasion struct {
	alert   map[string]any  // as it is now; nil where it is about none
	names   map[string]any  // what else its inputs see
	inc     *store.Incident // nil without one
	times   int             // how often it came; 0 is once
	payload string          // what it came with; "" without that
}

// at is the occasion that an alert is, as an item reported it; that may be nil.
func (w *writing) at(a *store.Alert, inc *store.Incident, it *item) occasion {
	on := occasion{alert: a.Snapshot(), inc: inc}
	if it != nil {
		on.times, on.payload = it.times, w.keep.idOf(it.payload)
	}
	return on
}

// start begins the runbooks that the alert starts as it changes, save those it started before or that wait whether it
// stays so. before is nil for an alert that is new.
func (s *starting) start(
	a *store.Alert, on occasion, c alert.Change, before []trigger.Verdict,
) error {
	on.times = 1
	verdicts := keepWhatBegan(s.index.verdicts(on.alert, c), before)
	for i := range verdicts {
		v := &verdicts[i]
		if !v.Started ||
			slices.ContainsFunc(before, func(old trigger.Verdict) bool { return same(old, *v) && began(old) }) {
			v.Started = v.Started && v.StartsAt == nil
			continue
		}
		if at := s.index.hoursBegin(which(*v), s.now); !at.IsZero() {
			if err := s.untilHours(a, on, v, at); err != nil {
				return err
			}
			continue
		}
		if st := s.startOf(*v); st.Steady > 0 {
			if err := s.wait(a, on, v, st.Steady); err != nil {
				return err
			}
			continue
		}
		if err := s.begin(v, on); err != nil {
			return err
		}
	}
	var err error
	if a.Verdicts, err = json.Marshal(verdicts); err != nil {
		return err
	}
	if before != nil || slices.ContainsFunc(verdicts, began) || on.inc.WaitingOn == "person" {
		return nil
	}
	return s.nothingStarted(on, verdicts)
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
func (s *starting) nothingStarted(on occasion, verdicts []trigger.Verdict) error {
	inc := on.inc
	active, err := s.works(inc)
	if err != nil || active {
		return err
	}
	inc.WaitingOn = "person"
	if err := s.sheet.Write(inc, store.NewEntry{At: s.now, Kind: incident.NothingStarted, Actor: "urgentis",
		Title:   "No runbook starts by itself; a person is needed",
		Content: incident.RunContent{Verdicts: verdicts}}); err != nil {
		return err
	}
	if err := s.firstLook(on); err != nil {
		return err
	}
	if err := s.sheet.TellNow(inc.Number); err != nil || route.Bad(inc.Severity) {
		return err // somebody is called for what is bad
	}
	return s.send(inc, route.NobodyStarted, "nobody", fmt.Sprintf(
		"No runbook starts by itself for incident %d; a person is needed: %s", inc.Number, inc.Title))
}

// firstLook begins the first look of an incident's service, so that its record has a photograph of the moment. It works
// on nothing: whoever is needed still is.
func (s *starting) firstLook(on occasion) error {
	inc := on.inc
	name := s.index.firstLook[inc.Service]
	if name == "" {
		return nil
	}
	why := "there is no runbook " + name
	if b := s.index.books[name]; b != nil {
		if why = b.NoFirstLook(inc.Service); why == "" {
			st := engine.Start{Book: b, Alert: on.alert, Incident: inc, StartedBy: engine.FirstLook}
			var refused error
			if st.Inputs, refused = b.AcceptAll(nil); refused == nil {
				_, err := s.sheet.Begin(st)
				return err
			}
			why = refused.Error()
		}
	}
	return s.sheet.Write(inc, store.NewEntry{At: s.now, Kind: incident.RunRefused, Actor: engine.FirstLook,
		Title:   "First look not taken: " + name,
		Content: incident.RunContent{Runbook: name, Because: why}})
}

// works reports whether a run works on an incident that is older than this batch.
func (s *starting) works(inc *store.Incident) (bool, error) {
	if s.begun[inc.Number] {
		return true, nil
	}
	if slices.Contains(s.place.opened, inc.Number) {
		return false, nil
	}
	n, err := s.tx.Working(inc.Number, "")
	s.begun[inc.Number] = n > 0
	return n > 0, err
}

// also begins what starts at changes of an alert but those at which it is judged by default: each time anew.
func (s *starting) also(on occasion, c alert.Change) error {
	if on.inc.State != "open" {
		on.inc = nil // a record that is closed takes no new run
	}
	for _, v := range s.index.index.Match(on.alert, c) {
		if !v.Started {
			continue
		}
		if err := s.begin(&v, on); err != nil {
			return err
		}
	}
	return nil
}

// startOf finds the start that a verdict is about; an empty one where there is none any more.
func (s *starting) startOf(v trigger.Verdict) *trigger.Start {
	if s := s.index.starts[which(v)]; s != nil {
		return s
	}
	return &trigger.Start{}
}

// onIncident begins what starts as an incident is opened, by whatever means.
func (s *starting) onIncident(inc *store.Incident) error {
	on := occasion{inc: inc, names: map[string]any{"incident": map[string]any{
		"number": inc.Number, "title": inc.Title, "severity": inc.Severity, "service": inc.Service,
	}}}
	for _, which := range s.index.order {
		st := s.index.starts[which]
		if st.Incident == nil {
			continue
		}
		v := &trigger.Verdict{Runbook: which.Runbook, Name: which.Start}
		ok, err := st.Incident.Bool(&expr.Scope{Names: on.names})
		if err != nil {
			v.Error = err.Error()
			s.fire(*v, on, store.FiredBack)
		}
		if !ok {
			continue
		}
		if err := s.begin(v, on); err != nil {
			return err
		}
		if v.Started && inc.WaitingOn == "person" {
			inc.WaitingOn = "nobody"
		}
	}
	return nil
}

func which(v trigger.Verdict) Which { return Which{v.Runbook, v.Name} }

// begin begins the run of a verdict, or writes down why it cannot.
func (s *starting) begin(v *trigger.Verdict, on occasion) error {
	v.StartsAt, v.HoursAt = nil, nil
	back, err := s.keptBack(*v, on)
	if err != nil {
		return err
	}
	if back != "" {
		v.Started, v.Error = false, back
		s.fire(*v, on, store.FiredBack)
		return nil
	}
	st, refused := s.prepare(*v, on)
	if refused == nil {
		run, err := s.underWay(st, on.inc)
		if err != nil {
			return err
		}
		if run != "" {
			v.Started, v.Error = false, "a run for the same is under way: "+run
			if on.alert != nil {
				same := engine.ForAlert(store.TreatsSame, on.alert)
				same.Run = run
				s.sheet.Same(same)
			}
			s.fire(*v, on, store.FiredAlready)
			return nil
		}
		if refused, err = s.tooOften(*v); err != nil {
			return err
		}
	}
	if refused == nil {
		refused = s.beginRun(v, st, on)
	}
	if v.Started = refused == nil; v.Started {
		s.tally("started")
		return nil
	}
	return s.refuse(v, on, refused)
}

// beginRun begins a run. What the database refuses fails the transaction by itself; what is left is a runbook that
// cannot begin.
func (s *starting) beginRun(v *trigger.Verdict, st engine.Start, on occasion) error {
	runs, err := s.sheet.Begin(st)
	if err != nil {
		return err
	}
	f := s.fire(*v, on, store.FiredStarted)
	f.Run = runs[0].ID
	if on.inc != nil {
		f.Once = once(st)
		s.begun[on.inc.Number] = true
		s.working[onceIn{on.inc.Number, f.Once}] = *f
	}
	return nil
}

// refuse writes down that a runbook did not start though it should have.
func (s *starting) refuse(v *trigger.Verdict, on occasion, refused error) error {
	inc := on.inc
	s.tally("refused")
	v.Error = refused.Error()
	s.fire(*v, on, store.FiredRefused)
	text := fmt.Sprintf("Runbook %s did not start: %s", v.Runbook, v.Error)
	if inc == nil {
		return s.sheet.Notify(engine.Notice{
			Kind: route.RunRefused, Key: store.NewID("refused"), Text: text, Link: s.in.engine.Link +
				"/runbooks/" + v.Runbook,
		})
	}
	err := s.sheet.Write(
		inc,
		store.NewEntry{
			At:      s.now,
			Kind:    incident.RunRefused,
			Actor:   actor(*v),
			Title:   "Runbook not started: " + v.Runbook,
			Content: incident.RunContent{Runbook: v.Runbook, Trigger: v.Name, Because: v.Error},
		},
	)
	if err != nil {
		return err
	}
	return s.send(
		inc,
		route.RunRefused,
		"refused:"+v.Runbook+":"+v.Name,
		fmt.Sprintf("Incident %d: runbook %s did not start: %s", inc.Number, v.Runbook, v.Error),
	)
}

// keptBack says why a trigger whose condition holds does not start; "" where nothing keeps it.
func (s *starting) keptBack(v trigger.Verdict, on occasion) (string, error) {
	if why := s.index.heldBack(which(v), on.alert, s.now); why != "" {
		return why, nil
	}
	st := s.startOf(v)
	if st.Count == 0 {
		return "", nil
	}
	n, err := s.tx.CountOccasion(v.Runbook, v.Name, st.Within, s.now, max(1, on.times), st.Count)
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
func (s *starting) underWay(st engine.Start, inc *store.Incident) (string, error) {
	if inc == nil {
		return "", nil
	}
	key := onceIn{inc.Number, once(st)}
	f, known := s.working[key]
	if !known && !slices.Contains(s.place.opened, inc.Number) {
		found, err := s.tx.UnderWay(inc.Number, key.once)
		if err != nil || found == nil {
			return "", err
		}
		f = *found
		s.working[key] = f
	}
	if id, _ := st.Alert["id"].(string); f.Alert == id {
		return "", nil // its own alert started it: another start of that is another matter
	}
	return f.Run, nil
}

// fire notes what came of an occasion.
func (s *starting) fire(v trigger.Verdict, on occasion, result string) *store.Firing {
	f := &store.Firing{
		Runbook: v.Runbook, Start: v.Name, At: s.now, Result: result, Why: v.Error, Payload: on.payload,
	}
	if id, ok := on.alert["id"].(string); ok {
		f.Alert = id
	}
	if on.inc != nil {
		f.Incident = &on.inc.Number
	}
	s.firings = append(s.firings, f)
	return f
}

func actor(v trigger.Verdict) string { return "trigger:" + which(v).Full() }

// prepare renders and checks the inputs of a start.
func (s *starting) prepare(v trigger.Verdict, on occasion) (engine.Start, error) {
	b := s.index.books[v.Runbook]
	if b == nil {
		return engine.Start{}, fmt.Errorf("there is no runbook %s", v.Runbook)
	}
	st := engine.Start{Book: b, Alert: on.alert, Incident: on.inc, StartedBy: actor(v),
		Treats: []store.Treats{engine.ForAlert(store.TreatsStarted, on.alert)}}
	given, err := field.Values(s.startOf(v).Inputs, &expr.Scope{Alert: on.alert, Names: on.names})
	if err != nil {
		return st, fmt.Errorf("input %w", err)
	}
	st.Inputs, err = b.AcceptAll(given)
	return st, err
}

// tooOften counts a start against its bound, and says so where that is reached.
func (s *starting) tooOften(v trigger.Verdict) (refused, err error) {
	st := s.startOf(v)
	if st.AtMost == 0 {
		return nil, nil
	}
	counted, err := s.tx.CountStart(v.Runbook, v.Name, st.AtMost, s.now.Add(-st.Per), s.now)
	if err == nil && !counted {
		refused = fmt.Errorf(
			"it may start %d per %s at most, and has: a person is needed",
			st.AtMost,
			plain.Span(st.Per),
		)
	}
	return refused, err
}

// tally counts what became of a start, once it is on disk.
func (s *starting) tally(result string) {
	s.tx.After(func(committed bool) {
		if committed {
			meter.Starts.WithLabelValues(result).Inc()
		}
	})
}
