package app

import (
	"context"
	"time"

	"urgentis/core/access"
	"urgentis/core/route"
	"urgentis/internal/engine"
	"urgentis/internal/store"
)

// Status is how the installation stands.
type Status struct {
	Version  string
	Halted   bool
	HaltedBy string // "" where nothing is halted
	store.Counts
}

// Status tells how the installation stands.
func (a *App) Status(ctx context.Context, who *access.Principal) (Status, error) {
	if _, err := see(who); err != nil {
		return Status{}, err
	}
	return a.StatusNow(ctx)
}

// StatusNow is Status for the service itself.
func (a *App) StatusNow(ctx context.Context) (Status, error) {
	out := Status{Version: a.version}
	tx := a.store.In(ctx)
	var err error
	if out.Halted, out.HaltedBy, err = tx.Halted(); err != nil {
		return out, err
	}
	if !out.Halted {
		out.HaltedBy = ""
	}
	out.Counts, err = tx.Counts()
	return out, err
}

// SetHalt stops all changes, or lets them go on.
func (a *App) SetHalt(ctx context.Context, who *access.Principal, halted bool, because string) (Status, error) {
	if err := access.Can(who, access.Halt, access.Installation); err != nil {
		return Status{}, err
	}
	act, text := "resume", "Changes go on again, says "+who.Name+"."
	if halted {
		act, text = "halt", "All changes are halted by "+who.Name+". "+because
	}
	err := a.write(ctx, func(s *engine.Sheet) error {
		if err := s.Tx().SetHalted(halted, who.Name); err != nil {
			return err
		}
		if err := s.Tx().Audit(who.Name, act, "", because); err != nil {
			return err
		}
		s.Changed(store.Feed{Topic: "halt", Ref: act})
		return s.Notify(engine.Notice{Kind: route.HaltChanged, Key: store.NewID("halt"), Text: text, Link: a.link})
	})
	if err != nil {
		return Status{}, err
	}
	if !halted {
		if err := a.engine.Resume(ctx, who.Name); err != nil {
			a.log.Warn("tell runs that changes go on", "error", err)
		}
	}
	return a.StatusNow(ctx)
}

// Instance is one running service, and whether it is there.
type Instance struct {
	store.Instance
	State string // one of the states below
}

// The states of instances.
const (
	Alive  = "alive"
	Silent = "silent" // it does not beat; it may only be frozen
	Left   = "left"   // it stopped in order
	Gone   = "gone"   // it was seen, or said, to be gone
)

func stateOf(i store.Instance, now time.Time) string {
	switch {
	case i.GoneAt != nil:
		return Gone
	case i.ReportedAt != nil:
		return Left
	case i.FencedAt != nil || now.Sub(i.BeatAt) > store.Lease:
		return Silent
	}
	return Alive
}

// Instances lists the instances of late.
func (a *App) Instances(ctx context.Context, who *access.Principal) ([]Instance, error) {
	if _, err := see(who); err != nil {
		return nil, err
	}
	list, err := a.store.In(ctx).Instances()
	now := a.engine.Clock()
	out := make([]Instance, len(list))
	for n, i := range list {
		out[n] = Instance{Instance: i, State: stateOf(i, now)}
	}
	return out, err
}

// BuryInstance takes a person's word that an instance is gone: what it intended can be begun by nobody any more.
func (a *App) BuryInstance(ctx context.Context, who *access.Principal, id string) error {
	if err := access.Can(who, access.Decide, access.Object{Kind: "instance", Name: id}); err != nil {
		return err
	}
	return a.tx(ctx, func(tx *store.Tx) error {
		i, err := tx.Instance(id)
		if err != nil {
			return named(err, "instance %s", id)
		}
		if stateOf(*i, a.engine.Clock()) == Alive {
			return &Error{Kind: Conflict, Code: "alive", Says: "this instance answers: it is not gone"}
		}
		_, err = tx.Gone(id, who.Name)
		return err
	})
}
