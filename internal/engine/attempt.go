package engine

import (
	"bytes"
	"compress/gzip"
	"context"
	"slices"

	"urgentis/core/expr"
	"urgentis/core/flow"
	"urgentis/core/reading"
	"urgentis/core/runbook"
	"urgentis/internal/act"
	"urgentis/internal/secret"
	"urgentis/internal/store"
)

// attempt does one intent and makes its outcome.
func (e *Engine) attempt(ctx context.Context, run *store.Run, book *runbook.Book, path string, in flow.Intent) flow.Event {
	began := e.Clock()
	look, _ := flow.Find(book, in.Look)
	// What is printed live cannot be masked by a value that is only known once all of it is read.
	holdsSealed := look != nil && slices.ContainsFunc(look.Read, func(s reading.Spec) bool { return s.Sealed })
	res, values := e.do(ctx, run, path, in, holdsSealed)
	out := flow.Outcome{Attempt: in.Attempt, State: res.State, Exit: res.Exit, Took: e.Clock().Sub(began)}
	raw := res.Stdout.Text()
	if look != nil && res.State == flow.OK {
		values = append(values, e.takeReadings(&out, look, in.Target, raw, secret.Mask(raw, values...))...)
	}
	out.Error = secret.Mask(res.Error, values...)
	out.Output = e.keep(ctx, secret.Mask(raw, values...), res.Stdout)
	out.Stderr = e.keep(ctx, secret.Mask(res.Stderr.Text(), values...), res.Stderr)
	return flow.Event{At: e.now(), Path: path, Body: out}
}

func (e *Engine) do(ctx context.Context, run *store.Run, path string, in flow.Intent, holdsSealed bool) (act.Result, []string) {
	req := in.Request
	if !in.Change && req.Target.Name != "" {
		facts, err := store.Facts(e.Store.DB.WithContext(ctx), []string{req.Target.Name})
		if err != nil || len(facts) == 0 {
			return act.Failed("the target is no longer known"), nil
		}
		req.Target = facts[0]
	}
	if req.Looks {
		var err error
		if req.Target, err = store.LookingAccount(e.Store.DB.WithContext(ctx), req.Target); err != nil {
			return act.Failed("the account for looking could not be read"), nil
		}
	}
	hand := e.Hands[req.Kind]
	if hand == nil {
		return act.Failed("there is no way to do " + req.Kind + " here"), nil
	}
	req, filled, err := e.Secrets.Fill(ctx, req)
	if err != nil {
		return act.Failed(err.Error() + "; nothing was begun"), nil
	}
	values := append(e.Secrets.Values(ctx, req.Target), filled...)
	if in.Change {
		// The last look before the request leaves us: are we still the one who may, and is nothing halted?
		halted, by, err := store.Halted(e.Store.DB.WithContext(ctx))
		switch {
		case err != nil:
			return act.Failed("the halt switch could not be read; nothing was begun"), nil
		case halted:
			return act.Failed("all changes are halted by " + by + "; nothing was begun"), nil
		case run.Owner == nil || *run.Owner != e.name() || !e.leased():
			// Under another name this instance has no claim: it was taken for dead meanwhile.
			return act.Failed("this instance was taken for dead; nothing was begun"), nil
		}
	}
	job := act.Job{Request: req, Attempt: in.Attempt}
	o := Output{Run: run.ID, Attempt: in.Attempt, Path: path, Target: in.Target}
	if run.Incident != nil {
		o.Incident = *run.Incident
	}
	if !holdsSealed {
		job.Live = func(piece string) {
			c := o
			c.Text = secret.Mask(piece, values...)
			e.Live(c)
		}
	}
	return hand.Do(ctx, job), values
}

// takeReadings takes the readings of a look: those that are sealed from what was printed, all others from what may
// be kept of it. It returns the values that are to be kept out of every record.
func (e *Engine) takeReadings(out *flow.Outcome, look *runbook.Step, target, raw, masked string) []string {
	missing := func(name, why string) {
		if out.Missing == nil {
			out.Missing = map[string]string{}
		}
		out.Missing[name] = why
	}
	unfit := ""
	if look.Fits != nil {
		v, err := reading.ParseJSON([]byte(masked))
		if err == nil {
			out.Differences = look.Fits.Differences(v)
		} else {
			out.Differences = []reading.Difference{{At: "/", Says: err.Error()}}
		}
		if len(out.Differences) > 0 {
			unfit = "the output does not fit: " + out.Differences[0].At + " " + out.Differences[0].Says
		}
	}
	var hidden []string
	for _, spec := range look.Read {
		if unfit != "" {
			missing(spec.Name, unfit)
			continue
		}
		text := masked
		if spec.Sealed {
			text = raw
		}
		v, err := reading.Take(spec, []byte(text), out.Exit)
		if err == nil && spec.Sealed {
			said := expr.Say(v)
			hidden = append(hidden, said)
			v, err = e.Secrets.Seal(said)
		}
		if err != nil {
			missing(spec.Name, err.Error())
			continue
		}
		if out.Readings == nil {
			out.Readings = map[string]expr.Taking{}
		}
		out.Readings[spec.Name] = expr.Taking{Value: v, Unit: spec.Unit, Target: target, At: e.now()}
	}
	return hidden
}

// shown is how much of the head and of the tail of an output stands in the record, in bytes.
const shown = 4 << 10

// keep makes the head and the tail of an output; the whole becomes an artifact where it is longer.
func (e *Engine) keep(ctx context.Context, text string, c act.Captured) flow.Output {
	o := flow.Output{Size: c.Size, Cut: c.Size > int64(len(c.Kept))}
	if len(text) <= 2*shown {
		o.Head = text
		return o
	}
	o.Head, o.Tail = clean(text[:shown]), clean(text[len(text)-shown:])
	id := store.NewID("o")
	var z bytes.Buffer
	w := gzip.NewWriter(&z)
	w.Write([]byte(text)) //nolint:errcheck // a buffer takes everything
	w.Close()             //nolint:errcheck // see above
	if err := e.Store.DB.WithContext(context.WithoutCancel(ctx)).Create(&store.Artifact{ID: id, Size: int64(len(text)), Body: z.Bytes(), At: e.now()}).Error; err != nil {
		e.Log.Warn("keep an output", "error", err)
		return o
	}
	o.Artifact = id
	return o
}

// clean drops half characters at the ends of a cut.
func clean(s string) string { return string(bytes.ToValidUTF8([]byte(s), nil)) }
