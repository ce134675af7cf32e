package runbook

import (
	"slices"
	"strconv"
	"strings"
)

// neverSees says why no instance of a step can ever be seen from another one; "" where one may. A step sees what was
// begun before it and does not run beside it; in the choices of a question, which may be asked again, also what stands
// after it.
func (b *Book) neverSees(from, of *Step) string {
	a, c := strings.Split(from.Path, "."), strings.Split(of.Path, ".")
	rounds := false
	for i := range min(len(a), len(c)) {
		if a[i] == c[i] {
			around := b.byPath[strings.Join(a[:i], ".")]
			rounds = rounds || around != nil && around.Ask != nil && a[i] == "choices"
			continue
		}
		if i == 0 && !numbered(a[0], c[0]) {
			return "" // on_error, finally and the like come when they come
		}
		if i > 1 && a[i-1] == "branches" {
			if t := b.byPath[strings.Join(a[:i-1], ".")]; t != nil && t.Verb == Together {
				return "runs beside this step"
			}
		}
		if t := b.byPath[strings.Join(a[:i], ".")]; !rounds && t != nil && t.Verb == Check &&
			slices.Contains(results, a[i]) && slices.Contains(results, c[i]) {
			return "stands on another way on from the same check"
		}
		break
	}
	if !rounds && of.Line > from.Line && numbered(a[0], c[0]) {
		return "does not stand before this step"
	}
	return ""
}

// results are the ways on from a check, of which a run takes one.
var results = []string{"passes", "fails", "unsure"}

func numbered(words ...string) bool {
	for _, w := range words {
		if _, err := strconv.Atoi(w); err != nil {
			return false
		}
	}
	return true
}
