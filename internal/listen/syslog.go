package listen

import (
	"context"
	"crypto/tls"
	"errors"
	"io"
	"net"
	"net/netip"
	"time"

	"urgentis/core/source"
)

// receiveBuffer is what the system is asked to hold of datagrams that were not read yet, in bytes.
const receiveBuffer = 8 << 20

// maxConnections bounds the connections of one listener for streams.
const maxConnections = 1000

// syslogUDP hears syslog over UDP (RFC 5426).
func (e *Ears) syslogUDP(ctx context.Context, lc net.ListenConfig, n *counts) error {
	conn, err := e.udp(ctx, lc, n)
	if err != nil {
		return err
	}
	e.done.Add(1)
	go func() {
		defer e.done.Done()
		e.datagrams(conn, n, func(from netip.AddrPort, body []byte) {
			e.hearSyslog(n, from.Addr(), "udp", body, false)
		})
	}()
	return nil
}

// udp opens a socket for datagrams.
func (e *Ears) udp(ctx context.Context, lc net.ListenConfig, n *counts) (*net.UDPConn, error) {
	pc, err := lc.ListenPacket(ctx, "udp", n.address)
	if err != nil {
		return nil, err
	}
	conn := pc.(*net.UDPConn)
	n.address = conn.LocalAddr().String()
	if err := conn.SetReadBuffer(receiveBuffer); err != nil {
		e.c.Log.Warn("ask for a larger buffer for datagrams", "for", n.name, "error", err)
	}
	e.closers = append(e.closers, conn.Close)
	return conn, nil
}

// datagrams calls f with each datagram until the socket is closed. body is f's to keep.
func (e *Ears) datagrams(conn *net.UDPConn, n *counts, f func(from netip.AddrPort, body []byte)) {
	buf := make([]byte, source.MaxSyslog+1)
	counted := time.Now()
	for {
		size, from, err := conn.ReadFromUDPAddrPort(buf)
		if errors.Is(err, net.ErrClosed) {
			return
		}
		if err != nil {
			e.c.Log.Warn("hear a datagram", "for", n.name, "error", err)
			continue
		}
		n.heard.Add(1)
		f(from, append([]byte(nil), buf[:size]...))
		if time.Since(counted) > time.Second {
			n.dropped.Store(droppedBySystem(conn))
			counted = time.Now()
		}
	}
}

// hearSyslog finds the source of a message and queues it.
func (e *Ears) hearSyslog(n *counts, from netip.Addr, over string, body []byte, patient bool) {
	name := e.table.Load().syslogOf(from.Unmap())
	if name == "" {
		n.stranger(from.Unmap())
		return
	}
	q, err := e.queue(name)
	if err != nil {
		n.lost.Add(1)
		e.c.Log.Error("keep what was heard", "source", name, "error", err)
		return
	}
	x := &entry{from: n, patient: patient, Message: Message{
		At: time.Now().UTC(), From: from.Unmap().String(), Over: over, Type: source.SyslogType, Body: body,
	}}
	if patient {
		q.wait(x)
		return
	}
	q.offer(x)
}

// syslogTCP hears syslog over TCP (RFC 6587).
func (e *Ears) syslogTCP(ctx context.Context, lc net.ListenConfig, n *counts) error {
	l, err := e.tcp(ctx, lc, n)
	if err != nil {
		return err
	}
	e.accept(l, n, "tcp")
	return nil
}

// syslogTLS hears syslog over TLS (RFC 5425).
func (e *Ears) syslogTLS(ctx context.Context, lc net.ListenConfig, n *counts) error {
	if e.c.TLS == nil {
		return errors.New("a certificate is needed: give --tls-cert and --tls-key")
	}
	l, err := e.tcp(ctx, lc, n)
	if err != nil {
		return err
	}
	e.accept(tls.NewListener(l, e.c.TLS), n, "tls")
	return nil
}

func (e *Ears) tcp(ctx context.Context, lc net.ListenConfig, n *counts) (net.Listener, error) {
	l, err := lc.Listen(ctx, "tcp", n.address)
	if err != nil {
		return nil, err
	}
	n.address = l.Addr().String()
	e.closers = append(e.closers, l.Close)
	return l, nil
}

// accept serves connections until the listener is closed, at most maxConnections at a time.
func (e *Ears) accept(l net.Listener, n *counts, over string) {
	room := make(chan struct{}, maxConnections)
	e.done.Add(1)
	go func() {
		defer e.done.Done()
		for {
			conn, err := l.Accept()
			if errors.Is(err, net.ErrClosed) {
				return
			}
			if err != nil {
				e.c.Log.Warn("accept a connection", "for", n.name, "error", err)
				time.Sleep(50 * time.Millisecond) // such as too many open files
				continue
			}
			select {
			case room <- struct{}{}:
			default:
				n.stranger(addressOf(conn))
				closeQuietly(conn)
				continue
			}
			e.done.Add(1)
			go func() {
				defer e.done.Done()
				defer func() { <-room }()
				e.stream(conn, n, over)
			}()
		}
	}()
}

func closeQuietly(c io.Closer) { c.Close() } //nolint:errcheck // nobody is left to tell

func addressOf(conn net.Conn) netip.Addr {
	a, err := netip.ParseAddrPort(conn.RemoteAddr().String())
	if err != nil {
		return netip.Addr{}
	}
	return a.Addr().Unmap()
}

// stream reads the messages of one connection.
func (e *Ears) stream(conn net.Conn, n *counts, over string) {
	ended := make(chan struct{})
	defer close(ended)
	go func() {
		select {
		case <-e.stop:
		case <-ended:
		}
		closeQuietly(conn)
	}()
	from := addressOf(conn)
	if e.table.Load().syslogOf(from) == "" {
		n.heard.Add(1)
		n.stranger(from)
		return
	}
	f := newFramer(conn, func(kind string) { n.damaged(e.c.Log, from, kind) }, func(d time.Duration) {
		until := time.Time{}
		if d > 0 {
			until = time.Now().Add(d)
		}
		conn.SetReadDeadline(until) //nolint:errcheck // a connection that is closed ends the reading
	})
	for {
		body, err := f.next()
		if len(body) > 0 {
			n.heard.Add(1)
			e.hearSyslog(n, from, over, body, true)
		}
		if err != nil {
			return
		}
	}
}
