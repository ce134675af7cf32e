package tell

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"urgentis/core/expr"
	"urgentis/core/runbook"
)

// Answer is what follows one word of whoever is asked: a row of the table that they read before they decide.
type Answer struct {
	// Word is Yes, No, Nobody, or the choice of a question.
	Word string
	// Says is a sentence a line, four at most.
	Says []string
	// At is when it comes to it; zero: as soon as the word is said.
	At time.Time
}

// The words of a gate, and the one of nobody.
const (
	Yes    = "yes"
	No     = "no"
	Nobody = "nobody"
)

// AnswerTo finds what follows a word; nil where nothing is known of it.
func (b *Brief) AnswerTo(word string) *Answer {
	i := slices.IndexFunc(b.Answers, func(a Answer) bool { return a.Word == word })
	if i < 0 {
		return nil
	}
	return &b.Answers[i]
}

// In is the answer in one line.
func (a *Answer) In() string {
	if a == nil {
		return ""
	}
	return strings.Join(a.Says, " ")
}

// mostLines bounds in how many lines it is told what follows a word.
const mostLines = 4

// lines tells what follows where there is no yes. name tells who somebody is; nil leaves that as it is written.
func (w Way) lines(name func(string) string) []string {
	var out []string
	for _, m := range w.First {
		out = append(out, m.says())
	}
	if n := len(out); n > mostLines-1 {
		out = append(out[:mostLines-2], fmt.Sprintf("And %d steps more.", n-mostLines+2))
	}
	switch {
	case w.Ended != nil:
		out = append(out, sentence(w.Ended.Says(name)))
	case len(w.Ends) > 0:
		out = append(out, "Ends: "+saysEnds(w.Ends, name)+".")
	}
	return out
}

func sentence(s string) string { return strings.ToUpper(s[:1]) + s[1:] + "." }

func saysEnds(list []runbook.End, name func(string) string) string {
	const most = 3
	var out []string
	for _, e := range list[:min(len(list), most)] {
		out = append(out, e.Says(name))
	}
	if more := len(list) - most; more > 0 {
		out = append(out, fmt.Sprintf("in one of %d more ways", more))
	}
	return strings.Join(out, ", or ")
}

func (m Move) says() string {
	title := m.Place.String()
	verb := runbook.Verb("")
	if m.Step != nil {
		title, verb = m.Step.Title, m.Step.Verb
	}
	on := ""
	targets := slices.DeleteFunc(slices.Clone(m.Targets), func(t string) bool { return t == "" })
	switch n := len(targets); {
	case n > 3:
		on = fmt.Sprintf(" on %d targets", n)
	case n > 0:
		on = " on " + expr.Words(targets)
	}
	switch {
	case m.Undo:
		return fmt.Sprintf("Undoes “%s”%s.", title, on)
	case m.Again:
		return fmt.Sprintf("Takes “%s” again%s first.", title, on)
	case m.Asks:
		return fmt.Sprintf("Asks people: “%s”.", title)
	case verb == runbook.Note, verb == runbook.Tell:
		return fmt.Sprintf("%ss “%s”.", strings.ToUpper(string(verb[:1]))+string(verb[1:]), title)
	}
	return fmt.Sprintf("Goes on with “%s”%s.", title, on)
}
