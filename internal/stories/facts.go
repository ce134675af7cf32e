package stories

import (
	"context"
	"errors"
	"fmt"
	"time"

	"urgentis/core/worth"
	"urgentis/internal/engine"
	"urgentis/internal/store"
)

const (
	// gatherEvery is how often it is asked of which incidents that are over no facts were gathered yet.
	gatherEvery = 2 * time.Second
	// gatherMost is of how many they are gathered in a round.
	gatherMost = 50
)

// Gather gathers the facts of incidents that are over, beside all else, until the engine stops. Several instances that
// gather those of the same one write the same.
func Gather(e *engine.Engine) {
	e.Every(gatherEvery, "gather facts of incidents", func(ctx context.Context) error {
		tx := e.Store.In(ctx)
		list, err := tx.Factless(gatherMost)
		if err != nil {
			return err
		}
		var failed error // one that cannot be read keeps none of the others
		for i := range list {
			f, err := factsOf(tx, e, &list[i])
			if err == nil {
				err = e.Store.Tx(ctx, func(tx *store.Tx) error { return tx.KeepFacts(f, *list[i].ClosedAt) })
			}
			if err != nil {
				failed = errors.Join(failed, fmt.Errorf("the facts of incident %d: %w", list[i].Number, err))
			}
		}
		return failed
	})
}

// factsOf reads the record of an incident.
func factsOf(tx *store.Tx, e *engine.Engine, i *store.Incident) (*worth.Facts, error) {
	g := worth.NewGather(worth.Facts{
		Number: i.Number, Title: i.Title, Service: i.Service, Severity: i.Severity, Outcome: i.Outcome,
		Opened: i.OpenedAt.UTC(), Closed: i.ClosedAt.UTC(),
	})
	for after := int64(0); ; {
		list, err := tx.Entries(i.Number, after, page)
		if err != nil {
			return nil, fmt.Errorf("read the record of incident %d: %w", i.Number, err)
		}
		for n := range list {
			x := list[n].Sealed()
			g.Add(&x)
			after = x.Seq
		}
		if len(list) < page {
			break
		}
	}
	f := g.Facts()
	for n, r := range f.Runs {
		// A text that this program cannot read any more says nothing of what it saves.
		if b, err := e.Book(tx.Context(), r.Revision); err == nil {
			f.Runs[n].Saves = b.Saves
		}
	}
	return &f, nil
}
