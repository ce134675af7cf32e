// Package httpcall makes HTTP calls, only to addresses that the administrator allowed.
package httpcall

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"urgentis/core/task"
	"urgentis/internal/act"
)

// Allowed lists the networks that calls may go to. The address is compared after the name was looked
// up, when the connection is made, so that a name cannot point elsewhere in between.
type Allowed []netip.Prefix

// ParseAllowed reads networks such as 10.1.0.0/16, or single addresses.
func ParseAllowed(list []string) (Allowed, error) {
	var out Allowed
	for _, s := range list {
		p, err := netip.ParsePrefix(s)
		if err != nil {
			a, err := netip.ParseAddr(s)
			if err != nil {
				return nil, fmt.Errorf("%q is no network such as 10.1.0.0/16 and no address", s)
			}
			p = netip.PrefixFrom(a, a.BitLen())
		}
		out = append(out, p.Masked())
	}
	return out, nil
}

var errNotAllowed = errors.New("the address is not allowed")

func (a Allowed) control(_, address string, _ syscall.RawConn) error {
	ap, err := netip.ParseAddrPort(address)
	if err != nil {
		return err
	}
	for _, p := range a {
		if p.Contains(ap.Addr().Unmap()) {
			return nil
		}
	}
	return fmt.Errorf("%w: %s; the administrator can allow it with --allow-net", errNotAllowed, ap.Addr())
}

// Client makes an HTTP client that reaches only allowed addresses, follows no redirects and uses no proxy.
func (a Allowed) Client(timeout time.Duration) *http.Client {
	return &http.Client{Timeout: timeout, CheckRedirect: stayHere, Transport: a.transport()}
}

// Dialer dials only allowed addresses, for protocols beside HTTP.
func (a Allowed) Dialer() *net.Dialer { return a.dialer() }

func stayHere(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }

func (a Allowed) dialer() *net.Dialer {
	return &net.Dialer{Timeout: 10 * time.Second, Control: a.control}
}

func (a Allowed) transport() *http.Transport {
	return &http.Transport{DialContext: a.dialer().DialContext, TLSHandshakeTimeout: 10 * time.Second,
		MaxResponseHeaderBytes: 64 << 10, IdleConnTimeout: 30 * time.Second, MaxIdleConnsPerHost: 8, MaxIdleConns: 256}
}

// Once makes a client for one request that is sent at most once. Go's transport repeats a request on a kept
// connection that dies, a POST too where it carries an Idempotency-Key; on a connection of its own it does not.
// HTTP/2, which repeats what a server refused, is not spoken. ready is asked when the connection stands (nil: nobody
// is), and sent tells from then on that the request may have left. Whoever has it closes its idle connections.
func (a Allowed) Once(ready func(context.Context) error) (c *http.Client, sent *atomic.Bool) {
	sent = &atomic.Bool{}
	leave := func(ctx context.Context, conn net.Conn, err error) (net.Conn, error) {
		if err == nil && sent.Load() {
			err = errTwice
		}
		if err == nil && ready != nil {
			err = ready(ctx)
		}
		if err != nil {
			if conn != nil {
				conn.Close()
			}
			return nil, err
		}
		sent.Store(true)
		return conn, nil
	}
	t := a.transport()
	t.DisableKeepAlives = true
	t.DialContext = func(ctx context.Context, network, addr string) (net.Conn, error) {
		conn, err := a.dialer().DialContext(ctx, network, addr)
		return leave(ctx, conn, err)
	}
	t.DialTLSContext = func(ctx context.Context, network, addr string) (net.Conn, error) {
		ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
		defer cancel()
		conn, err := (&tls.Dialer{NetDialer: a.dialer()}).DialContext(ctx, network, addr)
		return leave(ctx, conn, err)
	}
	return &http.Client{CheckRedirect: stayHere, Transport: t}, sent
}

var errTwice = errors.New("the request would be sent a second time")

// Hand makes HTTP calls.
type Hand struct {
	allowed Allowed
	looks   *http.Client
}

// New makes a hand that reaches only these networks.
func New(a Allowed) *Hand { return &Hand{a, a.Client(0)} }

// Do implements act.Hand. The body of the answer is the output, the status its exit.
func (h *Hand) Do(ctx context.Context, job act.Job) act.Result {
	r := job.Request
	ctx, cancel := context.WithTimeout(ctx, time.Duration(r.Timeout)*time.Second)
	defer cancel()
	req, err := requestOf(ctx, task.Call{Method: r.Method, URL: r.URL, Headers: r.Headers, Body: r.Body})
	if err != nil {
		return act.NotBegun(err.Error())
	}
	// RFC draft idempotency-key: servers that know it carry a change out once.
	req.Header.Set("Idempotency-Key", job.Attempt)
	client, sent := h.looks, &atomic.Bool{}
	if !r.Looks {
		client, sent = h.allowed.Once(job.MaySend)
		defer client.CloseIdleConnections()
	}
	res, err := client.Do(req)
	if err != nil {
		if !sent.Load() {
			return act.NotSent(err)
		}
		return act.Unseen(err.Error()).Result()
	}
	defer res.Body.Close()
	out, _ := act.Streams(job)
	_, err = io.Copy(out, io.LimitReader(res.Body, 4*act.KeptOutput))
	result := ended(res.StatusCode, r.Accept, r.Looks)
	if err != nil {
		result = act.Unseen("the answer broke off: " + err.Error())
	}
	return result.Printed(out.Taken(), act.Captured{}).Result()
}

// requestOf makes a request of a call; a body is JSON unless its headers say otherwise.
func requestOf(ctx context.Context, c task.Call) (*http.Request, error) {
	req, err := http.NewRequestWithContext(ctx, c.Method, c.URL, strings.NewReader(c.Body))
	if err != nil {
		return nil, fmt.Errorf("the call cannot be made: %w", err)
	}
	for k, v := range c.Headers {
		req.Header.Set(k, v)
	}
	if c.Body != "" && req.Header.Get("Content-Type") == "" {
		req.Header.Set("Content-Type", "application/json")
	}
	return req, nil
}

// ended is what a status says. A gateway that got no answer, or none in time, does not know what became of a request
// that is no look (RFC 9110, 15.6.3 and 15.6.5).
func ended(status int, accept []int, looks bool) act.Sent {
	good := task.GoodStatus(status, accept)
	if !good && !looks && (status == http.StatusBadGateway || status == http.StatusGatewayTimeout) {
		return act.Unseen(fmt.Sprintf("a gateway answered %d in its place", status))
	}
	return act.Ended(status, good)
}
