package service

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"urgentis/internal/listen"
)

// Hear says what an instance listens to but HTTP. Addresses are HOST:PORT; "" is off.
type Hear struct {
	SyslogUDP, SyslogTCP, SyslogTLS, Traps, Mail string
	// TLSCert and TLSKey are files of the certificate for SyslogTLS and for STARTTLS of Mail; TLSClients is a file of
	// authorities one of which must have signed the certificate of whoever sends over SyslogTLS; "" for anybody.
	TLSCert, TLSKey, TLSClients string
	// SpoolMB bounds the spool of each source, in megabytes; 0: DefaultSpoolMB.
	SpoolMB int
}

// DefaultSpoolMB bounds the spool of each source unless told otherwise.
const DefaultSpoolMB = 64

// hear starts the listeners that are switched on. Where none is, what spools of an earlier instance hold is handed on
// all the same.
func (i *Instance) hear(ctx context.Context) error {
	h := i.cfg.Hear
	door, err := i.App.Heard()
	if err != nil {
		return err
	}
	c := listen.Config{
		SyslogUDP: h.SyslogUDP, SyslogTCP: h.SyslogTCP, SyslogTLS: h.SyslogTLS, Traps: h.Traps, Mail: h.Mail,
		Dir: filepath.Join(i.cfg.DataDir, "heard"), Spool: int64(h.SpoolMB) << 20, Door: door, Log: i.cfg.Log,
	}
	if h.SpoolMB == 0 {
		c.Spool = DefaultSpoolMB << 20
	}
	if c.TLS, err = h.tls(); err != nil {
		return err
	}
	i.ears, err = listen.Start(ctx, c)
	return err
}

// Heard tells where an instance listens but for HTTP, by the names of listeners.
func (i *Instance) Heard() map[string]string { return i.ears.Addresses() }

func (h Hear) tls() (*tls.Config, error) {
	if h.TLSCert == "" && h.TLSKey == "" {
		return nil, nil
	}
	cert, err := tls.LoadX509KeyPair(h.TLSCert, h.TLSKey)
	if err != nil {
		return nil, fmt.Errorf("read the certificate: %w", err)
	}
	c := &tls.Config{Certificates: []tls.Certificate{cert}, MinVersion: tls.VersionTLS12}
	if h.TLSClients == "" {
		return c, nil
	}
	text, err := os.ReadFile(h.TLSClients)
	if err != nil {
		return nil, fmt.Errorf("read the authorities of senders: %w", err)
	}
	c.ClientCAs = x509.NewCertPool()
	if !c.ClientCAs.AppendCertsFromPEM(text) {
		return nil, errors.New("read the authorities of senders: " + h.TLSClients + " has no certificate")
	}
	c.ClientAuth = tls.RequireAndVerifyClientCert
	return c, nil
}
