package flow

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"pgregory.net/rapid"

	"urgentis/core/task"
)

// scribe writes runbooks for the world of numbers (world_test.go).
type scribe struct {
	t       *rapid.T
	n       int
	ids     []string       // of changes that can be seen
	adds    map[string]int // by title
	mustAll bool           // every change has an undo
}

func (a *scribe) pick(list ...string) string { return rapid.SampledFrom(list).Draw(a.t, "pick") }

func (a *scribe) chance(n int) bool { return rapid.IntRange(0, n-1).Draw(a.t, "chance") == 0 }

func (a *scribe) book() string {
	out := header
	switch {
	case a.chance(5):
		out += "limits: {give_up_after: 2h}\n"
	case a.chance(6):
		out += "limits: {one_at_a_time: \"'x'\"}\n"
	}
	if a.chance(4) {
		out += "if_cleared:\n  - close: false-alarm\n    because: It cleared.\n"
	}
	if a.chance(4) {
		out += "finally:\n  - note: F\n    text: over\n"
	}
	if a.chance(4) {
		a.mustAll = true
		out += "on_error: undo\n"
	}
	part := "parts:\n  part:\n    steps:\n" + a.change("      ", false)
	if a.chance(3) {
		part += "      - hand_over: not here\n        because: part\n"
	}
	a.ids = nil
	return out + part + "steps:\n  - look: R\n    id: r\n    where: {role: gate}\n    run: [look, reason]\n" +
		"    read: {reason: {json: .n, type: integer}}\n  - look: O\n    id: o\n    where: {name: g1}\n" +
		"    run: [look, other]\n    read: {other: {json: .n, type: integer}}\n" + a.steps("  ", 2, false) +
		"  - close: repaired\n    because: done\n"
}

func (a *scribe) steps(indent string, depth int, inEach bool) string {
	out := ""
	for range rapid.IntRange(1, 3).Draw(a.t, "steps") {
		out += a.step(indent, depth, inEach)
	}
	return out
}

func (a *scribe) onError() string {
	return a.pick("", "", "", "on_error: go on", "on_error: undo", "on_error: hand_over")
}

func lines(indent string, of ...string) string {
	out := indent + "- " + of[0] + "\n"
	for _, r := range of[1:] {
		if r != "" {
			out += indent + "  " + r + "\n"
		}
	}
	return out
}

// change writes one change that adds twice its number, so that half of it is whole, too.
func (a *scribe) change(indent string, inEach bool) string {
	a.n++
	title, add := fmt.Sprintf("C%d", a.n), 2<<a.n
	a.adds[title] = add
	where := a.pick("where: {role: gate}", "where: {name: g2}", "where: {name: alias}", "where: {role: gate, pick: one}")
	if inEach && a.chance(2) {
		where = ""
	}
	undo := fmt.Sprintf("undo: {run: [undo, %q]%s}", strconv.Itoa(add), a.pick("", "", ", only_if: done"))
	if !a.mustAll && a.chance(5) {
		undo = ""
	}
	gate := ""
	if a.chance(3) {
		gate = "gate: {ask: team/x, within: 10m" + a.pick("", ", people: 2", ", refused: go on", ", refused: undo",
			", unanswered: go on") + "}"
	}
	still := ""
	if a.chance(3) {
		still = "still: " + a.pick("own(readings.reason) == 3", "min(readings.reason) == 3",
			"min(readings.reason) == 3 && max(readings.other) == 3")
		if where == "where: {name: alias}" {
			still = "still: min(readings.reason) == 3"
		}
	}
	id := strings.ToLower(title)
	a.ids = append(a.ids, id)
	repeat := a.pick("", "", "", "", "repeatable: true")
	return lines(indent, append(append([]string{"change: " + title, "id: " + id, where}, a.does(add, repeat != "")...),
		undo, gate, still, repeat, a.onError())...)
}

// does writes how a change does it: by a command, with a secret or without, by a file of the store, or by a job of
// another system.
func (a *scribe) does(add int, repeatable bool) []string {
	switch {
	case repeatable: // twice is once
		return []string{fmt.Sprintf("run: [ensure, %q]", strconv.Itoa(add))}
	case a.chance(6):
		return []string{fmt.Sprintf("job: {start: {url: \"http://10.9.9.9/add/%d\"}, id: .id, "+
			"follow: {url: \"http://10.9.9.9/of/{{ job.id }}\"}, state: .state, good: [done], bad: [failed]}", add),
			"timeout: 30m"}
	case a.chance(6):
		return []string{fmt.Sprintf("send: {to: /add/%d, file: feed.tar.gz}", add)}
	case a.chance(6):
		return []string{fmt.Sprintf("run: [add, %q]", strconv.Itoa(add)), "env: {KEY: \"{{ secrets.pass }}\"}"}
	}
	return []string{fmt.Sprintf("run: [add, %q]", strconv.Itoa(add))}
}

// work is what a request does to its host.
func work(r task.Request) (verb string, n int) {
	words := r.Words
	switch {
	case r.Job != nil:
		words = strings.Split(strings.TrimPrefix(r.Job.Start.URL, "http://10.9.9.9/"), "/")
	case r.File != nil:
		words = strings.Split(strings.TrimPrefix(r.File.To, "/"), "/")
	}
	if len(words) > 1 {
		n, _ = strconv.Atoi(words[1])
	}
	return words[0], n
}

func (a *scribe) step(indent string, depth int, inEach bool) string {
	kinds := []string{"change", "change", "change", "wait", "check", "steady"}
	if len(a.ids) > 0 {
		kinds = append(kinds, "undo", "undo")
	}
	if depth > 0 {
		kinds = append(kinds, "each", "together", "ask", "block", "call")
	}
	a.n++
	name := fmt.Sprintf("S%d", a.n)
	before := slices.Clone(a.ids)
	switch a.pick(kinds...) {
	case "wait":
		return lines(indent, "wait: "+name, "for: "+a.pick("10s", "5m"))
	case "check":
		return lines(indent, "check: "+name, "that: "+a.pick("1 == 1", "1 == 2"), "fails: "+a.pick("undo", "undo",
			"go on", "hand_over"))
	case "steady":
		return lines(indent, "check: "+name, "that: min(readings.reason) == 3", "retake: r",
			"again: {every: 10s, for: 2m, steady: 30s}", "fails: "+a.pick("undo", "go on"), "unsure: go on")
	case "undo":
		return lines(indent, "undo_change: "+name, "of: "+a.pick(a.ids...), a.onError())
	case "each":
		out := lines(indent, "each: "+name, "where: {role: gate}", "at_once: "+a.pick("1", "2"), "tolerate: "+
			a.pick("0", "1"), a.onError(), "steps:") + a.steps(indent+"    ", depth-1, true)
		a.ids = append(before, a.ids[len(before):]...)
		return out
	case "together":
		out := lines(indent, "together: "+name, a.onError(), "branches:") + indent + "    left:\n" +
			a.steps(indent+"      ", depth-1, inEach)
		left := a.ids
		a.ids = slices.Clone(before)
		out += indent + "    right:\n" + a.steps(indent+"      ", depth-1, inEach)
		a.ids = append(left, a.ids[len(before):]...)
		return out
	case "ask":
		return lines(indent, "ask: "+name, a.pick("none: go on", "none: stop"), "choices:") + indent + "    one:\n" +
			indent + "      steps:\n" + a.steps(indent+"        ", depth-1, inEach)
	case "block":
		return lines(indent, "change: "+name, "gate: {ask: team/x, within: 10m}", a.onError(), "steps:") +
			a.change(indent+"    ", inEach)
	case "call":
		return lines(indent, "call: part", a.onError())
	}
	return a.change(indent, inEach)
}
