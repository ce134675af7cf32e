package tell

import (
	"slices"

	"urgentis/core/flow"

	"urgentis/core/incident"
	"urgentis/core/runbook"
)

// Went tells how each change of a run went, as it stands now; and each block of changes behind one gate, as its worst
// change did. What was not begun is not among them.
func Went(s *flow.State) []incident.Went {
	out := []incident.Went{}
	targets := map[string]map[string]bool{}
	add := func(step *runbook.Step, book *runbook.Book, target string, fate incident.Fate) {
		x := incident.Went{Runbook: book.Name, Step: step.ID, Title: step.Title, Fate: fate}
		x.Runbook, x.Step = StepKey(s.Book(), book, step)
		i := slices.IndexFunc(out, func(y incident.Went) bool { return y.Runbook == x.Runbook && y.Step == x.Step })
		if i < 0 {
			i = len(out)
			out = append(out, x)
			targets[x.Runbook+"/"+x.Step] = map[string]bool{}
		}
		if slices.Index(incident.Fates, fate) > slices.Index(incident.Fates, out[i].Fate) {
			out[i].Fate = fate
		}
		targets[x.Runbook+"/"+x.Step][target] = true
		out[i].Targets = len(targets[x.Runbook+"/"+x.Step])
	}
	for _, t := range s.Touches() {
		step, book := flow.Find(s.Book(), t.Place)
		if step == nil || t.Change.MayBegin() {
			continue
		}
		add(step, book, t.Target, went(t))
		for _, around := range book.All() {
			if around != step && around.Gate != nil && flow.PlaceOf(step.Path).In(flow.PlaceOf(around.Path)) {
				add(around, book, t.Target, went(t))
			}
		}
	}
	return out
}

// StepKey names a step in a way that holds from run to run: the runbook that it stands in, and its id, or its place
// where it has none. The steps of a part are named after the part.
func StepKey(root, book *runbook.Book, s *runbook.Step) (name, step string) {
	step = s.ID
	if step == "" {
		step = s.Path
	}
	if book != root && book.Revision == root.Revision {
		return root.Name, book.Name + "/" + step
	}
	return book.Name, step
}

// went is how a touch went.
func went(t *flow.Touch) incident.Fate {
	switch {
	case t.Undo.Fate == flow.WasDone:
		return incident.Undone
	case t.Unsaid():
		return incident.Unknown
	case t.Change.Fate != flow.WasDone:
		return incident.Failed
	case t.Proof == flow.Passes:
		return incident.Proven
	case t.Proof == flow.Fails:
		return incident.NotHelped
	}
	return incident.Done
}
