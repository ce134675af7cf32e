package objective

import (
	"fmt"
	"time"

	"urgentis/core/alert"
	"urgentis/core/expr"
	"urgentis/core/plain"
)

// Sum is what the steps of time from a moment on came to.
type Sum struct {
	From      time.Time
	Good, Bad float64
	Known     time.Duration // how much of the time is known
}

// BlindAfter is for how long nothing must be known until that is an alert.
const BlindAfter = 15 * time.Minute

// Windows are from when on sums are wanted at a moment: the window's own, that which tells whether anything is known,
// then for each burn the long one and the short one.
func (o *Objective) Windows(at time.Time) []time.Time {
	from, _ := o.Window.Around(at)
	out := []time.Time{from, at.Add(-BlindAfter)}
	for _, b := range o.Burns {
		out = append(out, at.Add(-b.Over), at.Add(-b.Short()))
	}
	return out
}

// Burning is how fast the budget burns now, against a burn.
type Burning struct {
	Burn
	// Limit is the rate of the burn; Long and Short are the rates in its two windows. A rate of 1 spends the budget
	// evenly over the whole window.
	Limit, Long, Short float64
	// On says that it burns that fast in both; Unsure that nothing is known of the short one.
	On, Unsure bool
}

// Budget is how an objective stands.
type Budget struct {
	From, To time.Time // the window
	Good     float64
	Bad      float64
	// Share is what is good of what is known; nil where nothing is.
	Share *float64
	// Left is what is left of the budget: 1 is all, 0 and below nothing.
	Left *float64
	// Unknown is for how long nothing is known since it began to be measured, in the window.
	Unknown time.Duration
	// Blind says that nothing has been known for BlindAfter.
	Blind bool
	Burns []Burning
}

// Spent reports whether nothing of the budget is left.
func (b Budget) Spent() bool { return b.Left != nil && *b.Left <= 0 }

// Stand tells how an objective stands at a moment. began is when it began to be measured, and sums are those of
// Windows.
func (o *Objective) Stand(at, began time.Time, sums []Sum) Budget {
	from, to := o.Window.Around(at)
	whole := sums[0]
	out := Budget{From: from, To: to, Good: whole.Good, Bad: whole.Bad}
	if began.After(from) {
		from = began
	}
	out.Unknown = max(0, at.Sub(from)-whole.Known).Truncate(Step)
	if whole.Good+whole.Bad > 0 {
		share := whole.Good / (whole.Good + whole.Bad)
		out.Share = &share
	}
	if allowed := (1 - o.Target) * o.all(whole, out.To.Sub(out.From)); allowed > 0 {
		left := 1 - whole.Bad/allowed
		out.Left = &left
	}
	out.Blind = sums[1].Known == 0 && at.Sub(began) >= BlindAfter
	for i, b := range o.Burns {
		long, short := sums[2+2*i], sums[3+2*i]
		x := Burning{Burn: b, Limit: o.Rate(b, at), Unsure: short.Known == 0}
		x.Long, x.Short = o.rate(long, at, began), o.rate(short, at, began)
		x.On = x.Long >= x.Limit && x.Short >= x.Limit
		out.Burns = append(out.Burns, x)
	}
	return out
}

// all is of how much the budget is a share: of the whole time, also of that which is to come, or of all events so far.
func (o *Objective) all(s Sum, over time.Duration) float64 {
	if o.Holds != nil {
		return float64(over) / float64(Step)
	}
	return s.Good + s.Bad
}

// rate is how many times faster than evenly the budget burns. Time of which nothing is known since it began to be
// measured is left out; what was before counts as good.
func (o *Objective) rate(s Sum, at, began time.Time) float64 {
	over := at.Sub(s.From)
	measured := over
	if began.After(s.From) {
		measured = at.Sub(began)
	}
	all := o.all(s, over-max(0, measured-s.Known))
	if all <= 0 {
		return 0
	}
	return s.Bad / all / (1 - o.Target)
}

// Alert is an alert about an objective, or its end.
type Alert struct {
	Key, Summary string
	Severity     alert.Severity
	On           bool
	// Unsure says that it is not known: what stands goes on.
	Unsure bool
	// Blind marks the one that says that nothing is known.
	Blind bool
}

// Alerts lists the alerts that an objective may raise, and which of them stand.
func (o *Objective) Alerts(b Budget) []Alert {
	blind := Alert{Key: "objective/" + o.Name + "/blind", Severity: alert.Warning, On: b.Blind, Blind: true,
		Summary: fmt.Sprintf("%s: nothing is known of it for %s", o.Title, plain.Span(BlindAfter))}
	spent := Alert{Key: "objective/" + o.Name + "/spent", Severity: alert.Major, On: b.Spent(),
		Summary: o.Title + ": its error budget is spent"}
	if b.Share != nil {
		spent.Summary = fmt.Sprintf("%s: its error budget is spent, %s %% good, target %s", o.Title,
			percent(*b.Share), o.Says())
	}
	out := []Alert{blind, spent}
	for i := range b.Burns {
		x := &b.Burns[i]
		out = append(
			out,
			Alert{Key: fmt.Sprintf("objective/%s/in-%s", o.Name, plain.Span(x.Over)), Severity: x.Severity,
				On: x.On, Unsure: x.Unsure,
				Summary: fmt.Sprintf(
					"%s: burn rate %s× over the last %s, and as high over the last %s",
					o.Title,
					expr.Say(round(min(x.Long, x.Short))),
					plain.Span(x.Over),
					plain.Span(x.Burn.Short()),
				)},
		)
	}
	return out
}

// percent is a share in words, rounded down, so that 99.999 is not told as 100.
func percent(share float64) string { return expr.Say(float64(int(share*100*1000)) / 1000) }

func round(x float64) float64 { return float64(int(x*10+0.5)) / 10 }

// Point is what an objective came to within a stretch of time, and what was left of its budget at the end of that.
type Point struct {
	At        time.Time
	Good, Bad float64
	Known     time.Duration
	Left      *float64
}

// Course makes the points from a moment on of sums that are one for each stretch, in the order of time. They reach back
// by a whole window.
func (o *Objective) Course(sums []Sum, from time.Time, stretch time.Duration) []Point {
	out := []Point{}
	var whole Sum
	oldest := 0
	for i, s := range sums {
		end := s.From.Add(stretch)
		whole.Good, whole.Bad = whole.Good+s.Good, whole.Bad+s.Bad
		// The end of a stretch may be the beginning of the next window.
		begin, to := o.Window.Around(end.Add(-time.Nanosecond))
		for ; oldest < i && sums[oldest].From.Before(begin); oldest++ {
			whole.Good, whole.Bad = whole.Good-sums[oldest].Good, whole.Bad-sums[oldest].Bad
		}
		if s.From.Before(from) {
			continue
		}
		p := Point{At: s.From, Good: s.Good, Bad: s.Bad, Known: s.Known}
		if allowed := (1 - o.Target) * o.all(whole, to.Sub(begin)); allowed > 0 {
			left := 1 - whole.Bad/allowed
			p.Left = &left
		}
		out = append(out, p)
	}
	return out
}
