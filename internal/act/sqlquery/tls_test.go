package sqlquery

import (
	"bytes"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"io"
	"math/big"
	"net"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/flow"
	"urgentis/core/task"
	"urgentis/internal/act"
)

// certificate makes one that stands for itself, for a name.
func certificate(t *testing.T, name string) (cert tls.Certificate, text string) {
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	what := &x509.Certificate{
		SerialNumber: big.NewInt(1), NotAfter: time.Now().Add(time.Hour), DNSNames: []string{name}, IsCA: true,
		BasicConstraintsValid: true,
	}
	der, err := x509.CreateCertificate(rand.Reader, what, what, private.Public(), private)
	require.NoError(t, err)
	return tls.Certificate{Certificate: [][]byte{der}, PrivateKey: private},
		string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}))
}

// impostor answers as a PostgreSQL that has a certificate, or none, and asks for the password in clear. What it is told
// is kept.
type impostor struct {
	mu   sync.Mutex
	told bytes.Buffer
	port int
}

func pretend(t *testing.T, cert *tls.Certificate) *impostor {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	x := &impostor{port: l.Addr().(*net.TCPAddr).Port}
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go x.serve(c, cert)
		}
	}()
	return x
}

func (x *impostor) serve(c net.Conn, cert *tls.Certificate) {
	defer c.Close()
	c.SetDeadline(time.Now().Add(5 * time.Second))
	first := make([]byte, 8)
	if _, err := io.ReadFull(c, first); err != nil {
		return
	}
	if bytes.Equal(first[4:], []byte{4, 210, 22, 47}) { // it asks for TLS
		if cert == nil {
			c.Write([]byte("N"))
		} else {
			c.Write([]byte("S"))
			c = tls.Server(c, &tls.Config{Certificates: []tls.Certificate{*cert}})
		}
	}
	c.Write([]byte{'R', 0, 0, 0, 8, 0, 0, 0, 3}) // the password, in clear
	buf := make([]byte, 4096)
	for {
		n, err := c.Read(buf)
		x.mu.Lock()
		x.told.Write(buf[:n])
		x.mu.Unlock()
		if err != nil {
			return
		}
	}
}

// A password goes to nobody but whom the runbook trusts.
func TestThePasswordIsForTheDatabaseAlone(t *testing.T) {
	cert, authority := certificate(t, "fares-db")
	other, _ := certificate(t, "fares-db")
	misnamed, misnamedAuthority := certificate(t, "tide-db")
	for name, x := range map[string]struct {
		cert           *tls.Certificate
		tls, authority string
		told           bool
		says           string
	}{
		"trusted":             {&cert, "verify", authority, true, ""},
		"another":             {&other, "", authority, false, "certificate is not trusted"},
		"for another name":    {&misnamed, "", misnamedAuthority, false, "certificate is not trusted"},
		"without TLS":         {nil, "", authority, false, "refused TLS"},
		"no certificate text": {nil, "", "x", false, "no certificate in PEM"},
		"whoever answers":     {&other, "on", "", true, ""},
		"on, and it has none": {nil, "on", "", false, "refused TLS"},
		"never":               {nil, "never", "", true, ""},
		"on this host":        {nil, "", "", true, ""},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			db := pretend(t, x.cert)
			r := Hand{}.Do(context.Background(), act.Job{Attempt: "a", Request: task.Request{
				Kind: "sql", Looks: true, Timeout: 5, Target: task.Facts{Name: "fares-db", Address: "127.0.0.1"},
				SQL: &task.Statement{Text: "select 1", Database: "fares", User: "looker", Password: "hunter22",
					Port: db.port, TLS: x.tls, Authority: x.authority},
			}})
			assert.Equal(t, flow.Failed, r.State)
			assert.Nil(t, r.Exit, "nothing was begun")
			assert.Contains(t, r.Error, x.says)
			db.mu.Lock()
			defer db.mu.Unlock()
			assert.Equal(t, x.told, bytes.Contains(db.told.Bytes(), []byte("hunter22")), r.Error)
		})
	}
	block, _ := pem.Decode([]byte(authority))
	own, err := x509.ParseCertificate(block.Bytes)
	require.NoError(t, err)
	roots := x509.NewCertPool()
	roots.AddCert(own)
	require.NoError(t, trusted([]*x509.Certificate{own}, roots, "", "fares-db"))
	assert.Error(t, trusted([]*x509.Certificate{own}, roots, "", ""), "a target without a name trusts nobody")
	safe, either, err := security(task.Request{Target: task.Facts{Address: "10.0.3.7"}, SQL: &task.Statement{}})
	require.NoError(t, err)
	assert.NotNil(t, safe.VerifyConnection, "elsewhere a certificate is wanted")
	assert.False(t, either)
}
