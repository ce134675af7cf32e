package demo

import (
	"encoding/json"
	"fmt"
	"html/template"
	"io"
	"net"
	"net/http"
	"strings"
	"sync"
	"time"

	"github.com/emersion/go-message/mail"
	"github.com/emersion/go-smtp"
)

// Caught is a mail or a text message that a stand-in took and shows, and delivers to nobody.
type Caught struct {
	At      time.Time `json:"at"`
	To      string    `json:"to"`
	Subject string    `json:"subject,omitempty"`
	Text    string    `json:"text"`
	// Thread is what a mail refers to.
	Thread string `json:"thread,omitempty"`
	HTML   string `json:"html,omitempty"`
}

// Links finds what looks like a link in it.
func (c Caught) Links() []string {
	var out []string
	for w := range strings.FieldsSeq(c.Text) {
		if strings.HasPrefix(w, "http://") || strings.HasPrefix(w, "https://") {
			out = append(out, w)
		}
	}
	return out
}

// Catcher is a stand-in for a mail server or for a sender of text messages.
type Catcher struct {
	// URL is its page. Server is where mails are taken, HOST:PORT; "" where it catches text messages.
	URL, Server string
	mu          sync.Mutex
	list        []Caught
	seen        map[string]bool
	http        *http.Server
	smtp        *smtp.Server
}

// catcherPort is where mails are taken.
const catcherPort = 2525

// StartTexts starts the sender of text messages on an address.
func StartTexts(addr string) (*Catcher, error) {
	c := &Catcher{URL: "http://" + addr, seen: map[string]bool{}}
	return c, c.open(addr, "Text messages of the Merrow Line")
}

// StartMail starts the mail server on an address, with its page beside it.
func StartMail(addr string) (*Catcher, error) {
	host, _, err := net.SplitHostPort(addr)
	if err != nil {
		return nil, err
	}
	c := &Catcher{URL: "http://" + addr, Server: fmt.Sprintf("%s:%d", host, catcherPort), seen: map[string]bool{}}
	l, err := net.Listen("tcp", c.Server)
	if err != nil {
		return nil, err
	}
	c.smtp = smtp.NewServer(smtp.BackendFunc(func(*smtp.Conn) (smtp.Session, error) { return &posted{in: c}, nil }))
	c.smtp.Domain, c.smtp.MaxMessageBytes = "mail.merrow.example", 1<<20
	go c.smtp.Serve(l) //nolint:errcheck // it ends with Close
	return c, c.open(addr, "Mail of the Merrow Line")
}

func (c *Catcher) open(addr, title string) error {
	mux := http.NewServeMux()
	mux.HandleFunc("POST /send", c.text)
	mux.HandleFunc("GET /caught", func(w http.ResponseWriter, _ *http.Request) { answer(w, c.Caught()) })
	mux.HandleFunc("GET /{$}", func(w http.ResponseWriter, _ *http.Request) {
		show(w, catcherPage, map[string]any{"Title": title, "List": c.Caught()})
	})
	var err error
	c.http, err = serve(addr, mux, func(net.Conn) {})
	return err
}

// text takes a text message.
func (c *Catcher) text(w http.ResponseWriter, req *http.Request) {
	var m struct{ To, Text string }
	if err := json.NewDecoder(io.LimitReader(req.Body, 64<<10)).Decode(&m); err != nil || m.To == "" {
		http.Error(w, "not JSON with to and text", http.StatusBadRequest)
		return
	}
	c.keep(Caught{At: time.Now().UTC(), To: m.To, Text: m.Text}, req.Header.Get("Idempotency-Key"))
	w.WriteHeader(http.StatusAccepted)
}

// keep keeps what was caught, once for a key.
func (c *Catcher) keep(m Caught, key string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if key != "" && c.seen[key] {
		return
	}
	c.seen[key] = true
	c.list = append(c.list, m)
	if len(c.list) > maxKept {
		c.list = c.list[1:]
	}
}

// Caught lists what was caught, the newest last.
func (c *Catcher) Caught() []Caught {
	c.mu.Lock()
	defer c.mu.Unlock()
	return append([]Caught{}, c.list...)
}

// To lists what was caught for an address, the newest last.
func (c *Catcher) To(address string) []Caught {
	var out []Caught
	for _, m := range c.Caught() {
		if m.To == address {
			out = append(out, m)
		}
	}
	return out
}

// Stop ends it.
func (c *Catcher) Stop() {
	c.http.Close() //nolint:errcheck // it ends either way
	if c.smtp != nil {
		c.smtp.Close() //nolint:errcheck // it ends either way
	}
}

// posted is one conversation with whoever brings a mail.
type posted struct {
	in *Catcher
	to []string
}

func (s *posted) Mail(string, *smtp.MailOptions) error { return nil }

func (s *posted) Rcpt(to string, _ *smtp.RcptOptions) error {
	s.to = append(s.to, to)
	return nil
}

func (s *posted) Data(r io.Reader) error {
	m, err := mail.CreateReader(r)
	if err != nil {
		return err
	}
	out := Caught{At: time.Now().UTC()}
	out.Subject, _ = m.Header.Subject() // one that cannot be read is shown without
	out.Thread = m.Header.Get("References")
	for {
		p, err := m.NextPart()
		if err == io.EOF {
			break
		}
		if err != nil {
			return err
		}
		body, err := io.ReadAll(io.LimitReader(p.Body, 1<<20))
		if err != nil {
			return err
		}
		if strings.HasPrefix(p.Header.Get("Content-Type"), "text/html") {
			out.HTML = string(body)
		} else {
			out.Text = string(body)
		}
	}
	for _, to := range s.to {
		out.To = to
		s.in.keep(out, m.Header.Get("Message-Id")+to)
	}
	return nil
}

func (s *posted) Reset() { s.to = nil }

func (s *posted) Logout() error { return nil }

var catcherPage = template.Must(template.New("caught").Parse(pageHead + `<title>{{.Title}}</title><h1>{{.Title}}</h1>
{{range .List}}<p><small>{{.At.Format "15:04:05 MST"}} to {{.To}}</small>
{{if .Subject}}<b>{{.Subject}}</b>
{{end}}{{.Text}}{{range .Links}}
<a href="{{.}}">{{.}}</a>{{end}}</p>{{else}}<p>Nothing was sent yet.</p>{{end}}`))
