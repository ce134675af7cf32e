package story

import (
	"slices"
	"strings"
	"time"

	"urgentis/core/incident"
	"urgentis/core/plain"
)

// decisionPart is a gate or a question: raised, whom it called, and what was decided.
type decisionPart struct {
	step, said   string
	word         string
	by           string
	comment      string
	asked, until time.Time
	at           time.Time
	targets      map[string]bool
	calls, lines []Text
	reasons      []string
	open         int
	state        State
	counts       map[string]int
	question     string
}

func newDecision() part {
	return &decisionPart{targets: map[string]bool{}, counts: map[string]int{}, state: Waiting}
}

func (p *decisionPart) add(e *entry) {
	if e.of.Title != "" {
		p.step = e.of.Title
	} else if p.step == "" {
		p.step = e.Title
	}
	switch c := e.content.(type) {
	case incident.GateContent:
		p.raised(e, c)
	case incident.DecidedContent:
		p.decided(e, c)
	case incident.QuestionContent:
		p.open++
		p.asked, p.until, p.state, p.question = e.At, c.Until, Waiting, c.Text
	case incident.AnswerContent:
		p.answered(e, c)
	case incident.StepContent:
		p.word, p.state, p.at, p.reasons = "allowed", Good, e.At, c.Reasons
	case incident.PeopleContent:
		p.calls = append(p.calls, text(strings.TrimPrefix(e.Title, "Calls ")))
	}
}

func (p *decisionPart) raised(e *entry, c incident.GateContent) {
	if p.open == 0 && !p.asked.IsZero() {
		p.lines = append(p.lines, text("asked anew ", clock(e.At)))
	}
	if strings.Contains(e.Title, "Undo: ") && !strings.HasPrefix(p.step, "Undo: ") {
		p.step = "Undo: " + p.step
	}
	p.open++
	p.asked, p.until, p.state, p.reasons = e.At, c.Until, Waiting, c.Reasons
	for _, r := range c.Requests {
		p.targets[r.Target] = true
	}
}

func (p *decisionPart) decided(e *entry, c incident.DecidedContent) {
	if e.Kind == incident.GateTurnedAway {
		p.lines = append(p.lines, text("not taken of ", who(e.Actor), " (", c.Said, "): ", c.Because))
		return
	}
	p.open = max(0, p.open-1)
	p.at, p.by, p.comment = e.At, e.Actor, c.Comment
	switch e.Kind {
	case incident.GateApproved:
		p.word = "approved"
	case incident.GateRefused:
		p.word = "refused"
	case incident.GateExpired:
		p.word, p.by = "expired", ""
		if c.Because != "" {
			p.word = "withdrawn"
			p.lines = append(p.lines, text(c.Because))
		}
	}
	if p.counts[p.word]++; p.word != "approved" && p.open > 0 {
		p.lines = append(p.lines, text(p.word, " ", who(e.Actor), " ", clock(e.At)))
	}
	p.state = map[string]State{"approved": Good, "refused": Over, "expired": Bad, "withdrawn": Over}[p.word]
	if p.open > 0 {
		p.state = Waiting
	}
}

func (p *decisionPart) answered(e *entry, c incident.AnswerContent) {
	p.open = max(0, p.open-1)
	p.at, p.by, p.comment, p.state, p.word = e.At, e.Actor, c.Comment, Good, "answered"
	p.said = c.Label
	if p.said == "" {
		p.said = c.Choice
	}
	if e.Kind == incident.QuestionExpired {
		p.word, p.state, p.by = "expired", Bad, ""
	}
	if strings.HasPrefix(e.Actor, "runbook:") {
		p.by = ""
		for _, v := range c.Values {
			p.lines = append(p.lines, text(short(v.Part), " ", value(cut(plain.Line(v.Text)))))
		}
	}
	for _, k := range sorted(c.Fields) {
		p.lines = append(p.lines, text(k, " ", value(say(c.Fields[k]))))
	}
}

func (p *decisionPart) draw(r *Row) {
	r.Lane, r.Weight, r.State, r.Title = Decision, Tell, p.state, p.step
	if r.Targets = sorted(p.targets); len(r.Targets) > 1 {
		r.Title += ", " + count(len(r.Targets))
	}
	r.Below = bounded(slices.Concat(p.called(), p.lines))
	if p.word == "" || p.open > 0 {
		r.Word = map[bool]string{true: "asked", false: "gate"}[p.question != ""]
		r.Says = text("waits")
		if !p.until.IsZero() {
			r.Says = text(r.Says, ", expires ", clock(p.until))
		}
		if len(p.reasons) > 0 {
			r.Says = text(r.Says, ": ", strings.Join(p.reasons, "; "))
		}
		return
	}
	if r.Word = p.word; p.word == "allowed" {
		r.Weight, r.Says = Detail, text("without asking: ", strings.Join(p.reasons, "; "))
		return
	}
	r.Says = p.byWhom()
	if n := p.counts["refused"]; n > 0 && p.counts["approved"] > 0 {
		r.Says = text(r.Says, "; ", count(p.counts["approved"]), " approved, ", count(n), " refused")
	}
}

// byWhom says who decided, when, after how long, and with what words.
func (p *decisionPart) byWhom() Text {
	waited := ""
	if !p.asked.IsZero() {
		waited = ", after " + plain.Lasted(p.at.Sub(p.asked))
	}
	var t Text
	switch {
	case p.by == "" && p.word == "answered":
		t = text(value(p.said), ", by itself")
		return t
	case p.by == "":
		t = text(clock(p.at), waited)
	case p.said != "":
		t = text(value(p.said), ": ", who(p.by), ", ", clock(p.at), waited)
	default:
		t = text(who(p.by), ", ", clock(p.at), waited)
	}
	if p.comment != "" {
		t = text(t, ": ", quote("“"+cut(plain.Line(p.comment))+"”"))
	}
	return t
}

func (p *decisionPart) called() []Text {
	if len(p.calls) == 0 {
		return nil
	}
	return []Text{text("called ", join("; ", p.calls...))}
}
