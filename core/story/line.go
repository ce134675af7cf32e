package story

import (
	"strings"
	"time"

	"urgentis/core/expr"
	"urgentis/core/incident"
	"urgentis/core/plain"
)

// mostPrinted is how many lines of what was printed stand in the record's lines.
const mostPrinted = 3

// Line tells an entry of the record: its word, and what it says beside its title, in a line each.
func Line(e *incident.Entry) (word string, says []Text) {
	c := e.Read()
	word = e.Kind.About().Word
	var out []Text
	if e.Kind.About().Said && !strings.HasPrefix(e.Actor, "runbook:") && e.Kind != incident.Note &&
		e.Kind != incident.Outward {
		out = append(out, text("by ", who(e.Actor)))
	}
	switch c := c.(type) {
	case incident.AttemptContent:
		if c.State != "ok" && e.Kind != incident.LookTaken && e.Kind != incident.LookIncomplete {
			word = map[bool]string{true: "undo fails", false: "failed"}[e.Kind == incident.UndoDone]
		}
		out = append(out, attemptLines(e.Kind, c)...)
	case incident.JudgedContent:
		out = append(out, judgedLines(e.Kind, c)...)
	case incident.GateContent:
		out = append(out, gateLines(c)...)
	case incident.IntentContent:
		out = append(out, text("on ", Span{Text: here(c.Target), Is: Target}, ": ", code(oneLine(c.Shown))))
		if c.Undo != "" && e.Kind == incident.ChangeBegun {
			out = append(out, text("undo: ", code(oneLine(c.Undo))))
		}
	case incident.QuestionContent:
		out = append(out, text(c.Text))
	case incident.AnswerContent:
		out = append(out, answerLines(c)...)
	case incident.AlertContent:
		out = append(out, alertLines(e, c)...)
	default:
		out = append(out, otherLines(e, c)...)
	}
	return word, filledLines(out)
}

// filledLines leaves out what is empty, and what is beyond the bound.
func filledLines(list []Text) []Text {
	var out []Text
	for _, t := range list {
		if t.String() != "" {
			out = append(out, t)
		}
	}
	return bounded(out)
}

func oneLine(s string) string {
	return cut(plain.Line(strings.ReplaceAll(strings.TrimSpace(s), "\n", " ⏎ ")))
}

// attemptLines tell how an attempt went on its target: what was read, how it ended, and what was printed.
func attemptLines(kind incident.Kind, c incident.AttemptContent) []Text {
	var read []Text
	for _, name := range sorted(c.Readings) {
		s := c.Readings[name]
		read = append(read, text(name, " ", value(withUnit(say(s.Value), s.Unit))))
	}
	line := join(", ", read...)
	if len(read) == 0 {
		line = text(code(oneLine(c.Shown)))
	}
	end := c.State
	if c.Exit != nil {
		end = map[bool]string{true: "status ", false: "exit "}[*c.Exit >= 200] + count(*c.Exit)
	}
	out := []Text{text(Span{Text: here(c.Target), Is: Target}, ": ", line, " (", end, ", ",
		plain.Lasted(time.Duration(c.TookMS)*time.Millisecond), ")")}
	if c.Error != "" {
		out = append(out, text(oneLine(c.Error)))
	}
	for _, name := range sorted(c.Missing) {
		out = append(out, text(name, " is missing: ", c.Missing[name]))
	}
	if c.State != "ok" && c.Stderr.Head != "" {
		out = append(out, printedLines(c.Stderr.Head)...)
	}
	if kind != incident.LookTaken || len(c.Readings) == 0 {
		out = append(out, printedLines(c.Output.Head)...)
	}
	if c.Says != "" && c.Says != "done" {
		out = append(out, text(c.Says))
	}
	return out
}

func printedLines(s string) []Text {
	var out []Text
	lines := strings.Split(strings.TrimSpace(s), "\n")
	for i, l := range lines {
		if l == "" || i == mostPrinted {
			break
		}
		out = append(out, text("printed: ", code(cut(plain.Line(l)))))
	}
	return out
}

func judgedLines(kind incident.Kind, c incident.JudgedContent) []Text {
	var out []Text
	if kind == incident.ChangeStill || kind == incident.ChangeSettled || kind == incident.UndoJudged {
		out = append(out, text(c.Result, " on ", Span{Text: here(c.Target), Is: Target}))
	}
	for _, v := range c.Values {
		out = append(out, text(short(v.Part), " is ", value(oneLine(v.Text)), onTarget(v)))
	}
	out = append(out, text(c.Unsure))
	for _, d := range c.Differences {
		out = append(out, text(strings.TrimSpace(d.Target+" "+d.At), " ", d.Says))
	}
	if c.Rounds > 1 {
		out = append(out, text("after ", count(c.Rounds), " rounds"))
	}
	return out
}

// onTarget names the target that gave a value.
func onTarget(v expr.Value) Text {
	if v.Target == "" {
		return nil
	}
	return text(" on ", Span{Text: v.Target, Is: Target})
}

func gateLines(c incident.GateContent) []Text {
	var out []Text
	for _, r := range c.Requests {
		out = append(out, text("on ", Span{Text: here(r.Target), Is: Target}, ": ", code(oneLine(r.Shown))))
		if r.Undo != "" {
			out = append(out, text("undo: ", code(oneLine(r.Undo))))
		}
	}
	asks := text("asks ", c.Ask)
	if !c.Until.IsZero() {
		asks = text(asks, ", expires ", clock(c.Until))
	}
	return append(bounded(out), text(asks, ": ", strings.Join(c.Reasons, "; ")))
}

func answerLines(c incident.AnswerContent) []Text {
	out := []Text{text(quoted(c.Comment))}
	for _, k := range sorted(c.Fields) {
		out = append(out, text(k, " ", value(say(c.Fields[k]))))
	}
	for _, v := range c.Values {
		out = append(out, text(short(v.Part), " is ", value(oneLine(v.Text))))
	}
	return append(out, text(c.Because), text(c.Says))
}

// quoted is what somebody said in marks of quotation; "" where nothing was.
func quoted(comment string) Span {
	if comment == "" {
		return Span{}
	}
	return quote("“" + oneLine(comment) + "”")
}

func alertLines(e *incident.Entry, c incident.AlertContent) []Text {
	if c.Mute != "" {
		return []Text{text(c.Because)}
	}
	line := text(c.Severity, " from ", strings.TrimPrefix(e.Actor, "source:"))
	if c.Was != "" && c.Was != c.Severity {
		line = text(c.Was, " → ", line)
	}
	for _, k := range sorted(c.Labels) {
		line = text(line, " ", k, "=", value(cut(plain.Line(c.Labels[k]))))
	}
	return []Text{line, text(c.Why)}
}

func otherLines(e *incident.Entry, c incident.Content) []Text {
	switch c := c.(type) {
	case incident.BegunContent:
		return []Text{text(startedBy(c.StartedBy), inputsOf(c.Inputs))}
	case incident.RunContent:
		return []Text{text(c.Because)}
	case incident.EndedContent:
		out := []Text{join(": ", text(c.Outcome), text(c.Because))}
		for _, l := range c.Changes {
			out = append(out, text(l.Title, " on ", named(l.Targets), ": ", l.Says))
		}
		for _, k := range sorted(c.Unsaid) {
			out = append(out, text(k, " is not known: ", c.Unsaid[k]))
		}
		return out
	case incident.DecidedContent:
		return []Text{text(quoted(c.Comment)), text(c.Because)}
	case incident.StepContent:
		out := []Text{text(c.Because), text(strings.Join(c.Items, ", ")), text(strings.Join(c.Reasons, "; "))}
		for _, l := range c.Left {
			out = append(out, text("not undone on ", Span{Text: here(l.Target), Is: Target}, ": ", l.Why))
		}
		return out
	case incident.WaitContent:
		if c.Holder != "" {
			return []Text{text(c.Key, " is held by run ", value(c.Holder))}
		}
		return []Text{text(c.Because), text(strings.Join(c.Keys, ", "))}
	case incident.NoteContent:
		return noteLines(e, c)
	case incident.FollowUpContent:
		return []Text{text(c.State, ": ", saysFollowUp(c)), text(c.Because)}
	case incident.StatedContent:
		return []Text{text(c.Field, ": ", c.Text)}
	case incident.ComparedContent:
		return textLines(c.Text)
	case incident.PastContent:
		var out []Text
		for _, m := range c.Missing {
			out = append(out, text(m))
		}
		return out
	case incident.PeopleContent:
		return []Text{text(c.Why), text(c.Because), text(oneLine(c.Error))}
	case incident.TicketContent:
		return append(textLines(c.Text), text(c.Link))
	case incident.HeadContent:
		return []Text{text(c.Because)}
	case incident.ClosedContent:
		out := []Text{text(c.Because)}
		for _, o := range c.Open {
			out = append(out, text(o))
		}
		return append(out, closedBelow(c)...)
	}
	return nil
}

func noteLines(e *incident.Entry, c incident.NoteContent) []Text {
	var out []Text
	if c.Text != e.Title {
		out = textLines(c.Text)
	}
	switch {
	case c.Source == "" || e.Kind != incident.Told:
	case c.NotTold != "":
		out = append(out, text("the alert's source is not told to ", c.Source, ": ", c.NotTold))
	default:
		out = append(out, text("the alert's source is told to ", c.Source))
	}
	return out
}

// textLines are the lines of a text.
func textLines(s string) []Text {
	var out []Text
	for _, l := range strings.Split(strings.TrimSpace(s), "\n") {
		out = append(out, text(cut(plain.Line(l))))
	}
	return out
}
