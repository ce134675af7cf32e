package connect

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/emersion/go-smtp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/message"
	"urgentis/internal/store"
	"urgentis/internal/testdb"
)

// wire is a server that does with each request what its script says, and counts those that it read whole.
type wire struct {
	addr  string
	heard atomic.Int64
	kept  atomic.Int64 // requests on a connection that was used before

	mu     sync.Mutex
	script []string // answer, silence (reads, and cuts the connection), cut (cuts before reading)
	bodies []string
}

func startWire(t *testing.T, script ...string) *wire {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	w := &wire{addr: "http://" + l.Addr().String(), script: script}
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go w.serve(c)
		}
	}()
	return w
}

func (w *wire) next() string {
	w.mu.Lock()
	defer w.mu.Unlock()
	if len(w.script) == 0 {
		return "answer"
	}
	do := w.script[0]
	w.script = w.script[1:]
	return do
}

func (w *wire) serve(c net.Conn) {
	defer c.Close()
	in := bufio.NewReader(c)
	for n := 0; ; n++ {
		if _, err := in.Peek(1); err != nil {
			return
		}
		do := w.next()
		if do == "cut" {
			return
		}
		r, err := http.ReadRequest(in)
		if err != nil {
			return
		}
		body, err := io.ReadAll(r.Body)
		if err != nil {
			return
		}
		w.mu.Lock()
		w.bodies = append(w.bodies, string(body))
		w.mu.Unlock()
		if w.heard.Add(1); n > 0 {
			w.kept.Add(1)
		}
		if do == "silence" {
			return
		}
		status, text, _ := strings.Cut(strings.TrimPrefix(do, "answer"), " ")
		if status == "" {
			status = "200"
		}
		said := fmt.Sprintf("HTTP/1.1 %s Said\r\nContent-Length: %d\r\n\r\n%s", status, len(text), text)
		io.WriteString(c, said) //nolint:errcheck // the reader is gone
	}
}

// What is no look leaves once, whatever becomes of the connection. Nobody knows what became of a request that left and
// was not answered.
func TestNothingIsSentTwiceByItself(t *testing.T) {
	for _, c := range []struct {
		name   string
		script []string
		heard  int64
		unsure bool
	}{
		{"one that is kept, and drops after it read", []string{"answer", "silence"}, 2, true},
		{"one that drops before it read", []string{"answer", "cut"}, 1, true},
		{"a gateway that waited", []string{"answer", "answer504"}, 2, true},
		{"one that says no", []string{"answer", "answer422"}, 2, false},
	} {
		t.Run(c.name, func(t *testing.T) {
			o := outbox(t, testdb.Open(t))
			w := startWire(t, c.script...)
			call := &message.Call{Method: http.MethodPost, URL: w.addr, Body: `{"a":1}`}
			_, err := o.do(context.Background(), "there", call, "key-1")
			require.NoError(t, err)
			_, err = o.do(context.Background(), "there", call, "key-2")
			require.Error(t, err)
			assert.Equal(t, c.unsure, errors.Is(err, errUnsure), err)
			assert.Equal(t, c.heard, w.heard.Load())
			assert.Zero(t, w.kept.Load())
		})
	}
	o := outbox(t, testdb.Open(t))
	_, err := o.do(context.Background(), "there", &message.Call{Method: "POST", URL: "http://127.0.0.1:1/"}, "k")
	require.Error(t, err)
	assert.NotErrorIs(t, err, errUnsure, "nobody listens there: nothing left")
}

// A person is told again where nobody knows whether the message arrived, and told that it may be a repeat.
func TestATextThatMayHaveArrived(t *testing.T) {
	s := testdb.Open(t)
	w := startWire(t, "silence")
	require.NoError(t, testdb.Push(s, "urgentis: connection/1\nname: texts\nkind: text\nurl: "+w.addr+
		"\nbody: {text: '{{ message.short }}'}\n"))
	inc := incidentIn(t, s)
	o := outbox(t, s)
	id := send(t, s, "texts", "text", "mara", "1", asking(inc))
	assert.ErrorContains(t, tried(t, s, o, id, 1), errUnsure.Error())
	assert.True(t, state(t, s, id).Unsure)
	require.NoError(t, o.Work(context.Background(), job(id, 2)))
	require.Len(t, w.bodies, 2)
	assert.NotContains(t, w.bodies[0], "repeat")
	assert.Contains(t, w.bodies[1], "(May be a repeat) Approve?")

	// So it is where the program died while it was being sent.
	id = send(t, s, "texts", "text", "mara", "1", asking(inc))
	require.NoError(t, o.Work(context.Background(), job(id, 2)))
	assert.Contains(t, w.bodies[2], "(May be a repeat)")
}

// hangsUp is a mail server that takes a mail whole and hangs up before it says so.
type hangsUp struct {
	grey
	conn *smtp.Conn
}

func (d *hangsUp) Rcpt(string, *smtp.RcptOptions) error { return nil }

func (d *hangsUp) Data(r io.Reader) error {
	_, err := io.Copy(io.Discard, r)
	d.conn.Conn().Close()
	return err
}

func TestAMailThatMayHaveArrived(t *testing.T) {
	s := testdb.Open(t)
	server := smtp.NewServer(smtp.BackendFunc(func(c *smtp.Conn) (smtp.Session, error) {
		return &hangsUp{conn: c}, nil
	}))
	server.Domain = "gone"
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	go server.Serve(l) //nolint:errcheck // it ends with Close
	defer server.Close()
	require.NoError(t, testdb.Push(s, "urgentis: connection/1\nname: mail\nkind: mail\ntls: never\nserver: "+
		l.Addr().String()+"\nfrom: urgentis@merrow.example\n"))
	inc := incidentIn(t, s)
	id := send(t, s, "mail", "mail", "mara", "mara@merrow.example", asking(inc))
	assert.ErrorContains(t, tried(t, s, outbox(t, s), id, 1), errUnsure.Error())
	assert.True(t, state(t, s, id).Unsure)
}

func startServer(t *testing.T, h http.Handler) string {
	at := httptest.NewServer(h)
	t.Cleanup(at.Close)
	return at.URL
}

// bureau is a ticket desk whose search lags, which says 404 where it knows none, and which answers as its script says.
type bureau struct {
	mu      sync.Mutex
	script  []string // of opening: number, bare, dies, refuses, busy
	tickets int
	shown   int // how many its search knows
	asked   int
}

func (b *bureau) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if r.Method == http.MethodGet {
		if b.asked++; b.shown == 0 {
			w.WriteHeader(http.StatusNotFound)
			return
		}
		fmt.Fprint(w, `{"id": "T1"}`) //nolint:errcheck // the reader is gone
		return
	}
	do := "number"
	if len(b.script) > 0 {
		do, b.script = b.script[0], b.script[1:]
	}
	switch do {
	case "refuses":
		w.WriteHeader(http.StatusUnprocessableEntity)
		return
	case "busy": // it did nothing
		w.WriteHeader(http.StatusServiceUnavailable)
		return
	}
	b.tickets++
	switch do {
	case "bare":
		w.WriteHeader(http.StatusCreated)
	case "dies":
		panic(http.ErrAbortHandler)
	default:
		fmt.Fprintf(w, `{"id": "T%d"}`, b.tickets) //nolint:errcheck // the reader is gone
	}
}

func (b *bureau) index() {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.shown = b.tickets
}

// deskAt is a desk with a search, and a message that asks for a ticket.
func deskAt(t *testing.T, s *store.Store, at string) (o *Outbox, inc, id int64) {
	require.NoError(t, testdb.Push(s, strings.ReplaceAll(`urgentis: connection/1
name: desk
kind: desk
open: {url: 'AT/', read: {number: answer.body.id}}
find: {method: GET, url: 'AT/?r={{ incident.reference }}', read: {number: answer.body.id}}
`, "AT", at)))
	inc = incidentIn(t, s)
	ctx := context.Background()
	_, err := s.In(ctx).AddTicket(inc, "desk", store.TicketWanted)
	require.NoError(t, err)
	list := []store.Delivery{{Key: "k", Kind: store.DeliveryDesk, Connection: "desk", Body: `{"do":"open"}`,
		Incident: &inc, State: "queued", QueuedAt: time.Now()}}
	require.NoError(t, s.In(ctx).AddDeliveries(list))
	return outbox(t, s), inc, list[0].ID
}

// However a desk answers, and however late its search is, there is one ticket.
func TestOneTicketWhateverTheDeskSays(t *testing.T) {
	for _, c := range []struct {
		name    string
		script  []string
		lag     int    // tries before its search knows the ticket
		waited  bool   // a minute passes between the tries
		tickets int    // in the end
		number  string // as we know it; "" none
	}{
		{"at once", nil, 0, false, 1, "T1"},
		{"it was busy, and did nothing", []string{"busy"}, 0, true, 1, "T1"},
		{"it refuses, and takes it later", []string{"refuses", "refuses"}, 0, false, 1, "T1"},
		{"created without a number, its search lags", []string{"bare"}, 5, true, 1, "T1"},
		{"created without a number, and never found", []string{"bare"}, 99, true, 1, ""},
		{"it dies before it says so, its search lags", []string{"dies"}, 1, false, 1, "T1"},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := testdb.Open(t)
			b := &bureau{script: c.script}
			at := startServer(t, b)
			o, inc, id := deskAt(t, s, at)
			ctx := context.Background()
			for try := 1; try <= 12; try++ {
				if try-1 > c.lag {
					b.index()
				}
				_ = o.Work(ctx, job(id, try)) // what came of it is looked at below
				if c.waited {
					require.NoError(t, testdb.SQL(s).Exec(
						"update ticket set none_at = none_at - interval '61 seconds'").Error)
				}
			}
			assert.Equal(t, c.tickets, b.tickets)
			ticket, err := s.In(ctx).Ticket(inc, "desk")
			require.NoError(t, err)
			assert.Equal(t, c.number, ticket.Number)
			if d := state(t, s, id); c.number == "" {
				assert.Equal(t, "failed", d.State)
				assert.Contains(t, d.Error, "look there, and send this again if there is none")
				require.NoError(t, s.In(ctx).SendAgain(id), "somebody looked")
				b.script = nil
				require.NoError(t, o.Work(ctx, job(id, 1)))
				assert.Equal(t, 2, b.tickets)
			} else {
				assert.Equal(t, "sent", d.State)
			}
		})
	}
}

// A desk that answers its first call, and drops the kept connection after the second request, gets one ticket.
func TestADeskThatDropsAKeptConnection(t *testing.T) {
	s := testdb.Open(t)
	w := startWire(t, `answer {"id": "T1"}`, "silence", `answer {"id": "T2"}`)
	o, inc, id := deskAt(t, s, w.addr)
	require.NoError(t, o.Work(context.Background(), job(id, 1)))
	require.NoError(t, testdb.SQL(s).Exec("update ticket set number = '', asked = ''").Error)
	require.NoError(t, testdb.SQL(s).Exec("update delivery set state = 'queued', tries = 0").Error)
	assert.Error(t, tried(t, s, o, id, 1))
	assert.EqualValues(t, 2, w.heard.Load(), "nothing was sent a second time")
	require.NoError(t, o.Work(context.Background(), job(id, 2)))
	ticket, err := s.In(context.Background()).Ticket(inc, "desk")
	require.NoError(t, err)
	assert.Equal(t, "T2", ticket.Number)
	assert.Empty(t, w.bodies[2], "it was asked whether it has it")
}

// A desk can be tried before it is real: the ticket that says so is resolved again, and what fails is said with what
// stays there.
func TestADeskIsTried(t *testing.T) {
	s := testdb.Open(t)
	w := startWire(t, `answer {"id": "T9"}`, `answer {"id": "T9"}`, "answer", "answer", `answer {"id": "T10"}`, "answer500")
	text := strings.ReplaceAll(`urgentis: connection/1
name: desk
kind: desk
open: {url: 'AT/', body: {about: "{{ incident.title }} {{ incident.handed_over }}"}, read: {number: answer.body.id}}
find: {method: GET, url: 'AT/?r={{ incident.reference }}', read: {number: answer.body.id}}
comment: {url: 'AT/{{ ticket.number }}', body: {text: "{{ comment.text }}"}}
resolve: {url: 'AT/{{ ticket.number }}', body: {code: "{{ incident.outcome }}"}}
`, "AT", w.addr)
	require.NoError(t, testdb.Push(s, text))
	o := outbox(t, s)
	c, err := o.connections(context.Background(), "desk")
	require.NoError(t, err)
	try := &store.Incident{Title: "A try", Severity: "minor", State: "open", OpenedAt: time.Now()}
	says, err := o.TryDesk(context.Background(), c, try)
	require.NoError(t, err)
	assert.Equal(t, "opened ticket T9, found it again, wrote to it, resolved it", says)
	assert.JSONEq(t, `{"about":"A try false"}`, w.bodies[0])
	assert.JSONEq(t, `{"code":"false-alarm"}`, w.bodies[3])
	_, err = o.TryDesk(context.Background(), c, try)
	assert.ErrorContains(t, err, "opened ticket T10, then find: desk answered 500")
}

// What a database that was put back says is to be sent may have been sent: nothing is, before it is known whether it
// was put back.
func TestNothingIsSentWhileTheDatabaseMayBeOlder(t *testing.T) {
	ctx := context.Background()
	s := testdb.Open(t)
	b := &bureau{}
	o, _, id := deskAt(t, s, startServer(t, b))
	require.NoError(t, s.Register(ctx, store.Instance{ID: "n-that-may-know", Host: "h"}))
	db := testdb.SQL(s)
	require.NoError(t, db.Exec("update instance set beat_at = pg_postmaster_start_time() - interval '1 minute'").Error)
	require.NoError(t, o.Work(ctx, job(id, 1)))
	assert.Zero(t, b.tickets, "whoever may know that it was put back was not heard yet")
	assert.Equal(t, "queued", state(t, s, id).State)
	_, err := s.In(ctx).PutBack("n-that-may-know", "urgentis")
	require.NoError(t, err)
	assert.True(t, state(t, s, id).Unsure, "it may have been sent")
	require.NoError(t, db.Exec("update instance set fenced_at = now()").Error)
	require.NoError(t, db.Exec("update ticket set asked = ''").Error)
	require.NoError(t, o.Work(ctx, job(id, 1)))
	assert.Equal(t, 1, b.tickets)
}

// Where the database was put back to before a ticket was asked for, the desk is asked whether it has it; the numbers of
// incidents of which nobody knows any more are not given again.
func TestATicketIsLookedForWhereTheDatabaseWasPutBack(t *testing.T) {
	ctx := context.Background()
	for _, row := range []string{"the ticket's row is there", "it is gone"} {
		t.Run(row, func(t *testing.T) {
			s := testdb.Open(t)
			b := &bureau{tickets: 1, shown: 1} // that was opened and is forgotten
			o, inc, id := deskAt(t, s, startServer(t, b))
			lost := testdb.SQL(s)
			if row == "it is gone" {
				require.NoError(t, lost.Exec("delete from ticket").Error)
			}
			_, err := s.In(ctx).PutBack("n-of-another", "urgentis")
			require.NoError(t, err)
			if row == "it is gone" {
				_, err := s.In(ctx).AddTicket(inc, "desk", store.TicketWanted)
				require.NoError(t, err)
			}
			require.NoError(t, o.Work(ctx, job(id, 1)))
			ticket, err := s.In(ctx).Ticket(inc, "desk")
			require.NoError(t, err)
			assert.Equal(t, "T1", ticket.Number)
			assert.Equal(t, 1, b.tickets)
			assert.Greater(t, incidentIn(t, s), inc+1000)
		})
	}
}
