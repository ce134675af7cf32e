package connect

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"os"
	"strconv"
	"time"

	"github.com/leodido/go-syslog/v4/rfc5424"

	"urgentis/core/message"
	"urgentis/core/plain"
)

// The facility and severities of what is logged (RFC 5424, 6.2.1): local0, and notice or error.
const (
	facility      = 16 * 8
	syslogNotice  = 5
	syslogError   = 3
	syslogTime    = 10 * time.Second
	maxSyslogText = 2000
)

// toSyslog logs a message. Over UDP nobody says whether it arrived.
func toSyslog(ctx context.Context, o *Outbox, c *message.Connection, m *message.Message) (string, error) {
	line, err := syslogLine(m)
	if err != nil {
		return "", errors.Join(errForGood, err)
	}
	ctx, cancel := context.WithTimeout(ctx, syslogTime)
	defer cancel()
	host, _, err := net.SplitHostPort(c.Server)
	if err != nil {
		return "", err
	}
	dial, network, answer := o.allowed.Dialer().DialContext, "tcp", "handed over"
	switch c.Over {
	case "udp":
		network, answer = "udp", "sent; nobody says whether it arrived"
	case "tls":
		dial = (&tls.Dialer{NetDialer: o.allowed.Dialer(), Config: tlsOf(c, host)}).DialContext
	}
	conn, err := dial(ctx, network, c.Server)
	if err != nil {
		return "", fmt.Errorf("%s: %w", c.Name, err)
	}
	defer conn.Close()
	if network == "tcp" {
		line = strconv.Itoa(len(line)) + " " + line // RFC 6587, 3.4.1
	}
	if err := conn.SetDeadline(time.Now().Add(syslogTime)); err != nil {
		return "", err
	}
	if _, err := conn.Write([]byte(line)); err != nil {
		return "", fmt.Errorf("%s: %w", c.Name, err)
	}
	return answer, nil
}

func syslogLine(m *message.Message) (string, error) {
	host, err := os.Hostname()
	if err != nil || host == "" {
		host = "-"
	}
	severity := uint8(syslogNotice)
	if m.Urgent {
		severity = syslogError
	}
	text := plain.Line(m.Subject)
	if r := []rune(text); len(r) > maxSyslogText {
		text = string(r[:maxSyslogText-1]) + "…"
	}
	s := &rfc5424.SyslogMessage{}
	s.SetPriority(facility + severity).SetVersion(1).SetTimestamp(m.At.UTC().Format("2006-01-02T15:04:05.000000Z")).
		SetHostname(host).SetAppname("urgentis").SetMsgID(string(m.Kind)).SetMessage(text)
	if m.Incident != 0 {
		const id = "urgentis@32473" // the number that RFC 5612 keeps for documentation
		s.SetParameter(id, "incident", strconv.FormatInt(m.Incident, 10))
		s.SetParameter(id, "severity", m.Severity)
		s.SetParameter(id, "service", m.Service)
	}
	return s.String()
}
