// Package probe asks whether something answers: a TCP port, a name in the name service, an echo.
package probe

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net"
	"os"
	"strconv"
	"time"

	"golang.org/x/net/icmp"
	"golang.org/x/net/ipv4"
	"golang.org/x/net/ipv6"

	"urgentis/core/task"
	"urgentis/internal/act"
)

// Hand probes from the host of the service. The zero value is ready.
type Hand struct{}

// Do implements act.Hand. The output is JSON: for a port and an echo, open or answered tell what was found,
// which is an answer also where nothing answers.
func (Hand) Do(ctx context.Context, job act.Job) act.Result {
	r := job.Request
	ctx, cancel := context.WithTimeout(ctx, time.Duration(r.Timeout)*time.Second)
	defer cancel()
	var found any
	var err error
	switch p := r.Probe; {
	case p.Port > 0:
		found, err = port(ctx, r.Target.Address, p.Port)
	case p.Name != "":
		found, err = lookup(ctx, *p)
	default:
		found, err = echo(ctx, r.Target.Address, p.Echos)
	}
	if err != nil {
		return act.NotBegun(err.Error())
	}
	return act.Answered(job, found).Result()
}

func port(ctx context.Context, host string, port int) (map[string]any, error) {
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	began := time.Now()
	conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", net.JoinHostPort(host, strconv.Itoa(port)))
	if ctx.Err() != nil && errors.Is(ctx.Err(), context.Canceled) {
		return nil, errors.New("it was cancelled")
	}
	var dns *net.DNSError
	if errors.As(err, &dns) {
		return nil, fmt.Errorf("the host's name was not found, so its port was not tried: %w", err)
	}
	if err != nil {
		return map[string]any{"open": false, "says": err.Error()}, nil
	}
	conn.Close() //nolint:errcheck // nothing was sent
	return map[string]any{"open": true, "ms": time.Since(began).Milliseconds()}, nil
}

func lookup(ctx context.Context, p task.Probe) (map[string]any, error) {
	var res net.Resolver
	values := []string{}
	var err error
	switch p.Type {
	case "A", "AAAA":
		network := "ip4"
		if p.Type == "AAAA" {
			network = "ip6"
		}
		var ips []net.IP
		ips, err = res.LookupIP(ctx, network, p.Name)
		for _, ip := range ips {
			values = append(values, ip.String())
		}
	case "CNAME":
		var name string
		if name, err = res.LookupCNAME(ctx, p.Name); err == nil {
			values = append(values, name)
		}
	case "MX":
		var list []*net.MX
		list, err = res.LookupMX(ctx, p.Name)
		for _, m := range list {
			values = append(values, fmt.Sprintf("%d %s", m.Pref, m.Host))
		}
	case "TXT":
		values, err = res.LookupTXT(ctx, p.Name)
	case "NS":
		var list []*net.NS
		list, err = res.LookupNS(ctx, p.Name)
		for _, n := range list {
			values = append(values, n.Host)
		}
	case "SRV":
		var list []*net.SRV
		_, list, err = res.LookupSRV(ctx, "", "", p.Name)
		for _, s := range list {
			values = append(values, fmt.Sprintf("%d %d %d %s", s.Priority, s.Weight, s.Port, s.Target))
		}
	}
	var dns *net.DNSError
	if errors.As(err, &dns) && dns.IsNotFound {
		return map[string]any{"found": false, "values": []string{}}, nil
	}
	if err != nil {
		return nil, err
	}
	return map[string]any{"found": len(values) > 0, "values": values}, nil
}

// echo sends echo requests (RFC 792, RFC 4443) and counts the answers.
func echo(ctx context.Context, host string, count int) (map[string]any, error) {
	ip := net.ParseIP(host)
	if ip == nil {
		addrs, err := net.DefaultResolver.LookupIP(ctx, "ip", host)
		if err != nil {
			return nil, err
		}
		ip = addrs[0]
	}
	kind := echoKind(ip)
	conn, raw, err := listen(kind)
	if err != nil {
		return nil, errors.New("this host does not let the service send echo requests")
	}
	defer conn.Close()
	var to net.Addr = &net.UDPAddr{IP: ip}
	if raw {
		to = &net.IPAddr{IP: ip}
	}
	answered, total := 0, time.Duration(0)
	for i := range count {
		took, ok, err := once(ctx, conn, kind, to, i)
		if err != nil {
			return nil, err
		}
		if ok {
			answered++
			total += took
		}
	}
	out := map[string]any{"sent": count, "answered": answered}
	if answered > 0 {
		out["ms"] = float64(total.Microseconds()) / 1000 / float64(answered)
	}
	return out, nil
}

type echoes struct {
	datagram, raw, any string
	request, reply     icmp.Type
	protocol           int
}

func echoKind(ip net.IP) echoes {
	if ip.To4() != nil {
		return echoes{"udp4", "ip4:icmp", "0.0.0.0", ipv4.ICMPTypeEcho, ipv4.ICMPTypeEchoReply, 1}
	}
	return echoes{"udp6", "ip6:ipv6-icmp", "::", ipv6.ICMPTypeEchoRequest, ipv6.ICMPTypeEchoReply, 58}
}

// listen opens a socket for echoes: without special rights where the kernel allows it, else a raw one.
func listen(k echoes) (*icmp.PacketConn, bool, error) {
	if c, err := icmp.ListenPacket(k.datagram, k.any); err == nil {
		return c, false, nil
	}
	c, err := icmp.ListenPacket(k.raw, k.any)
	return c, true, err
}

func once(ctx context.Context, conn *icmp.PacketConn, k echoes, to net.Addr, seq int) (time.Duration, bool, error) {
	// Others of us may send echoes at the same time: what comes back tells whose it is.
	mark := make([]byte, 16)
	rand.Read(mark) //nolint:errcheck // it never fails
	msg := icmp.Message{Type: k.request, Body: &icmp.Echo{ID: os.Getpid() & 0xffff, Seq: seq, Data: mark}}
	b, err := msg.Marshal(nil)
	if err != nil {
		return 0, false, err
	}
	began := time.Now()
	if _, err := conn.WriteTo(b, to); err != nil {
		return 0, false, nil // nothing goes there: no answer
	}
	until := began.Add(time.Second)
	if d, ok := ctx.Deadline(); ok && d.Before(until) {
		until = d
	}
	conn.SetReadDeadline(until) //nolint:errcheck // a read that cannot be bounded fails
	buf := make([]byte, 1500)
	for {
		n, _, err := conn.ReadFrom(buf)
		if err != nil {
			return 0, false, ctx.Err()
		}
		m, err := icmp.ParseMessage(k.protocol, buf[:n])
		if err != nil || m.Type != k.reply {
			continue
		}
		e, ok := m.Body.(*icmp.Echo)
		if ok && e.Seq == seq && bytes.Equal(e.Data, mark) {
			return time.Since(began), true, nil
		}
	}
}
