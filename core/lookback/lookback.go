// Package lookback is looks into the past: what an outside store of metrics or of logs has about a service around the
// time at which something began.
package lookback

import (
	"cmp"
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"sort"
	"time"

	"urgentis/core/expr"
	"urgentis/core/incident"
	"urgentis/core/runbook"
)

// Bounds of what is looked at, and of what is kept of it.
const (
	MaxLooks   = 10
	MaxSeries  = 16  // lines that are kept, of all targets and series
	MaxPoints  = 120 // of one line
	MaxShapes  = 40
	MaxBack    = 7 * 24 * time.Hour
	longestRow = 300 // bytes of a line of a log that is kept
)

// LookBack is what is asked, and what of the answers is drawn.
type LookBack struct {
	Name, Service, Title string
	// Before and After are how long before and after the beginning is looked at.
	Before, After time.Duration
	// Looks is a runbook of nothing but its looks, with the inputs from and until.
	Looks *runbook.Book
	Line  int
	// Series are drawn, by name; Lines are the readings whose lines are grouped.
	Series []Series
	Lines  []string
}

// Series is numbers over time, made of a reading.
type Series struct {
	Name string
	// Of is the reading: a list of {at, value, target}, or a text of OpenMetrics where Metric names one there.
	Of, Unit, Good string
	Metric         string
	// Target is the label of the metric by which the lines are told apart; "" takes all labels.
	Target string
}

// Inputs are the inputs of the looks for a time, as texts and in seconds since 1970.
func Inputs(from, until time.Time) map[string]any {
	return map[string]any{
		"from": from.UTC().Format(time.RFC3339), "until": until.UTC().Format(time.RFC3339),
		"from_s": from.Unix(), "until_s": until.Unix(),
	}
}

// Span is from when until when is looked, of what began at a time and is over at another; over zero: it is not.
func (l *LookBack) Span(onset, over, now time.Time) (from, until time.Time) {
	from, until = onset.Add(-l.Before), onset.Add(l.After)
	if !over.IsZero() && over.Add(l.After).Before(now) {
		until = later(until, over)
	}
	if until.After(now) {
		until = now
	}
	return from.UTC().Truncate(time.Second), until.UTC().Truncate(time.Second)
}

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

// Take puts what was read together: readings by their names, and by target.
func (l *LookBack) Take(seen *incident.PastContent, readings map[string]map[string]any) {
	for _, s := range l.Series {
		for _, target := range sorted(readings[s.Of]) {
			lines, err := s.lines(readings[s.Of][target], target, seen.From, seen.Until)
			if err != nil {
				seen.Missing = append(seen.Missing, s.Name+": "+err.Error())
			}
			seen.Series = append(seen.Series, lines...)
		}
	}
	if n := len(seen.Series); n > MaxSeries {
		seen.Series, seen.More = seen.Series[:MaxSeries], seen.More+n-MaxSeries
	}
	g := newGrouper(seen.Onset)
	for _, name := range l.Lines {
		for _, target := range sorted(readings[name]) {
			g.add(expr.Say(readings[name][target]), target)
		}
	}
	var more int
	seen.Shapes, more = g.shapes()
	seen.More += more
}

func sorted[T any](m map[string]T) []string {
	out := make([]string, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	sort.Strings(out)
	return out
}

// lines makes the lines of a series from one answer.
func (s Series) lines(answer any, target string, from, until time.Time) ([]incident.PastLine, error) {
	byTarget := map[string][]incident.PastPoint{}
	add := func(t string, p incident.PastPoint) {
		if t == "" {
			t = target
		}
		if !p.At.Before(from) && !p.At.After(until) && !math.IsNaN(p.Value) && !math.IsInf(p.Value, 0) {
			byTarget[t] = append(byTarget[t], p)
		}
	}
	var err error
	if s.Metric != "" {
		err = samples(expr.Say(answer), s.Metric, s.Target, add)
	} else {
		err = rows(answer, add)
	}
	var out []incident.PastLine
	for _, t := range sorted(byTarget) {
		points := byTarget[t]
		slices.SortStableFunc(points, func(a, b incident.PastPoint) int { return a.At.Compare(b.At) })
		out = append(out, incident.PastLine{Name: s.Name, Unit: s.Unit, Good: s.Good, Target: t, Points: thin(points)})
	}
	if err == nil && len(out) == 0 {
		err = fmt.Errorf("there is nothing of this time")
	}
	return out, err
}

// rows reads a list of {at, value, target}; at is RFC 3339, or seconds since 1970.
func rows(answer any, add func(string, incident.PastPoint)) error {
	list, ok := answer.([]any)
	if !ok {
		return fmt.Errorf("it is no list of {at, value, target}")
	}
	for i, x := range list {
		m, ok := x.(map[string]any)
		if !ok {
			return fmt.Errorf("item %d is no {at, value, target}", i+1)
		}
		at, err := timeOf(m["at"])
		if err != nil {
			return fmt.Errorf("item %d: %w", i+1, err)
		}
		v, ok := number(m["value"])
		if !ok {
			continue // a gap
		}
		t := ""
		if m["target"] != nil {
			t = expr.Say(m["target"])
		}
		add(t, incident.PastPoint{At: at, Value: v})
	}
	return nil
}

func timeOf(v any) (time.Time, error) {
	if n, ok := number(v); ok {
		return seconds(n), nil
	}
	if s, ok := v.(string); ok {
		if t, err := time.Parse(time.RFC3339, s); err == nil {
			return t.UTC(), nil
		}
	}
	return time.Time{}, fmt.Errorf("at is no time (RFC 3339, or seconds since 1970): %s", expr.Say(v))
}

// seconds makes a time of seconds since 1970; thousands of them are milliseconds.
func seconds(n float64) time.Time {
	if n > 1e11 {
		n /= 1000
	}
	return time.UnixMilli(int64(n * 1000)).UTC()
}

func number(v any) (float64, bool) {
	switch n := v.(type) {
	case float64:
		return n, true
	case int64:
		return float64(n), true
	case int:
		return float64(n), true
	case json.Number:
		f, err := n.Float64()
		return f, err == nil
	}
	return 0, false
}

// thin keeps at most MaxPoints points, of each stretch the one that is farthest from the mean of all, so that a peak
// is not lost.
func thin(points []incident.PastPoint) []incident.PastPoint {
	if len(points) <= MaxPoints {
		return points
	}
	mean := 0.0
	for _, p := range points {
		mean += p.Value / float64(len(points))
	}
	out := make([]incident.PastPoint, 0, MaxPoints)
	for i := range MaxPoints {
		part := points[i*len(points)/MaxPoints : (i+1)*len(points)/MaxPoints]
		out = append(out, slices.MaxFunc(part, func(a, b incident.PastPoint) int {
			return cmp.Compare(math.Abs(a.Value-mean), math.Abs(b.Value-mean))
		}))
	}
	return out
}
