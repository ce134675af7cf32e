package app

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"runtime"
	"sync"
	"sync/atomic"
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
	return &Heard{a, host, a.Now()}, nil
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

// Place implements listen.Door.
func (h *Heard) Place(ctx context.Context, spool string) (*listen.Place, error) {
	at, err := h.app.store.In(ctx).SpoolPlace(spool)
	return (*listen.Place)(at), err
}

// SetPlace implements listen.Door.
func (h *Heard) SetPlace(ctx context.Context, source, spool string, at listen.Place) error {
	return h.app.store.In(ctx).SetSpool(source, spool, store.SpoolPlace(at))
}

// TakeHeard implements listen.Door: what says the same of one condition is taken together, and counted. Each part of a
// batch in which no condition changes is one transaction.
func (h *Heard) TakeHeard(ctx context.Context, source string, b listen.Batch) error {
	row, err := h.app.store.In(ctx).Source(source)
	if err != nil {
		return err
	}
	if row == nil {
		// Revoked while it was under way. Its reports have nobody to stand for.
		meter.Heard.WithLabelValues("revoked").Add(float64(len(b.Messages)))
		h.app.log.Warn("what was heard of a source that is gone is left out", "source", source, "messages",
			len(b.Messages))
		return h.SetPlace(ctx, source, b.Spool, b.To)
	}
	s, err := h.app.mapOf(row)
	if err != nil {
		return err
	}
	if len(b.Ends) > 0 {
		b.Ends[len(b.Ends)-1] = b.To // what follows is no message
	}
	rest := part{b, &ahead{source: s, messages: b.Messages}, 0}
	for len(rest.Messages) > 0 {
		f := rest.fold()
		first, after := rest.split(f.messages)
		if err := h.takePart(ctx, s, f, first); err != nil {
			return err
		}
		rest = after
	}
	if rest.From == rest.To {
		return nil
	}
	return h.app.store.In(ctx).MoveSpool(b.Spool, store.SpoolPlace(rest.From), store.SpoolPlace(rest.To))
}

// part are messages of a batch that follow one another, as they are read.
type part struct {
	listen.Batch
	read *ahead
	at   int // the first of them among all of the batch
}

// split parts it after n messages, n at least 1.
func (p part) split(n int) (first, rest part) {
	first, rest = p, p
	first.Messages, first.Ends, first.To = p.Messages[:n], p.Ends[:n], p.Ends[n-1]
	rest.Messages, rest.Ends, rest.From, rest.at = p.Messages[n:], p.Ends[n:], first.To, p.at+n
	return first, rest
}

// readAhead is how many messages are read at once, by as many as there are processors, readEach how many by one of
// these before it lets others go on.
const readAhead, readEach = 256, 32

// ahead reads the messages of a batch before they are folded.
type ahead struct {
	source   *source.Source
	messages []listen.Message
	from     int // of those that are read
	read     []*source.Reading
}

// reading is what the message at a place says.
func (a *ahead) reading(at int) *source.Reading {
	if at < a.from || at >= a.from+len(a.read) {
		a.from, a.read = at, make([]*source.Reading, min(readAhead, len(a.messages)-at))
		var next atomic.Int64
		var all sync.WaitGroup
		for range min(runtime.GOMAXPROCS(0), (len(a.read)+readEach-1)/readEach) {
			all.Go(func() {
				for n := int(next.Add(readEach)) - readEach; n < len(a.read); n = int(next.Add(readEach)) - readEach {
					a.some(n)
					runtime.Gosched()
				}
			})
		}
		all.Wait()
	}
	return a.read[at-a.from]
}

// some reads what follows a place of those that are read at once.
func (a *ahead) some(n int) {
	for i := n; i < min(n+readEach, len(a.read)); i++ {
		m := a.messages[a.from+i]
		a.read[i] = a.source.Read(payloadOf(m), alert.HeardAt(m.At))
	}
}

// takePart keeps a part of a batch. What cannot be kept with others is kept by itself; a message that is refused for
// what it is is kept unparsed.
func (h *Heard) takePart(ctx context.Context, s *source.Source, f *folding, b part) error {
	err := h.keepPart(ctx, s, f, b.Batch)
	switch {
	case err == nil:
		return nil
	case !errors.Is(err, intake.ErrApart) && !errors.Is(err, intake.ErrRefused):
		return err
	case len(b.Messages) > 1:
		first, second := b.split(len(b.Messages) / 2)
		if err := h.takePart(ctx, s, first.fold(), first); err != nil {
			return err
		}
		return h.takePart(ctx, s, second.fold(), second)
	case errors.Is(err, intake.ErrApart):
		return h.takeSingly(ctx, s, f, b.Batch)
	}
	return h.keepPart(ctx, s, &folding{left: []unparsedOne{{payloadOf(b.Messages[0]), nil, err.Error()}}}, b.Batch)
}

// takeSingly keeps the reports of one message one by one; the last of them takes its place with it. Where that fails
// before, those that were kept are repeats when it is handed on again.
func (h *Heard) takeSingly(ctx context.Context, s *source.Source, f *folding, b listen.Batch) error {
	rest := &folding{left: f.left}
	for i, x := range f.items {
		o := h.app.intake.TakeItems(ctx, s.Name, f.items[i:i+1])[0]
		switch {
		case errors.Is(o.Err, intake.ErrRefused):
			rest.left = append(rest.left, unparsedOne{*x.Payload, nil, o.Err.Error()})
		case o.Err != nil:
			return o.Err
		}
	}
	return h.keepPart(ctx, s, rest, b)
}

// keepPart keeps what was folded of messages, and how far the spool is taken then, in one transaction.
func (h *Heard) keepPart(ctx context.Context, s *source.Source, f *folding, b listen.Batch) error {
	if f.apart {
		return intake.ErrApart
	}
	lost := 0
	err := h.app.intake.TakeTogether(ctx, s.Name, f.items, func(tx *store.Tx) (err error) {
		if lost, err = h.leaveUnparsed(tx, s, f.left); err != nil {
			return err
		}
		if len(f.items) == 0 {
			if err := tx.MarkSource(s.Name); err != nil {
				return err
			}
		}
		return tx.MoveSpool(b.Spool, store.SpoolPlace(b.From), store.SpoolPlace(b.To))
	})
	if err != nil {
		return err
	}
	meter.Heard.WithLabelValues("unparsed").Add(float64(len(f.left) - lost))
	if lost > 0 {
		meter.Heard.WithLabelValues("unparsed-full").Add(float64(lost))
		h.app.log.Warn("messages that cannot be read are lost: as many wait to be read as are kept", "source", s.Name,
			"messages", lost)
	}
	return nil
}

// unparsedOne is a message that could not be read, or items of one.
type unparsedOne struct {
	payload source.Payload
	items   []int
	finding string
}

// leaveUnparsed keeps what could not be read, as far as there is room for it, and tells for how many there was none.
func (h *Heard) leaveUnparsed(tx *store.Tx, s *source.Source, left []unparsedOne) (lost int, err error) {
	if len(left) == 0 {
		return 0, nil
	}
	full, err := tx.FullOfUnparsed(s.Name)
	if err != nil || len(full) > 0 {
		return len(left), err
	}
	for _, u := range left {
		if err := tx.AddUnparsed(h.app.unparsedRow(s, u.payload, u.items, u.finding)); err != nil {
			return 0, err
		}
	}
	return 0, nil
}

// folding gathers reports: those that follow one another about one condition and are as severe are one, made several
// times.
type folding struct {
	items    []intake.Item
	left     []unparsedOne  // what of the messages cannot be read
	messages int            // how many it is of
	at       map[string]int // by key: the item of a condition
	apart    bool           // one message says otherwise of a condition than it just did
}

// mostTogether bounds how many conditions share a transaction: others wait for what it holds.
const mostTogether = 256

// fold gathers the first of the messages, until a condition changes: at least one.
func (p part) fold() *folding {
	f := &folding{at: map[string]int{}}
	for i, m := range p.Messages {
		if len(f.items) >= mostTogether {
			break
		}
		r := p.read.reading(p.at + i)
		if f.messages > 0 && f.changes(r) {
			break
		}
		payload := payloadOf(m)
		for _, x := range r.Items {
			if e, ok := x.Event.(*source.Alert); ok {
				f.join(e.Report, &payload)
			}
		}
		if places, finding := r.Left(); finding != "" {
			f.left = append(f.left, unparsedOne{payload, places, finding})
		}
		f.messages++
	}
	return f
}

// changes reports whether what is read has a condition that is folded already be otherwise.
func (f *folding) changes(r *source.Reading) bool {
	for _, x := range r.Items {
		e, ok := x.Event.(*source.Alert)
		if !ok {
			continue
		}
		if i, known := f.at[e.Key]; known && f.items[i].Report.Severity != e.Severity {
			return true
		}
	}
	return false
}

func (f *folding) join(r alert.Report, p *source.Payload) {
	if i, ok := f.at[r.Key]; ok && f.items[i].Report.Severity == r.Severity {
		f.items[i].Times++
		f.items[i].Report.At = r.At
		return
	}
	if _, ok := f.at[r.Key]; ok {
		f.apart = true
	}
	f.at[r.Key] = len(f.items)
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
	if errors.As(err, &no) && no.Kind == Full && no.Code == "unparsed" || errors.Is(err, intake.ErrRefused) {
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
