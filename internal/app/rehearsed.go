package app

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"urgentis/core/expr"
	"urgentis/core/flow"
	"urgentis/core/runbook"
	"urgentis/core/tell"
	"urgentis/internal/act"
	"urgentis/internal/rehearsal"
)

func rendered(list []flow.Rendered) []Line {
	out := make([]Line, len(list))
	last := flow.Place{}
	for i, x := range list {
		out[i] = Line{
			Path: x.Place.String(), Verb: string(x.Step.Verb), Title: x.Step.Title, Depth: x.Depth, Branch: x.Branch,
			Target: x.Target, On: x.On, Says: x.Says,
		}
		if x.Place != last {
			out[i].Notes = notes(x.Book, x.Step)
		}
		last = x.Place
		if x.Request == nil {
			continue
		}
		out[i].Shown = act.Show(*x.Request)
		if x.Request.Undo != nil {
			out[i].Undo = act.Show(*x.Request.Undo)
		}
	}
	return out
}

// notes are the conditions of a step, as sentences, without what its lines show anyway.
func notes(b *runbook.Book, s *runbook.Step) []string {
	var out []string
	for _, t := range b.Terms(s) {
		out = append(out, t.Says)
	}
	return out
}

func totals(list []flow.Rendered) Totals {
	out := Totals{Targets: []string{}}
	last := flow.Place{}
	for _, x := range list {
		if x.Target != "" && !slices.Contains(out.Targets, x.Target) {
			out.Targets = append(out.Targets, x.Target)
		}
		if x.Place == last {
			continue
		}
		last = x.Place
		switch {
		case x.Step.Verb == runbook.Look:
			out.Looks++
		case x.Step.Verb == runbook.Change && x.Step.Do != nil:
			out.Changes++
		case x.Step.Verb == runbook.Ask:
			out.Questions++
		}
		if x.Step.Gate != nil {
			out.Gates++
		}
	}
	slices.Sort(out.Targets)
	return out
}

// playedOut tells what happened on the stage, step by step.
func playedOut(b *runbook.Book, played *rehearsal.Played) *Rehearsal {
	out := &Rehearsal{Lines: []Line{}, Because: played.Stopped, Totals: Totals{Targets: []string{}}}
	out.Outcome, _ = tell.Came(b, played.Log)
	intents := map[string]flow.Intent{}
	told := map[flow.Place]bool{}
	for _, e := range played.Log {
		if x, ok := e.Body.(flow.Ended); ok {
			out.State, out.Because = x.State, x.Because
		}
		st, of := flow.Find(b, e.Place)
		if st == nil {
			continue
		}
		l := Line{Path: e.Place.String(), Verb: string(st.Verb), Title: st.Title, Depth: e.Place.Depth()}
		switch x := e.Body.(type) {
		case flow.Intent:
			intents[x.Attempt] = x
			continue
		case flow.Outcome:
			in := intents[x.Attempt]
			l.Target, l.Shown, l.Says = in.Target, act.Show(in.Request), saysPlayed(in, x, played.Assumed[x.Attempt])
			if in.Request.Undo != nil {
				l.Undo = act.Show(*in.Request.Undo)
			}
			out.Totals.count(in, notTaken(x, played.Assumed[x.Attempt]))
		default:
			if l.Says = says(e.Body); l.Says == "" {
				continue
			}
			out.Totals.asked(e.Body)
		}
		if !told[e.Place] {
			told[e.Place] = true
			l.Notes = notes(of, st)
		}
		out.Lines = append(out.Lines, l)
	}
	if played.Blind != "" && out.State != flow.Done && out.Because != played.Blind {
		out.Because += " But " + played.Blind + "."
	}
	slices.Sort(out.Totals.Targets)
	return out
}

// notTaken reports whether a look was not taken, as all that it reads is assumed.
func notTaken(x flow.Outcome, assumed []string) bool {
	return len(assumed) > 0 && x.Output.Head == "" && len(assumed) == len(x.Readings)
}

// count adds an attempt of a rehearsal; a look only if it was taken.
func (t *Totals) count(in flow.Intent, skipped bool) {
	switch {
	case in.Touches():
		t.Changes++
	case skipped:
		return
	default:
		t.Looks++
	}
	if in.Target != "" && !slices.Contains(t.Targets, in.Target) {
		t.Targets = append(t.Targets, in.Target)
	}
}

// asked adds what people would have been asked.
func (t *Totals) asked(body flow.Body) {
	switch body.(type) {
	case flow.GateRaised:
		t.Gates++
	case flow.QuestionRaised:
		t.Questions++
	}
}

// saysPlayed tells how an attempt of a rehearsal ended. assumed are the readings that were not seen.
func saysPlayed(in flow.Intent, x flow.Outcome, assumed []string) string {
	says := x.State
	switch {
	case in.Touches():
		says = "assumed to have happened; nothing was changed"
	case notTaken(x, assumed):
		says = "not taken: what it reads is assumed"
	}
	if x.Error != "" {
		says += ": " + x.Error
	}
	for _, k := range slices.Sorted(maps.Keys(x.Readings)) {
		says += fmt.Sprintf(", %s is %s", k, sayValue(x.Readings[k].Value))
		if slices.Contains(assumed, k) {
			says += " (assumed)"
		}
	}
	for _, k := range slices.Sorted(maps.Keys(x.Missing)) {
		says += fmt.Sprintf(", no %s (%s)", k, x.Missing[k])
	}
	return says
}

// sayValue writes a value; one that is empty so that it is seen.
func sayValue(v any) string {
	if v == "" {
		return "empty"
	}
	return expr.Say(v)
}

// asks tells what people would be asked, and how they can answer.
func asks(x flow.QuestionRaised) string {
	out := x.Ask + " would be asked: " + x.Text
	for _, c := range x.Choices {
		out += "\n" + c
		if label := x.Labels[c]; label != "" && label != c {
			out += ": " + label
		}
	}
	return out
}

// says tells what an event of a rehearsal means; "" for one that says nothing to people.
func says(body flow.Body) string {
	switch x := body.(type) {
	case flow.Judged:
		says := x.Result
		if x.Unsure != "" {
			return says + ": " + x.Unsure
		}
		for _, v := range x.Values {
			says += ", " + v.Part + " is " + v.Text
		}
		return says
	case flow.Skipped:
		return "skipped: " + x.Expression + " does not hold"
	case flow.UndoJudged:
		return "undone as it must be: " + x.Result
	case flow.ItemPassed:
		return x.Label + " is passed over: " + x.Because
	case flow.TargetPassed:
		return x.Target + " is passed over: " + x.Because
	case flow.GateRaised:
		return "a gate would stand, asking " + x.Ask + ": " + strings.Join(x.Reasons, "; ")
	case flow.QuestionRaised:
		return asks(x)
	case flow.QuestionAnswered:
		return "answered " + x.Choice + ", by " + x.By
	case flow.Told:
		if x.Source != "" {
			return "would tell the alert's source: " + x.Source
		}
		return "would tell: " + x.Text
	case flow.Noted:
		return x.Text
	case flow.Troubled:
		return x.Because
	case flow.Ended:
		return "ends " + strings.TrimSpace(x.State+" "+x.Outcome) + ": " + x.Because
	}
	return ""
}
