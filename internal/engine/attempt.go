package engine

import (
	"bytes"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"urgentis/core/expr"
	"urgentis/core/flow"
	"urgentis/core/reading"
	"urgentis/core/runbook"
	"urgentis/core/task"
	"urgentis/internal/act"
	"urgentis/internal/evaluate"
	"urgentis/internal/meter"
	"urgentis/internal/secret"
	"urgentis/internal/store"
)

// beside is what whoever carries an attempt out tells and is told meanwhile: what a job elsewhere is known by, and that
// nobody here looks after it any longer.
type beside struct {
	known func(job string)
	leave <-chan struct{}
	// watch is set where it only keeps watch: no run waits for its evaluations.
	watch *Watching
}

// Watching is how the evaluations of a watch went.
type Watching struct{ RanOut atomic.Bool }

// attempt does one intent of a run and makes its outcome.
func (e *Engine) attempt(
	ctx context.Context,
	run *store.Run,
	book *runbook.Book,
	place flow.Place,
	in flow.Intent,
	sealed []string,
	b beside,
) flow.Event {
	out := e.carryOut(ctx, run, book, place, in, sealed, b, e.storeOutput)
	return flow.Event{At: e.Now(), Place: place, Body: out}
}

// kept makes of what was printed what stands in the record.
type kept func(ctx context.Context, text string, c act.Captured) flow.Output

// carryOut does one intent and makes its outcome. What is printed is taken in hand with that of few others at once: to
// hide, to read and to keep it takes many times its size.
func (e *Engine) carryOut(
	ctx context.Context,
	run *store.Run,
	book *runbook.Book,
	place flow.Place,
	in flow.Intent,
	sealed []string,
	b beside,
	keep kept,
) flow.Outcome {
	began := e.Clock()
	look, _ := flow.Find(book, in.Look)
	// What is printed live cannot be masked by a value that is only known once all of it is read.
	holdsSealed := look != nil && slices.ContainsFunc(look.Read, func(s reading.Spec) bool { return s.Sealed })
	res, values := e.do(ctx, run, book, place, in, sealed, holdsSealed, b)
	kind := kindOf(in)
	meter.Steps.WithLabelValues(kind, res.State).Inc()
	meter.StepSeconds.WithLabelValues(kind).Observe(e.Clock().Sub(began).Seconds())
	out := flow.Outcome{
		Attempt: in.Attempt, State: res.State, Exit: res.Exit, Took: e.Clock().Sub(began), Halted: res.Halted,
	}
	defer res.Stdout.Free()
	defer res.Stderr.Free()
	defer e.takeInHand(res.Stdout.Len() + res.Stderr.Len())()
	raw := res.Stdout.Text()
	if look != nil && res.State == flow.OK {
		values = append(
			values,
			e.takeReadings(ctx, &out, look, in.Target, raw, hide(secret.NewMasker(values...), res.Stdout),
				res.Stdout.Cut(), e.evaluator(ctx, b.watch))...)
	}
	if holdsSealed && !out.SealedWhole(look) {
		// What was printed may hold what could not be sealed.
		res.Stdout, res.Stderr = act.Captured{Size: res.Stdout.Size}, act.Captured{Size: res.Stderr.Size}
		if res.Error != "" {
			res.Error = "it did not end well; what it said is not kept, as it may hold what is sealed"
		}
	}
	m := secret.NewMasker(values...)
	out.Error = reading.Why(m.Mask(res.Error))
	if f := res.Attached; f != nil {
		out.Attached = &flow.AttachedFile{ID: f.ID, Name: f.Name, Size: f.Size, Digest: f.Digest}
	}
	if keep != nil {
		out.Output = keep(ctx, hide(m, res.Stdout), res.Stdout)
		out.Stderr = keep(ctx, hide(m, res.Stderr), res.Stderr)
	}
	return out
}

// inHand is how much of what was printed is taken in hand at once, in bytes.
const inHand = 4 << 20

// takeInHand waits until there is room for so many bytes; release makes room again.
func (e *Engine) takeInHand(bytes int) (release func()) {
	n := int64(min(bytes, inHand))
	e.printed.Acquire(context.Background(), n) //nolint:errcheck // it ends with a release, not with a context
	return func() { e.printed.Release(n) }
}

// FailedOn says that the program itself failed, and how.
func FailedOn(panicked any) string {
	return reading.Why(fmt.Sprintf("the program failed on it: %v", panicked))
}

// kindOf is what an intent is counted as.
func kindOf(in flow.Intent) string {
	switch {
	case in.Undoes():
		return "undo"
	case in.Touches():
		return "change"
	}
	return "look"
}

// hide is a stream without the values that are to be hidden.
func hide(m *secret.Masker, c act.Captured) string {
	text := c.Text()
	if c.Size > int64(c.Len()) {
		return m.MaskCut(text)
	}
	return m.Mask(text)
}

// factsNow is what is known now of the target of a look; where it only reads, with the account for that.
func (e *Engine) factsNow(ctx context.Context, r task.Request) (task.Facts, error) {
	if r.Looks {
		return e.Store.In(ctx).FactsToLook(r.Target.Name)
	}
	facts, err := e.Store.In(ctx).Facts([]string{r.Target.Name})
	if err == nil && len(facts) == 0 {
		err = store.ErrNotFound
	}
	if err != nil {
		return task.Facts{}, err
	}
	return facts[0], nil
}

func (e *Engine) do(
	ctx context.Context,
	run *store.Run,
	book *runbook.Book,
	place flow.Place,
	in flow.Intent,
	sealed []string,
	holdsSealed bool,
	b beside,
) (act.Result, []string) {
	req := in.Request
	if !in.Touches() && req.Target.Name != "" {
		facts, err := e.factsNow(ctx, req)
		switch {
		case errors.Is(err, store.ErrNotFound):
			return act.NotBegun("the target is no longer known"), nil
		case err != nil:
			return act.NotBegun("what is known of the target could not be read"), nil
		}
		req.Target = facts
	}
	hand := e.Hands[req.Kind]
	if hand == nil {
		return act.NotBegun("there is no way to do " + req.Kind + " here"), nil
	}
	req, filled, err := e.Secrets.Fill(ctx, req)
	if err != nil {
		return act.NotBegun(err.Error() + "; nothing was begun"), nil
	}
	// What an earlier step was given, or read, this one may print.
	known, err := e.Secrets.Known(ctx, req.Target, book.Secrets(), sealed)
	if err != nil {
		return act.NotBegun("what must be masked could not be read; nothing was begun"), nil
	}
	values := append(known, filled...)
	job := act.Job{Request: req, Attempt: in.Attempt, Known: b.known}
	if !in.Touches() && !req.Looks && onlyByItsWord(book, in) {
		// A look that only its author's word makes one may touch after all: halt stops it too.
		halted, by, err := e.Store.In(ctx).Halted()
		if err != nil {
			return act.NotBegun(
				"not run: this look is not known to be read-only, and whether changes are halted could not be read",
			), nil
		}
		if halted {
			return act.NotBegun(
				fmt.Sprintf("not run: changes are halted by %s, and this look is not known to be read-only", by),
			), nil
		}
	}
	if req.Job != nil {
		job.Leave = b.leave
	}
	if in.Touches() && !in.FollowsOn() {
		job.Ready = func(ctx context.Context) error { return e.mayTouch(ctx, run) }
		if err := job.MaySend(ctx); err != nil {
			return act.NotSent(err), nil
		}
	}
	o := Output{Run: run.ID, Attempt: in.Attempt, Path: place.String(), Target: in.Target}
	if run.Incident != nil {
		o.Incident = *run.Incident
	}
	if !holdsSealed && run.Runbook != "" { // outside of a run nobody looks on
		live := show(values, func(text string) {
			c := o
			c.Text = text
			e.Live(c)
		})
		job.Live = live.next
		defer live.rest()
	}
	if !in.Touches() && in.Purpose != (flow.Purpose{For: flow.ForLook}) || holdsSealed {
		req.Attach = "" // taken anew, it would be put there over and over; what is sealed is known too late
	}
	whole, err := e.attaching(ctx, run, req, values)
	if err != nil {
		return act.NotBegun("the file could not be begun: " + err.Error()), values
	}
	if whole != nil {
		job.Whole = whole
	}
	res := e.doOrFollow(ctx, hand, job, in)
	if whole != nil {
		res = whole.end(res, kindOf(in) == "look")
	}
	return res, values
}

// doOrFollow does a job, or follows on what was begun before.
func (e *Engine) doOrFollow(ctx context.Context, hand act.Hand, job act.Job, in flow.Intent) act.Result {
	if !in.FollowsOn() {
		return hand.Do(ctx, job)
	}
	f, ok := hand.(act.Follower)
	if !ok {
		return act.Unseen("nobody here can follow it on").Result()
	}
	left := time.Duration(0)
	if in.Deadline != nil {
		left = in.Deadline.Sub(e.Now())
	}
	return f.Follow(ctx, job, in.Request.Job.Known, left).Result()
}

// showing passes output on as it comes, without the values that are to be hidden, wherever a piece of it ends.
type showing struct {
	mu      sync.Mutex
	streams map[int]*secret.Stream
	emit    func(text string)
	over    bool
}

func show(values []string, emit func(string)) *showing {
	m := secret.NewMasker(values...)
	return &showing{streams: map[int]*secret.Stream{act.Stdout: m.Stream(), act.Stderr: m.Stream()}, emit: emit}
}

func (s *showing) next(stream int, piece string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.over {
		return // a daemon that was left behind goes on printing
	}
	if text := s.streams[stream].Next(piece); text != "" {
		s.emit(text)
	}
}

func (s *showing) rest() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.over = true
	for _, stream := range []int{act.Stdout, act.Stderr} {
		if text := s.streams[stream].Rest(); text != "" {
			s.emit(text)
		}
	}
}

// onlyByItsWord reports whether a look says only_reads.
func onlyByItsWord(book *runbook.Book, in flow.Intent) bool {
	look, _ := flow.Find(book, in.Look)
	return look != nil && look.OnlyReads != ""
}

// mayTouch is the last look before a change leaves us: is this instance still the one who may, and is nothing
// halted? An instance that has not beaten for a while, because the database is away, waits until it knows.
func (e *Engine) mayTouch(ctx context.Context, run *store.Run) error {
	for {
		if run.Owner == nil || *run.Owner != e.name() {
			// Under another name this instance has no claim.
			return errors.New("this instance lost its lease before it started; nothing ran")
		}
		if e.leased() {
			may, err := e.Store.In(ctx).MayTouch(run)
			switch {
			case err != nil || may.Unheard: // whoever is not heard is taken for dead after a lease
			case !may.Claimed:
				return errors.New("this instance lost its lease, or the run, before it started; nothing ran")
			case may.Halted:
				return fmt.Errorf("%w by %s; nothing ran", act.ErrHeld, may.HaltedBy)
			case e.leased() && *run.Owner == e.name():
				return nil
			}
		}
		select {
		case <-ctx.Done():
			return errors.New("the database could not be asked in time whether this may begin; nothing was begun")
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// takeReadings takes the readings of a look: those that are sealed from what was printed, all others from what may
// be kept of it. It returns the values that are to be kept out of every record.
func (e *Engine) takeReadings(
	ctx context.Context,
	out *flow.Outcome,
	look *runbook.Step,
	target, raw, masked string,
	cut bool,
	evaluate flow.Evaluate,
) []string {
	var hidden []string
	flow.TakeReadings(out, look, target, flow.Taker{
		At: e.Now(),
		Text: func(spec reading.Spec) string {
			if spec.Sealed {
				return raw
			}
			return masked
		},
		Evaluate: evaluate,
		Cut:      cut,
		Seal: func(v any) (any, error) {
			said := expr.Say(v)
			hidden = append(hidden, said)
			return e.Secrets.Seal(said)
		},
	})
	return hidden
}

// evaluator gives what evaluates for a run, or for what only keeps watch.
func (e *Engine) evaluator(ctx context.Context, watch *Watching) flow.Evaluate {
	if watch == nil {
		return e.Evaluate(ctx)
	}
	return func(q *reading.Query, output []byte) (any, error) {
		v, err := e.watchEvaluate.Query(ctx, q, output)
		if errors.Is(err, evaluate.ErrRanOut) {
			watch.RanOut.Store(true)
		}
		return v, err
	}
}

// Evaluate gives what evaluates jq expressions with a bound on what they take.
func (e *Engine) Evaluate(ctx context.Context) flow.Evaluate {
	return func(q *reading.Query, output []byte) (any, error) { return e.evaluate.Query(ctx, q, output) }
}

// shown is how much of the head and of the tail of an output stands in the record, in bytes.
const shown = 4 << 10

// headAndTail is what stands in the record of an output.
func headAndTail(text string, c act.Captured) flow.Output {
	o := flow.Output{Size: c.Size, Cut: c.Cut()}
	if len(text) <= 2*shown {
		o.Head = text
		return o
	}
	o.Head, o.Tail = clean(text[:shown]), clean(text[len(text)-shown:])
	return o
}

// storeOutput makes the head and the tail of an output; the whole becomes an artifact where it is longer.
func (e *Engine) storeOutput(ctx context.Context, text string, c act.Captured) flow.Output {
	o := headAndTail(text, c)
	if len(text) <= 2*shown {
		return o
	}
	id := store.NewID("o")
	var z bytes.Buffer
	w, _ := gzip.NewWriterLevel(&z, gzip.BestSpeed) //nolint:errcheck // the level is one that there is
	w.Write([]byte(text))                           //nolint:errcheck // a buffer takes everything
	w.Close()                                       //nolint:errcheck // see above
	kept := &store.Artifact{ID: id, Size: int64(len(text)), Body: z.Bytes(), At: e.Now()}
	if err := e.Store.In(context.WithoutCancel(ctx)).AddArtifact(kept); err != nil {
		e.Log.Warn("keep an output", "error", err)
		return o
	}
	o.Artifact = id
	return o
}

// clean drops half characters at the ends of a cut.
func clean(s string) string { return string(bytes.ToValidUTF8([]byte(s), nil)) }
