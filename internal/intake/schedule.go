package intake

import (
	"context"
	"errors"
	"fmt"
	"time"

	"urgentis/core/route"
	"urgentis/core/trigger"
	"urgentis/internal/engine"
	"urgentis/internal/store"
)

// onTime is how late a time of a schedule may be taken without having been missed.
const onTime = time.Minute

// scheduleEvery is how often it is asked what is due.
const scheduleEvery = time.Second

// keepTime begins what is due by schedules. Each instance does so; a time is taken by one of them.
func (in *Intake) keepTime() {
	defer in.done.Done()
	known := int64(-1)
	for {
		select {
		case <-in.stop:
			return
		case <-time.After(scheduleEvery):
		}
		ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
		version, err := in.plan(ctx, known)
		if err == nil {
			known = version
			err = in.beginDue(ctx)
		}
		if err != nil {
			in.log.Warn("begin what is due", "error", err)
		}
		cancel()
	}
}

// plan notes when each schedule is due, where the configuration is another one than was planned for.
func (in *Intake) plan(ctx context.Context, known int64) (int64, error) {
	tx := in.store.In(ctx)
	version, err := tx.ConfigVersion()
	if err != nil || version == known {
		return version, err
	}
	l, err := in.triggers.load(tx, in.engine, version)
	if err != nil {
		return known, err
	}
	now := in.clock().UTC()
	there := map[Which]bool{}
	for _, w := range l.order {
		s := l.starts[w]
		if s.Schedule == nil {
			continue
		}
		there[w] = true
		err := tx.AddDue(&store.Due{Runbook: w.Runbook, Start: w.Start, Spec: specOf(s), NextAt: s.Schedule.Next(now)})
		if err != nil {
			return known, err
		}
	}
	dues, err := tx.Dues()
	if err != nil {
		return known, err
	}
	for _, d := range dues {
		if !there[Which{d.Runbook, d.Start}] {
			if err := tx.DropDue(d.Runbook, d.Start); err != nil {
				return known, err
			}
		}
	}
	return version, nil
}

// specOf is what the next time of a schedule rests on.
func specOf(s *trigger.Start) string { return s.Schedule.Text + " " + s.Schedule.Zone.String() }

// maxDue bounds how many schedules are begun in one go.
const maxDue = 100

// beginDue begins what is due, each in a transaction of its own.
func (in *Intake) beginDue(ctx context.Context) error {
	for range maxDue {
		var taken *store.Due
		err := in.oneDue(ctx, func(w *writing, d *store.Due) error { taken = d; return w.due(d) })
		if err != nil && !store.Transient(err) && taken != nil {
			// It must not stand in the way of the others, nor come again and again.
			in.log.Error("what is due cannot be begun", "runbook", taken.Runbook, "start", taken.Start, "error", err)
			err = in.oneDue(ctx, func(w *writing, d *store.Due) error { return w.giveUpDue(d, err) })
		}
		if errors.Is(err, errNothingDue) {
			return nil
		}
		if err != nil {
			return err
		}
	}
	return nil
}

var errNothingDue = errors.New("nothing is due")

// oneDue calls f with the first schedule that is due, in a transaction in which nobody else has it.
func (in *Intake) oneDue(ctx context.Context, f func(*writing, *store.Due) error) (err error) {
	defer func() {
		if r := recover(); r != nil {
			err = fmt.Errorf("the program failed on it: %v", r)
		}
	}()
	return in.store.Tx(ctx, func(tx *store.Tx) error {
		due, err := tx.TakeDue(in.clock().UTC(), 1)
		if err != nil {
			return err
		}
		if len(due) == 0 {
			return errNothingDue
		}
		w, err := in.writing(tx, 0)
		if err != nil {
			return err
		}
		if err := f(w, &due[0]); err != nil {
			return err
		}
		return w.flush()
	})
}

// due begins a schedule's run, or for times that were missed what its start says of those, and notes when it is due
// next.
func (w *writing) due(d *store.Due) error {
	which := Which{d.Runbook, d.Start}
	s := w.index.starts[which]
	if s == nil || s.Schedule == nil {
		return w.tx.DropDue(d.Runbook, d.Start)
	}
	times, more := missed(s, d.NextAt, w.now)
	for _, at := range times {
		on := occasion{names: map[string]any{"at": at.In(s.Schedule.Zone).Format(time.RFC3339)}}
		v := &trigger.Verdict{Runbook: d.Runbook, Name: d.Start}
		if err := w.starts.begin(v, on); err != nil {
			return err
		}
	}
	if more > 0 || len(times) == 0 {
		v := trigger.Verdict{Runbook: d.Runbook, Name: d.Start, Error: fmt.Sprintf(
			"%d times were missed while no instance was there, the first at %s",
			max(1, more),
			d.NextAt.UTC().Format(time.RFC3339),
		)}
		w.starts.fire(v, occasion{}, store.FiredBack)
	}
	last := w.now
	return w.tx.SetDue(&store.Due{Runbook: d.Runbook, Start: d.Start, Spec: specOf(s), LastAt: &last,
		NextAt: s.Schedule.Next(w.now)})
}

// missed gives the times for which a run begins now, of those that are due since the first one, and how many more there
// are.
func missed(s *trigger.Start, first, now time.Time) (times []time.Time, more int) {
	var all []time.Time
	for at := first; !at.After(now); at = s.Schedule.Next(at) {
		if all = append(all, at); len(all) > 100*trigger.MostMissed {
			break
		}
	}
	if len(all) == 0 {
		return nil, 0
	}
	last := all[len(all)-1]
	switch s.Missed {
	case trigger.MissedEach:
		from := max(0, len(all)-trigger.MostMissed)
		return all[from:], from
	case trigger.MissedSkip:
		if now.Sub(last) > onTime {
			return nil, len(all)
		}
	}
	return []time.Time{last}, len(all) - 1
}

// giveUpDue passes over a time that cannot be begun, and says so.
func (w *writing) giveUpDue(d *store.Due, why error) error {
	s := w.index.starts[Which{d.Runbook, d.Start}]
	if s == nil || s.Schedule == nil {
		return w.tx.DropDue(d.Runbook, d.Start)
	}
	v := &trigger.Verdict{Runbook: d.Runbook, Name: d.Start}
	if err := w.starts.refuse(v, occasion{}, why); err != nil {
		return err
	}
	return w.tx.SetDue(&store.Due{Runbook: d.Runbook, Start: d.Start, Spec: specOf(s), NextAt: s.Schedule.Next(w.now)})
}

// Address is a trigger that somebody may start by an address of its own.
type Address struct {
	Which Which
	Start *trigger.Start
}

// Addressed gives a trigger with an address; nil where there is none any more, or it has no address.
func (in *Intake) Addressed(ctx context.Context, w Which) (*Address, error) {
	l, err := in.loaded(ctx)
	if err != nil {
		return nil, err
	}
	if s := l.starts[w]; s != nil && s.Address {
		return &Address{w, s}, nil
	}
	return nil, nil
}

// Began is what came of a request to a start address.
type Began struct {
	Run string
	Why string // it did not start; "" where it did
}

// StartBy begins what an address is for. request is what its inputs see, payload what was sent.
func (in *Intake) StartBy(
	ctx context.Context,
	w Which,
	request map[string]any,
	payload *store.Payload,
	once store.Once,
) (*Began, error) {
	out := &Began{}
	err := in.store.Tx(ctx, func(tx *store.Tx) error {
		before, err := tx.Hear(once)
		if err != nil {
			return err
		}
		if before != nil {
			out.Run = *before
			return nil
		}
		b, err := in.writing(tx, 0)
		if err != nil {
			return err
		}
		if err := store.Add(b.sheet.Bulk, []*store.Payload{payload}); err != nil {
			return err
		}
		on := occasion{names: map[string]any{"request": request}, payload: payload.ID}
		v := &trigger.Verdict{Runbook: w.Runbook, Name: w.Start}
		if err := b.starts.begin(v, on); err != nil {
			return err
		}
		out.Why = v.Error
		for _, f := range b.starts.firings {
			if f.Run != "" {
				out.Run = f.Run
			}
		}
		if out.Run == "" { // it may be sent again once it can start
			return errors.Join(tx.Unheard(once), b.flush())
		}
		return errors.Join(
			tx.Answered(once, out.Run),
			tx.Audit("start/"+w.Full(), "run.start", out.Run, "by its address"),
			b.flush(),
		)
	})
	return out, err
}

// tellExpiring tells that a key of a start address ends soon.
func (in *Intake) tellExpiring(ctx context.Context) error {
	return in.store.Tx(ctx, func(tx *store.Tx) error {
		keys, err := tx.ExpiringStartKeys(warnBefore)
		if err != nil || len(keys) == 0 {
			return err
		}
		sheet := in.engine.Sheet(tx)
		for _, k := range keys {
			w := Which{k.Runbook, k.Start}
			text := fmt.Sprintf(
				"The key of the start address %s ends on %s. Make another one: urgentis trigger address %s "+
					"--keep 168h",
				w.Full(),
				k.EndsAt.UTC().Format("2006-01-02"),
				w.Full(),
			)
			if err := sheet.Notify(engine.Notice{Kind: route.KeyExpiring, Key: "key:" + k.ID, Text: text,
				Link: in.engine.Link + "/triggers"}); err != nil {
				return err
			}
		}
		return sheet.Flush()
	})
}

// warnBefore is how long before the end of a key its owner is warned.
const warnBefore = 14 * 24 * time.Hour
