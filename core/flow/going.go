package flow

import (
	"fmt"

	"urgentis/core/runbook"
)

// Going is a look that is being taken: how far it is.
type Going struct {
	Path string
	Look *runbook.Step
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

// Going lists the looks of which attempts are under way, in the order in which they were begun.
func (s *State) Going() []Going {
	type at struct {
		path  string
		round Purpose
	}
	var order []at
	by := map[at]*Going{}
	for _, a := range s.order {
		if a.over() || a.intent.Touches() {
			continue
		}
		k := at{a.path, a.intent.Purpose}
		if by[k] != nil {
			continue
		}
		look, _ := Find(s.book, a.intent.Look)
		if look == nil {
			continue
		}
		order, by[k] = append(order, k), &Going{Path: a.path, Look: look}
	}
	for _, a := range s.order {
		g := by[at{a.path, a.intent.Purpose}]
		switch {
		case g == nil || a.intent.Touches():
		case a.outcome != nil && a.outcome.State == OK:
			g.Answered++
		case a.outcome != nil:
			g.Silent++
		}
		if g != nil && len(a.intent.Asked) > 0 {
			g.Asked = len(a.intent.Asked)
		}
	}
	out := make([]Going, len(order))
	for i, k := range order {
		out[i] = *by[k]
		out[i].Asked = max(out[i].Asked, out[i].Answered+out[i].Silent+1)
	}
	return out
}
