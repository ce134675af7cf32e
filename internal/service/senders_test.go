package service

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"math/big"
	"net"
	"net/smtp"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/access"
	"urgentis/core/estate"
	"urgentis/internal/app"
	"urgentis/internal/listen"
	"urgentis/internal/store"
	"urgentis/internal/testdb"
)

var root = access.OnTheMachine("t")

// hearing is an instance that listens to everything.
type hearing struct {
	*Instance
	t *testing.T
}

func hear(t *testing.T, documents string) *hearing {
	dir := t.TempDir()
	c := config(testdb.URL(t), dir)
	c.Hear = Hear{SyslogUDP: "127.0.0.1:0", SyslogTCP: "127.0.0.1:0", SyslogTLS: "127.0.0.1:0", Traps: "127.0.0.1:0",
		Mail: "127.0.0.1:0"}
	c.Hear.TLSCert, c.Hear.TLSKey = certificate(t, dir)
	i, err := Start(context.Background(), c)
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, i.Stop()) })
	_, err = i.App.Push(context.Background(), root, app.Pushing{
		Files: []estate.File{{Name: "sources.yaml", Text: documents}}})
	require.NoError(t, err)
	return &hearing{i, t}
}

// certificate makes one for 127.0.0.1, signed by itself.
func certificate(t *testing.T, dir string) (cert, key string) {
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	what := &x509.Certificate{
		SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "urgentis"}, NotAfter: time.Now().Add(time.Hour),
		IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)},
	}
	der, err := x509.CreateCertificate(rand.Reader, what, what, private.Public(), private)
	require.NoError(t, err)
	raw, err := x509.MarshalPKCS8PrivateKey(private)
	require.NoError(t, err)
	cert, key = filepath.Join(dir, "cert.pem"), filepath.Join(dir, "key.pem")
	require.NoError(t, os.WriteFile(cert, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o600))
	require.NoError(t, os.WriteFile(key, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: raw}), 0o600))
	return cert, key
}

func (h *hearing) port(listener string) string {
	_, port, err := net.SplitHostPort(h.Heard()[listener])
	require.NoError(h.t, err)
	return port
}

// run runs a command and wants it to end well.
func (h *hearing) run(name string, args ...string) {
	out, err := exec.Command(name, args...).CombinedOutput()
	require.NoError(h.t, err, "%s %v: %s", name, args, out)
}

// alert waits for an alert of a source whose summary has a text.
func (h *hearing) alert(source, has string) store.Alert {
	var found store.Alert
	require.Eventually(h.t, func() bool {
		list, err := h.Store.In(context.Background()).Alerts(access.Scope{All: true}, store.WhichAlerts{Source: source},
			store.Place{}, 100)
		require.NoError(h.t, err)
		for _, a := range list {
			if strings.Contains(a.Summary, has) {
				found = a
				return true
			}
		}
		return false
	}, time.Minute, 50*time.Millisecond, "no alert of %s with %q", source, has)
	return found
}

const everything = `urgentis: source/1
name: hosts
takes: syslog
from: [127.0.0.0/8]
---
urgentis: source/1
name: devices
takes: trap
proof: [community, user]
---
urgentis: source/1
name: old-panel
takes: mail
proof: [address, basic]
map:
  key: "{{ mail.subject }}"
  summary: "{{ mail.subject }}: {{ mail.text }}"
  severity: major
`

// known waits until listeners have read what is heard from now on.
func (h *hearing) known() {
	read := h.ears.Read()
	require.Eventually(h.t, func() bool { return h.ears.Read() >= read+2 }, time.Minute, 20*time.Millisecond)
}

func (h *hearing) key(n app.NewKey) *app.Shown {
	k, err := h.App.AddSource(context.Background(), root, n)
	require.NoError(h.t, err)
	h.known()
	return k
}

func TestSyslogOfRealSenders(t *testing.T) {
	h := hear(t, everything)
	h.known()
	h.run("logger", "-d", "-n", "127.0.0.1", "-P", h.port("syslog-udp"), "-p", "daemon.err", "-t", "consumer",
		"--rfc5424", "--msgid", "STUCK", "over udp by 5424")
	h.run("logger", "-d", "-n", "127.0.0.1", "-P", h.port("syslog-udp"), "-p", "mail.crit", "-t", "mailer", "--rfc3164",
		"over udp by 3164")
	h.run("logger", "-T", "-n", "127.0.0.1", "-P", h.port("syslog-tcp"), "-p", "daemon.alert", "-t", "counted",
		"--octet-count", "over tcp, counted")
	h.run("logger", "-T", "-n", "127.0.0.1", "-P", h.port("syslog-tcp"), "-p", "daemon.warning", "-t", "lines",
		"over tcp, line by line")
	h.run("logger", "-d", "-n", "127.0.0.1", "-P", h.port("syslog-udp"), "-p", "daemon.info", "all is well")
	conn, err := tls.Dial("tcp", h.Heard()["syslog-tls"], &tls.Config{InsecureSkipVerify: true}) //nolint:gosec // ours
	require.NoError(t, err)
	text := "<11>1 - quay-9 pump - - - over tls"
	_, err = fmt.Fprintf(conn, "%d %s%d %s", len(text), text, len(text), text)
	require.NoError(t, err)
	require.NoError(t, conn.Close())
	a := h.alert("hosts", "over udp by 5424")
	assert.Equal(t, "minor", a.Severity)
	assert.Equal(t, "consumer", a.Service)
	assert.Contains(t, a.Key, "/consumer/STUCK")
	assert.Equal(t, "major", h.alert("hosts", "over udp by 3164").Severity)
	assert.Equal(t, "critical", h.alert("hosts", "over tcp, counted").Severity)
	assert.Equal(t, "warning", h.alert("hosts", "over tcp, line by line").Severity)
	require.Eventually(t, func() bool { return h.alert("hosts", "over tls").Count == 2 }, 5*time.Second,
		50*time.Millisecond)
	list, err := h.Store.In(context.Background()).
		Alerts(access.Scope{All: true}, store.WhichAlerts{}, store.Place{}, 100)
	require.NoError(t, err)
	assert.Len(t, list, 5)
	p, err := h.Store.In(context.Background()).PayloadOf(a.ID)
	require.NoError(t, err)
	assert.Contains(t, string(p.Body), "over udp by 5424")
	assert.Equal(t, "127.0.0.1", p.Headers["from"])
}

func TestTrapsOfRealSenders(t *testing.T) {
	h := hear(t, everything)
	community := h.key(app.NewKey{Source: "devices"}).Token
	address := "127.0.0.1:" + h.port("traps")
	down := func(index string) []string {
		return []string{"", "1.3.6.1.6.3.1.1.5.3", "1.3.6.1.2.1.2.2.1.1." + index, "i", index}
	}
	h.run("snmptrap", append([]string{"-v", "2c", "-c", community, address}, down("4")...)...)
	h.alert("devices", "The link 4 is down")
	h.run("snmpinform", append([]string{"-v", "2c", "-c", community, "-t", "3", "-r", "1", address}, down("5")...)...)
	h.alert("devices", "The link 5 is down")
	h.run("snmptrap", "-v", "1", "-c", community, address, "1.3.6.1.4.1.99", "127.0.0.1", "2", "0", "42",
		"1.3.6.1.2.1.2.2.1.1.6", "i", "6")
	h.alert("devices", "The link 6 is down")
	user := h.key(app.NewKey{Source: "devices", User: &listen.User{Auth: "sha256", Priv: "aes"}})
	v3 := func(pass string) []string {
		return []string{"-v", "3", "-l", "authPriv", "-u", user.User, "-a", "SHA-256", "-A", pass, "-x", "AES", "-X",
			user.Priv, "-t", "3", "-r", "1"}
	}
	h.run("snmptrap", append(append(v3(user.Token), "-e", "0x8000000001020304", address), down("7")...)...)
	h.alert("devices", "The link 7 is down")
	h.run("snmpinform", append(append(v3(user.Token), address), down("8")...)...)
	h.alert("devices", "The link 8 is down")

	// Another community, another pass phrase, a lower level, and no user at all.
	out, err := exec.Command("snmpinform", append([]string{"-v", "2c", "-c", "public", "-t", "1", "-r", "0", address},
		down("9")...)...).CombinedOutput()
	assert.Error(t, err, "it is not answered: %s", out)
	out, err = exec.Command("snmpinform", append(append(v3("another pass phrase"), address), down("9")...)...).
		CombinedOutput()
	assert.Error(t, err, string(out))
	h.run("snmptrap", append([]string{"-v", "3", "-l", "noAuthNoPriv", "-u", user.User, "-e", "0x8000000001020304",
		address}, down("9")...)...)
	h.run("snmptrap", "-v", "2c", "-c", community, address, "", "1.3.6.1.4.1.99.1", "1.3.6.1.4.1.99.2", "s", "dark")
	require.Eventually(t, func() bool {
		u, err := h.App.UnparsedPayloads(context.Background(), root, "devices")
		return err == nil && len(u) == 1
	}, time.Minute, 50*time.Millisecond, "what has no standard meaning is kept unparsed")
	list, err := h.Store.In(context.Background()).
		Alerts(access.Scope{All: true}, store.WhichAlerts{}, store.Place{}, 100)
	require.NoError(t, err)
	assert.Len(t, list, 5)
	for _, s := range h.ears.Status() {
		if s.Name == "traps" {
			assert.GreaterOrEqual(t, s.Strange, int64(3))
			assert.Zero(t, s.Lost)
		}
	}
}

func TestMailOfARealSender(t *testing.T) {
	h := hear(t, everything)
	token := h.key(app.NewKey{Source: "old-panel"}).Token
	address := "127.0.0.1:" + h.port("mail")
	send := func(auth smtp.Auth, to, subject string) error {
		body := "From: panel@quay.example\r\nTo: " + to + "\r\nSubject: " + subject + "\r\n\r\nRamp 2 is dark\r\n"
		c, err := smtp.Dial(address)
		require.NoError(t, err)
		defer c.Close() //nolint:errcheck // the server ends it, too

		require.NoError(t, c.StartTLS(&tls.Config{InsecureSkipVerify: true})) //nolint:gosec // ours
		if auth != nil {
			require.NoError(t, c.Auth(auth))
		}
		require.NoError(t, c.Mail("panel@quay.example"))
		if err := c.Rcpt(to); err != nil {
			return fmt.Errorf("before anything of it is read: %w", err)
		}
		w, err := c.Data()
		require.NoError(t, err)
		_, err = w.Write([]byte(body))
		return errors.Join(err, w.Close())
	}
	require.NoError(t, send(nil, "old-panel+"+token+"@urgentis.example", "by address"))
	require.NoError(
		t,
		send(smtp.PlainAuth("", "old-panel", token, "127.0.0.1"), "old-panel@urgentis.example", "by auth"),
	)
	h.alert("old-panel", "by address: Ramp 2 is dark")
	h.alert("old-panel", "by auth: Ramp 2 is dark")
	var kept int
	require.NoError(t, testdb.SQL(h.Store).Raw("select count(*) from payload where encode(body, 'escape') like ? "+
		"or headers::text like ?", "%"+token+"%", "%"+token+"%").Scan(&kept).Error)
	assert.Zero(t, kept, "what proves a mail is kept nowhere: whoever sees alerts could send some")
	unknown := send(nil, "old-panel@urgentis.example", "x")
	assert.ErrorContains(t, unknown, "the source or its token is unknown")
	assert.ErrorContains(t, unknown, "before anything of it is read")
	assert.ErrorContains(t, send(nil, "old-panel+no@urgentis.example", "x"), "550")
	assert.ErrorContains(t, send(nil, "nobody+"+token+"@urgentis.example", "x"), "550")
	assert.ErrorContains(t, send(nil, "devices+"+token+"@urgentis.example", "x"), "550")
	assert.ErrorContains(t, send(nil, "old-panel+"+token+"@urgentis.example",
		"x\r\n\r\n"+strings.Repeat("many lines\r\n", 100_000)), "552")
}
