package story

import (
	"maps"
	"regexp"
	"slices"
	"strings"
	"time"

	"urgentis/core/expr"
	"urgentis/core/incident"
	"urgentis/core/plain"
)

// lookPart is a look: all targets, rounds and items of one step.
type lookPart struct {
	evidence
	step    string
	printed string // by the first target, where nothing is read
}

func newLook() part { return &lookPart{} }

func (p *lookPart) add(e *entry) {
	p.step = e.title()
	switch c := e.content.(type) {
	case incident.AttemptContent:
		p.take(e.Kind, c)
		if len(c.Readings) == 0 && p.printed == "" {
			p.printed = head(c)
		}
	case incident.StepContent:
		p.ask(c.Target)
		p.troubles[c.Target] = "interrupted: " + c.Because
	}
}

// take notes what a look read, or why it did not.
func (v *evidence) take(kind incident.Kind, c incident.AttemptContent) {
	v.ask(c.Target)
	v.add(c.Target, c.Readings, c.Good)
	delete(v.troubles, c.Target)
	if kind == incident.LookIncomplete {
		v.troubles[c.Target] = whyMissing(c)
	}
}

// whyMissing is why a look is not complete.
func whyMissing(c incident.AttemptContent) string {
	var out []string
	if c.State != "ok" {
		out = append(out, ended(c))
	}
	by := map[string][]string{}
	for name, why := range c.Missing {
		by[why] = append(by[why], name)
	}
	for _, why := range slices.Sorted(maps.Keys(by)) {
		slices.Sort(by[why])
		out = append(out, strings.Join(by[why], ", ")+" missing: "+why)
	}
	return strings.Join(out, "; ")
}

// ended is how an attempt ended that did not end well.
func ended(c incident.AttemptContent) string {
	var out []string
	if c.Exit != nil && *c.Exit >= 100 {
		out = append(out, "status "+count(*c.Exit))
	} else if c.Exit != nil {
		out = append(out, "exit "+count(*c.Exit))
	}
	if c.Error != "" {
		out = append(out, cut(plain.Line(c.Error)))
	}
	if c.Exit != nil && *c.Exit != 0 && c.Stderr.Head != "" {
		out = append(out, firstLine(c.Stderr.Head))
	}
	if len(out) == 0 {
		return c.State
	}
	return strings.Join(out, ", ")
}

func firstLine(s string) string {
	s, _, _ = strings.Cut(strings.TrimSpace(s), "\n")
	return cut(plain.Line(s))
}

// head is the first line of what was printed.
func head(c incident.AttemptContent) string { return firstLine(c.Output.Head) }

func (p *lookPart) draw(r *Row) {
	r.Lane, r.State, r.Weight, r.Word, r.Title = Evidence, Good, Tell, "look", p.step
	r.Targets, r.Rounds, r.Courses = sorted(p.asked), p.rounds(), p.courses()
	list := p.says()
	r.Says = join(", ", list...)
	if len(list) == 0 && p.printed != "" {
		r.Says = text("printed ", code(p.printed))
	}
	if r.Rounds > 1 {
		r.Says = join(", ", r.Says, r.rounds())
	}
	if r.Below = bounded(p.missing()); len(r.Below) > 0 {
		r.State = Unsure
	}
}

// rounds says how often it was looked, and over what time.
func (r *Row) rounds() Text {
	t := text(count(r.Rounds), " rounds")
	if d := r.Until.Sub(r.At); d >= time.Second {
		t = text(t, " in ", plain.Lasted(d))
	}
	return t
}

// bounded keeps as many lines as are shown, and counts the others.
func bounded(lines []Text) []Text {
	if more := len(lines) - mostLines; more > 0 {
		return append(lines[:mostLines:mostLines], text("and ", count(more), " more"))
	}
	return lines
}

// checkPart is a check, with the samples that it takes itself; or a wait for a condition.
type checkPart struct {
	evidence
	step    string
	verb    string
	proves  bool
	results map[string]judged // by item
	order   []string
}

type judged struct {
	kind incident.Kind
	c    incident.JudgedContent
}

func newCheck() part { return &checkPart{results: map[string]judged{}} }

func (p *checkPart) add(e *entry) {
	p.step, p.verb = e.title(), e.of.Verb
	switch c := e.content.(type) {
	case incident.AttemptContent:
		p.take(e.Kind, c)
	case incident.StepContent:
		p.ask(c.Target)
		p.troubles[c.Target] = "interrupted: " + c.Because
	case incident.JudgedContent:
		p.proves = c.Proves != ""
		if _, known := p.results[e.Step]; !known {
			p.order = append(p.order, e.Step)
		}
		p.results[e.Step] = judged{e.Kind, c}
	}
}

var checkWords = map[incident.Kind]struct {
	word  string
	state State
}{
	incident.CheckPasses: {"passes", Good}, incident.CheckFails: {"fails", Bad}, incident.CheckUnsure: {"unsure",
		Unsure},
}

func (p *checkPart) draw(r *Row) {
	r.Lane, r.Weight, r.Title = Decision, Tell, p.step
	if p.proves {
		r.Lane = Proof
	}
	r.Targets, r.Rounds, r.Courses = sorted(p.asked), p.rounds(), p.courses()
	if len(p.order) == 0 {
		r.State, r.Word = Going, "checks"
		r.Says = join(", ", p.says()...)
		r.Below = bounded(p.missing())
		return
	}
	r.State = Over
	same := map[string]int{}
	for _, at := range p.order {
		w := checkWords[p.results[at].kind]
		r.State = worse(r.State, w.state)
		same[w.word]++
	}
	for _, w := range []string{"fails", "unsure", "passes"} {
		if same[w] > 0 {
			r.Word = w
			break
		}
	}
	// A condition that does not hold is an answer. It is bad where it was to prove something.
	if r.State == Bad && !p.proves {
		r.State = Over
	}
	r.Says = p.condition(p.order)
	if n := len(p.order); n > 1 {
		r.Says = join(", ", r.Says, text(count(same["passes"]), " of ", count(n), " pass"))
	} else if n := len(p.asked); n > 1 && p.results[p.order[0]].c.Expression != "" {
		r.Says = join(", ", r.Says, text(count(n), " of ", count(n)))
	}
	if r.Rounds > 1 {
		r.Says = join(", ", r.Says, r.rounds())
	}
	r.Below = bounded(append(p.failing(len(p.order) > 1), p.missing()...))
	p.limits(r)
}

// failing writes what did not hold, or could not be said, item by item.
func (p *checkPart) failing(several bool) []Text {
	var out []Text
	for _, at := range p.order {
		j := p.results[at]
		if j.kind == incident.CheckPasses {
			continue
		}
		if j.c.Unsure != "" {
			out = append(out, text("unsure: ", j.c.Unsure))
		}
		if several {
			out = append(out, text(p.condition([]string{at})))
		}
		for _, d := range j.c.Differences {
			out = append(out, text(strings.TrimSpace(d.Target+" "+d.At), " ", d.Says))
		}
	}
	return out
}

// condition writes the expression with the values that decided it; of several items from the lowest to the highest.
func (p *checkPart) condition(at []string) Text {
	c := p.results[at[0]].c
	if c.Expression == "" {
		return join(", ", p.says()...)
	}
	values := map[string]string{}
	for _, v := range c.Values {
		values[v.Part] = p.valueOf(v, at)
	}
	return filled(c.Expression, values)
}

// valueOf is a part's value; where the check took several rounds how it went, where it has several items from to.
func (p *checkPart) valueOf(v expr.Value, at []string) string {
	low, high, numbers := 0.0, 0.0, true
	for i, place := range at {
		for _, x := range p.results[place].c.Values {
			if x.Part != v.Part {
				continue
			}
			f, ok := parsed(x.Text)
			numbers = numbers && ok
			if i == 0 || f < low {
				low = f
			}
			if i == 0 || f > high {
				high = f
			}
		}
	}
	if !numbers {
		return cut(plain.Line(v.Text))
	}
	if low != high {
		return number(low) + "–" + number(high)
	}
	if first, ok := p.firstOf(v.Part); ok && first != low {
		return number(first) + " → " + number(low)
	}
	return number(low)
}

var ofReading = regexp.MustCompile(`^(max|min|sum|own|first)\(readings\.([a-z0-9_]+)\)$`)

// firstOf is what a function of a reading came to in the first round that the check took itself.
func (p *checkPart) firstOf(part string) (float64, bool) {
	m := ofReading.FindStringSubmatch(part)
	if m == nil || p.readings[m[2]] == nil || p.rounds() < 2 {
		return 0, false
	}
	out, any := 0.0, false
	for _, t := range sorted(p.readings[m[2]].numbers) {
		v := p.readings[m[2]].numbers[t].first
		switch {
		case !any:
			out = v
		case m[1] == "max":
			out = max(out, v)
		case m[1] == "min":
			out = min(out, v)
		case m[1] == "sum":
			out += v
		}
		any = true
	}
	return out, any
}

// filled writes an expression with the values of its parts behind them, and without the words that all of them have.
func filled(expression string, values map[string]string) Text {
	parts := slices.SortedFunc(maps.Keys(values), func(a, b string) int { return len(b) - len(a) })
	var out Text
	for rest := expression; rest != ""; {
		i := slices.IndexFunc(parts, func(p string) bool { return strings.HasPrefix(rest, p) })
		if i >= 0 {
			out = text(out, short(parts[i]), " ", value(values[parts[i]]))
			rest = rest[len(parts[i]):]
			continue
		}
		// A word is passed over whole, so that a part is not found in the middle of one.
		n := wordLen(rest)
		out = text(out, short(rest[:n]))
		rest = rest[n:]
	}
	return out
}

var word = regexp.MustCompile(`^([A-Za-z0-9_.]+|.)`)

func wordLen(s string) int { return max(1, len(word.FindString(s))) }

var known = strings.NewReplacer("readings.", "", "inputs.", "", "alert.labels.", "", "alert.", "")

// short leaves out where a value comes from, which its name tells.
func short(s string) string { return plain.Line(known.Replace(s)) }

var comparison = regexp.MustCompile(`^([^&|<>=!]+?)\s*(<=|>=|<|>)\s*([^&|<>=!]+)$`)

// limits gives the courses of a condition the limit that they were held against.
func (p *checkPart) limits(r *Row) {
	c := p.results[p.order[len(p.order)-1]].c
	m := comparison.FindStringSubmatch(c.Expression)
	if m == nil {
		return
	}
	limit, ok := parsed(strings.TrimSpace(m[3]))
	for _, v := range c.Values {
		if v.Part == strings.TrimSpace(m[3]) {
			limit, ok = parsed(v.Text)
		}
	}
	of := ofReading.FindStringSubmatch(strings.TrimSpace(m[1]))
	if !ok || of == nil {
		return
	}
	for i := range r.Courses {
		if r.Courses[i].Reading == of[2] {
			r.Courses[i].Limit = &limit
		}
	}
}
