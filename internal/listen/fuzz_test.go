package listen

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"io"
	"log/slog"
	"net/netip"
	"strings"
	"testing"

	"github.com/gosnmp/gosnmp"
	lru "github.com/hashicorp/golang-lru/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/alert"
)

// frames reads a stream to its end.
func frames(text []byte) [][]byte {
	r := bufio.NewReaderSize(bytes.NewReader(text), alert.MaxSyslog)
	var out [][]byte
	for {
		body, err := frame(r)
		if len(body) > 0 {
			out = append(out, body)
		}
		if err != nil {
			return out
		}
	}
}

func TestFrames(t *testing.T) {
	long := strings.Repeat("x", alert.MaxSyslog+100)
	for stream, want := range map[string][]string{
		"5 hello3 abc":           {"hello", "abc"},
		"<1>a\n<2>b\r\n<3>c":     {"<1>a", "<2>b", "<3>c"},
		"5 hello<1>a\n2 ab":      {"hello", "<1>a", "ab"},
		"99 short":               {"short"},
		"1x2 a":                  nil,
		"12345678901 a":          nil,
		"":                       nil,
		"\n\n\n":                 nil,
		"<1>" + long + "\n<2>b":  {("<1>" + long)[:alert.MaxSyslog], "<2>b"},
		"65636 " + long + "2 ab": {long[:alert.MaxSyslog], "ab"},
	} {
		var got []string
		for _, f := range frames([]byte(stream)) {
			got = append(got, string(f))
		}
		assert.Equal(t, want, got, "%.40q", stream)
	}
}

func FuzzFrame(f *testing.F) {
	f.Add([]byte("5 hello3 abc<1>x\n"))
	f.Fuzz(func(t *testing.T, stream []byte) {
		n := 0
		for _, b := range frames(stream) {
			n += len(b)
			require.LessOrEqual(t, len(b), alert.MaxSyslog)
		}
		require.LessOrEqual(t, n, len(stream), "nothing is made up")
	})
}

// packets are good ones to begin with.
func packets(t testing.TB) [][]byte {
	var out [][]byte
	for _, kind := range []gosnmp.PDUType{gosnmp.SNMPv2Trap, gosnmp.InformRequest} {
		p := &gosnmp.SnmpPacket{Version: gosnmp.Version2c, Community: "c", PDUType: kind, RequestID: 7,
			Variables: []gosnmp.SnmpPDU{
				{Name: sysUpTime, Type: gosnmp.TimeTicks, Value: uint32(1250)},
				{Name: snmpTrapOID, Type: gosnmp.ObjectIdentifier, Value: ".1.3.6.1.6.3.1.1.5.3"},
				{Name: ".1.3.6.1.2.1.2.2.1.1.4", Type: gosnmp.Integer, Value: 4},
				{Name: ".1.3.6.1.2.1.2.2.1.2.4", Type: gosnmp.OctetString, Value: []byte("quay\xff")},
			}}
		b, err := p.MarshalMsg()
		require.NoError(t, err)
		out = append(out, b)
	}
	return out
}

func TestNotificationsAsTheyAreKept(t *testing.T) {
	table := newTrapTable(nil, slog.New(slog.DiscardHandler))
	p, err := unmarshal(table.snmp, packets(t)[0])
	require.NoError(t, err)
	text, err := json.Marshal(message(p, netip.MustParseAddr("10.1.0.7")))
	require.NoError(t, err)
	assert.JSONEq(t, `{"from": "10.1.0.7", "version": "2c", "oid": "1.3.6.1.6.3.1.1.5.3", "uptime": 12.5, "vars": [
		{"oid": "1.3.6.1.2.1.2.2.1.1.4", "type": "Integer", "value": 4},
		{"oid": "1.3.6.1.2.1.2.2.1.2.4", "type": "OctetString", "value": "0x71756179ff"}]}`, string(text))
}

func FuzzTrap(f *testing.F) {
	for _, b := range packets(f) {
		f.Add(b)
	}
	e := &Ears{c: Config{Log: slog.New(slog.DiscardHandler)}, queues: map[string]*queue{}, stop: make(chan struct{}),
		engine: &engineID{id: "\x80\x00\x00\x00\x05abcd"}}
	e.table.Store(&table{traps: newTrapTable(nil, e.c.Log)})
	heard, err := lru.New[string, engineTime](10)
	require.NoError(f, err)
	f.Fuzz(func(t *testing.T, body []byte) {
		if len(body) > alert.MaxSyslog {
			return
		}
		e.hearTrap(&counts{}, heard, netip.MustParseAddr("10.1.0.7"), body, func([]byte) {})
		p, err := unmarshal(e.table.Load().traps.snmp, body)
		if err != nil {
			return
		}
		text, err := json.Marshal(message(p, netip.MustParseAddr("10.1.0.7")))
		require.NoError(t, err)
		require.True(t, json.Valid(text))
	})
}

// A record is what was written, or an error.
func FuzzRecord(f *testing.F) {
	f.Add([]byte{0, 0, 0, 1, 1, 2, 3, 4, 5})
	f.Fuzz(func(t *testing.T, b []byte) {
		body, n, err := record(bytes.NewReader(b))
		if err == nil {
			require.Equal(t, int64(len(body)+headSize), n)
			return
		}
		require.True(
			t,
			errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, errDamaged),
			err,
		)
	})
}
