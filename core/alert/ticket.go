package alert

import (
	"time"
)

// OfTickets is what a source reports through which a ticket desk tells what happened to its tickets.
const OfTickets = "tickets"

// TicketFields are the fields of what a desk tells, which a source of tickets maps.
var TicketFields = []string{"ticket", "text", "by", "id"}

// TicketNews is what a ticket desk tells of one ticket.
type TicketNews struct {
	Ticket string `json:"ticket"` // its number
	Text   string `json:"text"`
	By     string `json:"by"`
	// ID is by which the desk names this piece of news, so that it counts once; "" where it names none.
	ID string `json:"id,omitempty"`
	// Echo says that it tells only what we did there ourselves.
	Echo bool `json:"echo,omitempty"`
	// Closed says that the ticket was closed there.
	Closed bool `json:"closed,omitempty"`
}

// Tickets reads what a desk tells. What echo finds to be our own doing has only that. It is pure; errors are of type
// *Invalid.
func (s *Source) Tickets(p Payload, now time.Time) ([]TicketNews, error) {
	scope, items, err := s.opened(p, now)
	if err != nil {
		return nil, err
	}
	out := make([]TicketNews, len(items))
	for i, item := range items {
		scope.Names["item"] = item
		t := &out[i]
		// An echo is known before anything else is read: it may be about what we have not noted yet.
		if t.Echo, err = s.Echo.Bool(scope); err != nil {
			return nil, invalid("item %d: echo: %s", i+1, reason(err))
		}
		if t.Echo {
			continue
		}
		if s.Cleared != nil {
			if t.Closed, err = s.Cleared.Bool(scope); err != nil {
				return nil, invalid("item %d: cleared: %s", i+1, reason(err))
			}
		}
		for name, into := range map[string]*string{"ticket": &t.Ticket, "text": &t.Text, "by": &t.By,
			"id": &t.ID} {
			f := s.Map[name]
			if f == nil {
				continue
			}
			if *into, err = f.value(scope); err != nil {
				return nil, invalid("item %d: %s: %s", i+1, name, reason(err))
			}
			*into = clipTo(*into, MaxText)
		}
		if t.Ticket == "" {
			return nil, invalid("item %d: ticket is empty", i+1)
		}
	}
	return out, nil
}

func clipTo(text string, most int) string {
	if r := []rune(text); len(r) > most {
		return string(r[:most-1]) + "…"
	}
	return text
}
