package app

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"urgentis/core/alert"
	"urgentis/internal/engine"
	"urgentis/internal/intake"
	"urgentis/internal/store"
	"urgentis/internal/telling"
)

// takeTickets takes what a desk tells of its tickets into the records of their incidents. What is only the echo of our
// own doing, and what is about tickets that are not ours, alters nothing.
func (a *App) takeTickets(ctx context.Context, s *alert.Source, p alert.Payload) (*Received, error) {
	list, err := s.Tickets(p, now())
	if err != nil {
		return nil, invalid("ticket", "%s", err)
	}
	if err := a.withinRate(s, len(list)); err != nil {
		return nil, err
	}
	for _, news := range list {
		if news.Echo {
			continue
		}
		if err := a.takeNews(ctx, s, news); err != nil {
			return nil, err
		}
	}
	return &Received{Many: true, Taken: []intake.Taken{}}, nil
}

// takeNews takes one piece of news. What is about a ticket whose number the desk has not said yet waits for it.
func (a *App) takeNews(ctx context.Context, s *alert.Source, news alert.TicketNews) error {
	return a.write(ctx, func(sheet *engine.Sheet) error {
		tx := sheet.Tx()
		once := store.Once{Door: "in/" + s.Name, ID: news.ID}
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

// tryTickets tells what a desk's payload says, field by field, without any effect.
func (a *App) tryTickets(s *alert.Source, p alert.Payload) (*TriedSource, error) {
	list, err := s.Tickets(p, now())
	out := &TriedSource{Items: []TriedItem{}}
	if err != nil {
		out.Finding = err.Error()
		return out, nil
	}
	for _, t := range list {
		item := TriedItem{}
		item.Ignored = t.Echo
		for _, f := range []struct{ name, value string }{
			{"ticket", t.Ticket}, {"text", t.Text}, {"by", t.By}, {"id", t.ID},
		} {
			if f.value != "" {
				item.Made = append(item.Made, alert.Made{Field: f.name, Value: f.value, From: "news of a ticket"})
			}
		}
		item.Report.Severity = alert.Cleared // it raises nothing
		out.Items = append(out.Items, item)
	}
	return out, nil
}
