// Package ssh runs commands on targets over SSH (RFC 4254), with host keys that are pinned.
package ssh

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"

	"urgentis/core/flow"
	"urgentis/core/leave"
	"urgentis/internal/act"
)

// Credential opens a target: the value of its secret and what it is, ssh-key or password.
type Credential func(ctx context.Context, f leave.Facts) (kind string, value []byte, err error)

// Hand runs commands over kept connections. The zero value is not usable; see New.
type Hand struct {
	credential Credential
	mu         sync.Mutex
	kept       map[leave.Facts]*ssh.Client
}

// New makes a hand that signs in with the credentials it is given.
func New(c Credential) *Hand { return &Hand{credential: c, kept: map[leave.Facts]*ssh.Client{}} }

// dialTime bounds connecting and signing in, within the timeout of the step.
const dialTime = 10 * time.Second

// Do implements act.Hand. The words reach the target's shell quoted, each as one word.
func (h *Hand) Do(ctx context.Context, job act.Job) act.Result {
	r := job.Request
	ctx, cancel := context.WithTimeout(ctx, time.Duration(r.Timeout)*time.Second)
	defer cancel()
	session, err := h.session(ctx, r.Target)
	if err != nil {
		return act.Failed(fmt.Sprintf("%s: %s", r.Target.Name, err))
	}
	defer session.Close()
	stdout, stderr := act.Streams(job)
	session.Stdout, session.Stderr = stdout, stderr
	finish := func(res act.Result) act.Result {
		res.Stdout, res.Stderr = stdout.Taken(), stderr.Taken()
		return res
	}
	started := make(chan error, 1)
	line, stdin := command(r, job.Attempt)
	session.Stdin = strings.NewReader(stdin)
	go func() { started <- session.Start(line) }()
	select {
	case err := <-started:
		if err != nil {
			// A target that answers no has not begun; a connection that breaks may have.
			if !refused(err) {
				h.drop(r.Target)
				return finish(act.Result{State: flow.Unknown, Error: "the connection broke while the command was being sent: " + err.Error()})
			}
			return finish(act.Failed("the target refused to run a command: " + err.Error()))
		}
	case <-ctx.Done():
		h.drop(r.Target)
		return finish(act.Result{State: flow.Unknown, Error: late(ctx, r, "the target did not answer")})
	}
	ended := make(chan error, 1)
	go func() { ended <- session.Wait() }()
	select {
	case err = <-ended:
	case <-ctx.Done():
		h.stopRemote(job, session, ended)
		return finish(act.Result{State: flow.Unknown, Error: late(ctx, r, "the command did not end")})
	}
	var exit *ssh.ExitError
	switch {
	case err == nil:
		return finish(act.Ended(0, r.Accept))
	case errors.As(err, &exit) && exit.Signal() == "":
		return finish(act.Ended(exit.ExitStatus(), r.Accept))
	case errors.As(err, &exit):
		return finish(act.Result{State: flow.Unknown, Error: "the command was ended by signal " + exit.Signal()})
	}
	h.drop(r.Target)
	if r.AcceptLost {
		return finish(act.Result{State: flow.OK})
	}
	return finish(act.Result{State: flow.Unknown, Error: "the connection was lost before the command ended"})
}

// stopTime is how long a command has to end after it was told to, before it is killed.
const stopTime = 3 * time.Second

// killAttempt ends every process of the account that has the attempt in its environment ($1, the signal $2):
// the command and all that it began, in whichever process group.
const killAttempt = `for p in /proc/[0-9]*; do
 if [ "${p##*/}" != $$ ] && tr '\0' '\n' <"$p/environ" 2>/dev/null | grep -qxF "URGENTIS_ATTEMPT=$1"; then kill -"$2" "${p##*/}" 2>/dev/null; fi
done`

// stopRemote ends the command on the target, not merely the channel: by the signal of RFC 4254, 6.9, which not
// every server passes on, and by its attempt.
func (h *Hand) stopRemote(job act.Job, session *ssh.Session, ended <-chan error) {
	defer session.Close()
	for _, sig := range []ssh.Signal{ssh.SIGTERM, ssh.SIGKILL} {
		session.Signal(sig) //nolint:errcheck // not every server knows signals
		if !job.Request.Plain {
			h.signalAttempt(job, string(sig))
		}
		select {
		case <-ended:
			return
		case <-time.After(stopTime):
		}
	}
}

func (h *Hand) signalAttempt(job act.Job, sig string) {
	ctx, cancel := context.WithTimeout(context.Background(), stopTime)
	defer cancel()
	s, err := h.session(ctx, job.Request.Target)
	if err != nil {
		return
	}
	defer s.Close()
	words := []string{"sh", "-c", killAttempt, "sh", job.Attempt, sig}
	if as := job.Request.As; as != "" {
		words = append([]string{"sudo", "-n", "-u", as, "--"}, words...)
	}
	done := make(chan struct{})
	go func() { s.Run(act.Quote(words)); close(done) }() //nolint:errcheck // what it could not end is killed next
	select {
	case <-done:
	case <-ctx.Done():
	}
}

// refused recognises the library's error for a request that the server answered with no.
func refused(err error) bool {
	return strings.HasPrefix(err.Error(), "ssh: command ") && strings.HasSuffix(err.Error(), " failed")
}

func late(ctx context.Context, r leave.Request, what string) string {
	if errors.Is(ctx.Err(), context.DeadlineExceeded) {
		return fmt.Sprintf("%s within %d s", what, r.Timeout)
	}
	return what + " before it was told to stop"
}

// putFile writes standard input to a file as a whole: a reader never sees a part of it.
const putFile = `set -e; umask 077; cat >"$1.part"; chmod "$2" "$1.part"; mv -- "$1.part" "$1"`

// command writes the words for a POSIX shell, with the attempt in the environment, and what is sent to its
// standard input. Secrets come by standard input: a command line can be seen by others on the host.
func command(r leave.Request, attempt string) (line, stdin string) {
	words, stdin := r.Words, r.Stdin
	if r.Plain {
		return strings.Join(words, " "), stdin
	}
	if r.File != nil {
		words, stdin = []string{"sh", "-c", putFile, "sh", r.File.To, r.File.Mode}, r.File.Text
	}
	names := []string{"URGENTIS_ATTEMPT"}
	env := "URGENTIS_ATTEMPT=" + act.Quote([]string{attempt}) + " "
	var hidden []string
	for _, n := range slices.Sorted(maps.Keys(r.Env)) {
		names = append(names, n)
		if slices.Contains(r.Hidden, n) {
			hidden = append(hidden, n)
			continue
		}
		env += n + "=" + act.Quote([]string{r.Env[n]}) + " "
	}
	if r.As != "" {
		words = append([]string{"sudo", "-n", "-u", r.As, "--preserve-env=" + strings.Join(names, ","), "--"}, words...)
	}
	if len(hidden) > 0 {
		script := ""
		values := ""
		for _, n := range hidden {
			script += "IFS= read -r " + n + "; export " + n + "; "
			values += r.Env[n] + "\n"
		}
		words = append([]string{"sh", "-c", script + `exec "$@"`, "sh"}, words...)
		stdin = values + stdin
	}
	return env + act.Quote(words), stdin
}

// session opens a session on a kept connection, or on a new one if the kept one is broken.
func (h *Hand) session(ctx context.Context, f leave.Facts) (*ssh.Session, error) {
	h.mu.Lock()
	c := h.kept[f]
	h.mu.Unlock()
	if c != nil {
		if s, err := open(ctx, c); err == nil {
			return s, nil
		}
		h.drop(f)
	}
	c, err := h.dial(ctx, f)
	if err != nil {
		return nil, err
	}
	h.mu.Lock()
	if old := h.kept[f]; old != nil {
		old.Close()
	}
	h.kept[f] = c
	h.mu.Unlock()
	return open(ctx, c)
}

// open opens a session; a connection that does not answer in a short time counts as broken.
func open(ctx context.Context, c *ssh.Client) (*ssh.Session, error) {
	type opened struct {
		s   *ssh.Session
		err error
	}
	done := make(chan opened, 1)
	go func() { s, err := c.NewSession(); done <- opened{s, err} }()
	t := time.NewTimer(dialTime / 2)
	defer t.Stop()
	select {
	case o := <-done:
		return o.s, o.err
	case <-t.C:
	case <-ctx.Done():
	}
	go func() {
		if o := <-done; o.s != nil {
			o.s.Close()
		}
	}()
	return nil, errors.New("no answer on the connection")
}

func (h *Hand) drop(f leave.Facts) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if c := h.kept[f]; c != nil {
		go c.Close()
		delete(h.kept, f)
	}
}

// Close ends all kept connections.
func (h *Hand) Close() {
	h.mu.Lock()
	defer h.mu.Unlock()
	for f, c := range h.kept {
		c.Close()
		delete(h.kept, f)
	}
}

func (h *Hand) dial(ctx context.Context, f leave.Facts) (*ssh.Client, error) {
	if f.HostKey == "" {
		return nil, errors.New("its host key is not known; set it on the target")
	}
	pinned, _, _, _, err := ssh.ParseAuthorizedKey([]byte(f.HostKey))
	if err != nil {
		return nil, errors.New("its pinned host key cannot be read")
	}
	kind, value, err := h.credential(ctx, f)
	if err != nil {
		return nil, err
	}
	cfg := &ssh.ClientConfig{User: f.Account, HostKeyAlgorithms: []string{pinned.Type()}, HostKeyCallback: func(_ string, _ net.Addr, k ssh.PublicKey) error {
		if string(k.Marshal()) != string(pinned.Marshal()) {
			return errWrongKey
		}
		return nil
	}}
	if pinned.Type() == ssh.KeyAlgoRSA {
		cfg.HostKeyAlgorithms = []string{ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256}
	}
	if kind == "password" {
		cfg.Auth = []ssh.AuthMethod{ssh.Password(string(value))}
	} else {
		signer, err := ssh.ParsePrivateKey(value)
		if err != nil {
			return nil, errors.New("its secret holds no SSH key that can be read")
		}
		cfg.Auth = []ssh.AuthMethod{ssh.PublicKeys(signer)}
	}
	return connect(ctx, net.JoinHostPort(f.Address, strconv.Itoa(f.Port)), cfg)
}

var errWrongKey = errors.New("its host key is not the pinned one; somebody else may be answering there")

func connect(ctx context.Context, addr string, cfg *ssh.ClientConfig) (*ssh.Client, error) {
	ctx, cancel := context.WithTimeout(ctx, dialTime)
	defer cancel()
	conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", addr)
	if err != nil {
		return nil, fmt.Errorf("no connection to %s: %w", addr, short(err))
	}
	deadline, _ := ctx.Deadline()
	conn.SetDeadline(deadline) //nolint:errcheck // a connection that cannot be bounded fails at the next read
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	c, chans, reqs, err := ssh.NewClientConn(conn, addr, cfg)
	if err != nil {
		conn.Close()
		if errors.Is(err, errWrongKey) {
			return nil, errWrongKey
		}
		return nil, fmt.Errorf("signing in to %s: %w", addr, err)
	}
	if !stop() {
		return nil, errors.New("no answer in time")
	}
	conn.SetDeadline(time.Time{}) //nolint:errcheck // see above
	return ssh.NewClient(c, chans, reqs), nil
}

// short is the innermost reason of a network error.
func short(err error) error {
	var op *net.OpError
	if errors.As(err, &op) && op.Err != nil {
		return op.Err
	}
	return err
}
