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
	"sync/atomic"

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
	Name, Address string
	Labels        map[string]string
	HostKey       string // as in known_hosts

	queue   *Queue
	down    atomic.Bool
	ssh     *ssh.Server
	http    *http.Server
	started atomic.Int64 // commands that were begun
}

// SetDown makes the host stop answering, or answer again.
func (h *Host) SetDown(down bool) { h.down.Store(down) }

// Fleet is all hosts with their queue.
type Fleet struct {
	Net       string // the first three numbers of the loopback addresses, such as 127.0.10
	Account   string
	ClientKey string // private key, PEM, with which one signs in
	Queue     *Queue
	Hosts     []*Host

	// OnCommand is called before a host runs a command; tests use it to act at a chosen moment.
	OnCommand func(h *Host, words []string)
}

// StartFleet makes the hosts and starts them. Their keys are kept in dir, so that they are the same next time.
func StartFleet(net3, dir string) (*Fleet, error) {
	f := &Fleet{Net: net3, Account: "ops", Queue: NewQueue("quay-north")}
	client, err := key(filepath.Join(dir, "client.key"))
	if err != nil {
		return nil, err
	}
	f.ClientKey = client.pem
	for i := 1; i <= 2; i++ {
		h := &Host{Name: fmt.Sprintf("berth-consumer-%d", i), Address: fmt.Sprintf("%s.%d", net3, 10+i), queue: f.Queue,
			Labels: map[string]string{"role": "consumer", "quay": "north"}}
		k, err := key(filepath.Join(dir, h.Name+".key"))
		if err != nil {
			f.Stop()
			return nil, err
		}
		f.Hosts = append(f.Hosts, h)
		if err := f.start(h, k, client); err != nil {
			f.Stop()
			return nil, err
		}
	}
	return f, nil
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
		Handler: func(s ssh.Session) { f.session(h, s) },
		PublicKeyHandler: func(ctx ssh.Context, got ssh.PublicKey) bool {
			return ctx.User() == f.Account && ssh.KeysEqual(got, client.signer.PublicKey())
		},
		ConnCallback: func(_ ssh.Context, c net.Conn) net.Conn {
			if h.down.Load() {
				c.Close() //nolint:errcheck // a host that is down does not care
				return nil
			}
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
	mux.HandleFunc("GET /changes", func(w http.ResponseWriter, _ *http.Request) { answer(w, h.queue.Changes()) })
	h.http, err = serve(fmt.Sprintf("%s:%d", h.Address, HTTPPort), mux)
	return err
}

func serve(addr string, h http.Handler) (*http.Server, error) {
	l, err := net.Listen("tcp", addr)
	if err != nil {
		return nil, err
	}
	s := &http.Server{Handler: h} //nolint:gosec // on loopback only
	go s.Serve(l)                 //nolint:errcheck // it ends with Close
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
	depth, stuck := h.queue.Depth()
	state := "consuming"
	if stuck != "" {
		state = "stalled"
	}
	answer(w, map[string]any{"host": h.Name, "state": state, "depth": depth})
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
	if f.OnCommand != nil {
		f.OnCommand(h, words)
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
	case "berthq":
		return h.berthq(words[1:], attempt)
	}
	return "", fmt.Errorf("%s: %w", words[0], errNoCommand)
}

func (h *Host) berthq(args []string, attempt string) (string, error) {
	if len(args) < 3 || args[1] != "--queue" {
		return "", errors.New("usage: berthq depth|park|unpark --queue NAME [MESSAGE]")
	}
	if args[2] != h.queue.Name {
		return "", fmt.Errorf("no queue %q here", args[2])
	}
	message := ""
	if len(args) > 3 {
		message = args[3]
	}
	switch args[0] {
	case "depth":
		depth, stuck := h.queue.Depth()
		b, err := json.Marshal(map[string]any{"queue": h.queue.Name, "depth": depth, "stuck_message": stuck, "consumer": h.Name})
		return string(b), err
	case "park":
		return h.queue.Park(h.Name, attempt, message)
	case "unpark":
		return h.queue.Unpark(h.Name, attempt, message)
	}
	return "", fmt.Errorf("berthq does not know %q", args[0])
}
