package flow

import (
	"regexp"
	"strconv"
	"strings"

	"urgentis/core/runbook"
)

// Place is where in a run something happens: at a step, in a list of steps, in an item, a branch or a call, or in the
// run as a whole, which is its zero value. Places are compared with ==. Nothing but this file takes one apart.
//
// Its text is the step's path in the runbook with marks for what happens more than once: 3.do@2.1 is the first step for
// the third item of the each at 3, 5.choices.collect#1.2 belongs to the second round of the ask at 5,
// 4.branches.left~.1 to a branch that others run beside, and 6/2 is step 2 of what the call at 6 calls; 6/ is that call
// as a whole.
type Place struct{ text string }

// PlaceOf reads the text of a place.
func PlaceOf(text string) Place { return Place{text} }

// String is the text of the place; "" for the run.
func (p Place) String() string { return p.text }

// IsZero reports whether it is the run as a whole.
func (p Place) IsZero() bool { return p.text == "" }

// MarshalText writes the place into a log.
func (p Place) MarshalText() ([]byte, error) { return []byte(p.text), nil }

// UnmarshalText reads it from one.
func (p *Place) UnmarshalText(text []byte) error {
	p.text = string(text)
	return nil
}

// byText orders places by their text.
func byText(a, b Place) int { return strings.Compare(a.text, b.text) }

// List is a list of steps in a step, or of the run or call as a whole: its otherwise, its on_error.
func (p Place) List(name string) Place {
	if p.isWhole() {
		return Place{p.text + name}
	}
	return Place{p.text + "." + name}
}

// Step is the step of a list, of an item, a branch, the run or a call that has a number; the first is 1.
func (p Place) Step(number int) Place { return p.List(strconv.Itoa(number)) }

// Item is an item of an each; the first is 0.
func (p Place) Item(i int) Place { return Place{p.text + ".do@" + strconv.Itoa(i)} }

// Branch is one of the branches that a step runs beside each other.
func (p Place) Branch(name string) Place { return Place{p.text + ".branches." + name + "~"} }

// Round is one round of a list that a step may come to more than once; the first is 0.
func (p Place) Round(list string, round int) Place {
	return Place{p.text + "." + list + "#" + strconv.Itoa(round)}
}

// Call is what a step calls, as a whole; of the run, the run.
func (p Place) Call() Place {
	if p.IsZero() {
		return p
	}
	return Place{p.text + "/"}
}

// Caller is the step whose call the place is in; zero outside of calls.
func (p Place) Caller() Place { return Place{strings.TrimSuffix(p.Whole().text, "/")} }

// Whole is the call that the place is in, or the run.
func (p Place) Whole() Place { return Place{p.text[:strings.LastIndexByte(p.text, '/')+1]} }

// isWhole reports whether it is the run, or a call as a whole.
func (p Place) isWhole() bool { return p.text == "" || strings.HasSuffix(p.text, "/") }

// Outermost is the place as the run's own runbook has it: the step, or the step that calls it, and whether it calls.
func (p Place) Outermost() (step Place, inCall bool) {
	outer, _, inCall := strings.Cut(p.text, "/")
	return Place{outer}, inCall
}

// Static is the place without its marks: outside of calls the path in the text of the runbook.
func (p Place) Static() string {
	if !strings.ContainsAny(p.text, "@~#") {
		return p.text
	}
	var out strings.Builder
	marked := false
	for _, c := range p.text {
		switch c {
		case '@', '~', '#':
			marked = true
		case '.', '/':
			marked = false
		}
		if !marked {
			out.WriteRune(c)
		}
	}
	return out.String()
}

// Paths are the paths in the texts of the runbooks: of each call on the way, and of the place in the innermost.
func (p Place) Paths() []string { return strings.Split(p.Static(), "/") }

// own is the part of the place in the innermost call.
func (p Place) own() Place { return Place{p.text[len(p.Whole().text):]} }

// Find gives the step at a place, and the book it is in; nil for places that are no step.
func Find(book *runbook.Book, p Place) (*runbook.Step, *runbook.Book) {
	if caller := p.Caller(); !caller.IsZero() {
		s, outer := Find(book, caller)
		if s == nil {
			return nil, nil
		}
		if book = outer.Callee(s.Callee); book == nil {
			return nil, nil
		}
	}
	return book.Step(p.own().Static()), book
}

// Frame is the innermost item or branch around a place that runs beside others; else the call, or the run.
func (p Place) Frame() Place {
	whole := p.Whole()
	segs := strings.Split(p.own().text, ".")
	for i := len(segs) - 1; i >= 0; i-- {
		if strings.ContainsAny(segs[i], "@~") {
			return Place{whole.text + strings.Join(segs[:i+1], ".")}
		}
	}
	return whole
}

// inItem reports whether it lies in an item of an each.
func (p Place) inItem() bool { return strings.Contains(p.text, "@") }

var itemMark = regexp.MustCompile(`@[0-9]+`)

// ofAnyItem is the text of the place, the same for all items of an each.
func (p Place) ofAnyItem() string {
	if !p.inItem() {
		return p.text
	}
	return itemMark.ReplaceAllString(p.text, "@")
}

// isItem reports whether it is an item of an each, as a whole.
func (p Place) isItem() bool {
	own := p.own().text
	return strings.Contains(own[strings.LastIndexByte(own, '.')+1:], "@")
}

// ItemOf gives the each and the number of the item, where a frame is that of an item.
func (p Place) ItemOf() (each Place, i int, is bool) {
	at := strings.LastIndex(p.text, ".do@")
	if at < 0 {
		return Place{}, 0, false
	}
	number, _, _ := strings.Cut(p.text[at+len(".do@"):], ".")
	n, err := strconv.Atoi(number)
	if err != nil {
		return Place{}, 0, false
	}
	return Place{p.text[:at]}, n, true
}

// Sees reports whether what happened at another place can be seen from here: not where they run beside each other.
func (p Place) Sees(q Place) bool {
	if p.Whole() != q.Whole() {
		return false
	}
	a, b := strings.Split(p.text, "."), strings.Split(q.text, ".")
	for i := range min(len(a), len(b)) {
		if a[i] == b[i] {
			continue
		}
		beside := strings.Contains(a[i], "@") && strings.Contains(b[i], "@") ||
			strings.HasSuffix(a[i], "~") && strings.HasSuffix(b[i], "~")
		return !beside
	}
	return true
}

// In reports whether a place is a block, or lies in it: in a step, a list, an item, a branch, a call. Everything is in
// the run.
func (p Place) In(block Place) bool {
	rest, ok := strings.CutPrefix(p.text, block.text)
	return ok && (rest == "" || block.isWhole() || rest[0] == '.' || rest[0] == '/')
}

// asCaller is a place that lies in a call of what another is in, as the step that calls it; any other is itself.
func (p Place) asCaller(from Place) Place {
	whole := from.Whole()
	if rest, is := strings.CutPrefix(p.text, whole.text); is {
		if call, _, in := strings.Cut(rest, "/"); in {
			return Place{whole.text + call}
		}
	}
	return p
}

// Seen gives the place of a step of the same book as it is seen from here: marks are taken over as far as the paths are
// the same.
func (p Place) Seen(s *runbook.Step) Place {
	have, want := strings.Split(p.own().text, "."), strings.Split(s.Path, ".")
	for i := range min(len(have), len(want)) {
		if (Place{have[i]}).Static() != want[i] {
			break
		}
		want[i] = have[i]
	}
	return Place{p.Whole().text + strings.Join(want, ".")}
}

// inChoice gives the place of a step that stands in a choice of the ask at this place, as that round comes to it.
func (p Place) inChoice(ask, s *runbook.Step, choice string, round int) (Place, bool) {
	rest, own := strings.CutPrefix(s.Path, Place{ask.Path}.List("choices").List(choice).text+".")
	return p.Round("choices."+choice, round).List(rest), own
}

// Depth is in how many other steps the place stands.
func (p Place) Depth() int {
	steps := 0
	for _, seg := range strings.FieldsFunc(p.text, func(r rune) bool { return r == '.' || r == '/' }) {
		if seg[0] >= '0' && seg[0] <= '9' {
			steps++
		}
	}
	return max(0, steps-1)
}

// Around names the list that a place stands in, by the text of the runbook: "4.otherwise", "" for the steps themselves.
func (p Place) Around() string {
	path := p.own().Static()
	return path[:max(0, strings.LastIndexByte(path, '.'))]
}

var inAddress = strings.NewReplacer("/", "_", "@", "-", "#", "--")

// Named writes the place so that it can stand in an address.
func (p Place) Named() string { return inAddress.Replace(p.text) }
