package listen

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"urgentis/core/source"
	"urgentis/internal/need"
)

// Message is what arrived once.
type Message struct {
	At   time.Time `json:"at"`
	From string    `json:"from"` // the sender's address
	Over string    `json:"over"` // udp, tcp, tls or smtp
	Type string    `json:"type"` // a Content-Type of core/source
	Body []byte    `json:"body"`
}

// Source is a source that listeners hear.
type Source struct {
	*source.Source
	Hashes [][]byte // of its tokens
	Users  []User   // of SNMP v3
}

// User is a user of SNMP v3 (RFC 3414), with the protocols and pass phrases of its messages.
type User struct {
	Name     string `json:"name"`
	Auth     string `json:"auth"` // of AuthProtocols
	AuthPass string `json:"auth_pass"`
	Priv     string `json:"priv"` // of PrivProtocols
	PrivPass string `json:"priv_pass"`
}

// Batch is what a spool holds from one place to another.
type Batch struct {
	Spool    string // what it is called, of which there is no other
	From, To Place
	Messages []Message
	Ends     []Place // after each message
}

// Door is what listeners hand on to.
type Door interface {
	// Sources lists the sources that take what does not come by HTTP.
	Sources(ctx context.Context) ([]Source, error)
	// TakeHeard keeps what arrived for a source, and with it, in the same transactions, how far the spool is taken:
	// each message is taken once. It returns nil once all of it is on disk or refused for good, which it notes; after
	// an error Place tells how far it came.
	TakeHeard(ctx context.Context, source string, b Batch) error
	// Place tells how far a spool is taken; nil where nothing is known of it.
	Place(ctx context.Context, spool string) (*Place, error)
	// SetPlace says how far a spool of a source is taken, where nothing is known of it, or it holds nothing so far.
	SetPlace(ctx context.Context, source, spool string, at Place) error
	// KnowsMail tells, before a mail comes, whether it is for a source and proves itself: ErrUnproven where not.
	KnowsMail(ctx context.Context, proof MailProof) error
	// TakeMail keeps a mail for a source that a recipient names, where it proves itself; errors say what the sender is
	// to be told.
	TakeMail(ctx context.Context, proof MailProof, m Message) error
	// Note keeps what listeners counted, and raises an alert where something was lost.
	Note(ctx context.Context, listeners []Status) error
}

// Config says what is listened to. Addresses are HOST:PORT; "" is off.
type Config struct {
	SyslogUDP, SyslogTCP, SyslogTLS, Traps, Mail string
	// TLS is the service's certificate, for SyslogTLS and for STARTTLS of Mail; nil for none.
	TLS *tls.Config
	// Dir is where spools and the engine id of SNMP are kept; Spool bounds the spool of one source, in bytes.
	Dir   string       `need:"yes"`
	Spool int64        `need:"yes"`
	Door  Door         `need:"yes"`
	Log   *slog.Logger `need:"yes"`
}

// Any reports whether anything is listened to.
func (c Config) Any() bool {
	return slices.ContainsFunc([]string{c.SyslogUDP, c.SyslogTCP, c.SyslogTLS, c.Traps, c.Mail},
		func(a string) bool { return a != "" })
}

// Ears are the listeners of an instance.
type Ears struct {
	c     Config
	table atomic.Pointer[table]
	read  atomic.Int64
	// closers end what listens.
	closers   []func() error
	listeners []*counts
	engine    *engineID

	mu     sync.Mutex
	queues map[string]*queue
	stop   chan struct{}
	done   sync.WaitGroup // of what listens and looks
	drains sync.WaitGroup
}

// refreshEvery is how soon a source that is pushed or revoked is known to listeners, noteEvery how often counts are
// kept.
const (
	refreshEvery = 2 * time.Second
	noteEvery    = 5 * time.Second
)

// Start listens. What spools of an earlier instance hold is handed on.
func Start(ctx context.Context, c Config) (*Ears, error) {
	if err := need.All("listeners", c); err != nil {
		return nil, err
	}
	e := &Ears{c: c, queues: map[string]*queue{}, stop: make(chan struct{})}
	e.table.Store(&table{})
	if err := e.refresh(ctx); err != nil {
		return nil, err
	}
	if err := e.listen(ctx); err != nil {
		e.Stop()
		return nil, err
	}
	if err := e.takeUp(); err != nil {
		e.Stop()
		return nil, err
	}
	e.done.Add(1)
	go e.look()
	return e, nil
}

// listen opens what is switched on.
func (e *Ears) listen(ctx context.Context) error {
	var lc net.ListenConfig
	for _, l := range []struct {
		name, address string
		open          func(context.Context, net.ListenConfig, *counts) error
	}{
		{"syslog-udp", e.c.SyslogUDP, e.syslogUDP},
		{"syslog-tcp", e.c.SyslogTCP, e.syslogTCP},
		{"syslog-tls", e.c.SyslogTLS, e.syslogTLS},
		{"traps", e.c.Traps, e.traps},
		{"mail", e.c.Mail, e.mail},
	} {
		if l.address == "" {
			continue
		}
		n := &counts{name: l.name, address: l.address}
		if err := l.open(ctx, lc, n); err != nil {
			return fmt.Errorf("listen for %s on %s: %w", l.name, l.address, err)
		}
		e.listeners = append(e.listeners, n)
		e.c.Log.Info("listening", "for", l.name, "on", n.address)
	}
	return nil
}

// Addresses tells where is listened, by the names of listeners.
func (e *Ears) Addresses() map[string]string {
	out := map[string]string{}
	for _, n := range e.listeners {
		out[n.name] = n.address
	}
	return out
}

// takeUp hands on what spools hold that were there before.
func (e *Ears) takeUp() error {
	entries, err := os.ReadDir(e.spools())
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	if err != nil {
		return fmt.Errorf("look for spools: %w", err)
	}
	for _, d := range entries {
		if d.IsDir() {
			if _, err := e.queue(d.Name()); err != nil {
				return err
			}
		}
	}
	return nil
}

func (e *Ears) spools() string { return filepath.Join(e.c.Dir, "spool") }

// queue gives the queue of a source, made when it is first wanted.
func (e *Ears) queue(source string) (*queue, error) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if q := e.queues[source]; q != nil {
		return q, nil
	}
	s, err := openSpool(filepath.Join(e.spools(), source), e.c.Spool)
	if err != nil {
		return nil, err
	}
	q := &queue{
		source: source,
		spool:  s,
		in:     make(chan *entry, queueLength),
		door:   e.c.Door,
		log:    e.c.Log,
		stop:   e.stop,
	}
	e.queues[source] = q
	e.drains.Go(q.keep)
	e.drains.Go(q.sync)
	e.drains.Go(q.handOn)
	return q, nil
}

// look keeps the table of sources fresh and the counts noted.
func (e *Ears) look() {
	defer e.done.Done()
	noted := time.Now()
	for {
		select {
		case <-e.stop:
			return
		case <-time.After(refreshEvery):
		}
		ctx, cancel := context.WithTimeout(context.Background(), noteEvery)
		if err := e.refresh(ctx); err != nil {
			e.c.Log.Warn("read which sources are heard", "error", err)
		}
		if time.Since(noted) > noteEvery {
			if err := e.c.Door.Note(ctx, e.Status()); err != nil {
				e.c.Log.Warn("note what was heard", "error", err)
			}
			noted = time.Now()
		}
		cancel()
	}
}

// Stop ends listening. What spools hold stays there.
func (e *Ears) Stop() {
	select {
	case <-e.stop:
		return
	default:
	}
	close(e.stop)
	for _, c := range e.closers {
		if err := c(); err != nil && !errors.Is(err, net.ErrClosed) {
			e.c.Log.Warn("end a listener", "error", err)
		}
	}
	e.done.Wait()
	e.mu.Lock()
	defer e.mu.Unlock()
	for _, q := range e.queues {
		close(q.in)
	}
	e.drains.Wait()
	for _, q := range e.queues {
		if err := q.spool.Close(); err != nil {
			e.c.Log.Warn("close a spool", "source", q.source, "error", err)
		}
	}
}

// table is which sources there are, as listeners look them up for each message.
type table struct {
	syslog []Source
	traps  trapTable
	byAddr sync.Map // netip.Addr -> the name of a source of syslog; "" for none
	known  atomic.Int64
}

// maxKnown bounds how many addresses a table remembers.
const maxKnown = 100_000

func (e *Ears) refresh(ctx context.Context) error {
	sources, err := e.c.Door.Sources(ctx)
	if err != nil {
		return err
	}
	t := &table{}
	var trapping []Source
	for _, s := range sources {
		switch s.Takes {
		case source.Syslog:
			t.syslog = append(t.syslog, s)
		case source.Trap:
			trapping = append(trapping, s)
		}
	}
	if e.c.Traps != "" {
		t.traps = newTrapTable(trapping, e.c.Log)
	}
	e.table.Store(t)
	e.read.Add(1)
	return nil
}

// Read counts how often it was read which sources are heard: what is pushed is known when two more were.
func (e *Ears) Read() int64 { return e.read.Load() }

// syslogOf finds the source that an address reports for: the one whose networks name it most closely, and of several
// the first by name; "" without one.
func (t *table) syslogOf(a netip.Addr) string {
	if name, ok := t.byAddr.Load(a); ok {
		return name.(string)
	}
	name, best := "", -1
	for _, s := range t.syslog {
		if d := s.Distance(a); d > best || d == best && d >= 0 && s.Name < name {
			name, best = s.Name, d
		}
	}
	if t.known.Add(1) <= maxKnown {
		t.byAddr.Store(a, name)
	}
	return name
}
