package store

import (
	"errors"
	"time"

	"urgentis/core/message"
	"urgentis/core/route"
)

// Ticket is an incident's ticket at a desk.
type Ticket struct {
	Incident   int64  `gorm:"primaryKey"`
	Connection string `gorm:"primaryKey"`
	Number     string // "" before the desk gave one
	Link       string
	State      string // TicketWanted and the like
	Copied     int64  // up to which entry of the record the desk was told
	Shown      string // how the incident was when the desk was told of it last
	OpenedAt   time.Time
	// Asked is what is known of it before it has a number.
	Asked message.AskedAs
	// NoneAt is since when the desk says that it knows no such ticket, ToldAt when it was last written to.
	NoneAt, ToldAt *time.Time
}

// The states of tickets.
const (
	TicketNone      = "none"   // the desk wants none of it
	TicketWanted    = "wanted" // it is asked for
	TicketOpen      = "open"
	TicketResolving = "resolving" // the desk is asked to resolve it
	TicketResolved  = "resolved"
	TicketClosed    = "closed" // at the desk, by somebody there
)

// Ticketless lists open incidents that have no ticket at a desk and of which people may be told: an incident that may
// be a false alarm still is none of them.
func (tx *Tx) Ticketless(connection string, most int) ([]Incident, error) {
	return scan[Incident](tx, `select i.* from incident i where i.state = 'open'
		and exists (select from notice n where n.incident = i.number and n.kind in (?, ?, ?, ?)
			and (n.look_at <= now() or n.state in ('told', 'taken')))
		and not exists (select from ticket t where t.incident = i.number and t.connection = ?)
		order by i.number limit ?`,
		route.IncidentOpened, route.NobodyStarted, route.ApprovalNeeded, route.HandOver, connection, most)
}

// AddTicket notes that a ticket is wanted; false where there is one already. That of an incident from before the
// database was put back to an older state may have been asked for.
func (tx *Tx) AddTicket(incident int64, connection, state string) (bool, error) {
	n, err := tx.exec(`insert into ticket (incident, connection, state, asked)
		select i.number, ?, ?, case when exists (select from setting where key = 'put_back' and at > i.opened_at)
			then ? else '' end
		from incident i where i.number = ? on conflict do nothing`,
		connection, state, message.AskedUnsure, incident)
	return n == 1, err
}

// doubtSent says of all messages that are to be sent that they may have been, and of all tickets that are wanted that
// they may be there: what was sent and asked for lately is forgotten.
func (tx *Tx) doubtSent() error {
	if err := tx.run("update delivery set unsure = true where state = 'queued'"); err != nil {
		return err
	}
	return tx.run("update ticket set asked = ? where state = ? and number = '' and asked = ''",
		message.AskedUnsure, TicketWanted)
}

// Ticket reads the ticket of an incident at a desk.
func (tx *Tx) Ticket(incident int64, connection string) (*Ticket, error) {
	return take[Ticket](tx, "incident = ? and connection = ?", incident, connection)
}

// TicketsOf lists the tickets of an incident.
func (tx *Tx) TicketsOf(incident int64) ([]Ticket, error) {
	return list[Ticket](tx, "connection", "incident = ? and number <> ''", incident)
}

// TicketNumbered finds a ticket by its number at a desk; ErrNotFound where none of ours has it.
func (tx *Tx) TicketNumbered(connection, number string) (*Ticket, error) {
	return only(scan[Ticket](tx, "select * from ticket where connection = ? and number = ?", connection, number))
}

// ErrFull says that no more of it is kept.
var ErrFull = errors.New("no more of it is kept")

// mostEarly bounds how much news of tickets that are not known yet is kept of a desk.
const mostEarly = 1000

// KeepEarly keeps news of a ticket whose number is not known yet, where a ticket is being opened at that desk; false
// where none is, ErrFull where more is kept of the desk already than may be. Nobody can note a number at that desk
// before the transaction is over.
func (tx *Tx) KeepEarly(desk, ticket string, news []byte) (bool, error) {
	opening, err := scan[int64](tx, `select incident from ticket where connection = ? and number = ''
		and state = ? order by incident for share`, desk, TicketWanted)
	if err != nil || len(opening) == 0 {
		return false, err
	}
	n, err := tx.exec(`insert into early_news (desk, ticket, news) select ?, ?, ?
		where (select count(*) from early_news where desk = ?) < ?`, desk, ticket, string(news), desk, mostEarly)
	if err == nil && n == 0 {
		err = ErrFull
	}
	return n == 1, err
}

// TakeEarly takes what was kept of a ticket before its number was known, in the order in which it came.
func (tx *Tx) TakeEarly(desk, ticket string) ([]string, error) {
	return scan[string](tx, `with taken as (delete from early_news where desk = ? and ticket = ? returning id, news)
		select news from taken order by id`, desk, ticket)
}

// gatherFor is how long what goes on in a record is gathered before its ticket is written to again, in seconds. What is
// over is told at once.
const gatherFor = 30

// TicketsBehind takes up to so many open tickets whose incident went on, or is over, and nothing of which is on its
// way, so that no other instance does.
func (tx *Tx) TicketsBehind(connection string, most int) ([]Ticket, error) {
	return scan[Ticket](tx, `select t.* from ticket t join incident i on i.number = t.incident
		where t.connection = ? and (t.state = 'open' and (i.entries > t.copied or i.state = 'closed')
			or t.state = 'resolved' and i.state = 'open')
		and (i.state = 'closed' or t.told_at is null or t.told_at <= now() - make_interval(secs => ?))
		and not exists (select from delivery d where d.incident = t.incident and d.kind = ? and d.address = ?
			and d.state = 'queued')
		order by t.incident limit ? for update of t skip locked`, connection, gatherFor, DeliveryDesk, connection, most)
}

// FollowTicket writes how far a desk is told of a ticket, and its state.
func (tx *Tx) FollowTicket(t *Ticket) error {
	return tx.run(`update ticket set copied = ?, shown = ?, state = ?, told_at = ?
		where incident = ? and connection = ?`, t.Copied, t.Shown, t.State, t.ToldAt, t.Incident, t.Connection)
}

// TicketMade writes the number and the link that a desk gave.
func (tx *Tx) TicketMade(t *Ticket) error {
	return tx.run("update ticket set number = ?, link = ?, state = ? where incident = ? and connection = ?",
		t.Number, t.Link, TicketOpen, t.Incident, t.Connection)
}

// TicketAsked writes what is known of a ticket that has no number yet.
func (tx *Tx) TicketAsked(t *Ticket, a message.Asked) error {
	return tx.run("update ticket set asked = ?, none_at = ? where incident = ? and connection = ? and number = ''",
		a.As, a.NoneAt, t.Incident, t.Connection)
}

// TicketIs writes the state of a ticket.
func (tx *Tx) TicketIs(t *Ticket, state string) error {
	return tx.run("update ticket set state = ? where incident = ? and connection = ?", state, t.Incident, t.Connection)
}

// EntriesAfter lists entries of a record after a number, oldest first.
func (tx *Tx) EntriesAfter(incident, seq int64, most int) ([]Entry, error) {
	return scan[Entry](tx, "select * from entry where incident = ? and seq > ? order by seq limit ?",
		incident, seq, most)
}
