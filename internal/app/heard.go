package app

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"time"

	"urgentis/core/access"
	"urgentis/core/alert"
	"urgentis/core/source"
	"urgentis/internal/intake"
	"urgentis/internal/listen"
	"urgentis/internal/meter"
	"urgentis/internal/store"
)

// Heard is the door of what does not come by HTTP; it implements listen.Door.
type Heard struct {
	app   *App
	host  string
	begun time.Time
}

// Heard gives the door of this machine.
func (a *App) Heard() (*Heard, error) {
	host, err := os.Hostname()
	if err != nil {
		return nil, fmt.Errorf("find the name of this machine: %w", err)
	}
	return &Heard{a, host, now()}, nil
}

// Sources implements listen.Door.
func (h *Heard) Sources(ctx context.Context) ([]listen.Source, error) {
	rows, err := h.app.store.In(ctx).AllProofs()
	if err != nil {
		return nil, err
	}
	var out []listen.Source
	for _, r := range rows {
		s, err := h.app.mapOf(&r.Source)
		if err != nil {
			h.app.log.Error("read a source", "source", r.Source.Name, "error", err)
			continue
		}
		if s.Takes == source.HTTP || s.Takes == "" {
			continue
		}
		if len(out) == 0 || out[len(out)-1].Name != s.Name {
			out = append(out, listen.Source{Source: s})
		}
		h.addKey(&out[len(out)-1], r)
	}
	return out, nil
}

func (h *Heard) addKey(s *listen.Source, k store.Proof) {
	switch k.Kind {
	case store.TokenKey:
		s.Hashes = append(s.Hashes, k.Hash)
	case store.UserKey:
		b, err := h.app.secrets.Box.Unseal(k.Sealed)
		var u listen.User
		if err == nil {
			err = json.Unmarshal(b, &u)
		}
		if err != nil {
			h.app.log.Error("open a user of a source", "source", s.Name, "key", k.KeyID, "error", err)
			return
		}
		s.Users = append(s.Users, u)
	}
}

// TakeHeard implements listen.Door: what says the same of one condition is taken together, and counted.
func (h *Heard) TakeHeard(ctx context.Context, source string, messages []listen.Message) error {
	row, err := h.app.store.In(ctx).Source(source)
	if err != nil {
		return err
	}
	if row == nil {
		// Revoked while it was under way. Its reports have nobody to stand for.
		meter.Heard.WithLabelValues("revoked").Add(float64(len(messages)))
		h.app.log.Warn(
			"what was heard of a source that is gone is left out",
			"source",
			source,
			"messages",
			len(messages),
		)
		return nil
	}
	s, err := h.app.mapOf(row)
	if err != nil {
		return err
	}
	f := &folding{last: map[string]int{}}
	var left []unreadOne
	for _, m := range messages {
		left = append(left, f.add(s, m)...)
	}
	if err := h.take(ctx, s, f, &left); err != nil {
		return err
	}
	if len(f.items) == 0 && len(messages) > 0 {
		if err := h.app.store.In(ctx).MarkSource(source); err != nil {
			return err
		}
	}
	return h.leaveUnread(ctx, s, left)
}

// take takes what was folded; what is refused for what it is joins what is unread.
func (h *Heard) take(ctx context.Context, s *source.Source, f *folding, left *[]unreadOne) error {
	for from := 0; from < len(f.items); {
		n := min(len(f.items)-from, 1024)
		for i, o := range h.app.intake.TakeItems(ctx, s.Name, f.items[from:from+n]) {
			switch {
			case o.Err == nil:
			case errors.Is(o.Err, intake.ErrRefused):
				x := f.items[from+i]
				*left = append(*left, unreadOne{*x.Payload, nil, o.Err.Error()})
			default:
				return o.Err // what was taken before is a repeat when it is handed on again
			}
		}
		from += n
	}
	return nil
}

// unreadOne is a message that could not be read, or items of one.
type unreadOne struct {
	payload source.Payload
	items   []int
	finding string
}

// leaveUnread keeps what could not be read, as far as there is room for it.
func (h *Heard) leaveUnread(ctx context.Context, s *source.Source, left []unreadOne) error {
	for _, u := range left {
		_, err := h.app.keepUnread(ctx, s, u.payload, u.items, u.finding, &Received{})
		var full *Error
		if errors.As(err, &full) && full.Kind == Full {
			meter.Heard.WithLabelValues("unread-full").Inc()
			h.app.log.Warn("a message that cannot be read is lost", "source", s.Name, "why", full.Says)
			continue
		}
		if err != nil {
			return err
		}
		meter.Heard.WithLabelValues("unread").Inc()
	}
	return nil
}

// folding gathers reports: those that follow one another about one condition and are as severe are one, made several
// times.
type folding struct {
	items []intake.Item
	last  map[string]int // by key: the item that a report joins where it is as severe
}

// add reads a message, and gives what of it cannot be read.
func (f *folding) add(s *source.Source, m listen.Message) []unreadOne {
	p := payloadOf(m)
	r := s.Read(p, alert.HeardAt(m.At))
	for _, x := range r.Items {
		if e, ok := x.Event.(*source.Alert); ok {
			f.join(e.Report, &p)
		}
	}
	places, finding := r.Left()
	if finding == "" {
		return nil
	}
	return []unreadOne{{p, places, finding}}
}

func (f *folding) join(r alert.Report, p *source.Payload) {
	if i, ok := f.last[r.Key]; ok && f.items[i].Report.Severity == r.Severity {
		f.items[i].Times++
		f.items[i].Report.At = r.At
		return
	}
	f.last[r.Key] = len(f.items)
	f.items = append(f.items, intake.Item{Report: r, Times: 1, Payload: p})
}

// payloadOf is a message as it is kept and mapped.
func payloadOf(m listen.Message) source.Payload {
	return source.Payload{
		ContentType: m.Type, Headers: map[string]string{"from": m.From, "over": m.Over}, Body: m.Body,
	}
}

// KnowsMail implements listen.Door.
func (h *Heard) KnowsMail(ctx context.Context, proof listen.MailProof) error {
	_, err := h.mailSource(ctx, proof)
	return err
}

// mailSource is the source of a mail that proves itself. Nothing of its proof is in what it says.
func (h *Heard) mailSource(ctx context.Context, proof listen.MailProof) (*source.Source, error) {
	s, err := h.app.proven(ctx, proof.Source, Proof{
		Address: proof.Address, Password: proof.Password, From: proof.From}, nil)
	var no *Error
	if errors.As(err, &no) && no.Kind == Nobody || err == nil && s.Takes != source.Mail {
		return nil, listen.ErrUnproven
	}
	return s, err
}

// TakeMail implements listen.Door.
func (h *Heard) TakeMail(ctx context.Context, proof listen.MailProof, m listen.Message) error {
	s, err := h.mailSource(ctx, proof)
	if err != nil {
		return err
	}
	// What proves it stands in its head, where every reader of the alert would find it.
	if proof.Address != "" {
		m.Body = bytes.ReplaceAll(m.Body, []byte(proof.Address), []byte("TOKEN"))
	}
	_, err = h.app.takePayload(ctx, s, payloadOf(m))
	var no *Error
	if errors.As(err, &no) && no.Kind == Full && no.Code == "unread" || errors.Is(err, intake.ErrRefused) {
		return fmt.Errorf("%w: %w", listen.ErrRefused, err)
	}
	return err
}

// Note implements listen.Door.
func (h *Heard) Note(ctx context.Context, listeners []listen.Status) error {
	for _, l := range listeners {
		err := h.app.store.In(ctx).NoteListener(&store.Listener{
			Host: h.host, BegunAt: h.begun, Name: l.Name, Address: l.Address, Heard: l.Heard, Kept: l.Kept,
			Strange: l.Strange, Stranger: l.Stranger, Lost: l.Lost, Waiting: l.Waiting,
		})
		if err != nil {
			return err
		}
		if err := h.app.intake.TellLosses(ctx, l.Name, h.host, l.Lost); err != nil {
			return err
		}
	}
	return nil
}

// Listeners lists what the listeners of all machines heard.
func (a *App) Listeners(ctx context.Context, who *access.Principal) ([]store.Listener, error) {
	if err := administer(who, "source", ""); err != nil {
		return nil, err
	}
	return a.store.In(ctx).Listeners()
}
