// Package act is the hands of the engine: it does one rendered request on one target and tells what came of it.
package act

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"golang.org/x/text/encoding/charmap"

	"urgentis/core/flow"
	"urgentis/core/reading"
	"urgentis/core/task"
)

// KeptOutput bounds what is kept of each stream, in bytes; what comes after is counted, not kept.
const KeptOutput = 1 << 20

// Job is one attempt.
type Job struct {
	Request task.Request
	Attempt string
	// Live is called with pieces of output as they come, each with its stream; it must not block. The pieces of one
	// stream come one after the other.
	Live func(stream int, piece string)
	// Whole takes all of what is printed, however much; an error of it ends nothing, and is told by the result.
	// nil: it is not wanted.
	Whole io.Writer
	// Known is told what a job elsewhere is known by, once it is; it must not block. nil: nobody wants to know.
	Known func(job string)
	// Leave is closed when nobody here can look after a job elsewhere any longer; nil: never. It is left to run, and
	// the result is StillRunning.
	Leave <-chan struct{}
	// Ready is asked once all that takes time before the request (dialling, signing in) is done, immediately
	// before it leaves. Where it gives an error, nothing is sent. nil: always ready.
	Ready func(context.Context) error
}

// MaySend asks Ready.
func (j Job) MaySend(ctx context.Context) error {
	if j.Ready == nil {
		return nil
	}
	if err := j.Ready(ctx); err != nil {
		return withheldError{err}
	}
	return nil
}

// Result is what came of a job. Only the constructors below make one.
type Result struct {
	State  string // flow.OK, Failed, Unknown, Held or StillRuns
	Exit   *int   // an exit or a status says that it had begun
	Error  string // one sentence without a full stop
	Halted bool   // it was held back because all changes are halted
	Stdout Captured
	Stderr Captured
	// Attached is the file that was made of Stdout.
	Attached *Attached
}

// Sent is what came of a job once its request may have left: that nothing was begun cannot be said any more.
type Sent struct{ r Result }

// Result widens it.
func (s Sent) Result() Result { return s.r }

// Saying adds why, in one sentence without a full stop.
func (s Sent) Saying(why string) Sent {
	s.r.Error = why
	return s
}

// Printed adds what was printed.
func (s Sent) Printed(stdout, stderr Captured) Sent {
	s.r.Stdout, s.r.Stderr = stdout, stderr
	return s
}

// NotBegun says that nothing of a job was begun, and why.
func NotBegun(why string) Result { return Result{State: flow.Failed, Error: why} }

// NotSent says that a job's request did not leave: because it might not, or for what went wrong before.
func NotSent(err error) Result {
	var held withheldError
	if !errors.As(err, &held) {
		return NotBegun(err.Error())
	}
	return Result{State: flow.Held, Error: held.Error(), Halted: errors.Is(err, ErrHeld)}
}

// Ended says that the end of a job was seen.
func Ended(exit int, good bool) Sent {
	r := Result{State: flow.OK, Exit: &exit}
	if !good {
		r.State = flow.Failed
	}
	return Sent{r}
}

// Done says that a job is known to have ended well, without an exit that tells so.
func Done() Sent { return Sent{Result{State: flow.OK}} }

// Refused says that the other side refused a job as a whole, or took back by itself all that it did of it.
func Refused(why string) Sent { return Sent{Result{State: flow.Failed, Error: why}} }

// Unseen says that a job may have happened, and nobody saw its end.
func Unseen(why string) Sent { return Sent{Result{State: flow.Unknown, Error: why}} }

// StillRunning says that a job goes on elsewhere, and is to be followed on.
func StillRunning(why string) Sent { return Sent{Result{State: flow.StillRuns, Error: why}} }

// Attached is a file that was made of what was printed.
type Attached struct {
	ID, Name string
	Size     int64
	Digest   string // SHA-256, in hexadecimal
}

// Hand does jobs of one kind.
type Hand interface {
	Do(ctx context.Context, job Job) Result
}

// Follower is a hand that can look after what goes on elsewhere, without beginning anything: known is what it is known
// by, left how long it may still take. Once that is over it is stopped, where that can be asked for.
type Follower interface {
	Hand
	Follow(ctx context.Context, job Job, known string, left time.Duration) Sent
}

// Watcher is a hand that can find out whether what an attempt began still runs on its target.
type Watcher interface {
	// Running reports so; it gives an error where it cannot see.
	Running(ctx context.Context, job Job) (bool, error)
}

// ErrHeld says that all changes are halted.
var ErrHeld = errors.New("all changes are halted")

// withheldError is why a request might not leave.
type withheldError struct{ error }

func (e withheldError) Unwrap() error { return e.error }

// Captured is what was kept of a stream.
type Captured struct {
	// Kept is the beginning of it, or all; Bytes gives all.
	Kept []byte
	Size int64
	rest *spill // what follows Kept, so many bytes of it
	more int
	// More says that more came that was not counted: rows of a database.
	More bool
}

// Len is how many bytes are kept.
func (c Captured) Len() int {
	if c.rest != nil && c.rest.lost {
		return len(c.Kept)
	}
	return len(c.Kept) + c.more
}

// Cut reports whether more came than was kept.
func (c Captured) Cut() bool { return c.More || c.Size > int64(c.Len()) }

// Bytes is all that is kept. What cannot be read any more is not there, and the output is Cut.
func (c Captured) Bytes() []byte {
	if c.more == 0 {
		return c.Kept
	}
	all := make([]byte, c.Len())
	if err := c.rest.read(all[copy(all, c.Kept):]); err != nil {
		c.rest.lost = true
		return c.Kept
	}
	return all
}

// Free lets go of what is not in memory.
func (c Captured) Free() {
	if c.rest != nil {
		c.rest.f.Close() //nolint:errcheck // it has no name any more
	}
}

// Text is the kept output as the function Text makes text of it.
func (c Captured) Text() string {
	kept := c.Bytes()
	if int64(len(kept)) < c.Size {
		kept = withoutHalf(kept)
	}
	return Text(kept)
}

// Text is what somebody else wrote as text that every store and page can hold: UTF-8 without NUL. What can only be of
// an older character set, as it has no character of UTF-8 beyond ASCII and no NUL, is read as Windows-1252, of which
// ISO 8859-1 is a part; of any other that is not UTF-8, what cannot be read is marked.
func Text(b []byte) string {
	if !utf8.Valid(b) && isOfBytes(b) {
		if text, err := charmap.Windows1252.NewDecoder().Bytes(b); err == nil {
			b = text
		}
	}
	return reading.Plain(string(b))
}

// withoutHalf leaves out a character that was cut off at the end.
func withoutHalf(b []byte) []byte {
	for i := 1; i < utf8.UTFMax && i <= len(b); i++ {
		if last := b[len(b)-i:]; utf8.RuneStart(last[0]) {
			if !utf8.FullRune(last) {
				return b[:len(b)-i]
			}
			break
		}
	}
	return b
}

// isOfBytes reports whether every character beyond ASCII is one byte.
func isOfBytes(b []byte) bool {
	for len(b) > 0 {
		r, n := utf8.DecodeRune(b)
		if n > 1 || r == 0 {
			return false
		}
		b = b[n:]
	}
	return true
}

// The streams of a command.
const (
	Stdout = 1
	Stderr = 2
)

// Stream collects one stream within bounds and passes it on live.
type Stream struct {
	mu   sync.Mutex
	c    Captured
	live func(string)
	full bool // its file takes no more
	// whole takes everything; it is nil once it took no more.
	whole io.Writer
}

// Write implements io.Writer. It takes everything, so that a flood cannot block its sender.
func (w *Stream) Write(p []byte) (int, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if room := KeptOutput - w.c.Len(); room > 0 && !w.full {
		piece := p[:min(room, len(p))]
		w.keep(piece)
		if w.live != nil {
			w.live(reading.Plain(string(piece)))
		}
	}
	if w.whole != nil {
		if _, err := w.whole.Write(p); err != nil {
			w.whole = nil // whoever gave it knows why
		}
	}
	w.c.Size += int64(len(p))
	return len(p), nil
}

// keep keeps a piece: in memory, or in a file where it is much and there is room for one. Where that takes no more, the
// rest is not kept.
func (w *Stream) keep(piece []byte) {
	if w.c.rest == nil {
		room := headOutput - len(w.c.Kept)
		if len(piece) > room {
			w.c.rest, _ = newSpill() //nolint:errcheck // it stays in memory then
		}
		if w.c.rest == nil {
			w.c.Kept = append(w.c.Kept, piece...)
			return
		}
		if room > 0 {
			w.c.Kept, piece = append(w.c.Kept, piece[:room]...), piece[room:]
		}
	}
	if err := w.c.rest.add(piece); err != nil {
		w.full = true
		return
	}
	w.c.more = w.c.rest.size
}

// Taken is what was collected so far.
func (w *Stream) Taken() Captured {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.c
}

// Streams makes the two collectors of a job.
func Streams(job Job) (stdout, stderr *Stream) {
	live := func(stream int) func(string) {
		if job.Live == nil {
			return nil
		}
		return func(piece string) { job.Live(stream, piece) }
	}
	return &Stream{live: live(Stdout), whole: job.Whole}, &Stream{live: live(Stderr)}
}

// Answered makes the result of a job whose output is a value, written as JSON.
func Answered(job Job, v any) Sent {
	text, err := json.Marshal(v)
	if err != nil {
		return Unseen("its answer could not be written: " + err.Error())
	}
	stdout, _ := Streams(job)
	stdout.Write(append(text, '\n')) //nolint:errcheck // it takes everything
	return Ended(0, true).Printed(stdout.Taken(), Captured{})
}

// Cut says that more came than is kept.
func (s Sent) Cut(is bool) Sent {
	s.r.Stdout.More = s.r.Stdout.More || is
	return s
}

// Quote writes words as one POSIX shell command that runs exactly them.
func Quote(words []string) string {
	out := make([]string, len(words))
	for i, w := range words {
		out[i] = "'" + strings.ReplaceAll(w, "'", `'\''`) + "'"
	}
	return strings.Join(out, " ")
}
