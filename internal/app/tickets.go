package app

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"urgentis/core/source"
	"urgentis/internal/engine"
	"urgentis/internal/store"
	"urgentis/internal/telling"
)

// takeNews takes one piece of what a desk tells of its tickets into the record of the incident. What is about a ticket
// whose number the desk has not said yet waits for it, and what is about tickets that are not ours alters nothing.
func (a *App) takeNews(ctx context.Context, s *source.Source, news source.TicketNews, once store.Once) error {
	return a.write(ctx, func(sheet *engine.Sheet) error {
		tx := sheet.Tx()
		if before, err := tx.Hear(once); err != nil || before != nil {
			return err
		}
		if err := tx.Answered(once, ""); err != nil {
			return err
		}
		t, err := tx.TicketNumbered(s.Desk, news.Ticket)
		if errors.Is(err, store.ErrNotFound) {
			text, err := json.Marshal(news)
			if err != nil {
				return err
			}
			kept, err := tx.KeepEarly(s.Desk, news.Ticket, text)
			if errors.Is(err, store.ErrFull) {
				return &Error{Kind: Full, Code: "early", Says: "much is told already of tickets whose " +
					"numbers " + s.Desk + " has not said; tell it again later"}
			}
			if err != nil || kept {
				return err
			}
			// It may have been said meanwhile; else it is none of ours.
			if t, err = tx.TicketNumbered(s.Desk, news.Ticket); errors.Is(err, store.ErrNotFound) {
				return nil
			} else if err != nil {
				return err
			}
		} else if err != nil {
			return err
		}
		i, err := sheet.Incident(t.Incident)
		if err != nil {
			return err
		}
		sheet.Changed(store.Feed{Topic: "incident", Ref: fmt.Sprint(i.Number), Incident: &i.Number, Service: i.Service})
		return telling.TicketNews(tx, sheet.RecordWriter, t, i, news)
	})
}
