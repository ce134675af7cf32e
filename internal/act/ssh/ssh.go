// Package ssh runs commands on targets over SSH (RFC 4254), with host keys that are pinned.
package ssh

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"

	"urgentis/core/task"
	"urgentis/internal/act"
)

// Credential opens a target: the value of its secret and what it is, ssh-key or password.
type Credential func(ctx context.Context, f task.Facts) (kind string, value []byte, err error)

// Files opens a file of the store by its SHA-256 in hexadecimal.
type Files func(ctx context.Context, digest string) (io.Reader, error)

// Config is what a hand needs of the world. Kinds and Files may be nil where there are no devices and no files.
type Config struct {
	Credential Credential
	Kinds      Kinds
	Files      Files
}

// Hand runs commands over kept connections. The zero value is not usable; see New.
type Hand struct {
	credential Credential
	kinds      Kinds
	files      Files
	mu         sync.Mutex
	hosts      map[task.Facts]*host
	closed     chan struct{}
	once       sync.Once
}

// New makes a hand.
func New(c Config) *Hand {
	h := &Hand{
		credential: c.Credential,
		kinds:      c.Kinds,
		files:      c.Files,
		hosts:      map[task.Facts]*host{},
		closed:     make(chan struct{}),
	}
	go h.tidy()
	return h
}

// dialTime bounds connecting and signing in, within the timeout of the step.
const dialTime = 10 * time.Second

// Do implements act.Hand. The words reach the target's shell quoted, each as one word.
func (h *Hand) Do(ctx context.Context, job act.Job) act.Result {
	r := job.Request
	ctx, cancel := context.WithTimeout(ctx, time.Duration(r.Timeout)*time.Second)
	defer cancel()
	if typed, err := reachesByDialogue(r); err != nil {
		return act.NotBegun(err.Error())
	} else if typed {
		return h.talk(ctx, job)
	}
	line, stdin, err := command(r, job.Attempt)
	if err != nil {
		return act.NotBegun(err.Error())
	}
	input := io.Reader(strings.NewReader(stdin))
	if r.File != nil && r.File.Name != "" {
		stored, err := h.files(ctx, r.File.Digest)
		if err != nil {
			return act.NotBegun(
				fmt.Sprintf("the file %s, as it was approved, is not in the store any more; nothing was begun",
					r.File.Name),
			)
		}
		input = io.MultiReader(input, stored)
	}
	ch, reqs, done, err := h.channel(ctx, r.Target)
	if err != nil {
		return act.NotBegun(fmt.Sprintf("%s: %s", r.Target.Name, err))
	}
	if err := job.MaySend(ctx); err != nil {
		go ssh.DiscardRequests(reqs)
		ch.Close() //nolint:errcheck // nothing was begun on it
		done(false)
		return act.NotSent(err)
	}
	stdout, stderr := act.Streams(job)
	res, broken := h.carry(ctx, job, ch, reqs, line, input, stdout, stderr)
	done(broken)
	return res.Printed(stdout.Taken(), stderr.Taken()).Result()
}

// carry runs the command on a session. broken says that its connection is of no use any more.
func (h *Hand) carry(
	ctx context.Context,
	job act.Job,
	ch ssh.Channel,
	reqs <-chan *ssh.Request,
	line string,
	stdin io.Reader,
	stdout, stderr io.Writer,
) (res act.Sent, broken bool) {
	r := job.Request
	type began struct {
		s   *session
		err error
	}
	started := make(chan began, 1)
	go func() { s, err := h.start(ch, reqs, line, stdin, stdout, stderr); started <- began{s, err} }()
	var s *session
	select {
	case b := <-started:
		// A target that answers no has not begun; a connection that breaks may have.
		if errors.Is(b.err, errRefused) {
			return act.Refused(b.err.Error()), false
		}
		if b.err != nil {
			return act.Unseen("the connection broke while the command was being sent: " + b.err.Error()), true
		}
		s = b.s
	case <-ctx.Done():
		ch.Close() //nolint:errcheck // it did not answer
		return act.Unseen(late(ctx, r, "the target did not answer")), true
	}
	select {
	case <-s.exited:
	case <-ctx.Done():
		// What came in the very moment counts.
		select {
		case <-s.exited:
		default:
			h.stop(job, s)
			s.closeAfterOutput()
			return act.Unseen(late(ctx, r, "the command did not end")), false
		}
	}
	if job.Whole != nil && s.exit != nil && !s.allOutput(ctx) {
		s.closeAfterOutput()
		if r.Looks {
			return act.Unseen("the command ended, and its output did not come to an end in time"), false
		}
		return endedWith(*s.exit, r).Saying("its output did not come to an end in time"), false
	}
	s.closeAfterOutput()
	switch {
	case s.exit != nil:
		return endedWith(*s.exit, r), false
	case s.signal != "":
		return act.Unseen("the command was ended by signal " + s.signal), false
	case r.AcceptLost:
		return act.Done(), true
	}
	return act.Unseen("the connection was lost before the command ended"), true
}

// endedWith is the end of a command that was seen.
func endedWith(exit int, r task.Request) act.Sent {
	return act.Ended(exit, task.GoodExit(exit, r.Accept))
}

func late(ctx context.Context, r task.Request, what string) string {
	if errors.Is(ctx.Err(), context.DeadlineExceeded) {
		return fmt.Sprintf("%s within %d s", what, r.Timeout)
	}
	return what + " before it was told to stop"
}

// putFile writes standard input to a file as a whole: a reader never sees a part of it. What did not come whole, by its
// size ($3) and, where the target can tell it, its SHA-256 ($4), is not put there.
const putFile = `set -e; umask 077; cat >"$1.part"
whole() { [ "$(wc -c <"$1")" -eq "$2" ] || return 1
	[ -z "$3" ] || ! command -v sha256sum >/dev/null || [ "$(sha256sum <"$1" | cut -c1-64)" = "$3" ]; }
whole "$1.part" "$3" "$4" || { rm -f -- "$1.part"; echo "the file did not come whole" >&2; exit 65; }
chmod "$2" "$1.part"; mv -- "$1.part" "$1"`

// command writes the words for a POSIX shell, with the attempt in the environment, and what is sent to its
// standard input. Secrets come by standard input: a command line can be seen by others on the host.
func command(r task.Request, attempt string) (line, stdin string, err error) {
	words, stdin := r.Words, r.Stdin
	if r.Plain {
		return strings.Join(words, " "), stdin, nil
	}
	if r.File != nil {
		size := int64(len(r.File.Text))
		if r.File.Name != "" {
			size = r.File.Size
		}
		words, stdin = []string{"sh", "-c", putFile, "sh", r.File.To, r.File.Mode, strconv.FormatInt(size, 10),
			r.File.Digest}, r.File.Text
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
			if strings.ContainsRune(r.Env[n], 0) {
				return "", "", fmt.Errorf(
					"the secret in %s holds the NUL character, which no environment can; nothing was begun",
					n,
				)
			}
			// A value has as many lines as it has; what comes after it belongs to the next, or to the command.
			script += n + "=; IFS= read -r U_; while [ \"$U_\" -gt 0 ]; do IFS= read -r U_L; " +
				n + "=\"$" + n + "$U_L$U_N\"; U_=$((U_-1)); done; " +
				n + "=${" + n + "%?}; export " + n + "; "
			values += strconv.Itoa(strings.Count(r.Env[n], "\n")+1) + "\n" + r.Env[n] + "\n"
		}
		script = "U_N='\n'; " + script + "unset U_ U_L U_N; "
		words = append([]string{"sh", "-c", script + `exec "$@"`, "sh"}, words...)
		stdin = values + stdin
	}
	return env + act.Quote(words), stdin, nil
}

// connect dials and signs in.
func (h *Hand) connect(ctx context.Context, f task.Facts) (*ssh.Client, error) {
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
	cfg := &ssh.ClientConfig{
		User:              f.Account,
		HostKeyAlgorithms: []string{pinned.Type()},
		HostKeyCallback: func(_ string, _ net.Addr, k ssh.PublicKey) error {
			if string(k.Marshal()) != string(pinned.Marshal()) {
				return errWrongKey
			}
			return nil
		},
	}
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
	return dial(ctx, net.JoinHostPort(f.Address, strconv.Itoa(f.Port)), cfg)
}

var errWrongKey = errors.New("its host key is not the pinned one; somebody else may be answering there")

func dial(ctx context.Context, addr string, cfg *ssh.ClientConfig) (*ssh.Client, error) {
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
		if ctx.Err() != nil || !time.Now().Before(deadline) {
			return nil, fmt.Errorf("signing in to %s did not end in time: it took the connection, and went no further",
				addr)
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
