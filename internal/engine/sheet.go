package engine

import (
	"context"
	"fmt"

	"urgentis/core/flow"
	"urgentis/internal/store"
)

// Sheet collects all that follows from what one transaction does: entries, new runs, messages, lines of
// the feed. Flush writes each kind at once.
type Sheet struct {
	*store.RecordWriter
	// Bulk takes rows that are to be written with the rest.
	Bulk    *store.Bulk
	e       *Engine
	tx      *store.Tx
	out     []store.Delivery
	told    []toldBy
	notices []store.Notice
	runs    []store.Run
	events  []flow.Event
	config  *int64

	treats    []store.Treats   // what new runs were begun for
	ending    map[int64]mayEnd // incidents that may be over
	growing   map[int64]bool   // incidents in which alerts are raised
	ended     []string         // runs that end
	handOvers []handOver       // what they leave to people
}

// Sheet begins to collect.
func (e *Engine) Sheet(tx *store.Tx) *Sheet {
	return &Sheet{RecordWriter: store.NewRecordWriter(tx), Bulk: store.NewBulk(tx), e: e, tx: tx}
}

// Write writes one sheet in a transaction of its own; nothing of it where f fails.
func (e *Engine) Write(ctx context.Context, f func(s *Sheet) error) error {
	return e.Store.Tx(ctx, func(tx *store.Tx) error {
		s := e.Sheet(tx)
		if err := f(s); err != nil {
			return err
		}
		return s.Flush()
	})
}

// Send puts a message into the outbox, and gives its place there.
func (s *Sheet) Send(d store.Delivery) (place int) {
	s.out = append(s.out, d)
	return len(s.out) - 1
}

// Carries notes that the message at a place of the outbox carries a notice, at a rung of its ladder.
func (s *Sheet) Carries(place int, notice int64, rung int) {
	s.told = append(s.told, toldBy{notice: notice, out: place, rung: rung})
}

// Carried notes that a message which was sent before carries a notice too.
func (s *Sheet) Carried(delivery, notice int64, rung int) {
	s.told = append(s.told, toldBy{id: delivery, notice: notice, rung: rung})
}

// toldBy is that a message carries a notice: by its number, or by its place on the sheet where it has none yet.
type toldBy struct {
	id, notice int64
	out, rung  int
}

// addTold notes which messages carry which notices, once those have numbers.
func (s *Sheet) addTold() error {
	rows := make([]store.NoticeTold, 0, len(s.told))
	seen := map[[2]int64]bool{}
	for _, t := range s.told {
		if t.id == 0 {
			t.id = s.out[t.out].ID
		}
		if key := [2]int64{t.notice, t.id}; !seen[key] {
			seen[key] = true
			rows = append(rows, store.NoticeTold{Notice: t.notice, Delivery: t.id, Rung: t.rung})
		}
	}
	if err := s.tx.AddTold(rows); err != nil {
		return fmt.Errorf("note who is told of what: %w", err)
	}
	return nil
}

// Tx is the transaction that the sheet is written in.
func (s *Sheet) Tx() *store.Tx { return s.tx }

// take makes this instance the owner of the new runs for which it has a slot, and drives them once they are on disk:
// no bell need go round for them. Where the commit fails, or nobody knows, they are nobody's or given back.
func (s *Sheet) take() {
	name := s.e.name()
	var taken []int
	for i := range s.runs {
		if s.e.takeSlot() {
			s.runs[i].Owner = &name
			taken = append(taken, i)
		}
	}
	if len(taken) == 0 {
		return
	}
	s.tx.After(func(committed bool) {
		for _, i := range taken {
			if !committed || s.e.ctx.Err() != nil {
				<-s.e.slots
				continue
			}
			r := s.runs[i]
			r.Version, r.Epoch, r.State, r.Rules = 1, 1, flow.Running, flow.Rules
			c := store.Claimed{Run: r}
			row, err := store.RowOf(r.ID, s.events[i])
			if err == nil {
				c.Log = []store.Event{row}
			}
			s.e.adopt(&c, err == nil)
		}
	})
}

// Flush writes all that was collected, and what was added to the bulk besides.
func (s *Sheet) Flush() error {
	if err := s.ends(); err != nil {
		return fmt.Errorf("end what is over: %w", err)
	}
	s.take()
	if err := store.AddRuns(s.Bulk, s.runs, s.events); err != nil {
		return fmt.Errorf("begin runs: %w", err)
	}
	if err := store.Add(s.Bulk, s.notices); err != nil {
		return fmt.Errorf("note what people are to be told: %w", err)
	}
	if err := s.AddTo(s.Bulk); err != nil {
		return err
	}
	if err := s.Bulk.Write(); err != nil {
		return fmt.Errorf("write what follows: %w", err)
	}
	if err := s.tx.AddTreats(s.treats); err != nil {
		return err
	}
	if err := s.tx.AddHandOvers(mapHandOvers(s.handOvers)); err != nil {
		return err
	}
	jobs := make([]store.Job, 0, len(s.runs)+len(s.out))
	for _, r := range s.runs {
		if r.Owner == nil {
			jobs = append(jobs, store.Doorbell{Run: r.ID})
		}
	}
	if err := s.tx.AddDeliveries(s.out); err != nil {
		return fmt.Errorf("put messages into the outbox: %w", err)
	}
	if err := s.addTold(); err != nil {
		return err
	}
	for _, d := range s.out {
		jobs = append(jobs, store.Deliver{ID: d.ID})
	}
	return s.tx.Enqueue(jobs...)
}
