package flow

import (
	"fmt"
)

// Bounds of one run, so that it cannot take all memory or the whole log for itself. MaxSteps holds unless its runbook
// says limits.steps.
const (
	MaxSteps    = 10_000
	MaxEvents   = 100_000
	MaxReadings = 64 << 20 // bytes of all readings
)

// mayBegin refuses a step beyond the bound of the run. What a run does at its end is not counted.
func (w *walker) mayBegin(place Place) result {
	if w.s.ending != nil {
		return goOn
	}
	most := w.s.book.Limits.Steps
	if most == 0 {
		most = MaxSteps
	}
	if w.s.begun < most {
		return goOn
	}
	return w.fail(
		place,
		Troubled{
			Final: true,
			Because: fmt.Sprintf(
				"The run has begun %d steps, and may begin no more; limits.steps can say another number.",
				most,
			),
		},
	)
}

// outgrown ends a run whose log or readings have become too large.
func (w *walker) outgrown(f *frame) bool {
	because := ""
	switch {
	case w.s.undoes(): // that is brought to its end first
	case w.s.Last >= MaxEvents:
		because = fmt.Sprintf("The log of the run has %d events, and may have no more.", MaxEvents)
	case w.s.taken > MaxReadings:
		because = fmt.Sprintf("The run has taken %d MiB of readings, and may take no more.", MaxReadings>>20)
	}
	if because == "" {
		return false
	}
	w.end(f, Ended{State: HandedOver, To: f.book.OnCall(), Because: because}, Place{})
	return true
}

// weight is about how many bytes a reading takes.
func weight(v any) int {
	n := 16
	switch x := v.(type) {
	case string:
		n += len(x)
	case []any:
		for _, e := range x {
			n += weight(e)
		}
	case map[string]any:
		for k, e := range x {
			n += len(k) + weight(e)
		}
	}
	return n
}
