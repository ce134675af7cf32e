package connect

import (
	"bufio"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"io"
	"math/big"
	"mime"
	"net"
	"net/http"
	"net/http/httptest"
	"net/mail"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/emersion/go-smtp"
	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/message"
	"urgentis/core/route"
	"urgentis/internal/store"
	"urgentis/internal/testdb"
)

// send puts a message to somebody into the outbox, and gives its number.
func send(t *testing.T, s *store.Store, connection, kind, to, address string, m message.Message) int64 {
	m.To, m.Address, m.Key = to, address, store.NewID("m")
	body, err := json.Marshal(m)
	require.NoError(t, err)
	d := store.Delivery{
		Key:        m.Key,
		Kind:       kind,
		Connection: connection,
		Body:       string(body),
		Receiver:   to,
		Address:    address,
		Urgent:     m.Urgent,
		State:      "queued",
		QueuedAt:   time.Now(),
	}
	if m.Incident != 0 {
		d.Incident = &m.Incident
	}
	list := []store.Delivery{d}
	require.NoError(t, s.In(context.Background()).AddDeliveries(list))
	return list[0].ID
}

func asking(incident int64) message.Message {
	return message.Message{
		Kind: route.ApprovalNeeded, Urgent: true, Subject: "Approve? Park it: äöü", Title: "deep", Incident: incident,
		Severity: "major", Refers: "gate/g1", Digest: "d1", At: time.Now(), Link: "http://u/incidents/7",
		Lines:   []message.Line{{Name: "Harm", Text: "Ships wait."}},
		Choices: []message.Choice{{Name: "open", Label: "Decide", Link: "http://u/incidents/7"}},
	}
}

func TestAWebhookIsSignedAsTheLibraryChecksIt(t *testing.T) {
	s := testdb.Open(t)
	key, err := opened{}.Value(context.Background(), "signing")
	require.NoError(t, err)
	hook, err := standardwebhooks.NewWebhook(key)
	require.NoError(t, err)
	var got atomic.Value
	at := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		assert.NoError(t, hook.Verify(body, r.Header))
		assert.Error(t, hook.Verify(append(body, ' '), r.Header), "another body has another signature")
		got.Store(string(body))
	}))
	defer at.Close()
	require.NoError(t, testdb.Push(s, "urgentis: connection/1\nname: hook\nkind: webhook\nurl: "+at.URL+
		"\nsign: '{{ secrets.signing }}'\n"))
	inc := incidentIn(t, s)
	id := send(t, s, "hook", "webhook", "mara", "", asking(inc))
	require.NoError(t, outbox(t, s).Work(context.Background(), job(id, 1)))
	assert.Equal(t, "answered 200", state(t, s, id).Answer)
	var said map[string]any
	require.NoError(t, json.Unmarshal([]byte(got.Load().(string)), &said))
	assert.Equal(t, "approval.needed", said["kind"])
}

// certificate makes one for 127.0.0.1, which signs itself; files of it, and its text.
func certificate(t *testing.T) (cert, key, text string) {
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	template := &x509.Certificate{
		SerialNumber: big.NewInt(1), NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour),
		IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}, IsCA: true, BasicConstraintsValid: true,
		KeyUsage: x509.KeyUsageDigitalSignature | x509.KeyUsageCertSign,
	}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &private.PublicKey, private)
	require.NoError(t, err)
	raw, err := x509.MarshalECPrivateKey(private)
	require.NoError(t, err)
	dir := t.TempDir()
	cert, key = filepath.Join(dir, "cert.pem"), filepath.Join(dir, "key.pem")
	text = string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}))
	require.NoError(t, os.WriteFile(cert, []byte(text), 0o600))
	require.NoError(t, os.WriteFile(key, pem.EncodeToMemory(&pem.Block{Type: "EC PRIVATE KEY", Bytes: raw}), 0o600))
	return cert, key, text
}

func freePort(t *testing.T) int {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port
}

// A mail goes to a server that others wrote, by STARTTLS, as text and HTML, in one thread with others of its incident.
func TestAMailToARealServer(t *testing.T) {
	s := testdb.Open(t)
	cert, key, authority := certificate(t)
	port, box := freePort(t), filepath.Join(t.TempDir(), "box")
	server := exec.Command(
		"/usr/bin/python3",
		"-m",
		"aiosmtpd",
		"-n",
		"-l",
		fmt.Sprintf("127.0.0.1:%d", port),
		"--tlscert",
		cert,
		"--tlskey",
		key,
		"-c",
		"aiosmtpd.handlers.Mailbox",
		box,
	)
	require.NoError(t, server.Start())
	defer server.Process.Kill() //nolint:errcheck // it is over
	require.Eventually(t, func() bool {
		c, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", port))
		if err == nil {
			c.Close()
		}
		return err == nil
	}, time.Minute, 50*time.Millisecond)
	document := fmt.Sprintf("urgentis: connection/1\nname: mail\nkind: mail\nserver: 127.0.0.1:%d\n"+
		"from: Urgentis <urgentis@merrow.example>\nauthority: |\n  %s\n", port,
		strings.ReplaceAll(strings.TrimSpace(authority), "\n", "\n  "))
	require.NoError(t, testdb.Push(s, document))
	inc := incidentIn(t, s)
	o := outbox(t, s)
	for range 2 {
		id := send(t, s, "mail", "mail", "mara", "mara@merrow.example", asking(inc))
		require.NoError(t, o.Work(context.Background(), job(id, 1)))
		assert.Equal(t, "sent", state(t, s, id).State)
	}
	files, err := filepath.Glob(box + "/new/*")
	require.NoError(t, err)
	require.Len(t, files, 2)
	var threads []string
	for _, f := range files {
		b, err := os.ReadFile(f)
		require.NoError(t, err)
		m, err := mail.ReadMessage(strings.NewReader(string(b)))
		require.NoError(t, err)
		threads = append(threads, m.Header.Get("References"))
		subject, err := (&mime.WordDecoder{}).DecodeHeader(m.Header.Get("Subject"))
		require.NoError(t, err)
		assert.Equal(t, fmt.Sprintf("Approve? Park it: äöü · deep [%d]", inc), subject)
		assert.Contains(t, m.Header.Get("Content-Type"), "multipart/alternative")
		assert.Equal(t, "auto-generated", m.Header.Get("Auto-Submitted"))
	}
	assert.Equal(t, threads[0], threads[1])
	assert.NotEmpty(t, threads[0])

	require.NoError(t, testdb.Push(s, strings.Split(document, "authority")[0]))
	id := send(t, s, "mail", "mail", "mara", "mara@merrow.example", asking(inc))
	assert.ErrorContains(t, tried(t, s, o, id, 1), "certificate", "nobody knows who that server is")
}

// grey is a mail server that takes nothing the first time, and refuses one address for good.
type grey struct{ tries *atomic.Int64 }

func (g *grey) Mail(string, *smtp.MailOptions) error { return nil }

func (g *grey) Rcpt(to string, _ *smtp.RcptOptions) error {
	if strings.HasPrefix(to, "gone@") {
		return &smtp.SMTPError{Code: 550, EnhancedCode: smtp.EnhancedCode{5, 1, 1}, Message: "no such person"}
	}
	if g.tries.Add(1) == 1 {
		return &smtp.SMTPError{Code: 451, EnhancedCode: smtp.EnhancedCode{4, 7, 1}, Message: "come again"}
	}
	return nil
}

func (g *grey) Data(r io.Reader) error {
	_, err := io.Copy(io.Discard, r)
	return err
}

func (g *grey) Reset() {}

func (g *grey) Logout() error { return nil }

func TestAServerThatListsGreyly(t *testing.T) {
	s := testdb.Open(t)
	tries := &atomic.Int64{}
	server := smtp.NewServer(smtp.BackendFunc(func(*smtp.Conn) (smtp.Session, error) { return &grey{tries}, nil }))
	server.Domain = "grey"
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	go server.Serve(l) //nolint:errcheck // it ends with Close
	defer server.Close()
	require.NoError(t, testdb.Push(s, "urgentis: connection/1\nname: mail\nkind: mail\ntls: never\nserver: "+
		l.Addr().String()+"\nfrom: urgentis@merrow.example\n"))
	inc := incidentIn(t, s)
	o := outbox(t, s)
	id := send(t, s, "mail", "mail", "mara", "mara@merrow.example", asking(inc))
	assert.ErrorContains(t, tried(t, s, o, id, 1), "451")
	assert.Equal(t, "queued", state(t, s, id).State, "it comes again")
	require.NoError(t, o.Work(context.Background(), job(id, 2)))
	assert.Equal(t, "sent", state(t, s, id).State)

	id = send(t, s, "mail", "mail", "gone", "gone@merrow.example", asking(inc))
	assert.ErrorContains(t, tried(t, s, o, id, 1), "550")
	assert.Equal(t, "failed", state(t, s, id).State, "it is of no use to come again")
}

func TestSyslogOverTCP(t *testing.T) {
	s := testdb.Open(t)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	lines := make(chan string, 1)
	go func() {
		c, err := l.Accept()
		if err == nil {
			text, _ := bufio.NewReader(c).ReadString(0)
			lines <- text
		}
	}()
	require.NoError(t, testdb.Push(s, "urgentis: connection/1\nname: log\nkind: syslog\nover: tcp\nserver: "+
		l.Addr().String()+"\n"))
	inc := incidentIn(t, s)
	id := send(t, s, "log", "syslog", "mara", "", asking(inc))
	require.NoError(t, outbox(t, s).Work(context.Background(), job(id, 1)))
	assert.Regexp(t, fmt.Sprintf(`^\d+ <131>1 \S+ \S+ urgentis - approval.needed \[urgentis@32473 .*incident="%d".*\] `+
		`Approve\? Park it: äöü`, inc), <-lines)
}

// What is urgent goes to a person with a link of their own, whose key is kept nowhere. What is not urgent waits for
// what was to go before it; what is urgent does not. A connection that is full holds up no other.
func TestOrderLinksAndRoom(t *testing.T) {
	s := testdb.Open(t)
	var got atomic.Value
	at := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		b, _ := io.ReadAll(r.Body)
		got.Store(string(b))
	}))
	defer at.Close()
	require.NoError(t, testdb.Push(s, "urgentis: connection/1\nname: texts\nkind: text\nurl: "+at.URL+
		"\nbody: {to: '{{ message.address }}', text: '{{ message.short }}'}\n"))
	require.NoError(t, testdb.SQL(s).Create(&store.Person{Name: "mara", AddedAt: time.Now()}).Error)
	inc := incidentIn(t, s)
	ctx := context.Background()
	o := outbox(t, s)
	first := asking(inc)
	first.Urgent = false
	one := send(t, s, "texts", "text", "mara", "1", first)
	two := send(t, s, "texts", "text", "mara", "1", first)
	urgent := send(t, s, "texts", "text", "mara", "1", asking(inc))
	waits := func(id int64) bool { return tried(t, s, o, id, 1) != nil }
	assert.True(t, waits(two), "the first goes first")
	require.NoError(t, o.Work(ctx, job(urgent, 1)))
	text := got.Load().(string)
	assert.Contains(t, text, "http://u/a#")
	key := text[strings.Index(text, "/a#")+3:]
	key = key[:27]
	var kept int
	require.NoError(
		t,
		testdb.SQL(s).Raw("select count(*) from delivery where body like ?", "%"+key+"%").Scan(&kept).Error,
	)
	assert.Zero(t, kept)
	l, err := s.In(ctx).Link(LinkHash(key))
	require.NoError(t, err)
	assert.Equal(t, "mara", l.Person)
	assert.Equal(t, "d1", l.Digest)
	require.NoError(t, o.Work(ctx, job(one, 1)))
	require.NoError(t, o.Work(ctx, job(two, 1)))

	for range maxBusy {
		require.True(t, o.begin("texts"))
	}
	three := send(t, s, "texts", "text", "mara", "1", asking(inc))
	assert.True(t, waits(three), "no more are under way to one connection")
	assert.True(t, o.begin("another"))
	o.end("texts")
	require.NoError(t, o.Work(ctx, job(three, 1)))
}

// desk is a ticket desk that may answer nonsense, or die between taking a ticket and saying so.
type desk struct {
	mode   atomic.Value
	opened atomic.Int64
	asked  atomic.Int64
}

func (x *desk) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if r.Method == http.MethodGet {
		x.asked.Add(1)
		if x.opened.Load() == 0 {
			fmt.Fprint(w, `{"tickets": []}`) //nolint:errcheck // the reader is gone
			return
		}
		fmt.Fprint(w, `{"tickets": [{"id": "T1"}]}`) //nolint:errcheck // the reader is gone
		return
	}
	x.opened.Add(1)
	switch x.mode.Load() {
	case "nonsense":
		fmt.Fprint(w, "<html>Thank you!</html>") //nolint:errcheck // the reader is gone
	case "dies":
		panic(http.ErrAbortHandler)
	default:
		fmt.Fprint(w, `{"id": "T1"}`) //nolint:errcheck // the reader is gone
	}
}

func TestATicketIsOpenedOnce(t *testing.T) {
	const open = "urgentis: connection/1\nname: desk\nkind: desk\nopen: {url: '%s/', read: {number: answer.body.id}}\n"
	const find = "find: {method: GET, url: '%s/?r={{ incident.reference }}', read: {number: 'answer.body.tickets[0].id'}}\n"
	for _, c := range []struct {
		name, mode, document string
		first                string // of the state after the first try
		opened               int64  // after all tries
	}{
		{"all is well", "", open + find, "sent", 1},
		{"it died before it said so, and can be asked", "dies", open + find, "queued", 1},
		{"it answers nonsense, and can be asked", "nonsense", open + find, "queued", 1},
		{"it answers nonsense, and cannot be asked", "nonsense", open, "failed", 1},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := testdb.Open(t)
			x := &desk{}
			x.mode.Store(c.mode)
			at := httptest.NewServer(x)
			defer at.Close()
			require.NoError(t, testdb.Push(s, strings.ReplaceAll(c.document, "%s", at.URL)))
			inc := incidentIn(t, s)
			ctx := context.Background()
			_, err := s.In(ctx).AddTicket(inc, "desk", store.TicketWanted)
			require.NoError(t, err)
			list := []store.Delivery{{Key: "k", Kind: store.DeliveryDesk, Connection: "desk", Body: `{"do":"open"}`,
				Incident: &inc, State: "queued", QueuedAt: time.Now()}}
			require.NoError(t, s.In(ctx).AddDeliveries(list))
			o := outbox(t, s)
			_ = o.Work(ctx, job(list[0].ID, 1)) // what came of it is looked at below
			assert.Equal(t, c.first, state(t, s, list[0].ID).State)
			x.mode.Store("")
			for try := 2; try < 4; try++ {
				_ = o.Work(ctx, job(list[0].ID, try))
			}
			assert.Equal(t, c.opened, x.opened.Load())
			ticket, err := s.In(ctx).Ticket(inc, "desk")
			require.NoError(t, err)
			if c.first == "failed" {
				assert.Empty(t, ticket.Number)
				assert.Contains(t, state(t, s, list[0].ID).Error, "a ticket may have been opened")
				return
			}
			assert.Equal(t, "T1", ticket.Number)
			assert.Equal(t, "sent", state(t, s, list[0].ID).State)
		})
	}
}
