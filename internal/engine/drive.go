package engine

import (
	"context"
	"errors"
	"fmt"
	"time"

	"gorm.io/gorm"

	"urgentis/core/flow"
	"urgentis/core/leave"
	"urgentis/core/runbook"
	"urgentis/internal/store"
)

// drive is one run in the hands of this instance, from its claim until it is parked or over.
type drive struct {
	e    *Engine
	run  *store.Run
	book *runbook.Book
	log  []flow.Event
	// facts came from the world and are not on disk yet; derived follow from the log and may be dropped.
	facts, derived []flow.Event
	// guard is what the leave among derived rests on; a change is written only if it is still so.
	guard   *guard
	begun   map[string]bool
	flying  int
	results chan flow.Event
}

type guard struct {
	ask   flow.AskLeave
	given flow.LeaveGiven
}

var errFacts = errors.New("the facts have moved on")

// drive takes a run as far as it goes without waiting.
func (e *Engine) drive(r *store.Run) {
	d := &drive{e: e, run: r, begun: map[string]bool{}, results: make(chan flow.Event, 64)}
	ctx := e.changes // a commit is not torn by the stop of the service
	if err := d.load(ctx); err != nil {
		if errors.Is(err, errUnsound) || errors.Is(err, flow.ErrNewer) {
			d.refuse(ctx, err)
			return
		}
		// The database did not answer. The run is ours and not driven: the next beat gives it back.
		e.Log.Warn("read a run", "run", r.ID, "error", err)
		return
	}
	s, err := flow.Fold(d.book, d.log)
	if err != nil {
		d.refuse(ctx, err)
		return
	}
	// What is open now was begun by somebody who is gone.
	for _, in := range s.OpenAttempts() {
		d.facts = append(d.facts, flow.Event{At: e.now(), Path: s.PathOf(in.Attempt), Body: flow.Lost{Attempt: in.Attempt, Because: "the service stopped while it was under way"}})
	}
	for {
		more, err := d.turn(ctx)
		if err == nil {
			if !more {
				return
			}
			continue
		}
		if !d.recover(ctx, err) {
			d.late(ctx)
			return
		}
	}
}

func (e *Engine) now() time.Time { return e.Clock().UTC().Truncate(time.Microsecond) }

func (d *drive) load(ctx context.Context) error {
	var err error
	if d.book, err = d.e.Book(ctx, d.run.Revision); err != nil {
		return err
	}
	d.log, err = d.e.Store.Log(ctx, d.run.ID, 0)
	return err
}

// view is the log as it will be once all that is known is on disk.
func (d *drive) view() []flow.Event {
	out := make([]flow.Event, 0, len(d.log)+len(d.facts)+len(d.derived)+8)
	out = append(out, d.log...)
	for _, l := range [][]flow.Event{d.facts, d.derived} {
		for i := range l {
			l[i].Seq = int64(len(out)) + 1
			out = append(out, l[i])
		}
	}
	return out
}

// turn asks what must happen, writes it down, begins it, and waits for what comes of it.
func (d *drive) turn(ctx context.Context) (more bool, err error) {
	if d.e.ctx.Err() != nil {
		return false, d.leaveOff(ctx)
	}
	plan, err := flow.Next(d.book, d.view(), d.e.now())
	if err != nil {
		d.refuse(ctx, err)
		return false, nil
	}
	d.derived = append(d.derived, plan.Events...)
	if plan.AskLeave != nil {
		return true, d.askLeave(ctx, *plan.AskLeave)
	}
	park := d.flying == 0 && len(plan.Begin) == 0
	if err := d.write(ctx, plan, park); err != nil {
		return true, err
	}
	if park {
		return false, nil
	}
	for _, in := range plan.Begin {
		d.begin(in)
	}
	return d.wait(ctx)
}

// wait takes outcomes: the first that comes, and those that come just after.
func (d *drive) wait(ctx context.Context) (more bool, err error) {
	take := func(ev flow.Event) { d.flying--; d.facts = append(d.facts, ev) }
	select {
	case ev := <-d.results:
		take(ev)
	case <-d.e.changes.Done():
		return false, nil
	}
	const gather = 20 * time.Millisecond
	t := time.NewTimer(gather)
	defer t.Stop()
	for d.flying > 0 {
		select {
		case ev := <-d.results:
			take(ev)
		case <-t.C:
			return true, nil
		}
	}
	return true, nil
}

// leaveOff writes down how changes under way ended when the service stops. Looks are dropped: what they
// say after their cancel means nothing, and whoever goes on takes them again.
func (d *drive) leaveOff(ctx context.Context) error {
	for d.flying > 0 {
		select {
		case ev := <-d.results:
			d.flying--
			d.facts = append(d.facts, ev)
		case <-d.e.changes.Done():
			return nil
		}
	}
	changes := map[string]bool{}
	for _, e := range d.log {
		if in, ok := e.Body.(flow.Intent); ok && in.Change {
			changes[in.Attempt] = true
		}
	}
	var keep []flow.Event
	for _, f := range d.facts {
		if o, ok := f.Body.(flow.Outcome); ok && changes[o.Attempt] {
			keep = append(keep, f)
		}
	}
	d.facts, d.derived = keep, nil
	if len(keep) == 0 {
		return nil
	}
	d.view()
	return d.write(ctx, flow.Plan{}, false)
}

func (d *drive) askLeave(ctx context.Context, ask flow.AskLeave) error {
	given, err := d.e.leave(d.e.Store.DB.WithContext(ctx), d.book, ask)
	if err != nil {
		return err
	}
	d.guard = &guard{ask, given}
	d.derived = append(d.derived, flow.Event{At: d.e.now(), Path: ask.Path, Body: given})
	return nil
}

// leave answers whether a change may happen, with the facts as they are.
func (e *Engine) leave(tx *gorm.DB, book *runbook.Book, ask flow.AskLeave) (flow.LeaveGiven, error) {
	q := leave.Question{HasGate: ask.HasGate}
	var err error
	if q.Halted, _, err = store.Halted(tx); err != nil {
		return flow.LeaveGiven{}, err
	}
	var services []store.Service
	if err := tx.Where("name = ?", book.Service).Find(&services).Error; err != nil {
		return flow.LeaveGiven{}, err
	}
	if len(services) > 0 {
		q.Stance = leave.Stance(services[0].Stance)
	}
	facts, err := store.Facts(tx, ask.Targets)
	if err != nil {
		return flow.LeaveGiven{}, err
	}
	step := book.Step(ask.Path)
	for _, f := range facts {
		if f.HostKey == "" && f.Name != "" && step != nil && step.Do.HTTP == nil && !step.Do.FromHere {
			q.Unpinned = append(q.Unpinned, f.Name)
		}
	}
	a := leave.Decide(q)
	return flow.LeaveGiven{Verdict: a.Verdict, Reasons: a.Reasons, Facts: facts}, nil
}

// write puts facts and derived events on disk in one commit, with all that follows from them.
func (d *drive) write(ctx context.Context, plan flow.Plan, park bool) error {
	events := append(append([]flow.Event{}, d.facts...), d.derived...)
	changes := false
	for _, in := range plan.Begin {
		changes = changes || in.Change
	}
	err := d.e.Store.Tx(ctx, func(tx *gorm.DB) error {
		if err := d.e.Store.Append(tx, d.run, events, park); err != nil {
			return err
		}
		if changes && d.guard != nil {
			now, err := d.e.leave(tx, d.book, d.guard.ask)
			if err != nil {
				return err
			}
			if now.Verdict != d.guard.given.Verdict || len(leave.Differ(d.guard.given.Facts, now.Facts)) > 0 {
				return errFacts
			}
		}
		if park {
			if err := store.SetTimer(tx, d.run.ID, plan.Wake); err != nil {
				return err
			}
		}
		if len(events) == 0 {
			return nil
		}
		sheet := d.e.Sheet(tx)
		if err := d.e.project(sheet, d.run, d.book, append(d.log[:len(d.log):len(d.log)], events...), events); err != nil {
			return err
		}
		return sheet.Flush(ctx)
	})
	if err != nil {
		return err
	}
	d.log = append(d.log, events...)
	d.run.Version += int64(len(events))
	d.facts, d.derived, d.guard = nil, nil, nil
	return nil
}

// recover finds out where the run stands after a write that did not go through, or may have. It
// reports false where the run is no longer ours.
func (d *drive) recover(ctx context.Context, cause error) bool {
	d.derived, d.guard = nil, nil
	if errors.Is(cause, errFacts) {
		return true
	}
	if !errors.Is(cause, store.ErrMoved) {
		d.e.Log.Warn("write the log", "run", d.run.ID, "error", cause)
	}
	for pause := 50 * time.Millisecond; ; pause = min(2*pause, 2*time.Second) {
		mine, err := d.e.Store.Owns(ctx, d.run)
		if err == nil && !mine {
			return false // whoever owns it finds our intents open and decides
		}
		if err == nil {
			err = d.load(ctx)
		}
		if err == nil {
			break
		}
		select {
		case <-time.After(pause):
		case <-d.e.changes.Done():
			return false
		}
	}
	d.run.Version = int64(len(d.log))
	return d.reconcile()
}

// late files how changes ended that were under way when the claim was lost: whoever is asked what became
// of them finds it in the record. It decides nothing.
func (d *drive) late(ctx context.Context) {
	for d.flying > 0 {
		select {
		case ev := <-d.results:
			d.flying--
			d.facts = append(d.facts, ev)
		case <-d.e.changes.Done():
			return
		}
	}
	for _, f := range d.facts {
		o, ok := f.Body.(flow.Outcome)
		if !ok {
			continue
		}
		err := d.e.speakTo(ctx, d.run.ID, func(s *flow.State) (string, flow.Body, error) {
			if !s.Change(o.Attempt) {
				return "", nil, errNothing
			}
			return f.Path, o, nil
		})
		if err != nil && !errors.Is(err, errNothing) {
			d.e.Log.Error("file a late fact", "run", d.run.ID, "attempt", o.Attempt, "error", err)
		}
	}
}

var errNothing = errors.New("there is nothing to file")

// reconcile drops facts that a commit of uncertain outcome did write, and begins intents that it wrote
// and that we have not begun.
func (d *drive) reconcile() bool {
	s, err := flow.Fold(d.book, d.log)
	if err != nil {
		d.refuse(d.e.changes, err)
		return false
	}
	known := map[string]bool{}
	for _, e := range d.log {
		switch b := e.Body.(type) {
		case flow.Outcome:
			known[b.Attempt] = true
		case flow.Lost:
			known[b.Attempt] = true
		}
	}
	var facts []flow.Event
	pending := map[string]bool{}
	for _, f := range d.facts {
		var id string
		switch b := f.Body.(type) {
		case flow.Outcome:
			id = b.Attempt
		case flow.Lost:
			id = b.Attempt
		}
		if !known[id] {
			facts = append(facts, f)
			pending[id] = true
		}
	}
	d.facts = facts
	for _, in := range s.OpenAttempts() {
		if !d.begun[in.Attempt] && !pending[in.Attempt] {
			d.begin(in)
		}
	}
	return true
}

// refuse ends a run whose log this program cannot go on with, and tells people.
func (d *drive) refuse(ctx context.Context, cause error) {
	d.e.Log.Error("a run cannot go on", "run", d.run.ID, "error", cause)
	because := fmt.Sprintf("The run cannot go on: %s.", cause)
	err := d.e.Store.Tx(ctx, func(tx *gorm.DB) error {
		res := tx.Exec("update run set owner = null, rung_at = null, state = ?, because = ?, waits_on = '', ended_at = now() where id = ? and owner = ? and epoch = ?",
			flow.StateFail, because, d.run.ID, *d.run.Owner, d.run.Epoch)
		if res.Error != nil || res.RowsAffected == 0 {
			return res.Error
		}
		return d.e.tellRefused(ctx, tx, d.run, because)
	})
	if err != nil {
		d.e.Log.Error("end a run that cannot go on", "run", d.run.ID, "error", err)
	}
}

// begin carries an intent out that is on disk.
func (d *drive) begin(in flow.Intent) {
	d.begun[in.Attempt] = true
	d.flying++
	path := ""
	for _, e := range d.log {
		if b, ok := e.Body.(flow.Intent); ok && b.Attempt == in.Attempt {
			path = e.Path
		}
	}
	go func() { d.results <- d.e.attempt(d.run, d.book, path, in) }()
}
