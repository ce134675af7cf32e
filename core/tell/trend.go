package tell

import (
	"math"
	"slices"
	"time"

	"urgentis/core/expr"
	"urgentis/core/reading"
)

// Slope is how values moved lately.
type Slope struct {
	// PerMinute is by how much they rise a minute, Over within which time that was seen.
	PerMinute float64
	Over      time.Duration
	// Steady says that they moved by less than what they scatter, or hardly at all.
	Steady bool
}

const (
	// slopeOver is how far back it is looked for where something is going.
	slopeOver = 10 * time.Minute
	// slopeSamples is of how many samples a slope is made at the least, and mostSamples at the most.
	slopeSamples, mostSamples = 4, 200
	// steadyShare is how much of a value it must move by not to be steady, and steadyScatter how many times its
	// scatter.
	steadyShare, steadyScatter = 0.02, 3
)

// SlopeOf is the slope of a target's points, the oldest first, over the ten minutes before the newest, or since a time
// where that is later; nil where there are fewer than four. It is the median of the slopes of all pairs (Theil 1950,
// Sen 1968), so that a single wild value does not turn it.
func SlopeOf(points []Point, since time.Time) *Slope {
	if len(points) == 0 {
		return nil
	}
	last := points[len(points)-1].At
	if from := last.Add(-slopeOver); since.Before(from) {
		since = from
	}
	points = slices.DeleteFunc(slices.Clone(points), func(p Point) bool { return p.At.Before(since) })
	points = points[max(0, len(points)-mostSamples):]
	if len(points) < slopeSamples {
		return nil
	}
	var slopes, values []float64
	for i, p := range points {
		values = append(values, p.Value)
		for _, q := range points[i+1:] {
			if minutes := q.At.Sub(p.At).Minutes(); minutes > 0 {
				slopes = append(slopes, (q.Value-p.Value)/minutes)
			}
		}
	}
	if len(slopes) == 0 {
		return nil
	}
	s := &Slope{PerMinute: median(slopes), Over: last.Sub(points[0].At)}
	moved := math.Abs(s.PerMinute * s.Over.Minutes())
	middle := median(values)
	var rest, scatter []float64
	for _, p := range points {
		rest = append(rest, p.Value-s.PerMinute*p.At.Sub(points[0].At).Minutes())
	}
	for _, r := range rest {
		scatter = append(scatter, math.Abs(r-median(rest)))
	}
	s.Steady = moved < steadyShare*math.Abs(middle) || moved <= steadyScatter*median(scatter)
	return s
}

func median(list []float64) float64 {
	list = slices.Clone(list)
	slices.Sort(list)
	n := len(list)
	if n%2 == 1 {
		return list[n/2]
	}
	return (list[n/2-1] + list[n/2]) / 2
}

// Says tells it with its unit, as in "+0.8 s a minute"; "steady" where it is.
func (s *Slope) Says(unit string) string {
	if s.Steady {
		return Stays
	}
	by, per := s.PerMinute, "a minute"
	if math.Abs(by) < 0.1 {
		by, per = by*60, "an hour"
	}
	out := signed(by)
	if unit != "" {
		out += " " + unit
	}
	return out + " " + per
}

// The words of where something is going.
const (
	Worsens  = "getting worse"
	Improves = "getting better"
	Stays    = "steady"
	Rises    = "rising"
	Falls    = "falling"
)

// Is tells whether it gets better or worse, where something says which way is better; else whether it rises. at is
// where it is now: nearer to what is wanted is better.
func (s *Slope) Is(good reading.Good, wanted *expr.Limit, at float64) string {
	up := s.PerMinute > 0
	switch {
	case s.Steady:
		return Stays
	case good == reading.Near && wanted != nil:
		up = up == (at >= wanted.Value)
	case good == reading.High:
		up = !up
	case good != reading.Low:
		if up {
			return Rises
		}
		return Falls
	}
	if up {
		return Worsens
	}
	return Improves
}

// signed is a number of three figures with its sign.
func signed(v float64) string {
	if digits := 2 - int(math.Floor(math.Log10(math.Abs(v)))); v != 0 {
		scale := math.Pow(10, float64(digits))
		v = math.Round(v*scale) / scale
	}
	if v > 0 {
		return "+" + expr.Say(v)
	}
	return expr.Say(v)
}
