package cases

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"urgentis/core/expr"
	"urgentis/core/flow"
	"urgentis/core/leave"
	"urgentis/core/reading"
	"urgentis/core/runbook"
	"urgentis/core/task"
	"urgentis/core/tell"
)

// Result is how a case came out.
type Result struct {
	Case *Case
	// Wrong lists what was not as the case wants it, each in a sentence; none: it holds.
	Wrong []string
	// Steps are the steps that were taken, in their order, as verb and title; CameTo is how the run ended.
	Steps  []string
	CameTo string
	// Log is what happened.
	Log []flow.Event

	been  *runbook.Been
	inner map[string]bool // steps of parts that were reached, as PART/PATH
}

// Holds reports whether all was as the case wants it.
func (r *Result) Holds() bool { return len(r.Wrong) == 0 }

// maxAttempts bounds what one case may do.
const maxAttempts = 20_000

// Play plays one case of a runbook, which is linked with those that it calls. evaluate takes readings out of what is
// printed; nil does it at once.
func Play(book *runbook.Book, c *Case, evaluate flow.Evaluate) *Result {
	p := &player{
		book:     book,
		of:       c,
		evaluate: evaluate,
		taken:    map[string]int{},
		did:      map[string]flow.Place{},
		out:      &Result{Case: c},
	}
	p.knowsItsSteps()
	inputs, err := book.AcceptAll(p.givenInputs())
	if err != nil {
		p.wrong("its inputs are not taken: %s", err)
	}
	if len(p.out.Wrong) > 0 {
		return p.out
	}
	log, stopped, err := p.stage(inputs).Play()
	if err != nil {
		p.wrong("it cannot be played: %s", err)
		return p.out
	}
	p.out.Log = log
	p.judge(log, stopped)
	return p.out
}

type player struct {
	book  *runbook.Book
	of    *Case
	out   *Result
	taken map[string]int        // how many were taken, by list
	did   map[string]flow.Place // the place of each attempt

	evaluate flow.Evaluate
	halt     string // what the case does not say and should
}

func (p *player) wrong(format string, args ...any) {
	p.out.Wrong = append(p.out.Wrong, fmt.Sprintf(format, args...))
}

// knowsItsSteps refuses what the case says of steps that are not there.
func (p *player) knowsItsSteps() {
	check := func(what, name string) {
		if step, _ := p.find(strings.TrimPrefix(name, undone)); step == nil {
			p.wrong("%s speaks of the step %s, which the runbook does not have; it has %s", what, name,
				strings.Join(p.names(), ", "))
		}
	}
	for _, x := range []struct {
		what string
		of   []string
	}{
		{"meets", slices.Sorted(maps.Keys(p.of.Meets))},
		{"people", slices.Sorted(maps.Keys(p.of.People))},
		{"leave", slices.Sorted(maps.Keys(p.of.Leave))},
		{"becomes", slices.Sorted(maps.Keys(p.of.Becomes))},
		{"checks", slices.Sorted(maps.Keys(p.of.Wants.Checks))},
		{"asks", p.of.Wants.Asks},
	} {
		for _, name := range x.of {
			check(x.what, name)
		}
	}
	for _, w := range p.of.Wants.Changes {
		name, _, _ := strings.Cut(strings.TrimPrefix(w, undone), "@")
		check("changes", name)
	}
}

// undone is how a case writes that a change was undone.
const undone = "undo "

// find finds a step by its id or its place; those of parts and of called runbooks as NAME/STEP.
func (p *player) find(name string) (*runbook.Step, *runbook.Book) {
	book := p.book
	if of, inner, in := strings.Cut(name, "/"); in {
		if book, name = p.book.Callee(of), inner; book == nil {
			return nil, nil
		}
	}
	return book.Named(name), book
}

func (p *player) names() []string {
	var out []string
	for _, s := range p.book.All() {
		out = append(out, nameOf(p.book, p.book, s))
	}
	return out
}

// nameOf is how cases call a step: by its id, or by its place where it has none.
func nameOf(book, of *runbook.Book, s *runbook.Step) string {
	name := s.ID
	if name == "" {
		name = s.Path
	}
	if of != book {
		name = of.Name + "/" + name
	}
	return name
}

// at is how cases call the step at a place of the run.
func (p *player) at(place flow.Place) string {
	step, of := flow.Find(p.book, place)
	if step == nil {
		return place.String()
	}
	return nameOf(p.book, of, step)
}

// givenInputs are those of the case; without any, those that the first start whose condition holds gives.
func (p *player) givenInputs() map[string]any {
	if len(p.of.Inputs) > 0 || len(p.of.Alert) == 0 {
		return p.of.Inputs
	}
	return p.book.InputsFor(p.alert())
}

// alert is the alert with what every alert has.
func (p *player) alert() map[string]any {
	return merged(map[string]any{
		"id": "a-case", "source": "cases", "key": "case", "severity": "major", "state": "open", "summary": "",
		"service": p.book.Service, "link": "", "labels": map[string]any{}, "count": 1,
		"first_at": p.of.At, "last_at": p.of.At, "first_said": p.of.At, "last_said": p.of.At,
	}, p.of.Alert)
}

func (p *player) stage(inputs map[string]any) tell.Stage {
	begun := flow.Begun{
		Rules: flow.Rules, Run: "r-case", Runbook: p.book.Name, Revision: p.book.Revision, Inputs: inputs,
		Service:   merged(map[string]any{"name": p.book.Service, "owner": p.book.Owner}, p.of.Service),
		Incident:  map[string]any{"id": "1", "number": 1, "title": p.book.Title, "link": ""},
		Estate:    p.of.Targets,
		StartedBy: "a case", Calls: map[string]string{},
	}
	for _, name := range p.book.Calls() {
		if b := p.book.Callee(name); b != nil {
			begun.Calls[name] = b.Revision
		}
	}
	if p.of.Alert != nil {
		begun.Alert = p.alert()
	}
	return tell.Stage{
		Book: p.book, Begun: begun, Now: p.of.At, Limit: maxAttempts, Patient: true,
		Do: p.do, Leave: p.leave, Decide: p.decide, Answer: p.answer, News: p.news,
		Halt: func() string { return p.halt },
	}
}

// next takes the next thing that is said of a step; the last one stays. at names what is counted.
func next[T any](p *player, list []T, at string) T {
	i := min(p.taken[at], len(list)-1)
	p.taken[at]++
	return list[i]
}

func (p *player) do(place flow.Place, in flow.Intent, now time.Time) flow.Outcome {
	look, _ := flow.Find(p.book, in.Look)
	p.did[in.Attempt] = place
	name := p.at(place)
	switch {
	case in.Undoes():
		name = undone + name
	case look != nil:
		name = p.at(in.Look)
	}
	var list []Meeting
	for _, m := range p.of.Meets[name] {
		if len(m.On) == 0 || slices.Contains(m.On, in.Target) {
			list = append(list, m)
		}
	}
	if len(list) == 0 {
		if in.Touches() {
			return flow.Outcome{Attempt: in.Attempt, State: flow.OK}
		}
		p.stuck("the case does not say what %s meets%s", name, onTarget(in.Target))
		return flow.Outcome{Attempt: in.Attempt, State: flow.Failed}
	}
	return p.meet(next(p, list, name+" "+in.Target), look, in, now)
}

func onTarget(name string) string {
	if name == "" {
		return ""
	}
	return " on " + name
}

// stuck ends the play, as the case does not say how it goes on; the first reason counts.
func (p *player) stuck(format string, args ...any) {
	if p.halt == "" {
		p.halt = fmt.Sprintf(format, args...)
	}
}

// meet makes the outcome of an attempt.
func (p *player) meet(m Meeting, look *runbook.Step, in flow.Intent, now time.Time) flow.Outcome {
	out := flow.Outcome{Attempt: in.Attempt, State: m.State, Error: m.Why, Exit: m.Exit}
	if out.State == "" {
		out.State = flow.OK
		if m.Exit != nil && !good(in.Request, *m.Exit) {
			out.State, out.Error = flow.Failed, fmt.Sprintf("it ended with %d", *m.Exit)
		}
	}
	if m.Prints != nil {
		out.Output = flow.Output{Head: *m.Prints, Size: int64(len(*m.Prints))}
	}
	if look == nil || out.State != flow.OK {
		return out
	}
	if out.Exit == nil {
		zero := 0
		out.Exit = &zero
	}
	if m.Read == nil {
		text := out.Output.Head
		flow.TakeReadings(&out, look, in.Target, flow.Taker{
			At: now, Text: func(reading.Spec) string { return text }, Evaluate: p.evaluate,
		})
		return out
	}
	p.read(&out, m, look, in.Target, now)
	return out
}

func good(r task.Request, exit int) bool {
	if r.Kind == "http" {
		return task.GoodStatus(exit, r.Accept)
	}
	return task.GoodExit(exit, r.Accept)
}

// read gives readings by their values; those of the look that are not given are missing.
func (p *player) read(out *flow.Outcome, m Meeting, look *runbook.Step, target string, now time.Time) {
	out.Readings, out.Missing = map[string]expr.Sample{}, map[string]string{}
	given := map[string]bool{}
	for _, spec := range look.Read {
		v, ok := m.Read[spec.Name]
		given[spec.Name] = true
		if !ok {
			out.Missing[spec.Name] = "the case does not give it"
			continue
		}
		v, err := spec.Accept(v)
		if err != nil {
			p.stuck("the reading %s cannot be so: %s", spec.Name, err)
			continue
		}
		out.Readings[spec.Name] = expr.Sample{Value: v, Unit: spec.Unit, Target: target, At: now}
	}
	for name := range m.Read {
		if !given[name] {
			p.stuck("%s takes no reading %s", p.at(flow.PlaceOf(look.Path)), name)
		}
	}
}

func (p *player) leave(a flow.AskLeave) flow.LeaveGiven {
	g := flow.LeaveGiven{Verdict: leave.Gate, Reasons: []string{"a case"}}
	if a.Look || a.Undo {
		g.Verdict = leave.Yes
	}
	if v, ok := p.of.Leave[p.at(a.Place)]; ok {
		g.Verdict = v
	}
	if a.HasGate && g.Verdict == leave.Yes {
		g.Verdict = leave.Gate
	}
	for _, t := range a.Targets {
		g.Facts = append(g.Facts, task.Facts{Name: t})
	}
	return g
}

func (p *player) decide(place flow.Place, g flow.GateRaised) *flow.GateDecided {
	name := p.at(place)
	d := &flow.GateDecided{Gate: g.Gate, By: fmt.Sprintf("person %d", p.taken["yes "+g.Gate]+1), Digest: g.Digest}
	list := p.of.People[name]
	if len(list) == 0 {
		p.stuck("the case does not say what people say at the gate of %s: %s, %s or %s", name, Approve, Refuse, Nobody)
		return nil
	}
	if p.taken["nobody "+g.Gate] > 0 {
		return nil
	}
	w := next(p, list, "people "+name)
	switch w.Say {
	case Approve:
		p.taken["yes "+g.Gate]++
		d.Approved = true
	case Refuse:
	case Nobody:
		p.taken["nobody "+g.Gate]++
		return nil
	default:
		p.stuck("line %d: the gate of %s takes %s, %s or %s, not %s", w.Line, name, Approve, Refuse, Nobody, w.Say)
		return nil
	}
	return d
}

func (p *player) answer(place flow.Place, q flow.QuestionRaised) *flow.QuestionAnswered {
	name := p.at(place)
	list := p.of.People[name]
	if len(list) == 0 {
		p.stuck("the case does not say what people answer to %s: %s or %s", name, strings.Join(q.Choices, ", "), Nobody)
		return nil
	}
	if p.taken["nobody "+q.Question] > 0 {
		return nil
	}
	w := next(p, list, "people "+name)
	a := &flow.QuestionAnswered{Question: q.Question, Choice: w.Say, By: "person 1"}
	switch {
	case w.Say == Nobody && !slices.Contains(q.Choices, Nobody):
		p.taken["nobody "+q.Question]++
		return nil
	case len(q.Choices) > 0 && !slices.Contains(q.Choices, w.Say):
		p.stuck("line %d: the question %s has no answer %s; there is %s", w.Line, name, w.Say,
			strings.Join(q.Choices, ", "))
		return nil
	}
	if step, _ := flow.Find(p.book, place); step != nil && step.Ask != nil && q.Attempt == "" {
		fields, err := step.Ask.AcceptFields(w.Fields)
		if err != nil {
			p.stuck("line %d: the question %s is not answered so: %s", w.Line, name, err)
			return nil
		}
		a.Fields = fields
	}
	return a
}

// news tells what the alert became, once for each step that was begun.
func (p *player) news(log []flow.Event) *flow.AlertChanged {
	if len(p.of.Becomes) == 0 {
		return nil
	}
	for _, e := range log {
		if e.Place.IsZero() {
			continue
		}
		name := p.at(e.Place)
		to := p.of.Becomes[name]
		if to == "" || p.taken["becomes "+name] > 0 {
			continue
		}
		p.taken["becomes "+name]++
		if to == Cleared {
			return &flow.AlertChanged{State: "cleared", Severity: "ok", Cleared: true}
		}
		return &flow.AlertChanged{State: "open", Severity: "critical", Worse: true}
	}
	return nil
}
