package story

import (
	"encoding/json"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"

	"urgentis/core/expr"
	"urgentis/core/plain"
)

const (
	// mostNamed is how many targets are named; more are counted. mostLines bounds the lines below a row, mostText what
	// is shown of one value, in characters.
	mostNamed = 6
	mostLines = 12
	mostText  = 160
)

func count(n int) string { return strconv.Itoa(n) }

// number writes a number with four digits that count.
func number(v float64) string {
	if v == math.Trunc(v) && math.Abs(v) < 1e15 {
		return strconv.FormatFloat(v, 'f', 0, 64)
	}
	if math.Abs(v) >= 1000 {
		return strconv.FormatFloat(v, 'f', 0, 64)
	}
	return strconv.FormatFloat(v, 'g', 4, 64)
}

// asNumber gives the number that a value is.
func asNumber(v any) (float64, bool) {
	switch x := v.(type) {
	case float64:
		return x, !math.IsNaN(x)
	case int64:
		return float64(x), true
	case json.Number:
		f, err := x.Float64()
		return f, err == nil
	}
	return 0, false
}

// say writes a value on one line.
func say(v any) string {
	if f, ok := asNumber(v); ok {
		return number(f)
	}
	if s := cut(plain.Line(expr.Say(v))); s != "" {
		return s
	}
	return "(empty)"
}

// cut keeps as much of a text as is shown.
func cut(s string) string {
	if r := []rune(s); len(r) > mostText {
		return string(r[:mostText-1]) + "…"
	}
	return s
}

// withUnit adds a unit to a number.
func withUnit(s, unit string) string {
	if unit == "" || s == "(empty)" {
		return s
	}
	return s + " " + unit
}

// here is a target's name; what acts on none acts here.
func here(target string) string {
	if target == "" {
		return "the service's host"
	}
	return target
}

// natural orders names as people count: gate-2 before gate-10.
func natural(a, b string) int {
	for a != "" && b != "" {
		da, db := digits(a), digits(b)
		if da > 0 && db > 0 {
			x, y := strings.TrimLeft(a[:da], "0"), strings.TrimLeft(b[:db], "0")
			if len(x) != len(y) {
				return len(x) - len(y)
			}
			if c := strings.Compare(x, y); c != 0 {
				return c
			}
			a, b = a[da:], b[db:]
			continue
		}
		if a[0] != b[0] {
			return int(a[0]) - int(b[0])
		}
		a, b = a[1:], b[1:]
	}
	return len(a) - len(b)
}

func digits(s string) int {
	n := 0
	for n < len(s) && s[n] >= '0' && s[n] <= '9' {
		n++
	}
	return n
}

func sorted[V any](m map[string]V) []string { return slices.SortedFunc(maps.Keys(m), natural) }

// named writes names: what they begin with alike is written once, and many are counted.
func named(list []string) Text {
	if len(list) > mostNamed {
		return text(count(len(list)), " targets")
	}
	common := prefix(list)
	parts := make([]Text, len(list))
	for i, t := range list {
		if i > 0 && len(list) > 2 {
			t = t[len(common):]
		}
		parts[i] = text(Span{Text: here(t), Is: Target})
	}
	return join(", ", parts...)
}

// prefix is what names begin with alike, up to a mark before which it may be left out.
func prefix(list []string) string {
	if len(list) == 0 {
		return ""
	}
	p := list[0]
	for _, t := range list[1:] {
		for !strings.HasPrefix(t, p) {
			p = p[:len(p)-1]
		}
	}
	return p[:strings.LastIndexAny(p, "-._")+1][:max(0, strings.LastIndexAny(p, "-._"))]
}

// numbersOf is how a number went on one target.
type numbersOf struct {
	first, last, low, high float64
	n                      int
}

func (n *numbersOf) add(v float64) {
	if n.n == 0 {
		n.first, n.low, n.high = v, v, v
	}
	n.last, n.low, n.high, n.n = v, min(n.low, v), max(n.high, v), n.n+1
}

// readingOf is what was read under one name, target by target.
type readingOf struct {
	unit, good string
	numbers    map[string]*numbersOf
	texts      map[string]string // the newest
}

// evidence is what looks read, target by target.
type evidence struct {
	readings map[string]*readingOf
	asked    map[string]int // how often each target was
	troubles map[string]string
	order    []string // of readings
}

func (v *evidence) add(target string, readings map[string]expr.Sample, good map[string]string) {
	if v.readings == nil {
		v.readings = map[string]*readingOf{}
	}
	for _, name := range slices.Sorted(maps.Keys(readings)) {
		s := readings[name]
		r := v.readings[name]
		if r == nil {
			r = &readingOf{numbers: map[string]*numbersOf{}, texts: map[string]string{}}
			v.readings[name] = r
			v.order = append(v.order, name)
		}
		r.unit, r.good = s.Unit, good[name]
		if f, ok := asNumber(s.Value); ok {
			n := r.numbers[target]
			if n == nil {
				n = &numbersOf{}
				r.numbers[target] = n
			}
			n.add(f)
			continue
		}
		r.texts[target] = say(s.Value)
	}
}

// ask notes that a target was asked.
func (v *evidence) ask(target string) {
	if v.asked == nil {
		v.asked, v.troubles = map[string]int{}, map[string]string{}
	}
	v.asked[target]++
}

// rounds is how often the target that was asked most often was asked.
func (v *evidence) rounds() int {
	most := 0
	for _, n := range v.asked {
		most = max(most, n)
	}
	return most
}

// worst is the target whose last value is the worst, by which way is better.
func (r *readingOf) worst() string {
	worst := ""
	for _, t := range sorted(r.numbers) {
		if worst == "" || r.isWorse(r.numbers[t].last, r.numbers[worst].last) {
			worst = t
		}
	}
	return worst
}

// isWorse compares by which way is better; where that is not said, more is worse.
func (r *readingOf) isWorse(a, b float64) bool {
	if mark, near := strings.CutPrefix(r.good, "near "); near {
		if m, err := strconv.ParseFloat(mark, 64); err == nil {
			return math.Abs(a-m) > math.Abs(b-m)
		}
	}
	if r.good == "high" {
		return a < b
	}
	return a > b
}

// says writes each reading in a few words: of one round from the lowest to the highest, of several how the worst went.
func (v *evidence) says() []Text {
	several := v.rounds() > 1
	var out []Text
	for _, name := range v.order {
		r := v.readings[name]
		if len(r.numbers) > 0 {
			out = append(out, text(name, " ", value(withUnit(r.went(several), r.unit)), r.share(v)))
		}
		out = append(out, r.saysTexts(name, len(v.asked))...)
	}
	return out
}

// share says of how many targets a number is, where not all have it.
func (r *readingOf) share(v *evidence) string {
	if n := len(r.numbers) + len(r.texts); n < len(v.asked) {
		return " on " + count(len(r.numbers)) + " of " + count(len(v.asked))
	}
	return ""
}

func (r *readingOf) went(several bool) string {
	low, high := math.Inf(1), math.Inf(-1)
	for _, n := range r.numbers {
		low, high = min(low, n.last), max(high, n.last)
	}
	if several {
		n := r.numbers[r.worst()]
		if n.n > 1 && n.first != n.last {
			return number(n.first) + " → " + number(n.last)
		}
	}
	if low == high {
		return number(low)
	}
	return number(low) + "–" + number(high)
}

// saysTexts writes each value with the targets that have it.
func (r *readingOf) saysTexts(name string, of int) []Text {
	by := map[string][]string{}
	for _, t := range sorted(r.texts) {
		by[r.texts[t]] = append(by[r.texts[t]], t)
	}
	values := slices.SortedFunc(maps.Keys(by), func(a, b string) int {
		if d := len(by[b]) - len(by[a]); d != 0 {
			return d
		}
		return strings.Compare(a, b)
	})
	var out []Text
	for i, s := range values {
		if i == 3 {
			out = append(out, text(count(len(values)-i), " other values of ", name))
			break
		}
		on := text(" on ", count(len(by[s])), " of ", count(of))
		if len(values) > 1 && len(by[s]) <= 3 {
			on = text(" on ", named(by[s]))
		} else if of == 1 {
			on = nil
		}
		out = append(out, text(name, " ", value(s), on))
	}
	return out
}

// courses gives how each number went, on the target on which it is worst.
func (v *evidence) courses() []Course {
	var out []Course
	for _, name := range v.order {
		r := v.readings[name]
		if len(r.numbers) == 0 {
			continue
		}
		t := r.worst()
		n := r.numbers[t]
		out = append(out, Course{Reading: name, Unit: r.unit, Target: t, First: n.first, Last: n.last, Low: n.low,
			High: n.high})
	}
	return out
}

// missing writes what could not be read, a line for each reason.
func (v *evidence) missing() []Text {
	by := map[string][]string{}
	for t, why := range v.troubles {
		by[why] = append(by[why], t)
	}
	var out []Text
	for _, why := range slices.Sorted(maps.Keys(by)) {
		slices.SortFunc(by[why], natural)
		out = append(out, text(named(by[why]), ": ", why))
	}
	return out
}

// parsed reads a number of a text.
func parsed(s string) (float64, bool) {
	f, err := strconv.ParseFloat(strings.TrimSpace(s), 64)
	return f, err == nil && !math.IsNaN(f)
}
