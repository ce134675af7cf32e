package intake

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"urgentis/core/expr"
	"urgentis/core/incident"
	"urgentis/core/plain"
	"urgentis/core/reading"
	"urgentis/core/route"
	"urgentis/core/trigger"
	"urgentis/internal/store"
)

// wait lets a start wait whether the alert stays so.
func (s *starting) wait(a *store.Alert, on occasion, v *trigger.Verdict, steady time.Duration) error {
	due := s.now.Add(steady)
	v.Started, v.StartsAt = false, &due
	s.tally("held")
	s.fire(*v, on, store.FiredHeld)
	if err := s.tx.AddWaiting(waiting(a, *v), due); err != nil {
		return err
	}
	return s.sheet.Write(
		on.inc,
		store.NewEntry{
			At:      s.now,
			Kind:    incident.RunHeld,
			Actor:   actor(*v),
			Title:   fmt.Sprintf("Runbook %s starts in %s if the alert is still so", v.Runbook, plain.Span(steady)),
			Content: incident.RunContent{Runbook: v.Runbook, Trigger: v.Name, StartsAt: due},
		},
	)
}

// rejudgeHours is how soon a start is judged anew at the latest that its hours hold back: they may be altered.
const rejudgeHours = 15 * time.Minute

// untilHours lets a start wait until its hours begin. It is no help until then: whoever is needed still is.
func (s *starting) untilHours(a *store.Alert, on occasion, v *trigger.Verdict, at time.Time) error {
	known := v.HoursAt != nil
	v.Started, v.HoursAt, v.StartsAt = false, &at, nil
	v.Error = s.index.heldBack(which(*v), nil, s.now)
	row := waiting(a, *v)
	row.Idle = true
	if err := s.tx.AddWaiting(row, soonest(at, s.now.Add(rejudgeHours))); err != nil || known {
		return err
	}
	s.fire(*v, on, store.FiredHeld)
	return s.sheet.Write(on.inc, store.NewEntry{At: s.now, Kind: incident.RunHeld, Actor: actor(*v),
		Title: fmt.Sprintf("Runbook %s may start at %s, as its hours begin, if the alert is still so", v.Runbook,
			at.UTC().Format("2006-01-02 15:04 MST")),
		Content: incident.RunContent{Runbook: v.Runbook, Trigger: v.Name, StartsAt: at, Because: v.Error}})
}

func soonest(a, b time.Time) time.Time {
	if a.Before(b) {
		return a
	}
	return b
}

// waiting is how a start that waits is kept.
func waiting(a *store.Alert, v trigger.Verdict) store.Waiting {
	return store.Waiting{Alert: a.ID, Runbook: v.Runbook, Start: v.Name}
}

// letGo drops the starts that wait and whose condition no longer holds. It gives what became of all, and whether one
// was dropped.
func (s *starting) letGo(a *store.Alert, on occasion) (verdicts []trigger.Verdict, dropped bool, err error) {
	if verdicts, err = verdictsOf(a); err != nil {
		return nil, false, err
	}
	for i := range verdicts {
		v := &verdicts[i]
		if !v.Waits() {
			continue
		}
		if why := s.overtaken(a, *v); why != "" {
			if err := s.drop(a, on, v, why); err != nil {
				return nil, false, err
			}
			dropped = true
		}
	}
	a.Verdicts, err = json.Marshal(verdicts)
	return verdicts, dropped, err
}

// verdictsOf is what an alert keeps of what became of its starts.
func verdictsOf(a *store.Alert) ([]trigger.Verdict, error) {
	out := []trigger.Verdict{}
	return out, json.Unmarshal(a.Verdicts, &out)
}

// overtaken says why a start that waits must wait no more; "" where it may go on.
func (s *starting) overtaken(a *store.Alert, v trigger.Verdict) string {
	st := s.startOf(v)
	switch {
	case st.Alert == nil:
		return "there is no such start any more"
	case a.State != "open":
		if v.HoursAt != nil {
			return "the alert cleared before its hours began"
		}
		return fmt.Sprintf("the alert cleared before it had been so for %s", plain.Span(st.Steady))
	}
	if ok, err := st.Alert.Bool(&expr.Scope{Alert: a.Snapshot()}); err != nil {
		return err.Error()
	} else if !ok && v.HoursAt != nil {
		return "the alert is not so any more"
	} else if !ok {
		return fmt.Sprintf("the alert did not stay so for %s", plain.Span(st.Steady))
	}
	return ""
}

func (s *starting) drop(a *store.Alert, on occasion, v *trigger.Verdict, why string) error {
	v.Started, v.StartsAt, v.HoursAt, v.Error = false, nil, nil, why
	s.tally("dropped")
	s.fire(*v, on, store.FiredDropped)
	if err := s.tx.DropWaiting(waiting(a, *v)); err != nil {
		return err
	}
	return s.sheet.Write(
		on.inc,
		store.NewEntry{
			At:      s.now,
			Kind:    incident.RunDropped,
			Actor:   actor(*v),
			Title:   "Runbook not started: " + v.Runbook,
			Content: incident.RunContent{Runbook: v.Runbook, Trigger: v.Name, Because: why},
		},
	)
}

// settled has a person look after the incident of an alert of which a start was dropped, where none is left that began
// or may begin, and tells that where the alert is still there.
func (s *starting) settled(a *store.Alert, on occasion, verdicts []trigger.Verdict) error {
	inc := on.inc
	if inc.State != "open" || inc.WaitingOn == "person" || slices.ContainsFunc(verdicts, began) {
		return nil
	}
	if a.State == "open" && a.MutedBy == "" {
		return s.nothingStarted(on, verdicts)
	}
	active, err := s.works(inc)
	if err == nil && !active {
		inc.WaitingOn = "person"
	}
	return err
}

// maxRipe bounds how many starts that have waited are begun in one transaction.
const maxRipe = 100

// ripen begins the starts whose alert stayed so. It returns how many there were, and when the next is due.
func (in *Intake) ripen(ctx context.Context, most int) (n int, next time.Duration, err error) {
	defer func() {
		if r := recover(); r != nil {
			err = fmt.Errorf("the program failed on it: %v", r)
		}
	}()
	err = in.store.Tx(ctx, func(tx *store.Tx) error {
		due, err := tx.DueWaiting(most)
		if err != nil {
			return err
		}
		if n = len(due); n > 0 {
			w, err := in.writing(tx, 0)
			if err != nil {
				return err
			}
			for _, d := range due {
				if err := w.ripe(d.Alert, Which{d.Runbook, d.Start}); err != nil {
					return err
				}
			}
			if err := w.flush(); err != nil {
				return err
			}
		}
		next, err = tx.NextWaiting()
		return err
	})
	return n, next, err
}

// ripenSingly begins the starts that are due one by one, and gives up the one that cannot be begun for what it is.
func (in *Intake) ripenSingly(ctx context.Context) (n int, next time.Duration, err error) {
	for range maxRipe {
		n, next, err = in.ripen(ctx, 1)
		switch {
		case err == nil && n == 0, err != nil && store.Transient(err):
			return n, next, err
		case err != nil:
			in.log.Error("a start that has waited cannot be begun", "error", err)
			if err := in.giveUp(ctx, err); err != nil {
				return 0, 0, err
			}
		}
	}
	return maxRipe, 0, nil
}

// giveUp takes the first start that is due out of those that wait, and says so in its incident.
func (in *Intake) giveUp(ctx context.Context, why error) error {
	return in.store.Tx(ctx, func(tx *store.Tx) error {
		d, number, err := tx.GiveUpWaiting()
		if err != nil || d == nil || number == nil {
			return err
		}
		w, err := in.writing(tx, 0)
		if err != nil {
			return err
		}
		inc, err := w.sheet.Incident(*number)
		if err != nil {
			return err
		}
		inc.WaitingOn = "person"
		because := reading.Plain(why.Error())
		w.starts.fire(trigger.Verdict{Runbook: d.Runbook, Name: d.Start, Error: because},
			occasion{alert: map[string]any{"id": d.Alert}, inc: inc}, store.FiredRefused)
		err = w.sheet.Write(
			inc,
			store.NewEntry{
				At:      w.now,
				Kind:    incident.RunRefused,
				Actor:   actor(trigger.Verdict{Runbook: d.Runbook, Name: d.Start}),
				Title:   "Runbook not started: " + d.Runbook,
				Content: incident.RunContent{Runbook: d.Runbook, Trigger: d.Start, Because: because},
			},
		)
		if err != nil {
			return err
		}
		if err := w.send(
			inc,
			route.RunRefused,
			"refused:"+d.Runbook+":"+d.Start, fmt.Sprintf("Incident %d: runbook %s did not start: "+
				"%s", inc.Number, d.Runbook, because)); err != nil {
			return err
		}
		return w.flush()
	})
}

// ripe begins one start that has waited.
func (w *writing) ripe(id string, which Which) error {
	a, err := w.tx.Alert(id)
	if err != nil {
		return err
	}
	verdicts, err := verdictsOf(a)
	if err != nil {
		return err
	}
	if err := w.tx.DropWaiting(store.Waiting{Alert: a.ID, Runbook: which.Runbook, Start: which.Start}); err != nil {
		return err
	}
	i := slices.IndexFunc(verdicts, func(v trigger.Verdict) bool {
		return v.Runbook == which.Runbook && v.Name == which.Start && v.Waits()
	})
	if i < 0 || a.Incident == nil {
		return nil
	}
	inc, err := w.sheet.Incident(*a.Incident)
	if err != nil {
		return err
	}
	v, on := &verdicts[i], w.at(a, inc, nil)
	if why := w.starts.overtaken(a, *v); why != "" {
		err = w.starts.drop(a, on, v, why)
	} else if inc.State != "open" {
		err = w.starts.drop(a, on, v, "the incident was closed meanwhile")
	} else if at := w.index.hoursBegin(which, w.now); v.HoursAt != nil && !at.IsZero() {
		err = w.starts.untilHours(a, on, v, at)
	} else {
		err = w.starts.begin(v, on)
	}
	if err != nil {
		return err
	}
	if a.Verdicts, err = json.Marshal(verdicts); err != nil {
		return err
	}
	if !v.Started && !v.Waits() {
		if err := w.starts.settled(a, on, verdicts); err != nil {
			return err
		}
	}
	w.changed(a)
	return w.tx.Save(a)
}

// watch begins the starts that have waited, as they fall due.
func (in *Intake) watch() {
	defer in.done.Done()
	const longest = 250 * time.Millisecond
	for {
		ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
		n, next, err := in.ripen(ctx, maxRipe)
		if err != nil && !store.Transient(err) {
			n, next, err = in.ripenSingly(ctx)
		}
		if err != nil {
			in.log.Warn("begin starts that have waited", "error", err)
			n, next = 0, longest
		}
		more, err := in.judgeMutes(ctx)
		if err == nil && !more {
			more, err = in.endMutes(ctx)
		}
		cancel()
		if err != nil {
			in.log.Warn("judge what planned work holds back", "error", err)
		}
		if more {
			continue
		}
		if n == maxRipe {
			continue
		}
		if next == 0 || next > longest {
			next = longest
		}
		select {
		case <-in.stop:
			return
		case <-time.After(next):
		}
	}
}
