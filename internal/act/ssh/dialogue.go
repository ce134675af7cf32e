package ssh

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"urgentis/core/device"
	"urgentis/core/plain"
	"urgentis/core/task"
	"urgentis/internal/act"
)

// Kinds gives how devices of a kind are spoken with, by its name and revision (KIND@3).
type Kinds func(ctx context.Context, kind string) (*device.Kind, error)

// The terminal that a device is shown: wide, so that it breaks no lines, and without anything that colours.
const (
	terminal = "dumb"
	columns  = 511
	rows     = 200
)

// linesOf gives the lines that a request types on a device.
func linesOf(r task.Request) []string {
	if len(r.Lines) > 0 {
		return r.Lines
	}
	return []string{strings.Join(r.Words, " ")}
}

// reachesByDialogue reports whether a request is typed on a device, or why it cannot be done on its target.
func reachesByDialogue(r task.Request) (bool, error) {
	name := r.Target.Name
	if r.Target.Device == "" {
		if len(r.Lines) > 0 {
			return false, fmt.Errorf("it is not known what kind of device %s is: urgentis target set %s --device KIND",
				name, name)
		}
		return false, nil
	}
	if !r.Plain {
		kind, _, _ := strings.Cut(r.Target.Device, "@")
		return false, fmt.Errorf("%s is a device (%s) and has no shell: say dialogue, or words: plain", name, kind)
	}
	return true, nil
}

// talk types the lines of a request on a device, each once the device is ready for it.
func (h *Hand) talk(ctx context.Context, job act.Job) act.Result {
	r := job.Request
	failed := func(err error) act.Result { return act.NotBegun(fmt.Sprintf("%s: %s", r.Target.Name, err)) }
	kind, err := h.kinds(ctx, r.Target.Device)
	if err != nil {
		return failed(fmt.Errorf("what kind of device it is cannot be read: %w", err))
	}
	if way, ok := kind.Way(r.As); ok && r.Looks {
		for _, m := range way {
			if m.Alters {
				return failed(fmt.Errorf("a look does not enter the mode %s, which is for altering", m.Name))
			}
		}
	}
	var secret []byte
	if kind.Secret != "" && r.As != "" {
		if _, secret, err = h.credential(ctx, task.Facts{Secret: r.Target.DeviceSecret}); err != nil {
			return failed(fmt.Errorf("the secret of its modes: %w", err))
		}
	}
	t, err := device.NewTalk(kind, r.As, linesOf(r), strings.TrimRight(string(secret), "\r\n"))
	if err != nil {
		return failed(err)
	}
	ch, reqs, done, err := h.channel(ctx, r.Target)
	if err != nil {
		return failed(err)
	}
	go ssh.DiscardRequests(reqs)
	defer ch.Close() //nolint:errcheck // it may be gone
	if err := openTerminal(ctx, ch); err != nil {
		done(!errors.Is(err, errRefused))
		return failed(fmt.Errorf("nothing was typed: %w", err))
	}
	out, _ := act.Streams(job)
	d := &dialogue{job: job, talk: t, ch: ch, out: out, settle: kind.Settle}
	res := d.carry(ctx)
	done(d.ended)
	res.Stdout = out.Taken()
	return res
}

// openTerminal asks for a terminal and what the device shows on it (RFC 4254, 6.2 and 6.5).
func openTerminal(ctx context.Context, ch ssh.Channel) error {
	stop := context.AfterFunc(ctx, func() { ch.Close() }) //nolint:errcheck // it may be gone
	defer stop()
	for _, x := range []struct {
		name    string
		payload []byte
	}{
		{"pty-req", ssh.Marshal(struct {
			Term                    string
			Columns, Rows, Wide, Up uint32
			Modes                   string
		}{terminal, columns, rows, 0, 0, "\x00"})},
		{"shell", nil},
	} {
		ok, err := ch.SendRequest(x.name, true, x.payload)
		switch {
		case ctx.Err() != nil:
			return errors.New("it did not answer in time")
		case err != nil:
			return err
		case !ok && x.name == "shell":
			return errRefused // a device without terminals may still speak
		}
	}
	return nil
}

// dialogue is a talk under way.
type dialogue struct {
	job    act.Job
	talk   *device.Talk
	ch     ssh.Channel
	out    io.Writer
	settle time.Duration
	// begun is set when the first line has been typed, and ended when the device went before we were done.
	begun, ended bool
}

// carry speaks until the last line is answered. What the device prints is read by one goroutine, a piece at a time, so
// that a flood waits in the channel and not here.
func (d *dialogue) carry(ctx context.Context) act.Result {
	pieces, over := make(chan []byte), make(chan struct{})
	defer close(over)
	go func() {
		defer close(pieces)
		for {
			b := make([]byte, 32<<10)
			n, err := d.ch.Read(b)
			if n > 0 {
				select {
				case pieces <- b[:n]:
				case <-over:
					return
				}
			}
			if err != nil {
				return
			}
		}
	}()
	quiet := time.NewTimer(d.settle)
	defer quiet.Stop()
	for !d.talk.Over() {
		select {
		case b, open := <-pieces:
			if !open {
				d.ended = true
				return d.broken("the device ended the connection " + d.talk.After())
			}
			d.talk.Hear(b)
			io.WriteString(d.out, d.talk.Take()) //nolint:errcheck // it takes everything
			quiet.Reset(d.settle)
		case <-quiet.C:
			if res := d.answer(ctx); res != nil {
				return *res
			}
			quiet.Reset(d.settle)
		case <-ctx.Done():
			io.WriteString(d.ch, "\x03") //nolint:errcheck // it may not listen
			return d.broken(late(ctx, d.job.Request, d.talk.Waiting()))
		}
	}
	return d.came()
}

// answer types what is to be typed now, if anything; what it gives is the end.
func (d *dialogue) answer(ctx context.Context) *act.Result {
	if d.talk.Begins() && !d.begun {
		if err := d.job.MaySend(ctx); err != nil {
			res := act.NotSent(err)
			return &res
		}
		d.begun = true
	}
	types, ok := d.talk.Quiet()
	if !ok {
		return nil
	}
	if _, err := io.WriteString(d.ch, types); err != nil && !d.talk.Over() {
		res := d.broken("the connection broke: " + err.Error())
		return &res
	}
	return nil
}

// broken is a dialogue that came to no end: unknown once a line was typed.
func (d *dialogue) broken(why string) act.Result {
	if !d.begun {
		return act.NotBegun(d.job.Request.Target.Name + ": " + why + "; nothing was begun")
	}
	return act.Unseen(why).Result()
}

// came is what the dialogue came to that went to its end.
func (d *dialogue) came() act.Result {
	if why := d.talk.Failed(); why != "" {
		return d.broken(why)
	}
	if says, line, of := d.talk.Refused(); says != "" {
		why := fmt.Sprintf("the device refused line %d of %d: %s", line, of, plain.Line(says))
		return endedWith(1, d.job.Request).Saying(why).Result()
	}
	return endedWith(0, d.job.Request).Result()
}
