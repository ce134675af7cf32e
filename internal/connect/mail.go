package connect

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/url"
	"strconv"
	"time"

	"github.com/wneessen/go-mail"

	"urgentis/core/message"
)

// mailTime bounds the delivery of one mail.
const mailTime = 30 * time.Second

// byMail sends a message as text and as HTML. Those of one incident make one thread.
func byMail(ctx context.Context, o *Outbox, c *message.Connection, m *message.Message) (string, error) {
	msg, err := o.mail(c, m)
	if err != nil {
		return "", errors.Join(errForGood, err)
	}
	client, err := o.mailClient(ctx, c)
	if err != nil {
		return "", fmt.Errorf("%s: %w", c.Name, err)
	}
	ctx, cancel := context.WithTimeout(ctx, mailTime)
	defer cancel()
	if err := client.DialAndSendWithContext(ctx, msg); err != nil && !msg.IsDelivered() {
		return "", fmt.Errorf("%s: %w", c.Name, mailFate(err))
	}
	return "the mail server took it", nil
}

// mailFate tells what an error of a mail server means for the mail. A server that lists greyly says 4xx, and takes it
// when it comes again. One that says nothing once all of it was there may have taken it.
func mailFate(err error) error {
	var at *mail.SendError
	if !errors.As(err, &at) {
		return err
	}
	switch code := at.ErrorCode(); {
	case code >= 500 && !at.IsTemp():
		return errors.Join(errForGood, err)
	case at.Reason == mail.ErrSMTPDataClose && code == 0:
		return fmt.Errorf("%w: %w", errUnsure, err)
	}
	return err
}

func (o *Outbox) mail(c *message.Connection, m *message.Message) (*mail.Msg, error) {
	text, err := c.Worded(m)
	if err != nil {
		return nil, err
	}
	msg := mail.NewMsg()
	if err := msg.From(c.From); err != nil {
		return nil, fmt.Errorf("from: %w", err)
	}
	if err := msg.To(m.Address); err != nil {
		return nil, fmt.Errorf("the address %s: %w", m.Address, err)
	}
	msg.Subject(m.Heading())
	msg.SetMessageIDWithValue(m.Key + "@" + o.host())
	if m.Incident != 0 {
		// RFC 5322, 3.6.4: what refers to one message is one thread, whether or not that was ever sent.
		thread := fmt.Sprintf("<incident-%d@%s>", m.Incident, o.host())
		msg.SetGenHeader(mail.HeaderReferences, thread)
		msg.SetGenHeader(mail.HeaderInReplyTo, thread)
	}
	// RFC 3834: nobody's out-of-office answers it.
	msg.SetGenHeader("Auto-Submitted", "auto-generated")
	if m.Urgent {
		msg.SetImportance(mail.ImportanceHigh)
	}
	msg.SetBodyString(mail.TypeTextPlain, text)
	msg.AddAlternativeString(mail.TypeTextHTML, m.HTML())
	return msg, nil
}

// host is this installation's name in the identities of mails.
func (o *Outbox) host() string {
	if at, err := url.Parse(o.link); err == nil && at.Hostname() != "" {
		return at.Hostname()
	}
	return "urgentis"
}

func (o *Outbox) mailClient(ctx context.Context, c *message.Connection) (*mail.Client, error) {
	host, port, err := net.SplitHostPort(c.Server)
	if err != nil {
		return nil, err
	}
	number, err := strconv.Atoi(port)
	if err != nil {
		return nil, err
	}
	conf := tlsOf(c, host)
	dialer := o.allowed.Dialer()
	policy, dial := mail.TLSMandatory, dialer.DialContext
	switch c.TLS {
	case "never":
		policy = mail.NoTLS
	case "on":
		policy = mail.NoTLS // it is there from the first byte
		dial = (&tls.Dialer{NetDialer: dialer, Config: conf}).DialContext
	}
	opts := []mail.Option{
		mail.WithPort(number), mail.WithTimeout(mailTime), mail.WithTLSPolicy(policy), mail.WithTLSConfig(conf),
		mail.WithDialContextFunc(dial), mail.WithHELO(o.host()),
	}
	if c.Account != "" {
		password, err := o.filled(ctx, c.Password)
		if err != nil {
			return nil, fmt.Errorf("open its password: %w", err)
		}
		auth := mail.SMTPAuthAutoDiscover
		opts = append(opts, mail.WithSMTPAuth(auth), mail.WithUsername(c.Account), mail.WithPassword(password))
	}
	return mail.NewClient(host, opts...)
}

func tlsOf(c *message.Connection, host string) *tls.Config {
	conf := &tls.Config{ServerName: host, MinVersion: tls.VersionTLS12}
	if c.Authority != "" {
		conf.RootCAs = x509.NewCertPool()
		conf.RootCAs.AppendCertsFromPEM([]byte(c.Authority)) // it was read before
	}
	return conf
}
