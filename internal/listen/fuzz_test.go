package listen

import (
	"bytes"
	"encoding/json"
	"errors"
	"io"
	"log/slog"
	"net/netip"
	"testing"

	"github.com/gosnmp/gosnmp"
	lru "github.com/hashicorp/golang-lru/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/source"
)

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
		if len(body) > source.MaxSyslog {
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
