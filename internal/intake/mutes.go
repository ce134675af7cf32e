package intake

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"time"

	"urgentis/core/alert"
	"urgentis/core/incident"
	"urgentis/core/trigger"
	"urgentis/internal/store"
)

// mute writes down that planned work holds an alert back: nothing starts and nobody is told, until that is over and the
// alert still there.
func (w *writing) mute(a *store.Alert, on occasion, m *trigger.Mute) error {
	verdicts := w.index.verdicts(on.alert, alert.New)
	for i := range verdicts {
		if v := &verdicts[i]; v.Started {
			v.Started, v.Error = false, w.index.heldBack(which(*v), on.alert, w.now)
			w.starts.fire(*v, on, store.FiredBack)
		}
	}
	var err error
	if a.Verdicts, err = json.Marshal(verdicts); err != nil {
		return err
	}
	return w.sheet.Write(on.inc, w.mutedEntry(m))
}

// mutedEntry says by what planned work an alert is held back.
func (w *writing) mutedEntry(m *trigger.Mute) store.NewEntry {
	return store.NewEntry{At: w.now, Kind: incident.AlertMuted, Actor: "mute:" + m.Name,
		Title: fmt.Sprintf("Planned work until %s: nothing starts and nobody is told",
			m.Until.UTC().Format("2006-01-02 15:04 MST")),
		Content: incident.AlertContent{Mute: m.Name, Until: m.Until.UTC(), Because: m.Because}}
}

// unmute looks at an open alert again when its mute should be over: it is muted still, or there.
func (w *writing) unmute(a *store.Alert) error {
	if m := w.index.muted(a.Snapshot(), w.now); m != nil {
		a.MutedBy, a.MutedUntil = m.Name, alert.HeardAt(m.Until)
		return w.tx.KeepMute(a)
	}
	a.MutedBy, a.MutedUntil, a.Since = "", alert.Heard{}, w.heard()
	if err := w.tx.KeepMute(a); err != nil || a.Incident == nil {
		return err
	}
	inc, err := w.sheet.Incident(*a.Incident)
	if err != nil {
		return err
	}
	if inc.State != "open" {
		still, err := w.goesOn(a, inc.ClosedAt)
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
		Title: "The planned work is over, and the alert is still there", Content: a.Content()}); err != nil {
		return err
	}
	if err := w.tellOpened(a, inc); err != nil {
		return err
	}
	if err := w.starts.start(a, w.at(a, inc, nil), alert.New, nil); err != nil {
		return err
	}
	w.changed(a)
	return w.tx.KeepVerdicts(a)
}

// rejudgeAtOnce is how many open alerts are judged anew in one transaction.
const rejudgeAtOnce = 1000

// judgedBy is by what all open alerts are held back or not, as an instance knows.
type judgedBy struct {
	config int64
	digest string
}

// judgeMutes brings what alerts are held back by up to date where planned work begins, ends, or was changed: pushed,
// shortened or removed. It tells whether there is more to do.
func (in *Intake) judgeMutes(ctx context.Context) (more bool, err error) {
	now := in.clock().UTC()
	known := in.store.In(ctx)
	version, err := known.ConfigVersion()
	if err != nil {
		return false, err
	}
	l, err := in.triggers.load(known, in.engine, version)
	if err != nil {
		return false, err
	}
	by := judgedBy{version, l.activeMutes(now)}
	if by == in.judgedBy {
		return false, nil
	}
	// Planned work may have come and gone in between: how often any was changed counts too.
	changes, err := known.MuteChanges()
	if err != nil {
		return false, err
	}
	digest := fmt.Sprint(by.digest, ":", changes)
	err = in.store.Tx(ctx, func(tx *store.Tx) error {
		w, err := in.writing(tx, 0)
		if err != nil {
			return err
		}
		if w.index != l {
			more = true
			return nil // it was changed in the same moment
		}
		j, err := tx.Rejudging("mutes", digest)
		if err != nil || j == nil {
			return err // all are, or another instance is at it
		}
		list, err := tx.OpenAfter(j.Identity, rejudgeAtOnce)
		if err != nil {
			return err
		}
		var differ []store.Identity
		for i := range list {
			a := &list[i]
			if m := w.index.muted(a.Snapshot(), w.now); !mutedBy(a, m) {
				differ = append(differ, store.Identity{Source: a.Source, Key: a.Key})
			}
			j.Identity = store.Identity{Source: a.Source, Key: a.Key}
		}
		if err := w.rejudge(differ); err != nil {
			return err
		}
		if j.Over = len(list) < rejudgeAtOnce; j.Over {
			j.Identity = store.Identity{}
		}
		more = !j.Over
		if err := tx.SetRejudging(j); err != nil {
			return err
		}
		return w.flush()
	})
	if err == nil && !more {
		in.judgedBy = by
	}
	return more, err
}

// endMutes lets alerts go whose mute should be over by now: one that was raised by an instance that was late stays
// behind when all were judged. It tells whether there are more.
func (in *Intake) endMutes(ctx context.Context) (more bool, err error) {
	ids, err := in.store.In(ctx).DueMutes(in.clock(), rejudgeAtOnce)
	if err != nil || len(ids) == 0 {
		return false, err
	}
	if err = in.unmuteAll(ctx, ids); err == nil || store.Transient(err) {
		return len(ids) == rejudgeAtOnce, err
	}
	for _, id := range ids {
		if err := in.unmuteAll(ctx, []store.Identity{id}); err != nil && !store.Transient(err) {
			in.log.Error("judge an alert whose mute is over: it counts as open from now on", "source", id.Source,
				"key", id.Key, "error", err)
			if err := in.store.In(ctx).LiftMute(id); err != nil {
				return false, err
			}
		}
	}
	return len(ids) == rejudgeAtOnce, nil
}

func (in *Intake) unmuteAll(ctx context.Context, ids []store.Identity) (err error) {
	defer func() {
		if r := recover(); r != nil {
			err = fmt.Errorf("the program failed on it: %v", r)
		}
	}()
	return in.store.Tx(ctx, func(tx *store.Tx) error {
		w, err := in.writing(tx, 0)
		if err != nil {
			return err
		}
		if err := w.rejudge(ids); err != nil {
			return err
		}
		return w.flush()
	})
}

// activeMutes names the planned work that is going on, as it is written.
func (l *loaded) activeMutes(now time.Time) string {
	h := sha256.New()
	for _, m := range l.mutes {
		if !now.Before(m.From) && now.Before(m.Until) {
			fmt.Fprintf(h, "%q %q %s\n", m.Name, l.mutesSay[m.Name], m.Until)
		}
	}
	return hex.EncodeToString(h.Sum(nil))
}

// mutedBy reports whether an alert is held back just as planned work says.
func mutedBy(a *store.Alert, m *trigger.Mute) bool {
	if m == nil {
		return a.MutedBy == ""
	}
	return a.MutedBy == m.Name && a.MutedUntil.Equal(m.Until)
}

// rejudge holds alerts back, or lets them go, as planned work says now.
func (w *writing) rejudge(ids []store.Identity) error {
	if err := w.count.findOpen(ids); err != nil {
		return err
	}
	for _, id := range ids {
		a := w.count.open[id]
		if a == nil {
			continue // it is over
		}
		m := w.index.muted(a.Snapshot(), w.now)
		switch {
		case mutedBy(a, m):
		case m == nil, a.MutedBy != "":
			if err := w.unmute(a); err != nil {
				return err
			}
		default:
			if err := w.muteOpen(a, m); err != nil {
				return err
			}
		}
	}
	return nil
}

// muteOpen holds an alert back that was open before its planned work began. Runs that are under way go on.
func (w *writing) muteOpen(a *store.Alert, m *trigger.Mute) error {
	if a.Incident == nil {
		return nil
	}
	inc, err := w.sheet.Incident(*a.Incident)
	if err != nil {
		return err
	}
	a.MutedBy, a.MutedUntil = m.Name, alert.HeardAt(m.Until)
	if err := w.tx.KeepMute(a); err != nil {
		return err
	}
	w.changed(a)
	if inc.State != "open" {
		return nil
	}
	return w.sheet.Write(inc, w.mutedEntry(m))
}
