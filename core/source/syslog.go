package source

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"

	"github.com/leodido/go-syslog/v4"
	"github.com/leodido/go-syslog/v4/rfc3164"
	"github.com/leodido/go-syslog/v4/rfc5424"
)

// SyslogType is the Content-Type under which a message of syslog is kept.
const SyslogType = "application/vnd.urgentis.syslog"

// MaxSyslog bounds a message of syslog, in bytes.
const MaxSyslog = 64 << 10

// syslogSeverities are the words of RFC 5424, 6.2.1, by their numbers.
var syslogSeverities = []string{"emerg", "alert", "crit", "err", "warning", "notice", "info", "debug"}

// facilities are those of RFC 5424, 6.2.1, by the names that syslog's own tools use.
var facilities = []string{"kern", "user", "mail", "daemon", "auth", "syslog", "lpr", "news", "uucp", "cron", "authpriv",
	"ftp", "ntp", "audit", "console", "cron2", "local0", "local1", "local2", "local3", "local4", "local5", "local6",
	"local7"}

// readSyslog reads a message by RFC 5424 or, where it is none of that, RFC 3164. What is neither is all text, as RFC
// 3164, 4.3.3 wants it. A byte that is no UTF-8 becomes U+FFFD: it must not hide what the message says.
func (p Payload) readSyslog(zone *time.Location, now time.Time) (any, error) {
	if len(p.Body) > MaxSyslog {
		return nil, fmt.Errorf("the message has %d bytes, %d are allowed", len(p.Body), MaxSyslog)
	}
	if zone == nil {
		zone = time.UTC
	}
	text := strings.TrimRight(strings.ToValidUTF8(string(p.Body), "\ufffd"), "\r\n\x00")
	text = strings.ReplaceAll(text, "\x00", "\ufffd") // it may stand in no text that is kept
	out := map[string]any{
		"severity": "notice", "facility": "user", "host": p.Headers["from"], "app": "", "pid": "", "id": "",
		"text": text,
		"at":   "", "from": p.Headers["from"], "data": map[string]any{},
	}
	priority(out, text)
	parsed, _ := machine(text, zone, now).Parse([]byte(text)) // what it could read is taken
	switch msg := parsed.(type) {
	case *rfc5424.SyslogMessage:
		putSyslog(out, &msg.Base)
		if msg.StructuredData != nil {
			out["data"] = structured(*msg.StructuredData)
		}
	case *rfc3164.SyslogMessage:
		if at := msg.Timestamp; at != nil && at.Sub(now) > 31*24*time.Hour {
			*at = at.AddDate(-1, 0, 0) // it names no year: what would be far ahead is of last year
		}
		putSyslog(out, &msg.Base)
	}
	return out, nil
}

var versioned = regexp.MustCompile(`^<[0-9]{1,3}>1 `)

// machine gives the parser for a message: RFC 5424 begins with its version.
func machine(text string, zone *time.Location, now time.Time) syslog.Machine {
	if versioned.MatchString(text) {
		return rfc5424.NewMachine(rfc5424.WithBestEffort())
	}
	return rfc3164.NewMachine(rfc3164.WithBestEffort(), rfc3164.WithLocaleTimezone(zone),
		rfc3164.WithYear(rfc3164.Year{YYYY: now.In(zone).Year()}), rfc3164.WithSecondFractions(),
		rfc3164.WithLenientDay(), rfc3164.WithEmbeddedNewlines())
}

var prioritized = regexp.MustCompile(`^<([0-9]{1,3})>`)

// priority takes the number that a message of either RFC begins with, also where nothing else of it can be read.
func priority(out map[string]any, text string) {
	m := prioritized.FindStringSubmatch(text)
	if m == nil {
		return
	}
	n, err := strconv.Atoi(m[1])
	if err != nil || n/8 >= len(facilities) {
		return
	}
	out["severity"], out["facility"] = syslogSeverities[n%8], facilities[n/8]
	out["text"] = strings.TrimSpace(text[len(m[0]):])
}

func putSyslog(out map[string]any, m *syslog.Base) {
	for name, v := range map[string]*string{
		"host": m.Hostname, "app": m.Appname, "pid": m.ProcID, "id": m.MsgID, "text": m.Message,
	} {
		if v != nil {
			out[name] = strings.TrimPrefix(*v, "\ufeff") // RFC 5424 lets UTF-8 begin with a mark
		}
	}
	if m.Timestamp != nil {
		out["at"] = m.Timestamp.Format(time.RFC3339Nano)
	}
}

// structured is RFC 5424's structured data: elements by their ids, each with its parameters.
func structured(data map[string]map[string]string) map[string]any {
	out := make(map[string]any, len(data))
	for id, params := range data {
		out[id] = texts(params)
	}
	return out
}
