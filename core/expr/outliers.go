package expr

import (
	"fmt"
	"maps"
	"math"
	"slices"
)

// outlierLimit is the modified z-score above which a value stands apart, and 0.6745 the 0.75 quantile of
// the standard normal distribution: B. Iglewicz and D. C. Hoaglin, How to Detect and Handle Outliers, ASQC 1993.
const (
	outlierLimit = 3.5
	normal75     = 0.6745
	// meanToSigma brings a mean absolute deviation to a standard deviation: sqrt(pi/2).
	meanToSigma = 1.2533
)

// outliers names the targets whose values stand apart from those of the others.
func (s *Series) outliers() ([]string, error) {
	ts, err := s.list()
	if err != nil {
		return nil, err
	}
	if len(ts) < 3 {
		return nil, fmt.Errorf("%w: %d values of %s are too few to tell which stands apart", ErrUnsure, len(ts), s.Name)
	}
	xs := make([]float64, len(ts))
	for i, t := range ts {
		switch v := t.Value.(type) {
		case int64:
			xs[i] = float64(v)
		case float64:
			xs[i] = v
		default:
			return nil, fmt.Errorf("reading %s holds no numbers", s.Name)
		}
	}
	which := apart(xs)
	out := []string{}
	for i := range ts {
		if which[i] {
			out = append(out, ts[i].Target)
		}
	}
	return out, nil
}

// maxOdd bounds how many may stand apart as the odd ones: one of so many values.
const maxOdd = 3

// apart tells which values stand apart from the others: those that are far off. Where none is, and the others are all
// the same, whatever differs from them does, if it is a third of all at most: the score of one among few cannot exceed
// the limit then, however large the value.
func apart(xs []float64) []bool {
	out := farOff(xs)
	if slices.Contains(out, true) {
		return out
	}
	m := median(xs)
	differ := 0
	for i, x := range xs {
		if out[i] = x != m; out[i] {
			differ++
		}
	}
	if differ*maxOdd > len(xs) {
		return make([]bool, len(xs))
	}
	return out
}

// farOff tells which values have a modified z-score above the limit.
func farOff(xs []float64) []bool {
	out := make([]bool, len(xs))
	for i, z := range scores(xs) {
		out[i] = math.Abs(z) > outlierLimit
	}
	return out
}

// scores gives the modified z-score of each value. Where more than half of the values are the same, the
// median deviation is 0 and the mean absolute deviation stands in for it.
func scores(xs []float64) []float64 {
	m := median(xs)
	devs := make([]float64, len(xs))
	sum := 0.0
	for i, x := range xs {
		devs[i] = math.Abs(x - m)
		sum += devs[i]
	}
	out := make([]float64, len(xs))
	mad, mean := median(devs), sum/float64(len(xs))
	for i, x := range xs {
		switch {
		case mad > 0:
			out[i] = normal75 * (x - m) / mad
		case mean > 0:
			out[i] = (x - m) / (meanToSigma * mean)
		}
	}
	return out
}

func median(xs []float64) float64 {
	s := slices.Clone(xs)
	slices.Sort(s)
	n := len(s)
	if n%2 == 1 {
		return s[n/2]
	}
	return (s[n/2-1] + s[n/2]) / 2
}

// Odd is a value that stands apart from those of its siblings.
type Odd struct {
	Target string
	Value  float64
	// Low, Middle and High are those of the others.
	Low, Middle, High float64
}

// OddOnes finds the values that stand apart from the others, by target, as outliers() has it; more than a third of them
// are no odd ones. Of fewer than three values none can be told.
func OddOnes(values map[string]float64) []Odd {
	if len(values) < 3 {
		return nil
	}
	names := slices.Sorted(maps.Keys(values))
	xs := make([]float64, len(names))
	for i, n := range names {
		xs[i] = values[n]
	}
	var out []Odd
	var others []float64
	for i, is := range apart(xs) {
		if is {
			out = append(out, Odd{Target: names[i], Value: xs[i]})
		} else {
			others = append(others, xs[i])
		}
	}
	if len(out)*maxOdd > len(xs) {
		return nil
	}
	for i := range out {
		out[i].Low, out[i].Middle, out[i].High = slices.Min(others), median(others), slices.Max(others)
	}
	return out
}
