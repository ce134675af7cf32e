package message

import (
	"errors"
	"net/mail"
	"slices"
)

// The kinds of connections.
const (
	Room    = "room"    // a chat room, by HTTP
	Text    = "text"    // text messages to people, by HTTP
	Mail    = "mail"    // SMTP
	Webhook = "webhook" // to a program, signed (Standard Webhooks)
	Syslog  = "syslog"  // RFC 5424
	Desk    = "desk"    // a ticket desk, by HTTP
)

// ConnectionKind is what is so of every connection of one kind. Another kind is another value of Kinds, and what
// carries messages there (internal/connect).
type ConnectionKind struct {
	Name string
	// Needs and May are the keys of its document beside name, kind and says.
	Needs, May []string
	// Posts says that the document is one HTTP request, which each message is.
	Posts bool
	// Personal says that single people are reached by it, Addressed that it is of no use without their address.
	Personal, Addressed bool
	// Address refuses what cannot be somebody's address there, and gives it as it is kept; nil: any is good.
	Address func(text string) (string, error)
	// Named are the words before the slash by which routes and runbooks name it, such as room/NAME.
	Named []string
}

// Kinds are the kinds of connections.
var Kinds = []ConnectionKind{
	{
		Name: Room, Posts: true, Personal: true, Named: []string{"room", "connection"},
		May: []string{"url", "method", "headers", "body", "form", "sign", "back", "links", "max_length"},
	}, {
		Name: Text, Posts: true, Personal: true, Addressed: true,
		May: []string{"url", "method", "headers", "body", "form", "links", "max_length"},
	}, {
		Name: Mail, Personal: true, Addressed: true, Address: mailAddress,
		Needs: []string{"server", "from"}, May: []string{"tls", "authority", "account", "password", "links"},
	}, {
		Name: Webhook, Posts: true, Personal: true, Named: []string{"connection"},
		Needs: []string{"sign"}, May: []string{"url", "headers", "body"},
	}, {
		Name: Syslog, Named: []string{"connection"},
		Needs: []string{"server"}, May: []string{"over", "authority"},
	}, {
		Name: Desk, Named: []string{"ticket"},
		Needs: []string{"open"}, May: []string{"when", "find", "comment", "copies", "update", "resolve", "follow_up"},
	},
}

// KindNamed gives a kind by its name; the zero value is none.
func KindNamed(name string) ConnectionKind {
	for _, k := range Kinds {
		if k.Name == name {
			return k
		}
	}
	return ConnectionKind{}
}

// KindNames are the names of the kinds of which something is so.
func KindNames(so func(ConnectionKind) bool) []string {
	var out []string
	for _, k := range Kinds {
		if so(k) {
			out = append(out, k.Name)
		}
	}
	return out
}

// AnyKind is so of every kind.
func AnyKind(ConnectionKind) bool { return true }

// Reaching is so of the kinds by which single people are reached.
func Reaching(k ConnectionKind) bool { return k.Personal }

// NamedBy reports whether a word before a slash names connections of the kind.
func (k ConnectionKind) NamedBy(word string) bool { return slices.Contains(k.Named, word) }

// Is is the connection's kind.
func (c *Connection) Is() ConnectionKind { return KindNamed(c.Kind) }

// Where is where the connection leads, without what is secret.
func (c *Connection) Where() string {
	r := c.Send
	if c.Desk != nil {
		r = c.Desk.Open
	}
	switch {
	case r == nil:
		return c.Server
	case r.Secret != "":
		return "the secret " + r.Secret
	}
	return r.URL.Source
}

func mailAddress(text string) (string, error) {
	at, err := mail.ParseAddress(text)
	if err != nil || at.Name != "" {
		return "", errors.New(text + " is no mail address such as mara@merrow.example")
	}
	return at.Address, nil
}
