package flow

import (
	"strconv"
	"strings"

	"urgentis/core/runbook"
)

// A step's place in a run is its path in the runbook with marks for what happens more than once:
// 3.do@2.1 is the first step for the third item of the each at 3, 5.choices.collect#1.2 belongs to the
// second round of the ask at 5, 4.branches.left~.1 to a branch that others run beside, and 6/2 is
// step 2 of what the call at 6 calls.

// static is the path in its runbook, without marks.
func static(path string) string {
	if !strings.ContainsAny(path, "@~#") {
		return path
	}
	segs := strings.Split(path, ".")
	for i, s := range segs {
		if j := strings.IndexAny(s, "@~#"); j >= 0 {
			segs[i] = s[:j]
		}
	}
	return strings.Join(segs, ".")
}

// scopeOf is the part of a path that names the call it is in: up to and with the last slash.
func scopeOf(path string) string { return path[:strings.LastIndexByte(path, '/')+1] }

// Find gives the step at a place, and the book it is in; nil for places that are no step.
func Find(book *runbook.Book, path string) (*runbook.Step, *runbook.Book) {
	for {
		call, rest, ok := strings.Cut(path, "/")
		if !ok {
			return book.Step(static(path)), book
		}
		s := book.Step(static(call))
		if s == nil {
			return nil, nil
		}
		if book = book.Callee(s.Callee); book == nil {
			return nil, nil
		}
		path = rest
	}
}

// frameOf is the part of a path up to the innermost item or branch that runs beside others.
func frameOf(path string) string {
	rest := path[len(scopeOf(path)):]
	segs := strings.Split(rest, ".")
	for i := len(segs) - 1; i >= 0; i-- {
		if strings.ContainsAny(segs[i], "@~") {
			return scopeOf(path) + strings.Join(segs[:i+1], ".")
		}
	}
	return scopeOf(path)
}

// visible reports whether what happened at q can be seen from p: not where they run beside each other.
func visible(p, q string) bool {
	if scopeOf(p) != scopeOf(q) {
		return false
	}
	a, b := strings.Split(p, "."), strings.Split(q, ".")
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

// inside reports whether a place is within the frame or block at prefix.
func inside(path, prefix string) bool {
	return prefix == "" || path == prefix ||
		strings.HasPrefix(path, prefix) &&
			(strings.HasSuffix(prefix, "/") || strings.HasSuffix(prefix, ".") || path[len(prefix)] == '.' ||
				path[len(prefix)] == '/')
}

// placeSeenFrom gives the place of a step of the same book as seen from p: marks are taken over as far as the paths
// are the same.
func placeSeenFrom(p string, s *runbook.Step) string {
	scope := scopeOf(p)
	have, want := strings.Split(p[len(scope):], "."), strings.Split(s.Path, ".")
	for i := range min(len(have), len(want)) {
		if static(have[i]) != want[i] {
			break
		}
		want[i] = have[i]
	}
	return scope + strings.Join(want, ".")
}

// instance gives the place of the newest instance of a step that can be seen from a place, and what it began with; nil
// where none was begun.
func (w *walker) instance(from string, step *runbook.Step) (string, *StepBegun) {
	list := w.s.instances[step]
	for i := len(list) - 1; i >= 0; i-- {
		if st := w.s.steps[list[i]]; st != nil && st.begun != nil && visible(from, list[i]) {
			return list[i], st.begun
		}
	}
	return "", nil
}

// eachOf splits the frame of an item into the place of its each and the item's number; "" for other frames.
func eachOf(frame string) (string, int) {
	i := strings.LastIndex(frame, ".do@")
	if i < 0 {
		return "", 0
	}
	number, _, _ := strings.Cut(frame[i+len(".do@"):], ".")
	n, err := strconv.Atoi(number)
	if err != nil {
		return "", 0
	}
	return frame[:i], n
}

var inNames = strings.NewReplacer("/", "_", "@", "-", "#", "--")

// named writes a place so that it can stand in an address.
func named(path string) string { return inNames.Replace(path) }

// questionOf names the question what became of an attempt.
func questionOf(attempt string) string { return "q:" + named(attempt) }

// Static is a place's path in the text of its runbook, without marks.
func Static(path string) string { return static(path) }

// FrameOf is the part of a place up to the innermost item or branch that runs beside others.
func FrameOf(path string) string { return frameOf(path) }

// Inside reports whether a place is within the frame or block at prefix.
func Inside(path, prefix string) bool { return inside(path, prefix) }

// Sees reports whether what happened at q can be seen from p: not where they run beside each other.
func Sees(p, q string) bool { return visible(p, q) }

// SeenFrom gives the place of a step of the same book as it is seen from p.
func SeenFrom(p string, s *runbook.Step) string { return placeSeenFrom(p, s) }
