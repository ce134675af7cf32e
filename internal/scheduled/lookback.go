package scheduled

import (
	"context"
	"time"

	"urgentis/core/flow"
	"urgentis/core/incident"
	"urgentis/core/lookback"
	"urgentis/core/runbook"
	"urgentis/core/watch"
	"urgentis/internal/engine"
)

// lookBackTime bounds one look into the past.
const lookBackTime = time.Minute

// LookBack asks outside stores for what they have of a time. Nothing is kept. ErrBusy says that so many looks are taken
// already that no other one is.
func (e *Looker) LookBack(ctx context.Context, l *lookback.LookBack, seen *incident.PastContent) error {
	select {
	case e.again <- struct{}{}:
		defer func() { <-e.again }()
	default:
		return ErrBusy
	}
	ctx, cancel := context.WithTimeout(ctx, lookBackTime)
	defer cancel()
	est, err := e.Sheet(e.Store.In(ctx)).Estate(l.Looks)
	if err != nil {
		return err
	}
	readings := map[string]map[string]any{}
	w := &watch.Watch{Name: l.Name, Service: l.Service, Looks: l.Looks}
	st := engine.Start{Book: l.Looks, Inputs: lookback.Inputs(seen.From, seen.Until)}
	trouble, err := e.playLooks(ctx, w, st, est, &engine.Watching{}, func(x looked) {
		if x.out.State != flow.OK || len(x.out.Missing) > 0 {
			seen.Missing = append(seen.Missing, titleOf(l.Looks, x.in.Look)+troubleOf(x.in.Target, x.out))
		}
		for name, t := range x.out.Readings {
			if readings[name] == nil {
				readings[name] = map[string]any{}
			}
			readings[name][x.in.Target] = t.Value
		}
	})
	if err != nil {
		return err
	}
	if trouble != "" {
		seen.Missing = append(seen.Missing, trouble)
	}
	l.Take(seen, readings)
	return nil
}

// titleOf names a look before what is said of it.
func titleOf(book *runbook.Book, place flow.Place) string {
	if look, _ := flow.Find(book, place); look != nil {
		return look.Title + ": "
	}
	return ""
}
