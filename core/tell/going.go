package tell

import (
	"fmt"

	"urgentis/core/flow"

	"urgentis/core/runbook"
)

// Going is a look that is being taken: how far it is.
type Going struct {
	Place flow.Place
	Look  *runbook.Step
	// Asked is of how many targets it is to be taken, Answered how many answered, Silent how many did not.
	Asked, Answered, Silent int
}

// Says tells it in a line: 137 of 200, 3 without an answer.
func (g Going) Says() string {
	out := fmt.Sprintf("%d of %d", g.Answered+g.Silent, g.Asked)
	if g.Silent > 0 {
		out += fmt.Sprintf(", %d without an answer", g.Silent)
	}
	return out
}

// GoingOf lists the looks of which attempts are under way, in the order in which they were begun.
func GoingOf(s *flow.State) []Going {
	type at struct {
		place flow.Place
		round flow.Purpose
	}
	tried := s.Tried()
	var order []at
	by := map[at]*Going{}
	for _, a := range tried {
		if a.Over || a.Intent.Touches() {
			continue
		}
		k := at{a.Place, a.Intent.Purpose}
		if by[k] != nil {
			continue
		}
		look, _ := flow.Find(s.Book(), a.Intent.Look)
		if look == nil {
			continue
		}
		order, by[k] = append(order, k), &Going{Place: a.Place, Look: look}
	}
	for _, a := range tried {
		g := by[at{a.Place, a.Intent.Purpose}]
		switch {
		case g == nil || a.Intent.Touches():
		case a.Outcome != nil && a.Outcome.State == flow.OK:
			g.Answered++
		case a.Outcome != nil:
			g.Silent++
		}
		if g != nil && len(a.Intent.Asked) > 0 {
			g.Asked = len(a.Intent.Asked)
		}
	}
	out := make([]Going, len(order))
	for i, k := range order {
		out[i] = *by[k]
		out[i].Asked = max(out[i].Asked, out[i].Answered+out[i].Silent+1)
	}
	return out
}
