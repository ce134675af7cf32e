package scheduled

import (
	"context"
	"fmt"
	"slices"
	"sync"
	"time"

	"urgentis/core/expr"
	"urgentis/core/flow"
	"urgentis/core/tell"
	"urgentis/internal/engine"
	"urgentis/internal/store"
)

// What is taken anew while gates stand open is bounded: so many gates at once, so many looks for each of them, and so
// long for all of those.
const (
	maxWatched   = 4
	maxGateLooks = 16
	gateLookTime = 20 * time.Second
)

// watchDue takes the readings anew that open gates rest on, so that whoever decides sees how it stands now. The runs do
// not see them.
func (e *Looker) watchDue(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, gateLookTime)
	defer cancel()
	var due []store.Gate
	err := e.Store.Tx(ctx, func(tx *store.Tx) (err error) {
		due, err = tx.LookAgain(maxWatched, engine.GateLookEvery)
		return err
	})
	if err != nil {
		return err
	}
	var wg sync.WaitGroup
	for _, g := range due {
		wg.Go(func() {
			if err := e.watchGate(ctx, g); err != nil && e.Context().Err() == nil {
				e.Log.Warn("take the readings of a gate anew", "gate", g.ID, "error", err)
			}
		})
	}
	wg.Wait()
	return nil
}

// watchGate takes the readings of one gate anew. A program error in it ends there.
func (e *Looker) watchGate(ctx context.Context, g store.Gate) (err error) {
	defer func() {
		if r := recover(); r != nil {
			err = fmt.Errorf("the program failed on it: %v", r)
		}
	}()
	log, err := e.Store.Log(ctx, g.Run, 0)
	if err != nil {
		return err
	}
	book, err := e.BookOf(ctx, log)
	if err != nil {
		return err
	}
	s, err := flow.Fold(book, log)
	if err != nil {
		return err
	}
	var looks []flow.Intent
	for _, ground := range tell.Grounds(s, flow.PlaceOf(g.Path)) {
		for _, in := range tell.LooksAgain(s, ground) {
			same := func(x flow.Intent) bool { return x.Look == in.Look && x.Target == in.Target }
			if len(looks) < maxGateLooks && !slices.ContainsFunc(looks, same) {
				looks = append(looks, in)
			}
		}
	}
	if len(looks) == 0 {
		return e.Store.In(ctx).NoMoreLooks(g.ID)
	}
	read, numbers, anew := e.takeForGate(ctx, g, s, looks)
	if err := read.Identify(ctx, e.Store); err != nil {
		return err
	}
	return e.Write(ctx, func(sheet *engine.Sheet) error {
		if err := store.Add(sheet.Bulk, read.Rows); err != nil || len(numbers) == 0 {
			return err
		}
		sheet.Changed(store.Feed{Topic: "gate", Ref: g.ID, Service: book.Service})
		if err := e.entitle(sheet, g, flow.TitleOf(s, e.Now(), anew)); err != nil {
			return err
		}
		return sheet.Tx().AddGateReadings(g.ID, numbers)
	})
}

// takeForGate takes looks at once, and gives what they read, and the numbers among it. What does not answer is left
// out: the age of what is shown tells.
func (e *Looker) takeForGate(
	ctx context.Context, gate store.Gate, s *flow.State, looks []flow.Intent,
) (read engine.Readings, numbers []store.GateReading, anew flow.Newer) {
	anew = flow.Newer{}
	e.takeAnew(ctx, s, looks, maxGateLooks, "g", func(in flow.Intent, o flow.Outcome) {
		read.Look(s.Book(), in.Look, o.Readings, gate.Run)
		for name, t := range o.Readings {
			if anew[name] == nil {
				anew[name] = map[string]expr.Sample{}
			}
			anew[name][in.Target] = t
			if v, ok := expr.AsNumber(t.Value); ok {
				numbers = append(
					numbers,
					store.GateReading{Gate: gate.ID, At: t.At, Reading: name, Target: t.Target, Value: v},
				)
			}
		}
	})
	return read, numbers, anew
}

// entitle names the incident of a gate.
func (e *Looker) entitle(sheet *engine.Sheet, g store.Gate, t flow.Title) error {
	if t.Text == "" || g.Incident == nil {
		return nil
	}
	i, err := sheet.Incident(*g.Incident)
	if err != nil {
		return err
	}
	changed, err := sheet.Entitle(i, g.Run, t)
	if err != nil || !changed {
		return err
	}
	sheet.Changed(store.Feed{Topic: "incident", Ref: fmt.Sprint(i.Number), Service: i.Service})
	return sheet.Write(i)
}
