package listen

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log"
	"log/slog"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/gosnmp/gosnmp"
	lru "github.com/hashicorp/golang-lru/v2"

	"urgentis/core/source"
)

// AuthProtocols and PrivProtocols are those of users of SNMP v3, by the names under which keys are made: RFC 7860 and
// RFC 3414; RFC 3826, Blumenthal's AES-256 and RFC 3414.
var (
	AuthProtocols = map[string]gosnmp.SnmpV3AuthProtocol{
		"sha256": gosnmp.SHA256, "sha512": gosnmp.SHA512, "sha": gosnmp.SHA, "md5": gosnmp.MD5,
	}
	PrivProtocols = map[string]gosnmp.SnmpV3PrivProtocol{"aes": gosnmp.AES, "aes256": gosnmp.AES256, "des": gosnmp.DES}
)

// Objects of notifications (RFC 3418) and of reports (RFC 3414).
const (
	sysUpTime         = ".1.3.6.1.2.1.1.3.0"
	snmpTrapOID       = ".1.3.6.1.6.3.1.1.4.1.0"
	genericTraps      = "1.3.6.1.6.3.1.1.5"
	unknownEngineIDs  = ".1.3.6.1.6.3.15.1.1.4.0"
	notInTimeWindows  = ".1.3.6.1.6.3.15.1.1.2.0"
	timeWindow        = 150 // seconds, RFC 3414, 2.2.3
	rememberedEngines = 10_000
)

// engineID is who this instance is to senders of informs, and since when.
type engineID struct {
	id    string
	begun time.Time
}

// readEngineID takes up the id of a data folder, or makes one: RFC 3411's form for octets, of no enterprise.
func readEngineID(dir string) (*engineID, error) {
	path := filepath.Join(dir, "snmp-engine-id")
	b, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) {
		b = append([]byte{0x80, 0, 0, 0, 5}, make([]byte, 12)...)
		rand.Read(b[5:]) //nolint:errcheck // it never fails
		if err := os.MkdirAll(dir, 0o700); err != nil {
			return nil, fmt.Errorf("keep the engine id of SNMP: %w", err)
		}
		err = os.WriteFile(path, b, 0o600)
	}
	if err != nil || len(b) < 5 || len(b) > 32 {
		return nil, fmt.Errorf("the engine id of SNMP in %s cannot be used (%d bytes): %w", path, len(b), err)
	}
	return &engineID{id: string(b), begun: time.Now()}, nil
}

// boots grows with each start, as RFC 3414 wants it: it is the second of that.
func (e *engineID) boots() uint32 { return uint32(e.begun.Unix()) } //nolint:gosec // it fits until 2038, and wraps then

// time is how many seconds it has been since the start.
func (e *engineID) time() uint32 {
	return uint32(time.Since(e.begun).Seconds()) //nolint:gosec // see above
}

// trapTable is by what notifications prove themselves.
type trapTable struct {
	sources     []Source
	communities map[string]string // the hash of a community -> the source
	users       map[string]string // the name of a user -> the source
	snmp        *gosnmp.GoSNMP
}

func newTrapTable(sources []Source, l *slog.Logger) trapTable {
	quiet := gosnmp.NewLogger(log.New(io.Discard, "", 0))
	t := trapTable{sources: sources, communities: map[string]string{}, users: map[string]string{}}
	params := gosnmp.NewSnmpV3SecurityParametersTable(quiet)
	add := func(name string, p *gosnmp.UsmSecurityParameters) {
		if err := params.Add(name, p); err != nil {
			l.Error("a user of SNMP cannot be used", "user", name, "error", err)
		}
	}
	add("", &gosnmp.UsmSecurityParameters{}) // who asks for the engine id
	for _, s := range sources {
		if s.Proves(source.Community) {
			for _, h := range s.Hashes {
				t.communities[string(h)] = s.Name
			}
		}
		if !s.Proves(source.User) {
			continue
		}
		for _, u := range s.Users {
			t.users[u.Name] = s.Name
			add(u.Name, &gosnmp.UsmSecurityParameters{
				UserName: u.Name, AuthenticationProtocol: AuthProtocols[u.Auth], AuthenticationPassphrase: u.AuthPass,
				PrivacyProtocol: PrivProtocols[u.Priv], PrivacyPassphrase: u.PrivPass,
			})
		}
	}
	t.snmp = &gosnmp.GoSNMP{
		Version: gosnmp.Version3, SecurityModel: gosnmp.UserSecurityModel, Logger: quiet,
	}
	t.snmp.SetTrapSecurityParametersTable(params)
	return t
}

// sourceOf finds the source that a notification proves to come from; "" without one.
func (t *trapTable) sourceOf(p *gosnmp.SnmpPacket, from netip.Addr) string {
	name := ""
	if p.Version == gosnmp.Version3 {
		if usm, ok := p.SecurityParameters.(*gosnmp.UsmSecurityParameters); ok && p.MsgFlags&gosnmp.AuthNoPriv != 0 {
			name = t.users[usm.UserName]
		}
	} else {
		h := sha256.Sum256([]byte(p.Community))
		name = t.communities[string(h[:])]
	}
	best := -1
	for _, s := range t.sources {
		switch d := s.Distance(from); {
		case name == s.Name && !s.Admits(from):
			return ""
		case name == "" && s.Proves(source.Network) && d > best:
			// Known by its network alone.
			name, best = s.Name, d
		}
	}
	return name
}

// traps hears notifications of SNMP over UDP: v2c (RFC 3416), v3 (RFC 3412, RFC 3414), and v1 as RFC 3584 translates
// it. Informs are answered once they are on disk.
func (e *Ears) traps(ctx context.Context, lc net.ListenConfig, n *counts) error {
	var err error
	if e.engine, err = readEngineID(e.c.Dir); err != nil {
		return err
	}
	heard, err := lru.New[string, engineTime](rememberedEngines)
	if err != nil {
		return err
	}
	conn, err := e.udp(ctx, lc, n)
	if err != nil {
		return err
	}
	e.done.Add(1)
	go func() {
		defer e.done.Done()
		e.datagrams(conn, n, func(from netip.AddrPort, body []byte) {
			for _, answer := range e.hearTrap(n, heard, from.Addr().Unmap(), body, func(answer []byte) {
				_, _ = conn.WriteToUDPAddrPort(answer, from) // who sent an inform sends it again
			}) {
				_, _ = conn.WriteToUDPAddrPort(answer, from) // who asked asks again
			}
		})
	}()
	return nil
}

// engineTime is how far a sender's clock was.
type engineTime struct{ boots, time uint32 }

// hearTrap takes one datagram, and gives what is to be answered at once. later is called with the answer to an inform
// when that is on disk.
func (e *Ears) hearTrap(
	n *counts, heard *lru.Cache[string, engineTime], from netip.Addr, body []byte, later func([]byte),
) [][]byte {
	t := &e.table.Load().traps
	p, err := unmarshal(t.snmp, body)
	if err != nil {
		n.stranger(from)
		return nil
	}
	if p.Version == gosnmp.Version3 {
		if answer, fine := e.timely(p, heard); !fine {
			if answer == nil {
				n.stranger(from)
			}
			return answer
		}
	}
	name := t.sourceOf(p, from)
	if name == "" || p.PDUType != gosnmp.SNMPv2Trap && p.PDUType != gosnmp.InformRequest && p.PDUType != gosnmp.Trap {
		n.stranger(from)
		return nil
	}
	q, err := e.queue(name)
	if err != nil {
		n.lost.Add(1)
		e.c.Log.Error("keep what was heard", "source", name, "error", err)
		return nil
	}
	text, _ := json.Marshal(message(p, from)) // it has nothing that could fail
	x := &entry{from: n, Message: Message{
		At: time.Now().UTC(), From: from.String(), Over: "udp", Type: source.TrapType, Body: text}}
	if p.PDUType != gosnmp.InformRequest {
		q.offer(x)
		return nil
	}
	x.kept = make(chan error, 1)
	select {
	case q.in <- x:
	default:
		n.lost.Add(1) // no answer: it is sent again
		return nil
	}
	e.done.Go(func() {
		select {
		case err = <-x.kept:
		case <-e.stop:
			return
		}
		if answer, ok := e.response(p); err == nil && ok {
			later(answer)
		}
	})
	return nil
}

// unmarshal reads a datagram; what the library fails on is an error like any other.
func unmarshal(s *gosnmp.GoSNMP, body []byte) (p *gosnmp.SnmpPacket, err error) {
	defer func() {
		if r := recover(); r != nil {
			err = fmt.Errorf("the datagram cannot be read: %v", r)
		}
	}()
	return s.UnmarshalTrap(body, true)
}

// timely judges a message of v3 by RFC 3414, 3.2: who asks for the engine id is told, and who is told the time must
// hold to it. fine says that the message is neither old nor a question.
func (e *Ears) timely(p *gosnmp.SnmpPacket, heard *lru.Cache[string, engineTime]) (answer [][]byte, fine bool) {
	usm, ok := p.SecurityParameters.(*gosnmp.UsmSecurityParameters)
	if !ok {
		return nil, false
	}
	inform := p.PDUType == gosnmp.InformRequest
	if p.PDUType == gosnmp.GetRequest || inform && usm.AuthoritativeEngineID != e.engine.id {
		return e.report(p, unknownEngineIDs, false), false
	}
	if inform {
		off := int64(usm.AuthoritativeEngineTime) - int64(e.engine.time())
		if usm.AuthoritativeEngineBoots != e.engine.boots() || off < -timeWindow || off > timeWindow {
			return e.report(p, notInTimeWindows, true), false
		}
		return nil, true
	}
	is := engineTime{usm.AuthoritativeEngineBoots, usm.AuthoritativeEngineTime}
	was, known := heard.Get(usm.AuthoritativeEngineID)
	if known && (is.boots < was.boots || is.boots == was.boots && int64(is.time) < int64(was.time)-timeWindow) {
		return nil, false
	}
	if !known || is.boots > was.boots || is.time > was.time {
		heard.Add(usm.AuthoritativeEngineID, is)
	}
	return nil, true
}

// report answers with a counter of RFC 3414, which tells the sender this instance's engine id and time.
func (e *Ears) report(p *gosnmp.SnmpPacket, oid string, authentic bool) [][]byte {
	usm := p.SecurityParameters.Copy().(*gosnmp.UsmSecurityParameters)
	usm.AuthoritativeEngineID = e.engine.id
	usm.AuthoritativeEngineBoots, usm.AuthoritativeEngineTime = e.engine.boots(), e.engine.time()
	r := *p
	r.SecurityParameters, r.PDUType, r.ContextEngineID = usm, gosnmp.Report, e.engine.id
	r.MsgFlags = gosnmp.NoAuthNoPriv
	if authentic {
		r.MsgFlags = gosnmp.AuthNoPriv
	}
	r.Variables = []gosnmp.SnmpPDU{{Name: oid, Type: gosnmp.Counter32, Value: uint32(1)}}
	b, err := r.MarshalMsg()
	if err != nil {
		e.c.Log.Warn("answer a message of SNMP", "error", err)
		return nil
	}
	return [][]byte{b}
}

// response is the answer to an inform: itself, as a response without an error (RFC 3416, 4.2.7).
func (e *Ears) response(p *gosnmp.SnmpPacket) ([]byte, bool) {
	r := *p
	r.PDUType, r.Error, r.ErrorIndex = gosnmp.GetResponse, gosnmp.NoError, 0
	if p.Version == gosnmp.Version3 {
		r.MsgFlags &= gosnmp.AuthPriv
		usm := p.SecurityParameters.Copy().(*gosnmp.UsmSecurityParameters)
		usm.AuthoritativeEngineBoots, usm.AuthoritativeEngineTime = e.engine.boots(), e.engine.time()
		r.SecurityParameters = usm
		if err := usm.InitPacket(&r); err != nil {
			e.c.Log.Warn("answer an inform", "error", err)
			return nil, false
		}
	}
	b, err := r.MarshalMsg()
	if err != nil {
		e.c.Log.Warn("answer an inform", "error", err)
	}
	return b, err == nil
}

// message is a notification as it is kept: without its community.
func message(p *gosnmp.SnmpPacket, from netip.Addr) source.TrapMessage {
	m := source.TrapMessage{
		From: from.String(), Version: p.Version.String(), Inform: p.PDUType == gosnmp.InformRequest,
		Vars: []source.Binding{},
	}
	if usm, ok := p.SecurityParameters.(*gosnmp.UsmSecurityParameters); ok && p.Version == gosnmp.Version3 {
		m.User = usm.UserName
	}
	if p.PDUType == gosnmp.Trap { // RFC 3584, 3.1
		m.Uptime = float64(p.Timestamp) / 100
		m.OID = fmt.Sprintf("%s.0.%d", strings.TrimPrefix(p.Enterprise, "."), p.SpecificTrap)
		if p.GenericTrap < 6 {
			m.OID = fmt.Sprintf("%s.%d", genericTraps, p.GenericTrap+1)
		}
	}
	for _, v := range p.Variables {
		switch v.Name {
		case sysUpTime:
			if t, ok := v.Value.(uint32); ok {
				m.Uptime = float64(t) / 100
			}
		case snmpTrapOID:
			m.OID = strings.TrimPrefix(fmt.Sprint(v.Value), ".")
		default:
			m.Vars = append(m.Vars, source.Binding{
				OID: strings.TrimPrefix(v.Name, "."), Type: v.Type.String(), Value: value(v)})
		}
	}
	return m
}

// value is that of a variable as JSON has it: numbers as they are, text as text, other octets in hexadecimal.
func value(v gosnmp.SnmpPDU) any {
	switch x := v.Value.(type) {
	case []byte:
		if readable(x) {
			return string(x)
		}
		return "0x" + hex.EncodeToString(x)
	case string:
		return strings.TrimPrefix(strings.ToValidUTF8(x, "\ufffd"), ".")
	case nil:
		return ""
	case int, uint, int64, uint64, uint32, int32, float32, float64:
		return x
	}
	return fmt.Sprint(v.Value)
}

func readable(b []byte) bool {
	if !utf8.Valid(b) {
		return false
	}
	for _, r := range string(b) {
		if !unicode.IsPrint(r) && !unicode.IsSpace(r) {
			return false
		}
	}
	return true
}
