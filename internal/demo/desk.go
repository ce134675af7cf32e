package demo

import (
	"context"
	"encoding/json"
	"fmt"
	"html/template"
	"io"
	"net"
	"net/http"
	"strings"
	"sync"
	"sync/atomic"
	"time"
)

// Ticket is a ticket at a desk.
type Ticket struct {
	Number, Short, Reference, State string
	Urgency                         string
	Notes                           []TicketNote
}

// TicketNote is a note on a ticket.
type TicketNote struct {
	At       time.Time
	By, Text string
	Inner    bool
}

// Desk is a ticket desk stand-in. There are two, with quite different interfaces, of which the service knows nothing
// but what its documents say.
type Desk struct {
	// URL is its page.
	URL string
	// Events is where it tells what happened to its tickets, with a token; nobody before it is set.
	mu      sync.Mutex
	events  string
	token   string
	title   string
	prefix  string
	tickets []*Ticket
	http    *http.Server
	telling sync.WaitGroup
	Slowly  slowly
	told    int
	// late lets what is told of tickets come late, twice and in the wrong order.
	late bool
}

// slowly lets a stand-in take what comes at once and answer late.
type slowly struct {
	until atomic.Int64
	taken atomic.Pointer[func()]
}

// Until lets answers come at a time.
func (s *slowly) Until(t time.Time) { s.until.Store(t.UnixNano()) }

// Taken calls do when something was taken and is not answered yet.
func (s *slowly) Taken(do func()) { s.taken.Store(&do) }

func (s *slowly) wait() {
	if do := s.taken.Load(); do != nil {
		(*do)()
	}
	time.Sleep(time.Until(time.Unix(0, s.until.Load())))
}

// us is who writes to the desk for the service.
const us = "urgentis"

// StartHarbourDesk starts the harbour's desk: JSON at addresses of tickets.
func StartHarbourDesk(addr string) (*Desk, error) {
	d := &Desk{URL: "http://" + addr, title: "Harbour desk", prefix: "HB-"}
	mux := http.NewServeMux()
	mux.HandleFunc("POST /tickets", func(w http.ResponseWriter, r *http.Request) {
		var b struct{ Short, Reference, Urgency, Text string }
		if !read(w, r, &b) {
			return
		}
		t := d.open(b.Short, b.Reference, b.Urgency, b.Text)
		d.Slowly.wait()
		w.WriteHeader(http.StatusCreated)
		answer(w, map[string]any{"ticket": map[string]any{"id": t.Number, "page": d.URL + "/#" + t.Number}})
	})
	mux.HandleFunc("GET /tickets", func(w http.ResponseWriter, r *http.Request) {
		t := d.find(func(t *Ticket) bool { return t.Reference == r.FormValue("reference") })
		list := []any{}
		if t != nil {
			list = append(list, map[string]any{"id": t.Number, "page": d.URL + "/#" + t.Number})
		}
		answer(w, map[string]any{"tickets": list})
	})
	mux.HandleFunc("POST /tickets/{number}/notes", func(w http.ResponseWriter, r *http.Request) {
		var b struct {
			Text  string
			Inner bool
		}
		if read(w, r, &b) {
			d.change(w, r.PathValue("number"), us, b.Text, b.Inner, "")
		}
	})
	mux.HandleFunc("PATCH /tickets/{number}", func(w http.ResponseWriter, r *http.Request) {
		var b struct {
			State, Urgency, Waits, Code string
			Unsuccessful                bool
		}
		if read(w, r, &b) {
			text := words("waits for ", b.Waits) + words("code ", b.Code)
			if b.Unsuccessful {
				text = strings.TrimSpace(text + " unsuccessful")
			}
			d.change(w, r.PathValue("number"), us, text, true, b.State)
		}
	})
	return d, d.serve(addr, mux)
}

// StartLineDesk starts the line's desk: one address, forms, and a word for what is wanted.
func StartLineDesk(addr string) (*Desk, error) {
	d := &Desk{URL: "http://" + addr, title: "Merrow Line requests", prefix: "REQ"}
	mux := http.NewServeMux()
	mux.HandleFunc("POST /rpc", func(w http.ResponseWriter, r *http.Request) {
		switch r.FormValue("call") {
		case "new":
			t := d.open(r.FormValue("subject"), r.FormValue("theirs"), r.FormValue("prio"), r.FormValue("body"))
			answer(w, map[string]any{"ok": true, "result": []any{map[string]any{"no": t.Number}}})
		case "remark":
			d.change(w, r.FormValue("no"), us, r.FormValue("body"), true, "")
		case "finish":
			d.change(w, r.FormValue("no"), us, r.FormValue("body"), false, "closed")
		default:
			http.Error(w, "no such call", http.StatusBadRequest)
		}
	})
	return d, d.serve(addr, mux)
}

func words(before, text string) string {
	if text == "" {
		return ""
	}
	return before + text + " "
}

func read(w http.ResponseWriter, r *http.Request, into any) bool {
	if err := json.NewDecoder(io.LimitReader(r.Body, 1<<20)).Decode(into); err != nil {
		http.Error(w, "not JSON", http.StatusBadRequest)
		return false
	}
	return true
}

func (d *Desk) serve(addr string, mux *http.ServeMux) error {
	mux.HandleFunc("GET /{$}", func(w http.ResponseWriter, _ *http.Request) {
		show(w, deskPage, map[string]any{"Title": d.title, "List": d.Tickets()})
	})
	var err error
	d.http, err = serve(addr, mux, func(net.Conn) {})
	return err
}

// Tell lets the desk tell an alert source what happens to its tickets.
func (d *Desk) Tell(events, token string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.events, d.token = events, token
}

// open opens a ticket; one with a reference that is there already is that.
func (d *Desk) open(short, reference, urgency, text string) *Ticket {
	d.mu.Lock()
	defer d.mu.Unlock()
	t := &Ticket{
		Number: fmt.Sprintf("%s%04d", d.prefix, len(d.tickets)+1), Short: short, Reference: reference, State: "open",
		Urgency: urgency, Notes: []TicketNote{{At: time.Now().UTC(), By: us, Text: text}},
	}
	d.tickets = append(d.tickets, t)
	d.tell(t.Number, us, "opened: "+short, "open")
	return t
}

func (d *Desk) find(is func(*Ticket) bool) *Ticket {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, t := range d.tickets {
		if is(t) {
			return t
		}
	}
	return nil
}

// change writes a note on a ticket, and gives it a state where one is said.
func (d *Desk) change(w http.ResponseWriter, number, by, text string, inner bool, state string) {
	if !d.Note(number, by, text, inner, state) {
		http.Error(w, "there is no such ticket", http.StatusNotFound)
		return
	}
	d.Slowly.wait()
	answer(w, map[string]any{"ok": true})
}

// Note writes somebody's note on a ticket, and gives it a state where one is said; false where there is no such ticket.
func (d *Desk) Note(number, by, text string, inner bool, state string) bool {
	t := d.find(func(t *Ticket) bool { return t.Number == number })
	if t == nil {
		return false
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	t.Notes = append(t.Notes, TicketNote{At: time.Now().UTC(), By: by, Text: text, Inner: inner})
	if state != "" {
		t.State = state
	}
	d.tell(number, by, text, t.State)
	return true
}

// tell posts an event, as desks do, of whatever happens: of what the service does there too.
func (d *Desk) tell(number, by, text, state string) {
	if d.events == "" {
		return
	}
	events, token, late := d.events, d.token, d.late
	d.told++
	body, err := json.Marshal(map[string]any{"ticket": number, "by": by, "words": text, "state": state,
		"event": fmt.Sprintf("%s%d", d.prefix, d.told)})
	if err != nil {
		return
	}
	times, wait := 1, time.Duration(0)
	if late {
		times, wait = 2, time.Duration(3-d.told%3)*300*time.Millisecond
	}
	d.telling.Go(func() {
		for range times {
			time.Sleep(wait)
			post(
				context.Background(),
				events,
				token,
				string(body),
			) //nolint:errcheck // a desk asks nobody whether it was heard
		}
	})
}

// Tickets lists the tickets, the newest first.
func (d *Desk) Tickets() []Ticket {
	d.mu.Lock()
	defer d.mu.Unlock()
	out := make([]Ticket, 0, len(d.tickets))
	for i := len(d.tickets) - 1; i >= 0; i-- {
		t := *d.tickets[i]
		t.Notes = append([]TicketNote{}, t.Notes...)
		out = append(out, t)
	}
	return out
}

// Stop ends it.
func (d *Desk) Stop() {
	d.http.Close() //nolint:errcheck // it ends either way
	d.telling.Wait()
}

var deskPage = template.Must(template.New("desk").Parse(pageHead + `<title>{{.Title}}</title><h1>{{.Title}}</h1>
{{range .List}}<h2 id="{{.Number}}">{{.Number}} · {{.State}} · {{.Short}}</h2>
{{range .Notes}}<p><small>{{.At.Format "15:04:05 MST"}} {{.By}}{{if .Inner}}, internal{{end}}</small></p>
<p style="white-space:pre-wrap">{{.Text}}</p>{{end}}{{else}}<p>No ticket is open.</p>{{end}}`))
