package engine

import (
	"context"
	"encoding/json"
	"fmt"

	"github.com/riverqueue/river"
	"gorm.io/gorm"

	"urgentis/core/flow"
	"urgentis/internal/store"
)

// Sheet collects all that follows from what one transaction does: entries, new runs, messages, lines of
// the feed. Flush writes each kind at once.
type Sheet struct {
	*store.Record
	// Bulk takes rows that are to be written with the rest.
	Bulk   *store.Bulk
	e      *Engine
	tx     *gorm.DB
	out    []store.Delivery
	runs   []store.Run
	events []flow.Event
	config *int64
}

// Sheet begins to collect.
func (e *Engine) Sheet(tx *gorm.DB) *Sheet {
	return &Sheet{Record: store.NewRecord(tx), Bulk: store.NewBulk(tx), e: e, tx: tx}
}

// Room sends a message to every room, once per key.
func (s *Sheet) Room(incident *int64, key, text, link string) error {
	rooms, err := s.rooms()
	if err != nil {
		return err
	}
	body, err := json.Marshal(map[string]any{"text": text, "link": link, "incident": incident})
	if err != nil {
		return err
	}
	for _, r := range rooms {
		s.out = append(s.out, store.Delivery{Key: key + ":" + r.Name, Kind: "room", Address: r.Name, Body: string(body), Incident: incident, State: "queued", QueuedAt: s.e.now()})
	}
	return nil
}

// Flush writes all that was collected, and what was added to the bulk besides.
func (s *Sheet) Flush(ctx context.Context) error {
	if err := store.AddRuns(s.Bulk, s.runs, s.events); err != nil {
		return fmt.Errorf("begin runs: %w", err)
	}
	if err := s.AddTo(s.Bulk); err != nil {
		return err
	}
	if err := s.Bulk.Write(); err != nil {
		return fmt.Errorf("write what follows: %w", err)
	}
	jobs := make([]river.JobArgs, 0, len(s.runs)+len(s.out))
	for _, r := range s.runs {
		jobs = append(jobs, store.Doorbell{Run: r.ID})
	}
	if len(s.out) > 0 {
		// The database numbers them, and their jobs carry the numbers.
		if err := s.tx.CreateInBatches(&s.out, 1000).Error; err != nil {
			return fmt.Errorf("put messages into the outbox: %w", err)
		}
	}
	for _, d := range s.out {
		jobs = append(jobs, store.Deliver{ID: d.ID})
	}
	return s.e.Store.Enqueue(ctx, s.tx, jobs...)
}
