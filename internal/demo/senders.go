package demo

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/smtp"
	"sync"
	"time"

	"github.com/gosnmp/gosnmp"
)

// The ports on which the demo's service hears what does not come by HTTP.
const (
	syslogPort = 1514
	trapPort   = 1162
	mailPort   = 1025
)

// Senders are the older things at the Merrow Line, which speak no HTTP, and the weather mast, which may fall silent.
type Senders struct {
	tides     *Tides
	slipway   *Switch
	tanks     *Fuel
	hear      string // the address of the service
	community string
	fuel      string // the token of the fuel panel
	mast      string // where the mast reports, and its token
	mastToken string
	desk      string // where the release desk reports, and its token
	deskToken string

	mu      sync.Mutex
	quiet   bool
	life    context.Context // ends with Stop
	stop    context.CancelFunc
	stopped sync.WaitGroup
}

// mastEvery is how often the weather mast reports, trouble how long what the senders break stays broken.
const (
	mastEvery = 5 * time.Second
	trouble   = 45 * time.Second
)

// start begins what reports by itself.
func (s *Senders) start() {
	s.life, s.stop = context.WithCancel(context.Background())
	ctx := s.life
	s.stopped.Go(func() {
		for {
			s.mu.Lock()
			quiet := s.quiet
			s.mu.Unlock()
			if !quiet {
				s.wind(ctx) //nolint:errcheck // the next one is soon
			}
			select {
			case <-ctx.Done():
				return
			case <-time.After(mastEvery):
			}
		}
	})
}

// Stop ends it.
func (s *Senders) Stop() {
	s.stop()
	s.stopped.Wait()
}

func (s *Senders) wind(ctx context.Context) error {
	return post(ctx, s.mast, s.mastToken, `{"wind": 9}`)
}

// Deployed tells that somebody put a version of a service out.
func (s *Senders) Deployed(ctx context.Context, service, version, by string) error {
	return post(ctx, s.desk, s.deskToken, fmt.Sprintf(`{"service": %q, "version": %q, "by": %q, "summary": "deployed",
		"environment": "quays"}`, service, version, by))
}

// post sends JSON to a source.
func post(ctx context.Context, url, token, body string) error {
	ctx, cancel := context.WithTimeout(ctx, mastEvery)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, url, bytes.NewReader([]byte(body)))
	if err != nil {
		return err
	}
	req.Header.Set("Authorization", "Bearer "+token)
	req.Header.Set("Content-Type", "application/json")
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		return err
	}
	return res.Body.Close()
}

// later does something when a trouble is over, unless the demo ends before.
func (s *Senders) later(f func() error) {
	s.stopped.Go(func() {
		select {
		case <-s.life.Done():
		case <-time.After(trouble):
			f() //nolint:errcheck // a message that is lost is what the real ones do, too
		}
	})
}

// Log sends a line of syslog (RFC 5424) from a host of the pier.
func (s *Senders) Log(severity int, host, app, id, text string) error {
	c, err := net.Dial("udp", net.JoinHostPort(s.hear, fmt.Sprint(syslogPort)))
	if err != nil {
		return err
	}
	const daemon = 3
	_, err = fmt.Fprintf(
		c,
		"<%d>1 %s %s %s 412 %s - %s",
		daemon*8+severity,
		time.Now().UTC().Format(time.RFC3339),
		host,
		app,
		id,
		text,
	)
	return errors.Join(err, c.Close())
}

// Link sends the trap that a link of the slipway's switch is down, or up.
func (s *Senders) Link(up bool, index int, name string) error {
	g := &gosnmp.GoSNMP{
		Target: s.hear, Port: trapPort, Version: gosnmp.Version2c, Community: s.community, Timeout: time.Second,
	}
	if err := g.Connect(); err != nil {
		return err
	}
	oid := map[bool]string{false: ".1.3.6.1.6.3.1.1.5.3", true: ".1.3.6.1.6.3.1.1.5.4"}[up]
	_, err := g.SendTrap(gosnmp.SnmpTrap{Variables: []gosnmp.SnmpPDU{
		{Name: ".1.3.6.1.6.3.1.1.4.1.0", Type: gosnmp.ObjectIdentifier, Value: oid},
		{Name: fmt.Sprintf(".1.3.6.1.2.1.2.2.1.1.%d", index), Type: gosnmp.Integer, Value: index},
		{Name: fmt.Sprintf(".1.3.6.1.2.1.2.2.1.2.%d", index), Type: gosnmp.OctetString, Value: name},
	}})
	return errors.Join(err, g.Close())
}

// Mail sends a mail of the fuel station's panel.
func (s *Senders) Mail(subject, text string) error {
	body := fmt.Sprintf(
		"From: Fuel panel <panel@fuel.merrow.example>\r\nTo: fuel-panel@urgentis.example\r\nDate: %s\r\n"+
			"Subject: %s\r\n\r\n%s\r\n",
		time.Now().UTC().Format(time.RFC1123Z),
		subject,
		text,
	)
	return smtp.SendMail(net.JoinHostPort(s.hear, fmt.Sprint(mailPort)), nil, "panel@fuel.merrow.example",
		[]string{"fuel-panel+" + s.fuel + "@urgentis.example"}, []byte(body))
}

// troubles are what the senders can break.
func (s *Senders) troubles() []Trouble {
	return []Trouble{
		{"gauge", func(context.Context) (string, error) {
			s.tides.Stall("gauge-2", true)
			s.later(func() error {
				s.tides.Stall("gauge-2", false)
				return s.Log(5, "pier-2", "gaugecast", "STALL", "tide gauge 2 reads again")
			})
			return "tide gauge 2 stalls; its host says so by syslog",
				s.Log(2, "pier-2", "gaugecast", "STALL", "tide gauge 2 gave no reading for 40 s")
		}},
		{"link", func(context.Context) (string, error) {
			s.slipway.Set(4, false)
			s.later(func() error {
				if !s.slipway.Set(4, true) {
					return nil // somebody was faster
				}
				return s.Link(true, 4, "winch-4")
			})
			return "the link to winch 4 goes down; the switch sends a trap", s.Link(false, 4, "winch-4")
		}},
		{"fuel", func(context.Context) (string, error) {
			s.tanks.Hold(2, 4)
			s.later(func() error {
				s.tanks.Hold(2, 81)
				return s.Mail("NORMAL TANK 2", "Tank 2 is filled.")
			})
			return "tank 2 is nearly empty; the fuel panel sends a mail",
				s.Mail("ALARM TANK 2", "Tank 2 holds 4 percent.\r\nPump 1 runs dry in about an hour.")
		}},
		{"storm", func(context.Context) (string, error) {
			return fmt.Sprintf(
				"the pier loses its power: %d messages about %d things",
				stormHosts*stormThings,
				stormHosts*
					stormThings,
			), s.Storm()
		}},
		{"mast", func(context.Context) (string, error) {
			s.setQuiet(true)
			s.later(func() error { s.setQuiet(false); return nil })
			return "the weather mast falls silent", nil
		}},
	}
}

// A storm is what each of so many hosts says about so many things.
const (
	stormHosts  = 250
	stormThings = 20
)

// Storm sends what all hosts of the pier say when their power goes.
func (s *Senders) Storm() error {
	c, err := net.Dial("udp", net.JoinHostPort(s.hear, fmt.Sprint(syslogPort)))
	if err != nil {
		return err
	}
	now := time.Now().UTC().Format(time.RFC3339)
	for h := range stormHosts {
		for t := range stormThings {
			if _, err := fmt.Fprintf(c, "<26>1 %s pier-%d upsd 7 OUT%d - supply %d of host %d is out", now, h, t, t,
				h); err != nil {
				return errors.Join(err, c.Close())
			}
		}
		time.Sleep(time.Millisecond) // as many hosts do not speak in one moment
	}
	return c.Close()
}

func (s *Senders) setQuiet(q bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.quiet = q
}
