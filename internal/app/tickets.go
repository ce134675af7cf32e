package app

import (
	"context"
	"errors"
	"fmt"

	"urgentis/core/alert"
	"urgentis/core/incident"
	"urgentis/internal/engine"
	"urgentis/internal/intake"
	"urgentis/internal/store"
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

func (a *App) takeNews(ctx context.Context, s *alert.Source, news alert.TicketNews) error {
	return a.write(ctx, func(sheet *engine.Sheet) error {
		t, err := sheet.Tx().TicketNumbered(s.Desk, news.Ticket)
		if errors.Is(err, store.ErrNotFound) {
			return nil
		} else if err != nil {
			return err
		}
		i, err := sheet.Incident(t.Incident)
		if err != nil {
			return err
		}
		title := fmt.Sprintf("Ticket %s at %s: %s", t.Number, s.Desk, news.Text)
		if news.Closed {
			if title = fmt.Sprintf("Ticket %s was closed at %s", t.Number, s.Desk); i.State == "open" {
				title += "; the incident is still open here"
			}
			if err := sheet.Tx().TicketIs(t, store.TicketClosed); err != nil {
				return err
			}
		}
		if r := []rune(title); len(r) > 300 {
			title = string(r[:299]) + "…"
		}
		sheet.Changed(store.Feed{Topic: "incident", Ref: fmt.Sprint(i.Number), Incident: &i.Number, Service: i.Service})
		return sheet.RecordWriter.Write(i, store.NewEntry{
			At: now(), Kind: incident.TicketNews, Actor: s.Desk, Title: title,
			Content: map[string]any{"by": news.By, "text": news.Text, "ticket": t.Number, "closed": news.Closed},
		})
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
		for _, f := range []struct{ name, value string }{{"ticket", t.Ticket}, {"text", t.Text}, {"by", t.By}} {
			if f.value != "" {
				item.Made = append(item.Made, alert.Made{Field: f.name, Value: f.value, From: "news of a ticket"})
			}
		}
		item.Report.Severity = alert.Cleared // it raises nothing
		out.Items = append(out.Items, item)
	}
	return out, nil
}
