package source

import (
	"errors"

	"urgentis/core/alert"
	"urgentis/core/reading"
)

// TicketFields are the fields of what a desk tells, which a source of tickets maps.
var TicketFields = []string{"ticket", "text", "by", "id"}

// TicketNews is what a ticket desk tells of one ticket.
type TicketNews struct {
	Ticket string `json:"ticket"` // its number
	Text   string `json:"text"`
	By     string `json:"by"`
	// ID is by which the desk names this piece of news, so that it counts once; "" where it names none.
	ID string `json:"id,omitempty"`
	// Closed says that the ticket was closed there.
	Closed bool `json:"closed,omitempty"`
}

func madeTicket(v *values) (Event, string) {
	n := &TicketNews{Ticket: v.text["ticket"], Text: v.text["text"], By: v.text["by"], ID: v.text["id"],
		Closed: v.cleared}
	return n, clipID(n.ID)
}

func (t *TicketNews) complete(alert.Heard) error {
	for _, x := range []*string{&t.Ticket, &t.Text, &t.By, &t.ID} {
		*x = clipTo(reading.Plain(*x), alert.MaxText)
	}
	if t.Ticket == "" {
		return errors.New("ticket is empty")
	}
	return nil
}

func (t *TicketNews) fields() []said {
	return []said{{"ticket", t.Ticket}, {"text", t.Text}, {"by", t.By}, {"id", t.ID}}
}

func clipTo(text string, most int) string {
	if r := []rune(text); len(r) > most {
		return string(r[:most-1]) + "…"
	}
	return text
}
