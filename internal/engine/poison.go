package engine

import (
	"context"
	"errors"
	"fmt"
	"time"

	"urgentis/core/incident"
	"urgentis/internal/store"
)

// cautious is how long after an unclean end what is taken in hand is marked on disk.
const cautious = 5 * time.Minute

// beCareful begins to mark what is taken in hand: where somebody was just taken for dead, or lately.
func (e *Engine) beCareful(ctx context.Context, now bool) {
	if !now {
		var err error
		if now, err = e.Store.Unclean(ctx, cautious); err != nil {
			e.Log.Warn("look for instances that died", "error", err)
		}
	}
	if now {
		e.careful.Store(e.Clock().Add(cautious).UnixNano())
	}
}

// ErrPoison says that instances died with the same thing in hand, so that it is quarantined.
var ErrPoison = errors.New("it is quarantined")

// Careful reports whether what is taken in hand is marked on disk now.
func (e *Engine) Careful() bool { return e.Clock().UnixNano() < e.careful.Load() }

// Closely does something that could be the end of this instance. After an unclean end it is marked on disk meanwhile,
// one thing at a time; what instances died of PoisonAt times is not done, and ErrPoison comes back.
func (e *Engine) Closely(ctx context.Context, kind, ref string, f func() error) error {
	if !e.Careful() {
		return f()
	}
	e.inHand.Lock()
	defer e.inHand.Unlock()
	deaths, err := e.Store.Suspect(ctx, kind, ref, e.name())
	if err != nil {
		return err
	}
	if deaths >= store.PoisonAt {
		return fmt.Errorf("%w: the program died %d times while it had it in hand", ErrPoison, deaths)
	}
	failed := f()
	if err := e.Store.Cleared(ctx, kind, ref); err != nil && failed == nil {
		return err
	}
	return failed
}

// quarantine takes the run out of all hands and tells people; one of them decides.
func (d *drive) quarantine(ctx context.Context, cause error) {
	because := fmt.Sprintf(
		"The run stands still: %s. Let it go on with urgentis run resume %s, or cancel it.",
		cause,
		d.run.ID,
	)
	d.e.Log.Error("a run is quarantined", "run", d.run.ID, "error", cause)
	err := d.e.Write(ctx, func(s *Sheet) error {
		ours, err := s.tx.Quarantine(d.run, because)
		if err != nil || !ours {
			return err
		}
		return s.tellStopped(d.run, incident.RunQuarantined, "The run is quarantined", because)
	})
	if err != nil {
		d.e.Log.Error("quarantine a run", "run", d.run.ID, "error", err)
	}
}

// Release lets a run go on that was quarantined; ErrNotQuarantined where it was not.
func (s *Sheet) Release(run, by, because string) error {
	r, err := s.tx.Lock(run)
	if err != nil {
		return err
	}
	ok, err := s.tx.Release(run)
	if err != nil {
		return err
	}
	if !ok {
		return ErrNotQuarantined
	}
	if err := s.tx.Audit(by, "run.resume", run, because); err != nil {
		return err
	}
	return s.tellDecided(r, incident.RunResumed, by, "Let the run go on", because)
}

// ErrNotQuarantined says that a run was not quarantined.
var ErrNotQuarantined = errors.New("the run was not quarantined")

// endQuarantined cancels a run that was quarantined: nobody plans it any more. It reports false for one that was not.
func (s *Sheet) endQuarantined(run, by, because string) (bool, error) {
	r, err := s.tx.Lock(run)
	if err != nil || r.QuarantinedAt == nil || r.EndedAt != nil {
		return false, err
	}
	said := "Cancelled by " + by + ", after it was quarantined; what it began on targets was not ended, and nothing " +
		"was undone."
	if because != "" {
		said += " " + because
	}
	if err := s.tx.CancelQuarantined(run, said); err != nil {
		return true, err
	}
	if err := s.closeOpen(run); err != nil {
		return true, err
	}
	if err := s.tx.Audit(by, "run.cancel", run, because); err != nil {
		return true, err
	}
	return true, s.tellDecided(r, incident.RunCancelled, by, "Cancel: "+r.Title, said)
}
