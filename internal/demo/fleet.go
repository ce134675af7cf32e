package demo

import (
	"crypto/ed25519"
	"crypto/rand"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/gliderlabs/ssh"
	xssh "golang.org/x/crypto/ssh"
	"mvdan.cc/sh/v3/shell"
)

// Ports of the simulated hosts, on their own loopback addresses.
const (
	SSHPort  = 2210
	HTTPPort = 8010
)

// Host is one simulated host: a small SSH and HTTP server on its own loopback address.
type Host struct {
	Name, Address, Service string
	Labels                 map[string]string
	Known                  map[string]any
	HostKey                string // as in known_hosts

	// Device is the kind of device that it is; "" is a host with a shell.
	Device string

	commands map[string]command
	dialogue func(ssh.Session)
	state    func() any // what GET /health shows
	changes  func() []Carried

	down    atomic.Bool
	ssh     *ssh.Server
	http    *http.Server
	started atomic.Int64 // commands that were begun
}

// command is a program of a simulated host.
type command func(c call) (string, error)

// call is one call of a program.
type call struct {
	host    *Host
	args    []string
	attempt string
}

// SetDown makes the host stop answering, or answer again.
func (h *Host) SetDown(down bool) { h.down.Store(down) }

// Fleet is all hosts with their queue.
type Fleet struct {
	Net       string // the first three numbers of the loopback addresses, such as 127.0.10
	Account   string
	ClientKey string // private key, PEM, with which one signs in
	Queue     *Queue
	Clocks    *Clocks
	Gates     *Gates
	Tides     *Tides
	Switch    *Switch
	Fuel      *Fuel
	Works     *Works
	Hosts     []*Host

	// Sessions is how many sessions a host allows on one connection; 0: as many as wanted.
	Sessions int
	// SignIn is how long signing in takes, in nanoseconds.
	SignIn atomic.Int64
	conns  connections

	onCommand atomic.Pointer[OnCommand]
}

// OnCommand is called before a host runs a command, with the attempt that it is for.
type OnCommand func(h *Host, attempt string, words []string)

// Watch has each command told from now on; tests use it to act at a chosen moment.
func (f *Fleet) Watch(told OnCommand) { f.onCommand.Store(&told) }

// StartFleet makes the hosts and starts them. Their keys are kept in dir, so that they are the same next time.
func StartFleet(net3, dir string) (*Fleet, error) {
	f := &Fleet{Net: net3, Account: "ops", Queue: NewQueue("quay-north")}
	client, err := key(filepath.Join(dir, "client.key"))
	if err != nil {
		return nil, err
	}
	f.ClientKey = client.pem
	f.Clocks, f.Gates, f.Tides, f.Works = NewClocks(), NewGates(), NewTides(), NewWorks()
	for i := 1; i <= 2; i++ {
		f.add(
			fmt.Sprintf("berth-consumer-%d", i),
			"berth-queue",
			10+i,
			map[string]string{"role": "consumer", "quay": "north"},
			map[string]command{"berthq": f.Queue.berthq},
			f.Queue.health,
			f.Queue.Changes,
		)
	}
	for i := 1; i <= clocks; i++ {
		h := f.add(
			fmt.Sprintf("clock-%02d", i),
			"crossing-clocks",
			30+i,
			map[string]string{"role": "clock"},
			map[string]command{"clockctl": f.Clocks.clockctl},
			nil,
			f.Clocks.Changes,
		)
		h.Known = map[string]any{"settings": wanted}
	}
	for i := 1; i <= gates; i++ {
		f.add(
			fmt.Sprintf("gate-%d", i),
			"boarding-gates",
			50+i,
			map[string]string{"role": "gate"},
			map[string]command{"gatectl": f.Gates.gatectl, "passctl": f.Gates.passctl},
			nil,
			f.Gates.Changes,
		)
	}
	for i := 1; i <= tideGauges; i++ {
		f.add(
			fmt.Sprintf("gauge-%d", i),
			"tide-gauges",
			70+i,
			map[string]string{"role": "gauge"},
			map[string]command{"gaugectl": f.Tides.gaugectl},
			nil,
			func() []Carried { return nil },
		)
	}
	f.Switch, f.Fuel = NewSwitch(), NewFuel()
	none := func() []Carried { return nil }
	sw := f.add("slipway-switch", "slipway", 81, map[string]string{"role": "switch"}, map[string]command{}, nil, none)
	sw.Device, sw.dialogue = "slipway-switch", f.Switch.session
	f.add("fuel-panel", "fuel", 82, map[string]string{"role": "panel"}, map[string]command{}, f.Fuel.state, none)
	for _, h := range f.Hosts {
		k, err := key(filepath.Join(dir, h.Name+".key"))
		if err == nil {
			err = f.start(h, k, client)
		}
		if err != nil {
			f.Stop()
			return nil, err
		}
	}
	return f, nil
}

func (f *Fleet) add(
	name, service string,
	number int,
	labels map[string]string,
	programs map[string]command,
	state func(*Host) any,
	changes func() []Carried,
) *Host {
	programs["works"] = f.Works.works
	h := &Host{
		Name:     name,
		Service:  service,
		Address:  fmt.Sprintf("%s.%d", f.Net, number),
		Labels:   labels,
		commands: programs,
		changes:  changes,
		state:    func() any { return map[string]any{"host": name} },
	}
	if state != nil {
		h.state = func() any { return state(h) }
	}
	f.Hosts = append(f.Hosts, h)
	return h
}

type keyPair struct {
	pem    string
	signer xssh.Signer
}

// key reads a key file, or makes it the first time.
func key(path string) (keyPair, error) {
	b, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) {
		_, private, err := ed25519.GenerateKey(rand.Reader)
		if err != nil {
			return keyPair{}, err
		}
		block, err := xssh.MarshalPrivateKey(private, "merrow line")
		if err != nil {
			return keyPair{}, err
		}
		b = pem.EncodeToMemory(block)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			return keyPair{}, err
		}
		if err := os.WriteFile(path, b, 0o600); err != nil {
			return keyPair{}, err
		}
	} else if err != nil {
		return keyPair{}, err
	}
	s, err := xssh.ParsePrivateKey(b)
	return keyPair{string(b), s}, err
}

func (f *Fleet) start(h *Host, k, client keyPair) error {
	h.HostKey = strings.TrimSpace(string(xssh.MarshalAuthorizedKey(k.signer.PublicKey())))
	h.ssh = &ssh.Server{
		Handler:         func(s ssh.Session) { f.session(h, s) },
		ChannelHandlers: map[string]ssh.ChannelHandler{"session": f.limited},
		PublicKeyHandler: func(ctx ssh.Context, got ssh.PublicKey) bool {
			time.Sleep(time.Duration(f.SignIn.Load()))
			return ctx.User() == f.Account && ssh.KeysEqual(got, client.signer.PublicKey())
		},
		ConnCallback: func(_ ssh.Context, c net.Conn) net.Conn {
			if h.down.Load() {
				c.Close() //nolint:errcheck // a host that is down does not care
				return nil
			}
			f.conns.add(c)
			return c
		},
	}
	h.ssh.AddHostKey(k.signer)
	l, err := net.Listen("tcp", fmt.Sprintf("%s:%d", h.Address, SSHPort))
	if err != nil {
		return fmt.Errorf("start host %s: %w", h.Name, err)
	}
	go h.ssh.Serve(l) //nolint:errcheck // it ends with Stop
	mux := http.NewServeMux()
	mux.HandleFunc("GET /health", h.health)
	mux.HandleFunc("POST /works/{do}/{key}", func(w http.ResponseWriter, r *http.Request) {
		if _, err := f.Works.works(call{h, []string{r.PathValue("do"), r.PathValue("key")},
			r.Header.Get("Idempotency-Key")}); err != nil {
			http.Error(w, err.Error(), http.StatusBadRequest)
		}
	})
	mux.HandleFunc("POST /works/jobs/{key}", func(w http.ResponseWriter, r *http.Request) {
		answer(w, map[string]string{"id": f.Works.start(h, r.PathValue("key"), r.Header.Get("Idempotency-Key"))})
	})
	mux.HandleFunc("GET /works/jobs/{key}", func(w http.ResponseWriter, r *http.Request) {
		answer(w, map[string]string{"state": f.Works.state(h, r.PathValue("key"))})
	})
	mux.HandleFunc("POST /works/jobs/{key}/stop", func(_ http.ResponseWriter, r *http.Request) {
		f.Works.stop(h, r.PathValue("key"))
	})
	mux.HandleFunc("GET /changes", func(w http.ResponseWriter, _ *http.Request) { answer(w, h.changes()) })
	h.http, err = serve(fmt.Sprintf("%s:%d", h.Address, HTTPPort), mux, f.conns.add)
	return err
}

// sessionsKey is where a connection's count of sessions is kept.
type sessionsKey struct{}

// limited is how a host takes sessions: as real ones do, so many on one connection.
func (f *Fleet) limited(srv *ssh.Server, conn *xssh.ServerConn, ch xssh.NewChannel, ctx ssh.Context) {
	ctx.Lock()
	n, ok := ctx.Value(sessionsKey{}).(*atomic.Int64)
	if !ok {
		n = new(atomic.Int64)
		ctx.SetValue(sessionsKey{}, n)
	}
	ctx.Unlock()
	defer n.Add(-1)
	if now := n.Add(1); f.Sessions > 0 && now > int64(f.Sessions) {
		ch.Reject(xssh.ResourceShortage, "open failed") //nolint:errcheck // the connection may be gone
		return
	}
	ssh.DefaultSessionHandler(srv, conn, ch, ctx)
}

// connections are those that the hosts have open.
type connections struct {
	mu   sync.Mutex
	open []net.Conn
}

func (c *connections) add(conn net.Conn) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.open = append(c.open, conn)
}

// DropConnections breaks all connections to the hosts, as a network does.
func (f *Fleet) DropConnections() {
	f.conns.mu.Lock()
	defer f.conns.mu.Unlock()
	for _, c := range f.conns.open {
		c.Close() //nolint:errcheck // it may be closed
	}
	f.conns.open = nil
}

// serve serves HTTP; each new connection is told to opened.
func serve(addr string, h http.Handler, opened func(net.Conn)) (*http.Server, error) {
	l, err := net.Listen("tcp", addr)
	if err != nil {
		return nil, err
	}
	s := &http.Server{Handler: h, ConnState: func(c net.Conn, now http.ConnState) { //nolint:gosec // on loopback only
		if now == http.StateNew {
			opened(c)
		}
	}}
	go s.Serve(l) //nolint:errcheck // it ends with Close
	return s, nil
}

func answer(w http.ResponseWriter, v any) {
	w.Header().Set("Content-Type", "application/json")
	json.NewEncoder(w).Encode(v) //nolint:errcheck // the client is gone
}

func (h *Host) health(w http.ResponseWriter, _ *http.Request) {
	if h.down.Load() {
		panic(http.ErrAbortHandler)
	}
	answer(w, h.state())
}

// Stop ends all hosts.
func (f *Fleet) Stop() {
	for _, h := range f.Hosts {
		if h.ssh != nil {
			h.ssh.Close() //nolint:errcheck // it ends either way
		}
		if h.http != nil {
			h.http.Close() //nolint:errcheck // it ends either way
		}
	}
}

// session runs one command, read as a POSIX shell reads it.
func (f *Fleet) session(h *Host, s ssh.Session) {
	if h.down.Load() {
		return
	}
	if h.dialogue != nil {
		h.dialogue(s)
		return
	}
	words, err := shell.Fields(s.RawCommand(), func(string) string { return "" })
	if err != nil {
		fmt.Fprintln(s.Stderr(), err)
		s.Exit(2) //nolint:errcheck // the connection may be gone
		return
	}
	attempt := ""
	for len(words) > 0 && strings.Contains(words[0], "=") {
		name, value, _ := strings.Cut(words[0], "=")
		if name == "URGENTIS_ATTEMPT" {
			attempt = value
		}
		words = words[1:]
	}
	h.started.Add(1)
	if told := f.onCommand.Load(); told != nil {
		(*told)(h, attempt, words)
	}
	out, err := h.command(words, attempt)
	if out != "" {
		fmt.Fprintln(s, out)
	}
	code := 0
	if err != nil {
		fmt.Fprintln(s.Stderr(), err)
		code = 1
		if errors.Is(err, errNoCommand) {
			code = 127
		}
	}
	s.Exit(code) //nolint:errcheck // the connection may be gone
}

var errNoCommand = errors.New("command not found")

func (h *Host) command(words []string, attempt string) (string, error) {
	if len(words) == 0 {
		return "", errNoCommand
	}
	switch words[0] {
	case "true":
		return "", nil
	case "echo-words":
		// Shows which words arrived, for tests of quoting.
		b, err := json.Marshal(words[1:])
		return string(b), err
	}
	if run := h.commands[words[0]]; run != nil {
		return run(call{h, words[1:], attempt})
	}
	return "", fmt.Errorf("%s: %w", words[0], errNoCommand)
}
