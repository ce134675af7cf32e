package message

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"strings"

	"urgentis/core/expr"
	"urgentis/core/reading"
	"urgentis/core/route"
	"urgentis/core/runbook"
)

// Connection is a way out to people or to another system.
type Connection struct {
	Name, Kind string
	// Send is the request of rooms, texts and webhooks.
	Send *Request
	// Sign is the secret that a webhook is signed with, and that call-backs of a room must be signed with.
	Sign *expr.Template
	// Server is HOST:PORT of mail and syslog; TLS is start, on or never; Over is udp, tcp or tls.
	Server, TLS, Over string
	Account           string
	Password          *expr.Template
	From              string
	// Authority is a certificate (PEM) that signs the server's; "" for those of the machine.
	Authority string
	// Most bounds the short form of a message, in characters.
	Most int
	// Says are words of one's own by the kind of notice, or "otherwise", in the place of the message's text.
	Says map[string]*expr.Template
	// Links says what a link that was sent lets its receiver do: act, or only look once signed in.
	Links string
	// Back reads what a room calls back with; nil: it does not.
	Back *Back
	Desk *DeskRequests
}

// What links may do.
const (
	LinksAct  = "act"
	LinksLook = "look"
)

// DefaultMost bounds a short message unless the connection says otherwise: what two joined text messages carry.
const DefaultMost = 300

// DeskRequests are what a ticket desk is asked and told, each nil where it is not.
type DeskRequests struct {
	// When says for which incidents a ticket is opened; nil: for all.
	When                                 *expr.Program
	Open, Find, Comment, Update, Resolve *Request
	// Copies are the kinds of entries that comments have, or their first words; none: whatever matters.
	Copies []string
	// FollowUp files what is left to do, as an incident is closed as mitigated.
	FollowUp *Request
}

// Back says what is read of a call-back of a room: who presses what on which message.
type Back struct {
	Person, Do, Refers, Digest, Comment *expr.Program
	// People are those who sign in, by what the room calls them; others prove a way of theirs.
	People map[string]string
}

// Request is an HTTP request with holes.
type Request struct {
	Method string
	URL    *expr.Template
	// Secret names the secret that is the whole URL, where URL is nil.
	Secret  string
	Headers map[string]*expr.Template
	Body    *runbook.Value
	Form    bool
	// Read is what is kept of the answer, by name.
	Read map[string]*expr.Program
}

// Call is a request that is ready but for its secrets, which stand as marks.
type Call struct {
	Method, URL, Secret string
	Headers             map[string]string
	Body, ContentType   string
}

// Render fills the holes of a request. What has no body of its own carries other as JSON.
func (r *Request) Render(names map[string]any, other any) (*Call, error) {
	scope := &expr.Scope{Names: names}
	c := &Call{Method: r.Method, Secret: r.Secret, Headers: map[string]string{}}
	var err error
	if r.URL != nil {
		if c.URL, err = r.URL.URL(scope); err != nil {
			return nil, fmt.Errorf("its url: %w", err)
		}
	}
	for name, t := range r.Headers {
		if c.Headers[name], err = t.Text(scope); err != nil {
			return nil, fmt.Errorf("its header %s: %w", name, err)
		}
	}
	body := other
	if r.Body != nil {
		if body, err = r.Body.Render(scope); err != nil {
			return nil, fmt.Errorf("its body: %w", err)
		}
	}
	if r.Form {
		c.ContentType = "application/x-www-form-urlencoded"
		c.Body, err = form(body)
		return c, err
	}
	if body == nil {
		return c, nil
	}
	c.ContentType = "application/json"
	out, err := json.Marshal(body)
	if err != nil {
		return nil, fmt.Errorf("its body: %w", err)
	}
	c.Body = string(out)
	return c, nil
}

var errNoForm = errors.New("the body of a form is names with texts")

func form(body any) (string, error) {
	fields, ok := body.(map[string]any)
	if !ok {
		return "", errNoForm
	}
	v := url.Values{}
	for k, x := range fields {
		v.Set(k, expr.Say(x))
	}
	return v.Encode(), nil
}

// maxAnswer bounds what is kept of an answer, such as a ticket's number, in bytes.
const maxAnswer = 2000

// ReadAnswer reads what is kept of an answer. What is not there is an error: a number that could not be read must not
// pass for one.
func (r *Request) ReadAnswer(status int, body string) (map[string]string, error) {
	if len(r.Read) == 0 {
		return nil, nil
	}
	var parsed any
	if err := json.Unmarshal([]byte(body), &parsed); err != nil {
		parsed = body
	}
	scope := &expr.Scope{Names: map[string]any{"answer": map[string]any{"status": status, "body": parsed}}}
	out := map[string]string{}
	for name, p := range r.Read {
		v, err := p.Eval(scope)
		if err != nil {
			return nil, fmt.Errorf("its answer has no %s: %w", name, err)
		}
		if out[name] = strings.TrimSpace(expr.Say(v)); out[name] == "" {
			return nil, fmt.Errorf("its answer has no %s", name)
		}
		if len(out[name]) > maxAnswer || reading.Plain(out[name]) != out[name] {
			return nil, fmt.Errorf("what its answer has as %s cannot be kept", name)
		}
	}
	return out, nil
}

// Worded is the message in the connection's own words, where it has some for this kind of notice.
func (c *Connection) Worded(m *Message) (string, error) {
	t := c.Says[string(m.Kind)]
	if t == nil {
		t = c.Says["otherwise"]
	}
	if t == nil {
		return m.Text(), nil
	}
	return t.Prose(&expr.Scope{Names: map[string]any{"message": m.Names(c.most())}})
}

func (c *Connection) most() int {
	if c.Most == 0 {
		return DefaultMost
	}
	return c.Most
}

// NamesFor are the values that a connection's request sees for a message: its words as message.text.
func (c *Connection) NamesFor(m *Message) (map[string]any, error) {
	text, err := c.Worded(m)
	if err != nil {
		return nil, fmt.Errorf("the words of %s: %w", m.Kind, err)
	}
	names := m.Names(c.most())
	names["text"] = text
	return map[string]any{"message": names}, nil
}

// KindWords are what words of one's own may be for.
func KindWords() []string { return append([]string{"otherwise"}, route.KindNames()...) }
