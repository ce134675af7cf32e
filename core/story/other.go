package story

import (
	"slices"
	"strings"
	"time"

	"urgentis/core/alert"
	"urgentis/core/incident"
	"urgentis/core/plain"
)

// alertPart is what happened to an alert, or to several within a minute.
type alertPart struct {
	kind  incident.Kind
	of    []incident.AlertContent
	title string
	actor string
}

func (p *alertPart) add(e *entry) {
	p.kind, p.title, p.actor = e.Kind, e.Title, strings.TrimPrefix(e.Actor, "source:")
	if c, ok := e.content.(incident.AlertContent); ok {
		p.of = append(p.of, c)
	}
}

func (p *alertPart) draw(r *Row) {
	r.Lane, r.Weight, r.Word, r.State = Alert, Tell, "alert", Over
	worst := incident.AlertContent{}
	for _, c := range p.of {
		if alert.Worth(c.Severity) > alert.Worth(worst.Severity) || worst.ID == "" {
			worst = c
		}
	}
	switch p.kind {
	case incident.AlertRaised, incident.AlertJoined:
		r.State = Bad
		r.Title = strings.Join([]string{worst.Severity, p.actor}, ", ")
		if p.kind == incident.AlertJoined {
			r.Word = "joins"
		}
		r.Says = p.quoted(worst)
	case incident.AlertWorse, incident.AlertBetter:
		if p.kind == incident.AlertWorse {
			r.State = Bad
		}
		r.Title = worst.Severity
		if worst.Was != "" {
			r.Title = worst.Was + " → " + worst.Severity
		}
		r.Says = p.quoted(worst)
	case incident.AlertCleared:
		r.State, r.Title = Good, "cleared, "+p.actor
		if n := len(p.of); n > 1 {
			r.Says = text(count(n), " alerts")
		} else if worst.Why != "" {
			r.Says = text(worst.Why)
		}
	case incident.AlertMuted:
		r.Word, r.Title = "muted", p.title
		if worst.Because != "" {
			r.Says = text(worst.Because)
		}
	default:
		r.State, r.Title, r.Says = Bad, "still reported", p.quoted(worst)
	}
}

// quoted writes what the alerts said, the worst first.
func (p *alertPart) quoted(worst incident.AlertContent) Text {
	summary := worst.Summary
	if summary == "" {
		summary = p.title
	}
	t := text(quote("“" + cut(plain.Line(summary)) + "”"))
	if n := len(p.of); n > 1 {
		t = text(t, " and ", count(n-1), " more")
	}
	return t
}

// plainPart is one entry that says all of it itself.
type plainPart struct {
	kind    incident.Kind
	title   string
	actor   string
	content incident.Content
	n       int
}

func (p *plainPart) add(e *entry) {
	p.kind, p.title, p.actor, p.content, p.n = e.Kind, e.Title, e.Actor, e.content, p.n+1
}

// weights are those of kinds that are told as they stand, where it is not Tell.
var weights = map[incident.Kind]Weight{
	incident.StepSkipped: Detail, incident.EachBegun: Detail, incident.RunDropped: Detail, incident.RunHeld: Detail,
	incident.AlertTurned: Tell, incident.TicketMade: Tell, incident.Attached: Detail,
}

func (p *plainPart) draw(r *Row) {
	about := p.kind.About()
	r.Lane, r.State, r.Weight, r.Word, r.Title = People, Over, Tell, about.Word, p.title
	if w, ok := weights[p.kind]; ok {
		r.Weight = w
	}
	if about.Wanted {
		r.State = Waiting
	}
	switch c := p.content.(type) {
	case incident.BegunContent:
		r.Lane, r.Title = Runbook, strings.TrimPrefix(p.title, "Runbook started: ")
		r.Says = text(startedBy(c.StartedBy), inputsOf(c.Inputs))
	case incident.RunContent:
		r.Lane, r.Says = Runbook, text(c.Because)
		if p.kind == incident.RunFailed || p.kind == incident.RunRefused {
			r.State = Bad
		}
	case incident.NoteContent:
		r.Title = p.actor
		if by, is := strings.CutPrefix(p.actor, "runbook:"); is {
			r.Title = by
		}
		r.Says = text(c.Text)
		if lines := strings.Split(strings.TrimSpace(c.Text), "\n"); len(lines) > 1 {
			r.Says = text(cut(plain.Line(lines[0])))
			for _, l := range lines[1:] {
				r.Below = append(r.Below, text(cut(plain.Line(l))))
			}
			r.Below = bounded(r.Below)
		}
	case incident.FollowUpContent:
		r.Title, r.Says = p.actor, saysFollowUp(c)
		if c.State != incident.FollowUpOpen {
			r.Says = text(c.State, ": ", c.Text)
			if c.Because != "" {
				r.Says = text(r.Says, ", ", c.Because)
			}
		}
	case incident.StatedContent:
		r.Title, r.Says = p.actor, text(c.Field, ": ", c.Text)
	case incident.PeopleContent:
		r.Says, r.State = text(c.Because, c.Error), Over
		if p.kind != incident.CalledOut {
			r.State = Bad
		} else {
			r.Title = strings.TrimPrefix(p.title, "Calls ")
			r.Says = text(c.Why)
		}
	case incident.TicketContent:
		r.Title = strings.TrimSpace(c.Number + " at " + c.Desk)
		if p.kind == incident.TicketNews {
			r.Title, r.Says = p.title, text(c.Text)
		}
	case incident.ComparedContent:
		r.Lane, r.Says = Evidence, text("by ", who(p.actor))
		for _, l := range strings.Split(strings.TrimSpace(c.Text), "\n") {
			r.Below = append(r.Below, text(cut(plain.Line(l))))
		}
		r.Below = bounded(r.Below)
	case incident.PastContent:
		r.Lane = Evidence
		for _, m := range c.Missing {
			r.Below, r.State = append(r.Below, text(m)), Unsure
		}
		r.Below = bounded(r.Below)
	case incident.JudgedContent:
		values := map[string]string{}
		for _, v := range c.Values {
			values[v.Part] = cut(plain.Line(v.Text))
		}
		r.Lane, r.Title, r.Says = Decision, titleOf(c.OfStep, p.title), filled(c.Expression, values)
	case incident.StepContent:
		r.Lane, r.Title = Runbook, titleOf(c.OfStep, p.title)
		if len(c.Items) > 0 {
			r.Word, r.Says = "each", text(plural(len(c.Items), "item"), ": ", named(c.Items))
		}
	case incident.WaitContent:
		r.Lane, r.Says = Wait, text(c.Because)
		if p.kind == incident.DatabasePutBack {
			r.State = Bad
		}
	case incident.HeadContent:
		r.Says = text(c.Because)
		r.Below = nil
		if !strings.Contains(p.title, p.actor) {
			r.Below = []Text{text("by ", who(p.actor))}
		}
	case incident.ClosedContent:
		p.closed(r, c)
	}
}

func (p *plainPart) closed(r *Row, c incident.ClosedContent) {
	r.Lane, r.Title, r.Says = End, c.Outcome, text(c.Because)
	if p.kind == incident.KeptOpen {
		r.State, r.Title, r.Says = Waiting, "", text(strings.TrimPrefix(p.title, "Stays open: "))
		for _, o := range c.Open {
			if len(c.Open) > 1 {
				r.Below = append(r.Below, text(o))
			}
		}
		return
	}
	r.State = outcomeState(c.Outcome)
	r.Below = closedBelow(c)
	if !strings.HasPrefix(p.actor, "runbook:") && p.actor != "urgentis" {
		r.Below = append(r.Below, text("by ", who(p.actor)))
	}
}

func closedBelow(c incident.ClosedContent) []Text {
	var out []Text
	for _, s := range c.Still {
		out = append(out, text("still open: ", s))
	}
	if len(c.Told) > 0 {
		out = append(out, text("told: ", strings.Join(c.Told, ", ")))
	}
	for _, s := range c.NotTold {
		out = append(out, text("not told: ", s))
	}
	return bounded(out)
}

// outcomeState is how an outcome is shown.
func outcomeState(outcome string) State {
	switch outcome {
	case "not-repaired":
		return Bad
	case "mitigated":
		return Unsure
	case "":
		return Over
	}
	return Good
}

func titleOf(s incident.OfStep, otherwise string) string {
	if s.Title != "" {
		return s.Title
	}
	return otherwise
}

// startedBy says who started a run: a person, or what begins by itself.
func startedBy(by string) Text {
	what, rest, is := strings.Cut(by, ":")
	switch {
	case by == "":
		return nil
	case is && what == "trigger":
		return text("by the trigger ", value(rest))
	case is:
		return text("by ", what, " ", value(rest))
	}
	return text("by ", who(by))
}

func inputsOf(m map[string]any) Text {
	var out Text
	for _, k := range sorted(m) {
		out = text(out, map[bool]string{true: ", ", false: " "}[len(out) == 0], k, "=", value(say(m[k])))
	}
	return out
}

// callPart is a runbook that another one calls.
type callPart struct {
	title  string
	inputs map[string]any
	ended  *incident.EndedContent
}

func newCall() part { return &callPart{} }

func (p *callPart) add(e *entry) {
	switch c := e.content.(type) {
	case incident.BegunContent:
		p.title, p.inputs = c.Runbook, c.Inputs
	case incident.EndedContent:
		p.ended = &c
	}
}

func (p *callPart) draw(r *Row) {
	r.Lane, r.Weight, r.Word, r.State, r.Title = Runbook, Detail, "call", Going, p.title
	r.Says = inputsOf(p.inputs)
	if p.ended == nil {
		return
	}
	r.State = Over
	if p.ended.State != "done" {
		r.State, r.Weight = Bad, Tell
	}
	r.Says = join(": ", text(p.ended.State), text(p.ended.Because))
	for _, k := range sorted(p.ended.Results) {
		r.Below = append(r.Below, text(k, " ", value(say(p.ended.Results[k]))))
	}
	for _, k := range sorted(p.ended.Unsaid) {
		r.State, r.Below = worse(Unsure, r.State), append(r.Below, text(k, " is not known: ", p.ended.Unsaid[k]))
	}
	r.Below = bounded(r.Below)
}

// endPart is the end of a run: what it tells, how it ended, and that the incident is closed by it. What is told on the
// way is one that has no end.
type endPart struct {
	title  string
	told   []incident.NoteContent
	ended  *incident.EndedContent
	kind   incident.Kind
	closed *incident.ClosedContent
	actor  string
}

func newEnd() part { return &endPart{} }

func (p *endPart) add(e *entry) {
	p.actor = e.Actor
	switch c := e.content.(type) {
	case incident.NoteContent:
		p.title, p.told = e.title(), append(p.told, c)
	case incident.EndedContent:
		p.kind, p.ended, p.title = e.Kind, &c, e.Title
	case incident.ClosedContent:
		p.closed = &c
	}
}

func (p *endPart) draw(r *Row) {
	r.Lane, r.Weight, r.State, r.Word, r.Title = End, Tell, Over, "told", p.title
	for _, t := range p.told {
		if t.Source == "" {
			r.Below = append(r.Below, text(cut(plain.Line(t.Text))))
		} else if t.NotTold != "" {
			r.Below = append(r.Below, text("the alert's source is not told to ", t.Source, ": ", t.NotTold))
		} else {
			r.Below = append(r.Below, text("the alert's source is told to ", t.Source))
		}
	}
	switch {
	case p.closed != nil:
		r.Word, r.Title, r.State = "closed", p.closed.Outcome, outcomeState(p.closed.Outcome)
		r.Says = text(p.closed.Because)
		r.Below = append(r.Below, closedBelow(*p.closed)...)
	case p.ended != nil:
		p.drawEnded(r)
	case len(r.Below) == 1:
		r.Says, r.Below = r.Below[0], nil
	}
	r.Below = bounded(r.Below)
}

func (p *endPart) drawEnded(r *Row) {
	r.Word, r.Says = "ended", text(p.ended.Because)
	switch {
	case p.kind == incident.RunHandedOver:
		r.Word, r.State, r.Title = "handed on", Waiting, p.title
	case p.ended.Outcome != "":
		r.Title, r.State = p.ended.Outcome, outcomeState(p.ended.Outcome)
	case p.ended.State != "done":
		r.State, r.Title = Bad, p.ended.State
	default:
		r.Title = p.ended.State
	}
	if p.ended.State == "done" {
		return
	}
	for _, c := range p.ended.Changes {
		r.Below = append(r.Below, text(c.Title, " on ", named(c.Targets), ": ", c.Says))
	}
}

// passedPart are items of an each that need nothing.
type passedPart struct {
	title string
	lines []Text
}

func newPassed() part { return &passedPart{} }

func (p *passedPart) add(e *entry) {
	if c, ok := e.content.(incident.StepContent); ok {
		p.title = e.title()
		p.lines = append(p.lines, text(e.Title, ": ", c.Because))
	}
}

func (p *passedPart) draw(r *Row) {
	r.Lane, r.Weight, r.Word, r.State, r.Title = Decision, Detail, "passed", Over, p.title
	r.Says, r.Below = text(plural(len(p.lines), "item"), " needed nothing"), bounded(p.lines)
}

// troublePart is what a step did not do.
type troublePart struct {
	title string
	lines []Text
}

func newTrouble() part { return &troublePart{} }

func (p *troublePart) add(e *entry) {
	p.title = e.title()
	if c, ok := e.content.(incident.StepContent); ok {
		line := text(cut(plain.Line(c.Because)))
		if !slices.ContainsFunc(p.lines, func(t Text) bool { return t.String() == line.String() }) {
			p.lines = append(p.lines, line)
		}
	}
}

func (p *troublePart) draw(r *Row) {
	r.Lane, r.Weight, r.Word, r.State, r.Title = Runbook, Tell, "trouble", Bad, p.title
	if len(p.lines) > 0 {
		r.Says = p.lines[0]
		r.Below = bounded(p.lines[1:])
	}
}

// waitPart is what a run waits for.
type waitPart struct {
	title   string
	kind    incident.Kind
	says    Text
	ended   bool
	began   time.Time
	endedAt time.Time
}

func newWait() part { return &waitPart{} }

// unseen is for how long a lock may be waited for without anybody wanting to read it.
const unseen = time.Second

func (p *waitPart) add(e *entry) {
	c, ok := e.content.(incident.WaitContent)
	if !ok {
		return
	}
	switch e.Kind {
	case incident.WaitBegun, incident.LockAwaited, incident.HaltAwaited:
		p.kind, p.title, p.ended, p.began = e.Kind, e.title(), false, e.At
		switch e.Kind {
		case incident.WaitBegun:
			p.says = text("for ", c.For)
			if c.For == "0s" || c.For == "" {
				p.says = nil
			}
		case incident.LockAwaited:
			p.says = text(c.Key, " is held by run ", value(c.Holder))
		default:
			p.says = text(c.Because)
		}
	default:
		if p.kind == "" {
			p.kind, p.title = e.Kind, e.title()
		}
		if e.Kind == incident.HaltLifted {
			p.says = join(", ", p.says, text("go on, says ", who(e.Actor)))
		}
		if !p.ended {
			p.ended, p.endedAt = true, e.At
		}
	}
}

func (p *waitPart) draw(r *Row) {
	r.Lane, r.Weight, r.Word, r.State, r.Title, r.Says = Wait, Tell, "wait", Waiting, p.title, p.says
	if p.kind == incident.LockAwaited {
		r.Title = "another run"
	}
	if !p.ended {
		return
	}
	took := p.endedAt.Sub(p.began)
	r.State, r.Says = Over, join(", ", p.says, text("went on after ", plain.Lasted(took)))
	if p.began.IsZero() || strings.HasPrefix(string(p.kind), "lock.") && took < unseen {
		r.Weight, r.Says = Quiet, p.says
	}
}
