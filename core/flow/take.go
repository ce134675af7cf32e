package flow

import (
	"context"
	"maps"
	"slices"
	"time"

	"urgentis/core/expr"
	"urgentis/core/reading"
	"urgentis/core/runbook"
)

// Evaluate evaluates a jq expression over output. nil does it at once, with no bound on what it takes.
type Evaluate func(q *reading.Query, output []byte) (any, error)

// Taker takes readings out of what was printed.
type Taker struct {
	At time.Time
	// Text is the output as one reading may see it.
	Text     func(reading.Spec) string
	Evaluate Evaluate
	// Seal hides the value of a sealed reading; nil leaves it as it is.
	Seal func(v any) (any, error)
}

// TakeReadings takes the readings of a look on a target into its outcome. What the output does not hold, or what does
// not fit the look's schema, is missing there, with why.
func TakeReadings(out *Outcome, look *runbook.Step, target string, t Taker) {
	unfit := ""
	if look.Fits != nil {
		v, err := reading.ParseJSON([]byte(t.Text(reading.Spec{})))
		if err == nil {
			out.Differences = look.Fits.Differences(v)
		} else {
			out.Differences = []reading.Difference{{At: "/", Says: err.Error()}}
		}
		for i, d := range out.Differences {
			out.Differences[i] = reading.Difference{Target: d.Target, At: reading.Why(d.At), Says: reading.Why(d.Says)}
		}
		if len(out.Differences) > 0 {
			unfit = "the output does not fit: " + out.Differences[0].At + " " + out.Differences[0].Says
		}
	}
	for _, spec := range look.Read {
		if unfit != "" {
			out.miss(spec.Name, unfit)
			continue
		}
		v, err := t.take(spec, out.Exit)
		if err != nil {
			out.miss(spec.Name, err.Error())
			continue
		}
		if out.Readings == nil {
			out.Readings = map[string]expr.Taking{}
		}
		out.Readings[spec.Name] = expr.Taking{Value: v, Unit: spec.Unit, Target: target, At: t.At}
	}
}

func (t Taker) take(spec reading.Spec, exit *int) (any, error) {
	evaluate := func(ctx context.Context, q *reading.Query, output []byte) (any, error) {
		if t.Evaluate == nil {
			return q.Run(ctx, output)
		}
		return t.Evaluate(q, output)
	}
	v, err := reading.TakeWith(context.Background(), evaluate, spec, []byte(t.Text(spec)), exit)
	if err == nil && spec.Sealed && t.Seal != nil {
		v, err = t.Seal(v)
	}
	return v, err
}

// NotHad says of each reading that could not be had why, by name.
func (o *Outcome) NotHad() (says []string) {
	for _, name := range slices.Sorted(maps.Keys(o.Missing)) {
		says = append(says, name+" is missing: "+o.Missing[name])
	}
	return says
}

func (o *Outcome) miss(name, why string) {
	if o.Missing == nil {
		o.Missing = map[string]string{}
	}
	o.Missing[name] = reading.Why(why)
}
