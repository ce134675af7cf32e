package ssh

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"

	"urgentis/internal/act"
)

// session is one command on a target (RFC 4254, section 6).
type session struct {
	ch ssh.Channel
	// exited is closed when the end of the command has come, or the channel is gone; exit and signal tell how.
	exited chan struct{}
	exit   *int
	signal string
	// drained is closed when all output has come.
	drained chan struct{}
}

var errRefused = errors.New("the target refused to run a command")

// lingering is how long output is waited for after the command has ended: a daemon that it left behind may hold the
// output open for ever.
const lingering = 500 * time.Millisecond

func (h *Hand) start(
	ch ssh.Channel,
	reqs <-chan *ssh.Request,
	line string,
	stdin io.Reader,
	stdout, stderr io.Writer,
) (*session, error) {
	s := &session{ch: ch, exited: make(chan struct{}), drained: make(chan struct{})}
	go s.watch(reqs)
	ok, err := ch.SendRequest("exec", true, ssh.Marshal(struct{ Command string }{line}))
	if err == nil && !ok {
		err = errRefused
	}
	if err != nil {
		ch.Close() //nolint:errcheck // it may be gone
		return nil, err
	}
	go func() {
		io.Copy(ch, stdin) //nolint:errcheck // a command need not read it
		ch.CloseWrite()    //nolint:errcheck // it may be gone
	}()
	var copies sync.WaitGroup
	copies.Go(func() { io.Copy(stdout, ch) })          //nolint:errcheck // what came is kept
	copies.Go(func() { io.Copy(stderr, ch.Stderr()) }) //nolint:errcheck // what came is kept
	go func() { copies.Wait(); close(s.drained) }()
	return s, nil
}

// watch takes the messages about the command's end.
func (s *session) watch(reqs <-chan *ssh.Request) {
	defer close(s.exited)
	for r := range reqs {
		over := false
		switch r.Type {
		case "exit-status":
			var m struct{ Status uint32 }
			if ssh.Unmarshal(r.Payload, &m) == nil {
				code := int(m.Status)
				s.exit, over = &code, true
			}
		case "exit-signal":
			var m struct {
				Signal     string
				CoreDumped bool
				Message    string
				Language   string
			}
			if ssh.Unmarshal(r.Payload, &m) == nil {
				s.signal, over = m.Signal, true
			}
		}
		if r.WantReply {
			r.Reply(false, nil) //nolint:errcheck // the connection may be gone
		}
		if over {
			go ssh.DiscardRequests(reqs)
			return
		}
	}
}

// allOutput waits for the end of the output, however slowly it is taken, and reports whether it came.
func (s *session) allOutput(ctx context.Context) bool {
	select {
	case <-s.drained:
		return true
	case <-ctx.Done():
		return false
	}
}

// closeAfterOutput gives the output that is under way a moment to come, and closes the channel.
func (s *session) closeAfterOutput() {
	t := time.NewTimer(lingering)
	defer t.Stop()
	select {
	case <-s.drained:
	case <-t.C:
	}
	s.ch.Close() //nolint:errcheck // it may be gone
}

// How long a command has to end after it was told to: by the server's signal, and by one of ours.
const (
	signalTime = time.Second
	stopTime   = 3 * time.Second
)

// stop ends the command on the target, not merely the channel: by one signal to its process group, which the server
// sends (RFC 4254, 6.9; OpenSSH since 7.9, but not for root), and where that does not help by searching for its
// attempt.
func (h *Hand) stop(job act.Job, s *session) {
	ended := func(within time.Duration) bool {
		t := time.NewTimer(within)
		defer t.Stop()
		select {
		case <-s.exited:
			return true
		case <-t.C:
			return false
		}
	}
	for _, sig := range []ssh.Signal{ssh.SIGTERM, ssh.SIGKILL} {
		s.ch.SendRequest(
			"signal",
			false,
			ssh.Marshal(struct{ Signal string }{string(sig)}),
		) //nolint:errcheck // not every server knows signals
		if ended(signalTime) {
			return
		}
		if !job.Request.Plain {
			if err := h.signalAttempt(job, string(sig)); err != nil && !errors.Is(err, errSearched) {
				return // the host cannot be reached: nobody can end it
			}
		}
		if ended(stopTime) {
			return
		}
	}
}

// killAttempt signals every process of the account that has the attempt in its environment ($1, the signal $2): one
// program reads them all.
const killAttempt = `p=$(grep -lzxsF -e "URGENTIS_ATTEMPT=$1" /proc/[0-9]*/environ)
for f in $p; do f=${f#/proc/}; f=${f%/environ}; [ "$f" = $$ ] || kill -"$2" "$f" 2>/dev/null; done`

// errSearched says that a search came to its end, and not to a good one.
var errSearched = errors.New("the search for it failed")

// errTurn says that its turn to be looked for did not come.
var errTurn = fmt.Errorf("%w: too much else is looked for on this host", errSearched)

// There is one search at a time for each host. turnTime bounds the wait for its turn, searchTime the search.
const (
	turnTime   = time.Minute
	searchTime = 10 * time.Second
)

// signalAttempt gives an error where it could not look for the attempt.
func (h *Hand) signalAttempt(job act.Job, sig string) error {
	return h.search(context.Background(), job, killAttempt, io.Discard, job.Attempt, sig)
}

// findAttempt prints the processes of the account that have the attempt in their environment.
const findAttempt = `grep -lzxsF -e "URGENTIS_ATTEMPT=$1" /proc/[0-9]*/environ | grep -vxF "/proc/$$/environ"; true`

// Running implements act.Watcher.
func (h *Hand) Running(ctx context.Context, job act.Job) (bool, error) {
	if job.Request.Plain {
		return false, errors.New("a device without a shell does not tell what runs")
	}
	found := &act.Stream{}
	err := h.search(ctx, job, findAttempt, found, job.Attempt)
	return len(found.Taken().Kept) > 0, err
}

// search runs a script that looks for an attempt.
func (h *Hand) search(ctx context.Context, job act.Job, script string, out io.Writer, args ...string) error {
	x := h.host(job.Request.Target)
	turn := time.NewTimer(turnTime)
	defer turn.Stop()
	select {
	case <-x.search:
		defer func() { x.search <- struct{}{} }()
	case <-turn.C:
		return errTurn
	case <-ctx.Done():
		return ctx.Err()
	}
	ctx, cancel := context.WithTimeout(ctx, searchTime)
	defer cancel()
	ch, reqs, done, err := h.channel(ctx, job.Request.Target)
	if err != nil {
		return err
	}
	words := append([]string{"sh", "-c", script, "sh"}, args...)
	if as := job.Request.As; as != "" {
		words = append([]string{"sudo", "-n", "-u", as, "--"}, words...)
	}
	s, err := h.start(ch, reqs, act.Quote(words), strings.NewReader(""), out, io.Discard)
	if err != nil {
		done(!errors.Is(err, errRefused))
		return err
	}
	defer done(false)
	select {
	case <-s.exited:
		s.closeAfterOutput()
		if s.exit == nil || *s.exit != 0 {
			return errSearched
		}
		return nil
	case <-ctx.Done():
		s.ch.SendRequest("signal", false, ssh.Marshal(struct{ Signal string }{"KILL"})) //nolint:errcheck // see stop

		s.ch.Close() //nolint:errcheck // it may be gone
		return ctx.Err()
	}
}
