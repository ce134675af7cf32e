package flow

import (
	"context"
	"errors"
	"fmt"
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
	// Cut says that more was printed than Text gives: what speaks of the whole is missing then.
	Cut bool
}

// errSealed is all that is said of why a sealed reading could not be taken: more could quote it.
var errSealed = errors.New("it could not be taken; as its value is sealed, nothing more is said")

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
		if sealed(look) && len(out.Differences) > 0 {
			out.Differences = []reading.Difference{{Says: errSealed.Error()}}
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
			out.Readings = map[string]expr.Sample{}
		}
		out.Readings[spec.Name] = expr.Sample{Value: v, Unit: spec.Unit, Target: target, At: t.At}
	}
}

func (t Taker) take(spec reading.Spec, exit *int) (any, error) {
	if t.Cut && !spec.Exit && spec.Pattern == nil {
		return nil, fmt.Errorf("%s: more was printed than is kept, so that this speaks of a part alone", spec.Name)
	}
	evaluate := func(ctx context.Context, q *reading.Query, output []byte) (any, error) {
		if t.Evaluate == nil {
			return q.Run(ctx, output)
		}
		return t.Evaluate(q, output)
	}
	v, err := reading.TakeWith(context.Background(), evaluate, spec, []byte(t.Text(spec)), exit)
	if spec.Sealed && err != nil {
		return nil, errSealed
	}
	if spec.Sealed && t.Seal != nil {
		if v, err = t.Seal(v); err != nil {
			return nil, errSealed
		}
	}
	return v, err
}

// sealed reports whether a look takes a reading that is kept out of every record.
func sealed(look *runbook.Step) bool {
	return slices.ContainsFunc(look.Read, func(s reading.Spec) bool { return s.Sealed })
}

// SealedWhole reports whether every sealed reading of a look is in its outcome: only then nothing of it stands in the
// clear in what was printed once the marks are put there.
func (o *Outcome) SealedWhole(look *runbook.Step) bool {
	for _, s := range look.Read {
		if _, taken := o.Readings[s.Name]; s.Sealed && !taken {
			return false
		}
	}
	return true
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
