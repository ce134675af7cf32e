package ssh

import (
	"context"
	"errors"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"

	"urgentis/core/task"
)

// Bounds of what is kept.
const (
	maxPerHost = 16               // connections to one host under one account
	idleTime   = 10 * time.Minute // after which a connection that nobody uses is closed

	maxRefusals = 5 // of a session on a connection that nobody else uses
)

// host keeps the connections to one target under one account and one version of its secret.
type host struct {
	mu    sync.Mutex
	conns []*conn
	// dial holds a token while nobody dials: hosts refuse whoever knocks many times at once.
	dial chan struct{}
	// freed is closed and made anew whenever a session ended or a connection came.
	freed chan struct{}
	// search holds a token while nobody searches the host's processes.
	search chan struct{}
}

// conn is a connection with how many use it. It is closed when nobody does, never while somebody does.
type conn struct {
	client *ssh.Client
	inUse  int
	full   bool // the host refused one more session on it; until one of them ends
	broken bool
	since  time.Time // when it was last given back
}

func newHost() *host {
	h := &host{dial: make(chan struct{}, 1), freed: make(chan struct{}), search: make(chan struct{}, 1)}
	h.dial <- struct{}{}
	h.search <- struct{}{}
	return h
}

func (h *Hand) host(f task.Facts) *host {
	h.mu.Lock()
	defer h.mu.Unlock()
	x := h.hosts[f]
	if x == nil {
		x = newHost()
		h.hosts[f] = x
	}
	return x
}

// channel opens a session on a connection that has room for it, or on a new one. done gives it back; with broken, the
// connection is used for nothing new.
func (h *Hand) channel(
	ctx context.Context,
	f task.Facts,
) (ch ssh.Channel, reqs <-chan *ssh.Request, done func(broken bool), err error) {
	x := h.host(f)
	for refusals := 0; ; {
		c, err := h.take(ctx, x, f)
		if err != nil {
			return nil, nil, nil, err
		}
		ch, reqs, err := open(ctx, c.client)
		if err == nil {
			var once sync.Once
			return ch, reqs, func(broken bool) { once.Do(func() { x.give(c, broken, false) }) }, nil
		}
		var refused *ssh.OpenChannelError
		full := errors.As(err, &refused)
		alone := x.give(c, !full, full)
		if full && alone {
			// The host may not have noticed yet that our last session on it has ended.
			if refusals++; refusals > maxRefusals {
				return nil, nil, nil, errors.New("the target refuses a session: " + err.Error())
			}
			select {
			case <-time.After(50 * time.Millisecond << refusals):
			case <-ctx.Done():
			}
		}
		if ctx.Err() != nil {
			return nil, nil, nil, err
		}
	}
}

// take finds the connection that is used least, or dials; one dial at a time. Where there are as many as may be, it
// waits until a session ends.
func (h *Hand) take(ctx context.Context, x *host, f task.Facts) (*conn, error) {
	for {
		c, room, freed := x.pick()
		if c != nil {
			return c, nil
		}
		if !room {
			select {
			case <-freed:
				continue
			case <-ctx.Done():
				return nil, errors.New("all sessions that the target allows are in use")
			}
		}
		select {
		case <-x.dial:
		case <-freed:
			continue
		case <-ctx.Done():
			return nil, errors.New("no connection came about in time")
		}
		// Whoever dialled before may have brought one with room.
		c, _, _ = x.pick()
		if c == nil {
			client, err := h.connect(ctx, f)
			if err != nil {
				x.dial <- struct{}{}
				return nil, err
			}
			c = x.add(client)
		}
		x.dial <- struct{}{}
		return c, nil
	}
}

func (x *host) pick() (c *conn, room bool, freed <-chan struct{}) {
	x.mu.Lock()
	defer x.mu.Unlock()
	for _, k := range x.conns {
		if !k.full && !k.broken && (c == nil || k.inUse < c.inUse) {
			c = k
		}
	}
	if c != nil {
		c.inUse++
	}
	return c, len(x.conns) < maxPerHost, x.freed
}

func (x *host) add(client *ssh.Client) *conn {
	x.mu.Lock()
	defer x.mu.Unlock()
	c := &conn{client: client, inUse: 1}
	x.conns = append(x.conns, c)
	x.wake()
	return c
}

// give gives a connection back. It reports whether nobody else uses it.
func (x *host) give(c *conn, broken, full bool) (alone bool) {
	x.mu.Lock()
	defer x.mu.Unlock()
	c.inUse--
	c.broken = c.broken || broken
	c.full = full && c.inUse > 0
	c.since = time.Now()
	if c.broken && c.inUse == 0 {
		x.drop(c)
	}
	x.wake()
	return c.inUse == 0
}

func (x *host) drop(c *conn) {
	for i, k := range x.conns {
		if k == c {
			x.conns = append(x.conns[:i], x.conns[i+1:]...)
			break
		}
	}
	go c.client.Close() //nolint:errcheck // it may be gone
}

func (x *host) wake() {
	close(x.freed)
	x.freed = make(chan struct{})
}

// rest closes what was idle for too long. It reports whether nothing is left.
func (x *host) rest(idle time.Duration) (empty bool) {
	x.mu.Lock()
	defer x.mu.Unlock()
	for _, c := range append([]*conn{}, x.conns...) {
		if c.inUse == 0 && time.Since(c.since) >= idle {
			x.drop(c)
		}
	}
	// Somebody may be dialling for it.
	return len(x.conns) == 0 && len(x.dial) == 1
}

// tidy closes from time to time what nobody uses, such as connections under a secret that was changed since.
func (h *Hand) tidy() {
	tick := time.NewTicker(time.Minute)
	defer tick.Stop()
	for {
		select {
		case <-h.closed:
			return
		case <-tick.C:
			h.sweep(idleTime)
		}
	}
}

func (h *Hand) sweep(idle time.Duration) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for f, x := range h.hosts {
		if x.rest(idle) {
			delete(h.hosts, f)
		}
	}
}

// Close ends all kept connections.
func (h *Hand) Close() {
	h.once.Do(func() { close(h.closed) })
	h.mu.Lock()
	defer h.mu.Unlock()
	for f, x := range h.hosts {
		x.mu.Lock()
		for _, c := range x.conns {
			c.client.Close() //nolint:errcheck // it may be gone
		}
		x.conns = nil
		x.mu.Unlock()
		delete(h.hosts, f)
	}
}

// open opens a session; a connection that does not answer in a short time counts as broken.
func open(ctx context.Context, c *ssh.Client) (ssh.Channel, <-chan *ssh.Request, error) {
	type opened struct {
		ch   ssh.Channel
		reqs <-chan *ssh.Request
		err  error
	}
	done := make(chan opened, 1)
	go func() { ch, reqs, err := c.OpenChannel("session", nil); done <- opened{ch, reqs, err} }()
	t := time.NewTimer(dialTime / 2)
	defer t.Stop()
	select {
	case o := <-done:
		return o.ch, o.reqs, o.err
	case <-t.C:
	case <-ctx.Done():
	}
	go func() {
		if o := <-done; o.err == nil {
			go ssh.DiscardRequests(o.reqs)
			o.ch.Close() //nolint:errcheck // nobody waits for it
		}
	}()
	return nil, nil, errors.New("no answer on the connection")
}
