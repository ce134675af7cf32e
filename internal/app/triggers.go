package app

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"urgentis/core/access"
	"urgentis/core/runbook"
	"urgentis/core/source"
	"urgentis/core/trigger"
	"urgentis/internal/intake"
	"urgentis/internal/signin"
	"urgentis/internal/store"
)

// Trigger is an occasion on which a runbook starts, and what came of it lately.
type Trigger struct {
	intake.Which
	Says   []string
	Off    *store.SwitchedOff // nil where it is on
	NextAt *time.Time         // when its schedule is due
	// Lately is how often it came to each result within a day, LastAt when it did last.
	Lately map[string]int64
	LastAt *time.Time
	start  *trigger.Start
}

// Triggers lists all triggers, those that come with runbooks and those beside them.
func (a *App) Triggers(ctx context.Context, who *access.Principal) ([]Trigger, error) {
	if _, err := see(who); err != nil {
		return nil, err
	}
	return a.triggers(ctx)
}

func (a *App) triggers(ctx context.Context) ([]Trigger, error) {
	all, err := a.intake.Triggers(ctx)
	if err != nil {
		return nil, err
	}
	tx := a.store.In(ctx)
	lately, err := tx.Lately()
	if err != nil {
		return nil, err
	}
	dues, err := tx.Dues()
	if err != nil {
		return nil, err
	}
	out := make([]Trigger, len(all))
	at := make(map[intake.Which]*Trigger, len(all))
	for i, t := range all {
		out[i] = Trigger{Which: t.Which, Says: t.Start.Says(), Off: t.Off, Lately: map[string]int64{}, start: t.Start}
		at[t.Which] = &out[i]
	}
	for _, l := range lately {
		if t := at[intake.Which{Runbook: l.Runbook, Start: l.Start}]; t != nil {
			t.Lately[l.Result] = l.N
			if t.LastAt == nil || l.LastAt.After(*t.LastAt) {
				last := l.LastAt
				t.LastAt = &last
			}
		}
	}
	for _, d := range dues {
		if t := at[intake.Which{Runbook: d.Runbook, Start: d.Start}]; t != nil {
			next := d.NextAt
			t.NextAt = &next
		}
	}
	return out, nil
}

// Trigger finds a trigger by its name: RUNBOOK/START, or that of a document.
func (a *App) Trigger(ctx context.Context, who *access.Principal, name string) (*Trigger, error) {
	all, err := a.Triggers(ctx, who)
	if err != nil {
		return nil, err
	}
	for i := range all {
		if all[i].Full() == name {
			return &all[i], nil
		}
	}
	return nil, named(store.ErrNotFound, "trigger %s", name)
}

// Firings lists what came of a trigger's occasions, newest first.
func (a *App) Firings(ctx context.Context, who *access.Principal, name string, before int64, limit int,
) ([]store.Firing, bool, error) {
	t, err := a.Trigger(ctx, who, name)
	if err != nil {
		return nil, false, err
	}
	list, err := a.store.In(ctx).Firings(t.Runbook, t.Start, before, limit+1)
	list, more := pageOf(list, limit)
	return list, more, err
}

// Firing is one time that the occasion of a trigger came, with what was sent; that is nil where it is not kept.
func (a *App) Firing(ctx context.Context, who *access.Principal, name string, id int64,
) (*store.Firing, *store.Payload, error) {
	t, err := a.Trigger(ctx, who, name)
	if err != nil {
		return nil, nil, err
	}
	f, err := a.store.In(ctx).Firing(t.Runbook, t.Start, id)
	if err != nil {
		return nil, nil, named(err, "firing %d of %s", id, name)
	}
	p, err := a.store.In(ctx).PayloadOfFiring(f)
	if errors.Is(err, store.ErrNotFound) {
		return f, nil, nil
	}
	return f, p, err
}

// Switch switches a trigger off, or on again.
func (a *App) Switch(ctx context.Context, who *access.Principal, name string, on bool, because string) error {
	t, err := a.Trigger(ctx, who, name)
	if err != nil {
		return err
	}
	if err := access.Can(who, access.Start, a.ofTrigger(ctx, t)); err != nil {
		return err
	}
	if !on && strings.TrimSpace(because) == "" {
		return invalid("because", "say why it is switched off: whoever looks for what did not start will read it")
	}
	return a.tx(ctx, func(tx *store.Tx) error {
		act := "trigger.on"
		if on {
			if _, err := tx.SwitchOn(t.Runbook, t.Start); err != nil {
				return err
			}
		} else {
			act = "trigger.off"
			off := store.SwitchedOff{Runbook: t.Runbook, Start: t.Start, By: who.Behind(), Because: because}
			if err := tx.SwitchOff(off); err != nil {
				return err
			}
		}
		return tx.Audit(who.Name, act, name, because)
	})
}

func (a *App) ofTrigger(ctx context.Context, t *Trigger) access.Object {
	o := access.Object{Kind: "trigger", Name: t.Full()}
	if b, err := a.newest(ctx, t.Runbook); err == nil {
		o.Service = b.Service
	}
	return o
}

// StartKeyLife is how long a key of a start address is good unless told otherwise, and maxStartKeyLife at most.
const (
	StartKeyLife    = 365 * 24 * time.Hour
	maxStartKeyLife = 5 * 365 * 24 * time.Hour
)

// AddStartKey gives a start address a new key, and shows that once. Those that are there go on for keep.
func (a *App) AddStartKey(ctx context.Context, who *access.Principal, name string, life, keep time.Duration,
) (key string, ends time.Time, err error) {
	if err := administer(who, "trigger", name); err != nil {
		return "", ends, err
	}
	t, err := a.Trigger(ctx, who, name)
	if err != nil {
		return "", ends, err
	}
	switch {
	case !t.start.Address:
		return "", ends, invalid("name", "the trigger %s has no address; its document must say address: true", name)
	case life <= 0 || life > maxStartKeyLife:
		return "", ends, invalid("expires", "a key may be good for up to five years")
	case keep < 0 || keep > maxKeep:
		return "", ends, invalid("keep", "the old key may stay from 0 to 31 days")
	}
	key, hash := signin.NewSourceToken()
	k := &store.StartKey{ID: store.NewID("k"), Runbook: t.Runbook, Start: t.Start, Hash: hash, AddedBy: who.Behind(),
		AddedAt: a.Now(), EndsAt: a.Now().Add(life)}
	return key, k.EndsAt, a.tx(ctx, func(tx *store.Tx) error {
		if err := tx.AddStartKey(k, keep); err != nil {
			return err
		}
		return tx.Audit(who.Name, "trigger.key", name, k.ID)
	})
}

// StartKeys lists the keys of a start address, newest first; never their values.
func (a *App) StartKeys(ctx context.Context, who *access.Principal, name string) ([]store.StartKey, error) {
	if err := administer(who, "trigger", name); err != nil {
		return nil, err
	}
	t, err := a.Trigger(ctx, who, name)
	if err != nil {
		return nil, err
	}
	return a.store.In(ctx).StartKeys(t.Runbook, t.Start)
}

// EndStartKey ends a key of a start address now.
func (a *App) EndStartKey(ctx context.Context, who *access.Principal, name, id string) error {
	if err := administer(who, "trigger", name); err != nil {
		return err
	}
	t, err := a.Trigger(ctx, who, name)
	if err != nil {
		return err
	}
	return a.tx(ctx, func(tx *store.Tx) error {
		if err := tx.EndStartKey(t.Runbook, t.Start, id); err != nil {
			return named(err, "key %s of trigger %s", id, name)
		}
		return tx.Audit(who.Name, "trigger.key-ended", name, id)
	})
}

// StartDoor is what a start address opens.
type StartDoor struct {
	Name    string
	Runbook *runbook.Book
	Start   *trigger.Start
	EndsAt  time.Time
	which   intake.Which
	key     string
}

// OpenedBy finds what a key of a start address opens.
func (a *App) OpenedBy(ctx context.Context, key string) (*StartDoor, error) {
	k, err := a.store.In(ctx).StartKeyOf(signin.Hash(key))
	if err != nil {
		return nil, err
	}
	none := &Error{
		Kind: Missing,
		Code: "start-key",
		Says: "this address starts nothing: its key is unknown, or has ended",
	}
	if k == nil {
		return nil, none
	}
	at, err := a.intake.Addressed(ctx, intake.Which{Runbook: k.Runbook, Start: k.Start})
	if err != nil {
		return nil, err
	}
	if at == nil {
		return nil, none
	}
	b, err := a.newest(ctx, k.Runbook)
	if err != nil {
		return nil, err
	}
	return &StartDoor{
		Name:    at.Which.Full(),
		Runbook: b,
		Start:   at.Start,
		EndsAt:  k.EndsAt,
		which:   at.Which,
		key:     k.ID,
	}, nil
}

// StartByKey begins what a key opens, with what was sent. It gives the run's id.
func (a *App) StartByKey(ctx context.Context, key string, p source.Payload) (string, error) {
	d, err := a.OpenedBy(ctx, key)
	if err != nil {
		return "", err
	}
	if p, err = p.Unpacked(); err != nil {
		return "", invalid("body", "%s", err)
	}
	request, err := p.Request()
	if err != nil {
		return "", invalid("body", "%s", err)
	}
	if !a.usedLately(d.key) {
		if err := a.store.In(ctx).MarkStartKey(d.key); err != nil {
			return "", err
		}
	}
	began, err := a.intake.StartBy(ctx, d.which, request, store.NewPayload(p, a.Now()), onceIn("start/"+d.Name, p))
	if err != nil {
		return "", onceError(err)
	}
	if began.Run == "" {
		return "", &Error{Kind: Conflict, Code: "not-started", Says: "the runbook did not start: " + began.Why}
	}
	return began.Run, nil
}

// Seen lists the values that were seen in a field of alerts, newest first; "" is every field.
func (a *App) Seen(ctx context.Context, who *access.Principal, field string) ([]store.Seen, error) {
	if _, err := see(who); err != nil {
		return nil, err
	}
	return a.store.In(ctx).SeenValues(field)
}

// InputNames are the inputs of the runbook that an address starts, in their order, with their types.
func (d *StartDoor) InputNames() []string {
	out := []string{}
	for _, in := range d.Runbook.Inputs {
		word := string(in.Type)
		if in.Default != nil {
			word += fmt.Sprintf(", %v unless said", in.Default)
		}
		out = append(out, in.Name+": "+word)
	}
	return out
}
