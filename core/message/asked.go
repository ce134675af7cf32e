package message

import "time"

// Asked is what is known of a ticket that a desk was asked to open, as long as it has no number.
type Asked struct {
	As AskedAs
	// NoneAt is when the desk first said, since it was asked last, that it knows no such ticket.
	NoneAt *time.Time
}

// AskedAs is how far the question has come.
type AskedAs string

const (
	// AskedNever: it was not asked, or it did certainly not take it.
	AskedNever AskedAs = ""
	// AskedUnsure: nobody knows whether it took it.
	AskedUnsure AskedAs = "unsure"
	// AskedTaken: it said that it took it, and not under which number.
	AskedTaken AskedAs = "taken"
)

// ToDo is what comes next for a ticket without a number.
type ToDo int

const (
	// OpenIt asks the desk to open it.
	OpenIt ToDo = iota
	// FindIt asks the desk whether it has it.
	FindIt
	// LeaveIt leaves it to people: whatever is done next may make a second ticket.
	LeaveIt
)

// noneFor is how long a desk must have said that it knows no ticket, before one is taken for not opened: what searches
// there may lag behind.
const noneFor = time.Minute

// Next tells what comes next; finds says that the desk can be asked whether it has a ticket.
func (a Asked) Next(finds bool) ToDo {
	switch {
	case a.As == AskedNever:
		return OpenIt
	case finds:
		return FindIt
	}
	return LeaveIt
}

// Statuses that say no and may still have made something: RFC 9110, 15.5.9 and 15.5.10.
const (
	requestTimeout = 408
	conflict       = 409
)

// None is what is known after the desk said that it has none. What nobody knows was taken counts as not taken once it
// has said so for a minute; what it took by its own word never does.
func (a Asked) None(now time.Time) Asked {
	if a.NoneAt == nil {
		a.NoneAt = &now
	}
	if a.As == AskedUnsure && now.Sub(*a.NoneAt) >= noneFor {
		return Asked{}
	}
	return a
}

// AskedWith is what is known after it was asked to open a ticket: it answered with a status, and no number. A conflict
// may be with the ticket that it made a moment ago.
func AskedWith(status int) Asked {
	switch {
	case status >= 200 && status <= 299:
		return Asked{As: AskedTaken}
	case status >= 500 || status == conflict || status == requestTimeout:
		return Asked{As: AskedUnsure}
	}
	return Asked{}
}
