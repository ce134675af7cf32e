package sqlquery

import (
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"strings"

	"urgentis/core/task"
)

// A password goes to nobody but who shows a certificate that is trusted, for the target's address or its name, unless
// the runbook says otherwise. On the host of the service itself nothing leaves it, and nothing is asked for.

// security gives the TLS that a statement wants; nil for none. either says that both will do.
func security(r task.Request) (conf *tls.Config, either bool, err error) {
	switch word := r.SQL.TLS; {
	case word == task.TLSNever:
		return nil, false, nil
	case word != task.TLSOn && r.SQL.Authority == "" && here(r.Target.Address):
		return &tls.Config{InsecureSkipVerify: true}, true, nil //nolint:gosec // it does not leave this host
	case word == task.TLSOn:
		return &tls.Config{InsecureSkipVerify: true}, false, nil //nolint:gosec // the runbook says so
	}
	var roots *x509.CertPool
	if r.SQL.Authority != "" {
		if roots = x509.NewCertPool(); !roots.AppendCertsFromPEM([]byte(r.SQL.Authority)) {
			return nil, false, errors.New("authority holds no certificate in PEM")
		}
	}
	return &tls.Config{
		InsecureSkipVerify: true, //nolint:gosec // verified below, for one of two names
		VerifyConnection: func(s tls.ConnectionState) error {
			return trusted(s.PeerCertificates, roots, r.Target.Address, r.Target.Name)
		},
	}, false, nil
}

// here reports whether an address is this host itself.
func here(address string) bool {
	ip := net.ParseIP(address)
	return address == "localhost" || strings.HasPrefix(address, "/") || ip != nil && ip.IsLoopback()
}

// trusted wants a chain of certificates that is valid for one of the names.
func trusted(chain []*x509.Certificate, roots *x509.CertPool, names ...string) error {
	between := x509.NewCertPool()
	for _, c := range chain[1:] {
		between.AddCert(c)
	}
	err := errors.New("the target has neither an address nor a name")
	for _, name := range names {
		if name == "" {
			continue // without a name any certificate would do
		}
		if _, err = chain[0].Verify(x509.VerifyOptions{
			Roots: roots, Intermediates: between, DNSName: name,
		}); err == nil {
			return nil
		}
	}
	return fmt.Errorf("the database's certificate is not trusted, so the password was not sent (give sql an "+
		"authority, or say tls: on or tls: never): %w", err)
}
