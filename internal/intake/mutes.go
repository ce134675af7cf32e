package intake

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"time"

	"urgentis/core/alert"
	"urgentis/core/trigger"
	"urgentis/internal/store"
)

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
	if err := w.findOpen(ids); err != nil {
		return err
	}
	for _, id := range ids {
		a := w.open[id]
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
	if err := w.tx.AddWaiting(store.Waiting{Alert: a.ID, Start: muteEnds}, m.Until); err != nil {
		return err
	}
	w.changed(a)
	if inc.State != "open" {
		return nil
	}
	return w.sheet.Write(inc, w.mutedEntry(m))
}
