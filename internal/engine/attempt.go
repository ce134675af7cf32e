package engine

import (
	"bytes"
	"compress/gzip"
	"context"
	"time"

	"urgentis/core/expr"
	"urgentis/core/flow"
	"urgentis/core/reading"
	"urgentis/core/runbook"
	"urgentis/internal/act"
	"urgentis/internal/secret"
	"urgentis/internal/store"
)

// attempt does one intent and makes its outcome.
func (e *Engine) attempt(run *store.Run, book *runbook.Book, path string, in flow.Intent) flow.Event {
	ctx := e.ctx
	if in.Change {
		ctx = e.changes
	}
	began := e.Clock()
	res, values := e.do(ctx, run, path, in)
	out := flow.Outcome{Attempt: in.Attempt, State: res.State, Exit: res.Exit, Error: secret.Mask(res.Error, values...), Took: e.Clock().Sub(began)}
	text := secret.Mask(res.Stdout.Text(), values...)
	out.Output = e.keep(ctx, text, res.Stdout)
	out.Stderr = e.keep(ctx, secret.Mask(res.Stderr.Text(), values...), res.Stderr)
	if look := book.Step(in.Look); look != nil && res.State == flow.OK {
		takeReadings(&out, look, in.Target, text, e.now())
	}
	return flow.Event{At: e.now(), Path: path, Body: out}
}

func (e *Engine) do(ctx context.Context, run *store.Run, path string, in flow.Intent) (act.Result, []string) {
	req := in.Request
	if !in.Change && req.Target.Name != "" {
		facts, err := store.Facts(e.Store.DB.WithContext(ctx), []string{req.Target.Name})
		if err != nil || len(facts) == 0 {
			return act.Failed("the target is no longer known"), nil
		}
		req.Target = facts[0]
	}
	hand := e.Hands[req.Kind]
	if hand == nil {
		return act.Failed("there is no way to do " + req.Kind + " here"), nil
	}
	if in.Change {
		// The last look before the request leaves us: are we still the one who may, and is nothing halted?
		halted, by, err := store.Halted(e.Store.DB.WithContext(ctx))
		switch {
		case err != nil:
			return act.Failed("the halt switch could not be read; nothing was begun"), nil
		case halted:
			return act.Failed("all changes are halted by " + by + "; nothing was begun"), nil
		case !e.leased():
			return act.Failed("this instance may count as dead; nothing was begun"), nil
		}
	}
	job := act.Job{Request: req, Attempt: in.Attempt}
	values := e.Secrets.Values(ctx, req.Target)
	o := Output{Run: run.ID, Attempt: in.Attempt, Path: path, Target: in.Target}
	if run.Incident != nil {
		o.Incident = *run.Incident
	}
	job.Live = func(piece string) {
		c := o
		c.Text = secret.Mask(piece, values...)
		e.Live(c)
	}
	return hand.Do(ctx, job), values
}

func takeReadings(out *flow.Outcome, look *runbook.Step, target, text string, at time.Time) {
	for _, spec := range look.Read {
		v, err := reading.Take(spec, []byte(text))
		if err != nil {
			if out.Missing == nil {
				out.Missing = map[string]string{}
			}
			out.Missing[spec.Name] = err.Error()
			continue
		}
		if out.Readings == nil {
			out.Readings = map[string]expr.Taking{}
		}
		out.Readings[spec.Name] = expr.Taking{Value: v, Unit: spec.Unit, Target: target, At: at}
	}
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
