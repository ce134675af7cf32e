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
	e      *Engine
	tx     *gorm.DB
	rooms  []store.Connection
	asked  bool
	out    []store.Delivery
	runs   []store.Run
	events []flow.Event
	// estates are read once for all runs that begin together.
	estates map[string]estate
}

// Sheet begins to collect.
func (e *Engine) Sheet(tx *gorm.DB) *Sheet {
	return &Sheet{Record: store.NewRecord(tx), e: e, tx: tx, estates: map[string]estate{}}
}

// Room sends a message to every room, once per key.
func (s *Sheet) Room(incident *int64, key, text, link string) error {
	if !s.asked {
		if err := s.tx.Where("kind = 'room'").Order("name").Find(&s.rooms).Error; err != nil {
			return fmt.Errorf("read the rooms: %w", err)
		}
		s.asked = true
	}
	body, err := json.Marshal(map[string]any{"text": text, "link": link, "incident": incident})
	if err != nil {
		return err
	}
	for _, r := range s.rooms {
		s.out = append(s.out, store.Delivery{Key: key + ":" + r.Name, Kind: "room", Address: r.Name, Body: string(body), Incident: incident, State: "queued", QueuedAt: s.e.now()})
	}
	return nil
}

// Flush writes all that was collected.
func (s *Sheet) Flush(ctx context.Context) error {
	if err := s.e.Store.InsertRuns(ctx, s.tx, s.runs, s.events); err != nil {
		return fmt.Errorf("begin runs: %w", err)
	}
	if err := s.Record.Flush(); err != nil {
		return err
	}
	if len(s.out) == 0 {
		return nil
	}
	if err := s.tx.CreateInBatches(&s.out, 1000).Error; err != nil {
		return fmt.Errorf("put messages into the outbox: %w", err)
	}
	jobs := make([]river.JobArgs, len(s.out))
	for i, d := range s.out {
		jobs[i] = store.Deliver{ID: d.ID}
	}
	return s.e.Store.Enqueue(ctx, s.tx, jobs...)
}
