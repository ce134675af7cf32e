// Package testbooks writes runbooks for tests that play them.
package testbooks

import (
	"fmt"
	"slices"

	"pgregory.net/rapid"
)

// Author writes runbooks with any verbs in any order, without their head: targets have the role gate, and are g1 to g6.
type Author struct {
	T *rapid.T
	// People are asked: questions do not answer themselves.
	People bool
}

// Book writes one.
func (a Author) Book() string { return (&author{t: a.T, people: a.People}).book() }

type author struct {
	t     *rapid.T
	n     int
	taken []string // readings that every path so far has taken
	outer []string // those of them that are taken outside of every part, each and branch
	deep  int

	people bool
}

func (a *author) pick(label string, list ...string) string {
	return rapid.SampledFrom(list).Draw(a.t, label)
}

func (a *author) steps(indent string, depth int, inEach bool) string {
	out := ""
	for range rapid.IntRange(1, 3).Draw(a.t, "steps") {
		out += a.step(indent, depth, inEach)
	}
	return out
}

func (a *author) where(inEach bool) string {
	if inEach && rapid.Bool().Draw(a.t, "own") {
		return ""
	}
	return a.pick("where", "where: {role: gate}", "where: {role: gate, pick: one}", "where: {name: g2}")
}

// line writes a step: its head, and what follows of it.
func line(indent, head string, rest ...string) string {
	out := indent + "- " + head + "\n"
	for _, r := range rest {
		if r != "" {
			out += indent + "  " + r + "\n"
		}
	}
	return out
}

func (a *author) step(indent string, depth int, inEach bool) string {
	a.n++
	id := fmt.Sprintf("s%d", a.n)
	kinds := []string{"look", "change", "change", "note", "wait", "tell", "sure"}
	if len(a.outer) > 0 && a.deep == 0 {
		kinds = append(kinds, "again")
	}
	if len(a.taken) > 0 {
		kinds = append(kinds, "check", "check")
	}
	if depth > 0 {
		kinds = append(kinds, "each", "together", "ask", "block", "call")
	}
	verb := a.pick("verb", kinds...)
	if verb == "each" || verb == "together" || verb == "ask" {
		a.deep++
		defer func() { a.deep-- }()
	}
	switch verb {
	case "look":
		return a.look(id, indent, depth, inEach)
	case "change":
		return a.change(id, indent, depth, inEach)
	case "sure":
		return a.sure(id, indent, depth, inEach)
	case "again":
		return a.again(id, indent, depth, inEach)
	case "wait":
		return line(indent, "wait: "+id, "for: "+a.pick("for", "10s", "5m"))
	case "tell":
		return line(indent, "tell: "+id, "text: told")
	case "check":
		return a.check(id, indent, depth, inEach)
	case "each":
		return a.each(id, indent, depth, inEach)
	case "together":
		return a.together(id, indent, depth, inEach)
	case "ask":
		return a.ask(id, indent, depth, inEach)
	case "block":
		return a.block(id, indent, depth, inEach)
	case "call":
		return line(indent, "call: part", a.onError())
	}
	return line(indent, "note: "+id, "text: noted")
}

func (a *author) look(id, indent string, _ int, inEach bool) string {
	out := line(
		indent,
		"look: "+id,
		"id: "+id,
		a.where(inEach),
		"run: [look, "+id+"]",
		"read: {"+id+": {json: .n, type: integer}}",
	)
	a.taken = append(a.taken, id)
	if a.deep == 0 {
		a.outer = append(a.outer, id)
	}
	return out
}

func (a *author) change(id, indent string, _ int, inEach bool) string {
	undo, gate, still, fresh := "", "", "", ""
	if rapid.Bool().Draw(a.t, "undo") {
		undo = "undo: {run: [undo-" + id + "]" + a.pick("only if", "", ", only_if: done") + "}"
	}
	if rapid.IntRange(0, 2).Draw(a.t, "gate") == 0 {
		gate = "gate: {ask: team/x, within: 10m" + a.pick(
			"people",
			"",
			", people: 2",
		) + a.pick(
			"comment",
			"",
			", comment: true",
		) + a.without() + "}"
	}
	if len(a.taken) > 0 && rapid.IntRange(0, 2).Draw(a.t, "still") == 0 {
		still = fmt.Sprintf("still: min(readings.%s) %s 3", a.pick("of", a.taken...), a.pick("op", "==", "==", ">"))
		fresh = a.pick("fresh", "", "fresh: 10s")
	}
	out := line(
		indent,
		"change: "+id,
		"id: "+id,
		a.where(inEach),
		"run: [do-"+id+"]",
		undo,
		gate,
		still,
		fresh,
		a.onError(),
	)
	if undo != "" && rapid.IntRange(0, 2).Draw(a.t, "for a while") == 0 {
		out += line(indent, "undo_change: "+id+" is over", "of: "+id, a.onError())
	}
	return out
}

func (a *author) sure(id, indent string, _ int, _ bool) string {
	// The host itself tells whether this change happened.
	where := a.pick("at", "where: {name: g2}", "where: {name: g3}")
	return line(
		indent,
		"look: "+id+"l",
		"id: "+id+"l",
		where,
		"run: [look, "+id+"l, sure-"+id+"]",
		"read: {"+id+"l: {json: .done, type: integer}}",
	) +
		line(
			indent,
			"change: "+id,
			"id: "+id,
			where,
			"run: [sure-"+id+"]",
			"happened: own(readings."+id+"l) > 0",
		)
}

func (a *author) again(id, indent string, _ int, _ bool) string {
	look := a.pick("retake", a.outer...)
	return line(
		indent,
		"check: "+id,
		fmt.Sprintf("that: min(readings.%s) %s 3", look, a.pick("op", ">", "==")),
		"retake: "+look,
		"again: {every: 5s, for: 20s}",
		"fails: "+a.pick("fails", "go on", "undo"),
		"unsure: go on",
	)
}

func (a *author) check(id, indent string, _ int, _ bool) string {
	r := a.pick("reading", a.taken...)
	return line(
		indent,
		"check: "+id,
		fmt.Sprintf("that: min(readings.%s) %s 3", r, a.pick("op", "<", ">", "==")),
		"fails: "+a.pick("fails", "go on", "go on", "undo", "hand_over"),
		"unsure: go on",
		a.onError(),
	)
}

func (a *author) each(id, indent string, depth int, _ bool) string {
	before := slices.Clone(a.taken)
	out := line(
		indent,
		"each: "+id,
		"where: {role: gate}",
		"at_once: "+a.pick("at once", "1", "2", "50%"),
		"tolerate: "+a.pick("tolerate", "0", "2"),
		a.onError(),
		"steps:",
	) + a.steps(
		indent+"    ",
		depth-1,
		true,
	)
	a.taken = before
	return out
}

func (a *author) together(id, indent string, depth int, inEach bool) string {
	before := slices.Clone(a.taken)
	out := line(
		indent,
		"together: "+id,
		a.onError(),
		"branches:",
	) + indent + "    left:\n" + a.steps(
		indent+"      ",
		depth-1,
		inEach,
	)
	a.taken = slices.Clone(before)
	out += indent + "    right:\n" + a.steps(indent+"      ", depth-1, inEach)
	a.taken = before
	return out
}

func (a *author) ask(id, indent string, depth int, inEach bool) string {
	before := slices.Clone(a.taken)
	out := line(
		indent,
		"ask: "+id,
		a.pick("none", "", "unanswered: go on", "none: stop"),
		"choices:",
	) + a.other(indent) + indent + "    yes_do:\n" + a.itself(indent) + indent + "      steps:\n" + a.steps(
		indent+"        ",
		depth-1,
		inEach,
	)
	a.taken = before
	return out
}

func (a *author) block(id, indent string, _ int, inEach bool) string {
	return line(
		indent,
		"change: "+id,
		"gate: {ask: team/x"+a.without()+"}",
		a.onError(),
		"steps:",
	) + a.plain(
		indent+"    ",
		inEach,
	)
}

// itself lets a question answer itself where nobody is there to answer it.
func (a *author) itself(indent string) string {
	if a.people {
		return ""
	}
	return indent + "      itself: 1 == 1\n"
}

// other is another choice where people answer.
func (a *author) other(indent string) string {
	if !a.people {
		return ""
	}
	return indent + "    other:\n" + indent + "      steps:\n" + indent + "        - note: O\n" + indent +
		"          text: other\n"
}

// plain are steps of a block: looks and changes that can be said before.
func (a *author) plain(indent string, inEach bool) string {
	out := ""
	for range rapid.IntRange(1, 2).Draw(a.t, "changes") {
		a.n++
		out += fmt.Sprintf(
			"%s- change: s%d\n%s  where: {role: gate, pick: one}\n%s  run: [do-s%d]\n%s  undo: {run: [undo-s%d]}\n",
			indent,
			a.n,
			indent,
			indent,
			a.n,
			indent,
			a.n,
		)
	}
	return out
}

// without says what follows where there is no yes.
func (a *author) without() string {
	return a.pick("refused", "", "", ", refused: stop", ", refused: go on", ", refused: undo") +
		a.pick("unanswered", "", "", ", unanswered: hand_over", ", unanswered: go on")
}

func (a *author) onError() string {
	return a.pick("on_error", "", "", "on_error: go on", "on_error: undo", "on_error: hand_over")
}

func (a *author) book() string {
	out := "parts:\n  part:\n    steps:\n      - look: P\n        where: {role: gate}\n        run: [look, part]\n  " +
		"      read: {n: {json: .n, type: integer}}\n      - change: Q\n        where: {name: g1}\n        run: " +
		"[do-part]\n        undo: {run: [undo-part]}\n"
	if rapid.Bool().Draw(a.t, "one at a time") {
		out = "limits: {one_at_a_time: \"'one'\"}\n" + out
	}
	for _, turned := range []string{"if_cleared", "if_worse"} {
		out = a.pick(
			turned,
			"",
			"",
			turned+": go on\n",
			turned+":\n  - note: T\n    text: it turned\n",
			turned+": hand_over\n",
		) + out
	}
	if rapid.Bool().Draw(a.t, "finally") {
		out += "finally:\n  - note: F\n    text: over\n"
	}
	return out + "steps:\n" + a.steps("  ", 2, false) + "  - close: repaired\n    because: done\n"
}
