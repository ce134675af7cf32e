// Package objective is what a service is measured against: a share of good time, or of good events, within a window;
// how much of the budget of what is bad is left; and how fast it is being spent.
package objective

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"urgentis/core/alert"
	"urgentis/core/expr"
	"urgentis/core/plain"
)

// Step is how finely it is measured.
const Step = time.Minute

// Bounds of an objective.
const (
	MinWindow   = time.Hour
	MaxWindow   = 400 * 24 * time.Hour
	MaxBurns    = 6
	MaxReadings = 8
)

// Objective is one objective of a service.
type Objective struct {
	Name, Service, Title string
	// Readings names what is judged.
	Readings []string
	// Holds is true while it is good; nil where events are counted.
	Holds *expr.Program
	// Good and All are readings that count events up: the good ones, and all.
	Good, All string
	// Where are labels of the targets that count; none: every target of the service that gave such a reading.
	Where map[string]string
	// Target is the share that is to be good, between 0 and 1.
	Target float64
	Window Window
	// Fresh is how old a reading may be; an older one is missing.
	Fresh time.Duration
	// MissingIsBad counts time without evidence as bad; else it is neither good nor bad, and told.
	MissingIsBad bool
	Burns        []Burn
}

// Burn is a speed of spending the budget at which an alert is raised: so much of it, in so long.
type Burn struct {
	// Share of the whole budget, between 0 and 1, that is spent in Over.
	Share    float64
	Over     time.Duration
	Severity alert.Severity
}

// shortPart is how much shorter the second window of a burn is: an alert ends soon after the burning does. Both are as
// in "The Site Reliability Workbook" (Beyer and others, 2018), chapter 5, multiwindow, multi-burn-rate alerts.
const shortPart = 12

// Short is the second window in which the budget must burn as fast.
func (b Burn) Short() time.Duration { return max(b.Over/shortPart, Step) }

// DefaultBurns are the burns of an objective that names none.
func DefaultBurns() []Burn {
	return []Burn{
		{0.02, time.Hour, alert.Critical},
		{0.05, 6 * time.Hour, alert.Major},
		{0.10, 3 * 24 * time.Hour, alert.Minor},
	}
}

// Rate is how many times faster than evenly the budget is spent at a burn: spent evenly, it lasts for the window.
func (o *Objective) Rate(b Burn, at time.Time) float64 {
	from, to := o.Window.Around(at)
	return b.Share * float64(to.Sub(from)) / float64(b.Over)
}

// Says is what is asked for, in words.
func (o *Objective) Says() string {
	what := "of the time"
	if o.Holds == nil {
		what = "of all " + o.All
	}
	return fmt.Sprintf("%s %% %s %s", expr.Say(o.Target*100), what, o.Window)
}

// MeasuredAs reports whether another one measures the same, so that what was measured still counts.
func (o *Objective) MeasuredAs(other *Objective) bool {
	source := func(p *expr.Program) string {
		if p == nil {
			return ""
		}
		return p.Source
	}
	return source(o.Holds) == source(other.Holds) && o.Good == other.Good && o.All == other.All &&
		maps.Equal(o.Where, other.Where) && o.Fresh == other.Fresh && o.MissingIsBad == other.MissingIsBad &&
		o.Service == other.Service
}

// Expects reports whether a target with these labels counts.
func (o *Objective) Expects(labels map[string]string) bool {
	for k, v := range o.Where {
		if labels[k] != v {
			return false
		}
	}
	return true
}

// Window is the time over which an objective is held: rolling, or one that follows the calendar.
type Window struct {
	Rolling  time.Duration // 0: by the calendar
	Calendar string        // week, month or quarter
	Zone     *time.Location
}

// Calendars are the windows that follow the calendar.
var Calendars = []string{"week", "month", "quarter"}

func (w Window) String() string {
	if w.Rolling > 0 {
		if days := w.Rolling / (24 * time.Hour); days > 0 && w.Rolling%(24*time.Hour) == 0 {
			return fmt.Sprintf("in %d days", days)
		}
		return "in " + plain.Span(w.Rolling)
	}
	return "in each " + w.Calendar
}

// Around is the window that a moment stands in. A rolling one ends with it.
func (w Window) Around(at time.Time) (from, to time.Time) {
	if w.Rolling > 0 {
		return at.Add(-w.Rolling), at
	}
	l := at.In(w.Zone)
	day := func(y int, m time.Month, d int) time.Time { return time.Date(y, m, d, 0, 0, 0, 0, w.Zone) }
	switch w.Calendar {
	case "week":
		monday := l.Day() - (int(l.Weekday())+6)%7
		return day(l.Year(), l.Month(), monday), day(l.Year(), l.Month(), monday+7)
	case "quarter":
		first := (l.Month()-1)/3*3 + 1
		return day(l.Year(), first, 1), day(l.Year(), first+3, 1)
	}
	return day(l.Year(), l.Month(), 1), day(l.Year(), l.Month()+1, 1)
}

// Sample is a number that was read of a target.
type Sample struct {
	Target string
	At     time.Time
	Value  float64
}

// Measured is what one step of time came to.
type Measured struct {
	At time.Time // its beginning
	// Good and Bad are 1 and 0, or counts of events.
	Good, Bad float64
	// Unknown says why it is not known; "" where it is.
	Unknown string
}

// Measure judges the step of time that ends at a moment. expected are the targets that must have answered; read are the
// samples by reading, in the order of time, those before the step too.
func (o *Objective) Measure(until time.Time, expected []string, read map[string][]Sample) Measured {
	out := Measured{At: until.Add(-Step)}
	if o.Holds == nil {
		o.count(&out, until, read)
	} else {
		o.judge(&out, until, expected, read)
	}
	if out.Unknown != "" && o.MissingIsBad {
		out.Bad = 1
		if o.Holds == nil {
			out.Bad = 0 // how many events there were is not known
		} else {
			out.Unknown = ""
		}
	}
	return out
}

// judge evaluates the condition on what was read last of each target.
func (o *Objective) judge(out *Measured, until time.Time, expected []string, read map[string][]Sample) {
	scope := &expr.Scope{Readings: map[string]*expr.Series{}, Now: until}
	for _, name := range o.Readings {
		r := expr.Round{Seq: 1, Asked: expected, Samples: map[string]expr.Sample{}}
		for _, s := range read[name] {
			if !s.At.After(until) && s.At.After(until.Add(-o.Fresh)) && slices.Contains(expected, s.Target) {
				r.Samples[s.Target] = expr.Sample{Value: s.Value, Target: s.Target, At: s.At}
			}
		}
		scope.Readings[name] = &expr.Series{Name: name, Rounds: []expr.Round{r}}
	}
	holds, err := o.Holds.Bool(scope)
	switch {
	case errors.Is(err, expr.ErrUnsure):
		out.Unknown = strings.TrimPrefix(err.Error(), expr.ErrUnsure.Error()+": ")
	case err != nil:
		out.Unknown = err.Error()
	case holds:
		out.Good = 1
	default:
		out.Bad = 1
	}
}

// count counts the events of the step: by how much each counter went up since it was read before. One that went down
// began anew.
func (o *Objective) count(out *Measured, until time.Time, read map[string][]Sample) {
	good, some := increase(read[o.Good], out.At, until)
	all, any := increase(read[o.All], out.At, until)
	if !some || !any {
		out.Unknown = "nothing was counted"
		return
	}
	out.Good, out.Bad = min(good, all), max(all-good, 0)
}

func increase(list []Sample, from, until time.Time) (sum float64, any bool) {
	last := map[string]float64{}
	for _, s := range list {
		if s.At.After(until) {
			break
		}
		before, known := last[s.Target]
		last[s.Target] = s.Value
		if !known || !s.At.After(from) {
			continue
		}
		if any = true; s.Value < before {
			before = 0
		}
		sum += s.Value - before
	}
	return sum, any
}
