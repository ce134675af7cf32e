package flow

import (
	"slices"
	"time"

	"urgentis/core/incident"
	"urgentis/core/runbook"
)

// Went tells how each change of a run went, as it stands now; and each block of changes behind one gate, as its worst
// change did. What was not begun is not among them.
func (s *State) Went() []incident.Went {
	w := &walker{s: s}
	out := []incident.Went{}
	targets := map[string]map[string]bool{}
	add := func(step *runbook.Step, book *runbook.Book, target string, fate incident.Fate) {
		x := incident.Went{Runbook: book.Name, Step: step.ID, Title: step.Title, Fate: fate}
		x.Runbook, x.Step = StepKey(s.book, book, step)
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
	for _, a := range s.order {
		if !a.intent.Change || a.intent.Undo != "" {
			continue
		}
		step, book := Find(s.book, a.path)
		if step == nil {
			continue
		}
		fate := w.wentOf(a, step)
		add(step, book, a.intent.Target, fate)
		for _, around := range book.All() {
			if around != step && around.Gate != nil && inside(step.Path, around.Path) {
				add(around, book, a.intent.Target, fate)
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

// wentOf is how one attempt of a change went.
func (w *walker) wentOf(a *attempt, step *runbook.Step) incident.Fate {
	if a.undone {
		return incident.TakenBack
	}
	switch w.fateOf(a) {
	case untouched, inPart:
		return incident.Failed
	case done:
		return w.judgedOf(a, step)
	}
	return incident.Unknown
}

// judgedOf is what the newest check found that proves a change, as it is seen from there.
func (w *walker) judgedOf(a *attempt, step *runbook.Step) incident.Fate {
	out, newest := incident.Done, time.Time{}
	for path, st := range w.s.steps {
		check, _ := Find(w.s.book, path)
		if check == nil || check.Proves == "" || check.Proves != step.ID || scopeOf(path) != scopeOf(a.path) ||
			len(st.judged) == 0 || frameOf(path) != frameOf(a.path) && !inside(a.path, frameOf(path)) {
			continue
		}
		last := st.judged[len(st.judged)-1]
		if !last.Final || last.at.Before(newest) {
			continue
		}
		newest = last.at
		switch last.Result {
		case Passes:
			out = incident.Proven
		case Fails:
			out = incident.NotHelped
		default:
			out = incident.Done
		}
	}
	return out
}
