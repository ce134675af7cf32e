package cases

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"urgentis/core/flow"
	"urgentis/core/runbook"
	"urgentis/core/tell"
)

// judge holds what happened against what the case wants.
func (p *player) judge(log []flow.Event, stopped string) {
	var end *flow.Ended
	for _, e := range log {
		if x, ok := e.Body.(flow.Ended); ok {
			end = &x
		}
	}
	p.out.CameTo, p.out.Steps = tell.Came(p.book, log)
	p.cover(log)
	if end == nil {
		p.wrong("it came to no end: %s", stopped)
		return
	}
	want := p.of.Wants
	if want.ComesTo != p.out.CameTo {
		p.wrong("it came to %s, not to %s: %s", p.out.CameTo, want.ComesTo, end.Because)
	}
	if want.Because != "" && !strings.Contains(end.Because, want.Because) {
		p.wrong("it ended because %q, in which %q does not stand", end.Because, want.Because)
	}
	did := p.doneIn(log)
	p.compare("asked people at", want.Asks, did.asks)
	p.compare("changed", want.Changes, did.changes)
	for _, t := range want.Tells {
		if !slices.ContainsFunc(did.tells, func(said string) bool { return strings.Contains(said, t) }) {
			p.wrong("nobody was told %q; told was %s", t, quoted(did.tells))
		}
	}
	for _, name := range slices.Sorted(maps.Keys(want.Checks)) {
		if got := did.checks[name]; got != want.Checks[name] {
			if got == "" {
				got = "was not judged"
			}
			p.wrong("the check %s: %s, not %s", name, got, want.Checks[name])
		}
	}
}

// done is what a run did, as cases write it.
type done struct {
	asks, changes, tells []string
	checks               map[string]string
}

func (p *player) doneIn(log []flow.Event) done {
	out := done{checks: map[string]string{}}
	for _, e := range log {
		switch x := e.Body.(type) {
		case flow.GateRaised, flow.QuestionRaised:
			out.asks = append(out.asks, p.at(e.Place))
		case flow.Intent:
			if !x.Touches() {
				continue
			}
			name := p.at(e.Place)
			if x.Undoes() {
				name = undone + name
			}
			if x.Target != "" {
				name += "@" + x.Target
			}
			out.changes = append(out.changes, name)
		case flow.Told:
			out.tells = append(out.tells, x.Text+x.Source)
		case flow.Judged:
			if x.Final {
				out.checks[p.at(e.Place)] = x.Result
			}
		}
	}
	return out
}

// compare wants exactly these, in this order. A change may be named without its target.
func (p *player) compare(what string, want, got []string) {
	if want == nil {
		return
	}
	same := func(w, g string) bool {
		short, _, _ := strings.Cut(g, "@")
		return w == g || w == short
	}
	if slices.EqualFunc(want, got, same) {
		return
	}
	p.wrong("it %s %s, not %s", what, orNothing(got), orNothing(want))
}

func orNothing(list []string) string {
	if len(list) == 0 {
		return "nothing"
	}
	return strings.Join(list, ", ")
}

func quoted(list []string) string {
	out := make([]string, len(list))
	for i, s := range list {
		out[i] = fmt.Sprintf("%q", s)
	}
	return orNothing(out)
}

// cover notes where the run has been.
func (p *player) cover(log []flow.Event) {
	p.out.inner = map[string]bool{}
	for _, e := range log {
		step, of := flow.Find(p.book, e.Place)
		if step != nil && of != p.book && p.book.Parts[of.Name] != nil {
			p.out.inner[of.Name+"/"+step.Path] = true
		}
	}
	if s, err := flow.Fold(p.book, log); err == nil {
		p.out.been = tell.Been(s, log[len(log)-1].At)
	}
}

// Coverage tells which steps and which ways on of a runbook cases have reached. Ways are those of its picture: what a
// check comes to, answers, a gate's ends, what an error leads to. Steps of called runbooks are a matter of their own
// cases.
type Coverage struct {
	Steps, StepsIn int
	Ways, WaysIn   int
	// Missed are the steps and ways that no case has reached, in words.
	Missed []string
}

// Cover sums up where cases have been.
func Cover(book *runbook.Book, results []*Result) Coverage {
	var out Coverage
	inner := map[string]bool{}
	steps, ways := map[string]bool{}, map[string]bool{}
	for _, r := range results {
		for k := range r.inner {
			inner[k] = true
		}
		if r.been == nil {
			continue
		}
		for path, v := range r.been.Visits {
			if v.State != "" && v.State != "skipped" {
				steps[path] = true
			}
		}
		steps[r.been.End] = true // a step that ends the run is only that
		for _, e := range book.Graph(r.been).Edges {
			if e.Taken {
				ways[wayKey(e)] = true
			}
		}
	}
	miss := func(format string, args ...any) { out.Missed = append(out.Missed, fmt.Sprintf(format, args...)) }
	for _, s := range book.All() {
		out.Steps++
		if steps[s.Path] {
			out.StepsIn++
			continue
		}
		miss("line %d: %s %s: %s", s.Line, s.Path, s.Verb, s.Title)
	}
	for _, name := range slices.Sorted(maps.Keys(book.Parts)) {
		for _, s := range book.Parts[name].All() {
			out.Steps++
			if inner[name+"/"+s.Path] {
				out.StepsIn++
				continue
			}
			miss("line %d: %s/%s %s: %s", s.Line, name, s.Path, s.Verb, s.Title)
		}
	}
	for _, e := range book.Graph(nil).Edges {
		if e.Label == "" || e.Proves {
			continue
		}
		out.Ways++
		if ways[wayKey(e)] {
			out.WaysIn++
			continue
		}
		at := strings.TrimSuffix(e.From, ".gate")
		if s := book.Step(at); s != nil {
			miss("line %d: %s %s: %s → %s", s.Line, at, s.Verb, s.Title, e.Label)
		}
	}
	return out
}

func wayKey(e runbook.Edge) string { return e.From + " " + e.To + " " + e.Label }

// All reports whether every step, and so many of a hundred ways, were reached.
func (c Coverage) All(ways int) bool { return c.StepsIn == c.Steps && c.WaysIn*100 >= ways*c.Ways }
