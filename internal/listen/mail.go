package listen

import (
	"context"
	"errors"
	"io"
	"log"
	"net"
	"net/netip"
	"strings"
	"sync"
	"time"

	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"

	"urgentis/core/source"
)

// MailProof is by what a mail shows that it comes from a source.
type MailProof struct {
	Source string
	// Address is the token behind a plus in the recipient, Password that of SMTP's AUTH; "" without one.
	Address, Password string
	From              netip.Addr
}

// What is to be said to the sender of a mail.
var (
	// ErrUnproven says that the source or its proof is not known; it does not say which.
	ErrUnproven = errors.New("the source or its token is unknown")
	// ErrRefused says that the mail cannot be kept as it is.
	ErrRefused = errors.New("it cannot be kept as it is")
)

// mailTimeout bounds how long a sender may be silent, maxRecipients to how many sources one mail goes.
const (
	mailTimeout   = time.Minute
	maxRecipients = 10
)

// mail hears mail over SMTP (RFC 5321), with STARTTLS where there is a certificate.
func (e *Ears) mail(ctx context.Context, lc net.ListenConfig, n *counts) error {
	l, err := e.tcp(ctx, lc, n)
	if err != nil {
		return err
	}
	s := smtp.NewServer(smtp.BackendFunc(func(c *smtp.Conn) (smtp.Session, error) {
		return &letter{ears: e, counts: n, from: addressOf(c.Conn())}, nil
	}))
	s.Domain, s.TLSConfig = "urgentis", e.c.TLS
	s.ReadTimeout, s.WriteTimeout = mailTimeout, mailTimeout
	s.MaxMessageBytes, s.MaxRecipients = source.MaxMail, maxRecipients
	s.AllowInsecureAuth = e.c.TLS == nil
	s.ErrorLog = log.New(io.Discard, "", 0)
	e.closers = append(e.closers, s.Close)
	e.done.Go(func() {
		if err := s.Serve(&bounded{Listener: l, room: make(chan struct{}, maxConnections)}); err != nil &&
			!errors.Is(err, net.ErrClosed) && !errors.Is(err, smtp.ErrServerClosed) {
			e.c.Log.Error("hear mail", "error", err)
		}
	})
	return nil
}

// bounded is a listener with a bound on how many connections there are at a time.
type bounded struct {
	net.Listener
	room chan struct{}
}

func (b *bounded) Accept() (net.Conn, error) {
	b.room <- struct{}{}
	c, err := b.Listener.Accept()
	if err != nil {
		<-b.room
		return nil, err
	}
	return &guest{Conn: c, leave: func() { <-b.room }}, nil
}

type guest struct {
	net.Conn
	once  sync.Once
	leave func()
}

func (g *guest) Close() error {
	g.once.Do(g.leave)
	return g.Conn.Close()
}

// letter is one conversation with a sender of mail.
type letter struct {
	ears     *Ears
	counts   *counts
	from     netip.Addr
	password string
	to       []MailProof
}

func (s *letter) AuthMechanisms() []string { return []string{sasl.Plain} }

// Auth takes a token as the password; it is judged with the recipient, which names the source.
func (s *letter) Auth(string) (sasl.Server, error) {
	return sasl.NewPlainServer(func(_, _, password string) error {
		s.password = password
		return nil
	}), nil
}

func (s *letter) Mail(string, *smtp.MailOptions) error { return nil }

func (s *letter) Rcpt(to string, _ *smtp.RcptOptions) error {
	local, _, ok := strings.Cut(to, "@")
	if !ok || local == "" {
		return smtpError(550, "the recipient must be SOURCE@… or SOURCE+TOKEN@…")
	}
	p := MailProof{From: s.from, Password: s.password}
	p.Source, p.Address, _ = strings.Cut(local, "+")
	// Nothing is read for whom nobody knows.
	ctx, cancel := context.WithTimeout(context.Background(), mailTimeout)
	defer cancel()
	switch err := s.ears.c.Door.KnowsMail(ctx, p); {
	case errors.Is(err, ErrUnproven):
		s.counts.heard.Add(1)
		s.counts.stranger(s.from)
		return smtpError(550, ErrUnproven.Error())
	case err != nil:
		s.ears.c.Log.Warn("judge the recipient of a mail", "source", p.Source, "error", err)
		return smtpError(451, "it cannot be judged now; send it again later")
	}
	s.to = append(s.to, p)
	return nil
}

// Data keeps a mail for each of its recipients, and says that only once it is on disk.
func (s *letter) Data(r io.Reader) error {
	s.counts.heard.Add(1)
	body, err := io.ReadAll(r)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(context.Background(), mailTimeout)
	defer cancel()
	for _, to := range s.to {
		err := s.ears.c.Door.TakeMail(ctx, to, Message{
			At: time.Now().UTC(), From: s.from.String(), Over: "smtp", Type: source.MailType, Body: body,
		})
		switch {
		case errors.Is(err, ErrUnproven):
			s.counts.stranger(s.from)
			return smtpError(550, ErrUnproven.Error())
		case errors.Is(err, ErrRefused):
			return smtpError(554, err.Error())
		case err != nil:
			s.ears.c.Log.Warn("keep a mail", "source", to.Source, "error", err)
			return smtpError(451, "it could not be kept; send it again later")
		}
	}
	s.counts.kept.Add(1)
	return nil
}

// enhanced are the codes of RFC 3463 for those of RFC 5321: not allowed, not understood, not now.
var enhanced = map[int]smtp.EnhancedCode{550: {5, 7, 1}, 554: {5, 6, 0}, 451: {4, 3, 0}}

func smtpError(code int, says string) error {
	return &smtp.SMTPError{Code: code, EnhancedCode: enhanced[code], Message: says}
}

func (s *letter) Reset()        { s.to = nil }
func (s *letter) Logout() error { return nil }
