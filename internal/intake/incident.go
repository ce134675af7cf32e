package intake

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"urgentis/core/alert"
	"urgentis/core/expr"
	"urgentis/core/flow"
	"urgentis/core/incident"
	"urgentis/core/plain"
	"urgentis/core/route"
	"urgentis/core/trigger"
	"urgentis/internal/engine"
	"urgentis/internal/store"
)

// raise gives a new alert its incident, one that it joins or one of its own, with its facts, and starts what matches.
func (w *writing) raise(a *store.Alert) error {
	snapshot := a.Snapshot()
	planned := w.index.muted(snapshot, w.now)
	if planned != nil {
		a.MutedBy, a.MutedUntil = planned.Name, alert.HeardAt(planned.Until)
	}
	inc, joined, err := w.incidentOf(a, snapshot)
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
		Title: a.Summary, Content: snapshot}); err != nil {
		return err
	}
	w.changed(a)
	w.fresh = append(w.fresh, a)
	w.sheet.Grows(inc)
	if planned != nil {
		return w.mute(a, inc, planned)
	}
	if joined {
		return w.join(a, inc)
	}
	if err := w.tellOpened(a, inc); err != nil {
		return err
	}
	if err := w.start(a, inc, alert.New, nil); err != nil {
		return err
	}
	return w.onIncident(inc)
}

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
		if i.Service != "" {
			// What is opened by hand is what its service's alerts are about from now on.
			key := incident.OfService(i.Service)
			if err := w.tx.JoinLock([]string{key}); err != nil {
				return err
			}
			w.keys[key] = store.IncidentKey{Key: key, Incident: i.Number, Until: w.now.Add(incident.DefaultWithin),
				Within: int64(incident.DefaultWithin.Seconds())}
		}
		if err := w.sheet.Write(i, store.NewEntry{At: w.now, Kind: incident.Opened, Actor: by, Title: i.Title,
			Content: map[string]any{"severity": i.Severity, "service": i.Service}}); err != nil {
			return err
		}
		w.opened = append(w.opened, i.Number)
		w.sheet.Changed(
			store.Feed{Topic: "incident", Ref: fmt.Sprint(i.Number), Incident: &i.Number, Service: i.Service},
		)
		if err := w.send(i, route.IncidentOpened, "opened", fmt.Sprintf("Incident %d (%s), opened by %s: %s", i.Number,
			i.Severity, by, i.Title)); err != nil {
			return err
		}
		if err := w.onIncident(i); err != nil {
			return err
		}
		if i.WaitingOn == "person" {
			if err := w.firstLook(i, nil); err != nil {
				return err
			}
		}
		if err := and(tx); err != nil {
			return err
		}
		return w.flush()
	})
}

// incidentOf gives the incident that a new alert joins, or opens one: that of its own condition where it is open, then
// that of those who tell of the same, then that of its own condition which was closed a moment ago, then others that
// its keys lead to.
func (w *writing) incidentOf(a *store.Alert, snapshot map[string]any) (inc *store.Incident, joined bool, err error) {
	k := w.keysOf(snapshot)
	if inc, err = w.joins(a, k); err != nil {
		return nil, false, err
	}
	if joined = inc != nil; !joined {
		inc = &store.Incident{Title: engine.TitleOf(a), State: "open", WaitingOn: "nobody", Severity: a.Severity,
			Service: a.Service, OpenedAt: w.now}
		if err := w.sheet.Open(inc); err != nil {
			return nil, false, err
		}
		w.opened = append(w.opened, inc.Number)
	}
	a.JoinKey = w.lead(k, inc)
	return inc, joined, nil
}

// joins gives the incident that an alert joins; nil where there is none.
func (w *writing) joins(a *store.Alert, k incident.Keys) (*store.Incident, error) {
	last, was := w.last[store.Identity{Source: a.Source, Key: a.Key}]
	if was && last.State == "open" {
		return w.stillOpen(last.Number)
	}
	if own := w.joinable[k.Own]; own.Incident != 0 {
		return w.stillOpen(own.Incident)
	}
	if was && a.MutedBy == "" { // planned work opens nothing again
		return w.comesBack(a, last)
	}
	for _, key := range k.Others {
		if other := w.joinable[key]; other.Incident != 0 {
			return w.stillOpen(other.Incident)
		}
	}
	return nil, nil
}

// stillOpen locks an incident that was found open. Where it is open no more the batch is taken anew: its alerts and
// keys may be another's.
func (w *writing) stillOpen(number int64) (*store.Incident, error) {
	inc, err := w.sheet.Incident(number)
	if err == nil && inc.State != "open" {
		return nil, errMoved
	}
	return inc, err
}

// lead has the keys of an alert lead to its incident, but for those that lead to another one that is open, and gives
// the one that the alert keeps alive while it is open.
func (w *writing) lead(k incident.Keys, inc *store.Incident) (alive string) {
	until := w.now.Add(k.Within)
	for _, key := range k.Set() {
		was, found := w.joinable[key]
		if found && was.Incident != inc.Number {
			continue
		}
		if key == k.Own {
			alive = key
		}
		if found && until.Sub(was.Until) < leadAnew {
			continue
		}
		now := store.IncidentKey{Key: key, Incident: inc.Number, Until: until, Within: int64(k.Within.Seconds())}
		w.joinable[key], w.keys[key] = now, now
	}
	return alive
}

// leadAnew is how exact it is until when a key leads to an incident: in a storm not every alert writes it.
const leadAnew = time.Second

// comesBack opens the incident again that an alert's condition had, where that was closed within its quiet time.
func (w *writing) comesBack(a *store.Alert, last store.LastIncident) (*store.Incident, error) {
	inc, err := w.sheet.Incident(last.Number)
	if err != nil {
		return nil, err
	}
	if inc.MergedInto != nil {
		return nil, errMoved
	}
	if inc.State == "open" {
		return inc, nil // another alert of this batch opened it again
	}
	quiet, err := w.quiet(last.Service)
	if err != nil {
		return nil, err
	}
	if err := w.reopen(inc, fmt.Sprintf("the same condition is reported again within %s",
		plain.Span(quiet))); err != nil {
		return nil, err
	}
	return inc, w.send(inc, route.IncidentReopened, "back:"+a.ID, fmt.Sprintf("Incident %d is open again (%s): %s",
		inc.Number, a.Severity, a.Summary))
}

// quiet is how long an alert may go on, or must not come back, after an incident of its service was closed.
func (w *writing) quiet(service string) (time.Duration, error) {
	s, err := w.tx.Service(service)
	if err != nil {
		return 0, fmt.Errorf("read the service's quiet time: %w", err)
	}
	if s != nil && s.QuietMinutes > 0 {
		return time.Duration(s.QuietMinutes) * time.Minute, nil
	}
	return quietTime, nil
}

// join starts what a joined alert starts. It is told only where it is worse than what was known.
func (w *writing) join(a *store.Alert, inc *store.Incident) error {
	first, err := w.firstOpen(inc)
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
	return w.start(a, inc, alert.New, nil)
}

// firstOpen reports whether the alert at hand is the only one of its incident that is open: all before it are over. It
// is asked once for each incident of a batch.
func (w *writing) firstOpen(inc *store.Incident) (bool, error) {
	if w.hasOpen[inc.Number] || slices.Contains(w.opened, inc.Number) {
		return false, nil
	}
	w.hasOpen[inc.Number] = true
	worst, err := w.tx.WorstAlert(inc.Number)
	return worst == nil, err
}

// onlyNew gives the items that raise alerts, in their order, after those that alter some: whoever alters an alert locks
// its runs before their incident, and whoever joins an incident locks it at once.
func (w *writing) onlyNew(batch []*item) (altering, raising []int) {
	for i, it := range batch {
		if w.isOpen(it.identity()) {
			altering = append(altering, i)
		} else {
			raising = append(raising, i)
		}
	}
	return altering, raising
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

// tellOpened tells that an incident was opened, once its first check has passed or nobody works on it, or after a
// while: a false alarm disturbs nobody. Whether somebody is called is judged elsewhere (core/route.Attention).
func (w *writing) tellOpened(a *store.Alert, inc *store.Incident) error {
	n := w.notice(inc, route.IncidentOpened, "opened", fmt.Sprintf("Incident %d (%s): %s", inc.Number, a.Severity,
		a.Summary))
	n.Hold = holdOpening
	return w.sheet.Notify(n)
}

// holdOpening is how long the first check of a runbook may take before people are told of an incident.
const holdOpening = time.Minute

// mute writes down that planned work holds an alert back: nothing starts and nobody is told, until that is over and the
// alert still there.
func (w *writing) mute(a *store.Alert, inc *store.Incident, m *trigger.Mute) error {
	verdicts := w.index.verdicts(a.Snapshot(), alert.New)
	for i := range verdicts {
		if v := &verdicts[i]; v.Started {
			v.Started, v.Error = false, w.index.heldBack(which(*v), a.Snapshot(), w.now)
			w.fire(*v, a.Snapshot(), inc, store.FiredBack)
		}
	}
	var err error
	if a.Verdicts, err = json.Marshal(verdicts); err != nil {
		return err
	}
	if err := w.tx.AddWaiting(store.Waiting{Alert: a.ID, Start: muteEnds}, m.Until); err != nil {
		return err
	}
	return w.sheet.Write(inc, w.mutedEntry(m))
}

// mutedEntry says by what planned work an alert is held back.
func (w *writing) mutedEntry(m *trigger.Mute) store.NewEntry {
	return store.NewEntry{At: w.now, Kind: incident.AlertMuted, Actor: "mute:" + m.Name,
		Title: fmt.Sprintf("Planned work until %s: nothing starts and nobody is told",
			m.Until.UTC().Format("2006-01-02 15:04 MST")),
		Content: map[string]any{"mute": m.Name, "until": m.Until.UTC(), "because": m.Because}}
}

// muteEnds is what waits for the end of a mute, in the place of a start.
const muteEnds = "mute"

// unmute looks at an alert again when its mute should be over: it is muted still, or there, or gone.
func (w *writing) unmute(a *store.Alert) error {
	if err := w.tx.DropWaiting(store.Waiting{Alert: a.ID, Start: muteEnds}); err != nil || a.Incident == nil {
		return err
	}
	if a.State != "open" || a.MutedBy == "" {
		return nil
	}
	inc, err := w.sheet.Incident(*a.Incident)
	if err != nil {
		return err
	}
	if m := w.index.muted(a.Snapshot(), w.now); m != nil {
		a.MutedBy, a.MutedUntil = m.Name, alert.HeardAt(m.Until)
		if err := w.tx.AddWaiting(store.Waiting{Alert: a.ID, Start: muteEnds}, m.Until); err != nil {
			return err
		}
		return w.tx.KeepMute(a)
	}
	a.MutedBy, a.MutedUntil, a.Since = "", alert.Heard{}, w.heard()
	if err := w.tx.KeepMute(a); err != nil {
		return err
	}
	if inc.State != "open" {
		still, err := w.goesOn(a, inc.ResolvedAt)
		if err != nil || !still {
			return err // whoever closed it judged it as it was
		}
		if err := w.reopen(inc, "the planned work is over, and the alert is still there"); err != nil {
			return err
		}
		if err := w.untreat(a); err != nil {
			return err
		}
	}
	if err := w.sheet.Write(inc, store.NewEntry{At: w.now, Kind: incident.AlertMuted, Actor: "urgentis",
		Title: "The planned work is over, and the alert is still there", Content: a.Snapshot()}); err != nil {
		return err
	}
	if err := w.tellOpened(a, inc); err != nil {
		return err
	}
	if err := w.start(a, inc, alert.New, nil); err != nil {
		return err
	}
	w.changed(a)
	return w.tx.KeepVerdicts(a)
}

// goesOn reports whether an alert was reported after its quiet time had passed since a moment.
func (w *writing) goesOn(a *store.Alert, since *time.Time) (bool, error) {
	quiet, err := w.quiet(a.Service)
	return err == nil && since != nil && a.LastAt.After(since.Add(quiet)), err
}

// untreat has a treatment of an alert count no more.
func (w *writing) untreat(a *store.Alert) error {
	a.TreatedRun, a.TreatedAs, a.TreatedWorth, a.TreatedAt, a.Since = "", "", 0, alert.Heard{}, w.heard()
	return w.tx.Lapse(a.ID)
}

// lapsed has a treatment count no more whose alert is still reported, its quiet time after: it is open as if it were
// raised now.
func (w *writing) lapsed(a *store.Alert) error {
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
		At: w.now, Kind: incident.AlertLapsed, Actor: "source:" + a.Source, Content: a.Snapshot(),
		Title: fmt.Sprintf("Still there, %s after it was treated: %s", since, a.Summary),
	}); err != nil {
		return err
	}
	if err := w.start(a, inc, alert.New, nil); err != nil {
		return err
	}
	w.changed(a)
	return w.tx.KeepVerdicts(a)
}

// repeated begins what starts at each report of an alert, where anything does.
func (w *writing) repeated(a *store.Alert, times int) error {
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
	return w.also(a, inc, alert.Repeat, times)
}

func (w *writing) changed(a *store.Alert) {
	w.sheet.Changed(
		store.Feed{Topic: "alert", Ref: a.ID, Incident: a.Incident, Service: a.Service},
		store.Feed{Topic: "incident", Ref: fmt.Sprint(*a.Incident), Incident: a.Incident, Service: a.Service})
}

func (w *writing) send(inc *store.Incident, kind route.Kind, key, text string) error {
	return w.sheet.Notify(w.notice(inc, kind, key, text))
}

// notice is something to tell about an incident.
func (w *writing) notice(inc *store.Incident, kind route.Kind, key, text string) engine.Notice {
	return engine.Notice{
		// The same may happen to it again, such as that it comes back and nothing starts.
		Kind: kind, Key: fmt.Sprintf("i%d:%s:%d", inc.Number, key, inc.Entries), Text: text, Incident: &inc.Number,
		Link: fmt.Sprintf("%s/incidents/%d", w.in.engine.Link, inc.Number),
	}
}

// alter writes down that an open alert is worse, better or cleared. What is worse may start more.
func (w *writing) alter(a *store.Alert, it *item, change alert.Change) error {
	was, r := a.Severity, it.report
	if it.why == "" {
		a.Count, a.LastAt, a.LastSaid = a.Count+int64(it.times), w.heard(), r.At
	}
	if change == alert.Clear {
		a.State, a.ClearedAt = "cleared", w.heard()
		if a.JoinKey != "" && a.Incident != nil {
			w.cleared[a.JoinKey] = *a.Incident
		}
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
	if a.Incident != nil {
		inc, err := w.sheet.Incident(*a.Incident)
		if err != nil {
			return err
		}
		titles := map[alert.Change]string{alert.Worse: "Worse: ", alert.Better: "Better: ", alert.Clear: "Cleared: "}
		content := a.Snapshot()
		content["was"] = was
		actor := "source:" + a.Source
		if it.why != "" {
			content["why"], actor = it.why, "urgentis"
		}
		if err := w.sheet.Write(inc, store.NewEntry{At: w.now, Kind: incident.AlertKind(string(change)),
			Actor: actor, Title: titles[change] + a.Summary, Content: content}); err != nil {
			return err
		}
		verdicts, dropped, err := w.letGo(a, inc)
		if err != nil {
			return err
		}
		if change == alert.Worse {
			if verdicts, err = w.worse(a, inc, verdicts); err != nil {
				return err
			}
			if a.MutedBy == "" {
				if err := w.start(a, inc, alert.Worse, verdicts); err != nil {
					return err
				}
			}
		} else if err := w.also(a, inc, change, it.times); err != nil {
			return err
		}
		if dropped {
			if verdicts, err = verdictsOf(a); err != nil {
				return err
			}
			if err := w.settled(a, inc, verdicts); err != nil {
				return err
			}
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
	return w.tx.Save(a)
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
func (w *writing) stillThere(id store.Identity, a *store.Alert) error {
	closed, was := w.closed[id]
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
	delete(w.closed, id)
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
	if err := w.send(inc, route.IncidentReopened, fmt.Sprintf("still:%d", a.Count), fmt.Sprintf("Incident %d is "+
		"open again, its alert is "+
		"still there (%s): %s", inc.Number, a.Severity, a.Summary)); err != nil {
		return err
	}
	if err := w.start(a, inc, alert.New, nil); err != nil {
		return err
	}
	w.changed(a)
	return w.tx.KeepVerdicts(a) // its count is written already, or later
}

func (w *writing) reopen(inc *store.Incident, because string) error {
	if err := w.sheet.OpenAgain(inc, "nobody"); err != nil {
		return err
	}
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
