package runbook

import (
	"fmt"
	"strconv"
	"strings"

	"urgentis/core/plain"
)

// Term is one condition under which a step is taken, as a sentence for people. Kind says what it is about: when, still,
// gate, undo, proof, again, bound or end.
type Term struct{ Kind, Says string }

// Terms lists the conditions of a step of this runbook, in the order in which they come to bear.
func (b *Book) Terms(s *Step) []Term {
	var out []Term
	add := func(kind, format string, args ...any) { out = append(out, Term{kind, fmt.Sprintf(format, args...)}) }
	if s.When != nil {
		add("when", "only when %s", s.When.Source)
	}
	if s.Still != nil {
		add("still", "only if then still %s", s.Still.Source)
	}
	for _, g := range b.gateTerms(s) {
		add("gate", "%s", g)
	}
	if s.Retake != "" {
		add("again", "takes %s anew", s.Retake)
	}
	if s.Again != nil {
		add("again", "%s", s.Again.says())
	}
	if s.Proves != "" {
		add("proof", "proves %s", b.quoted(s.Proves))
	}
	if s.Verb == Change && s.Do != nil {
		out = append(out, b.changeTerms(s)...)
	}
	for _, x := range s.bounds() {
		add("bound", "%s", x)
	}
	for _, w := range b.ways(s) {
		if w.steps == nil && !w.goesOn() {
			add("end", "%s → %s", w.label, b.endSays(w.word))
		}
	}
	return out
}

// quoted is a step's title, found by its id.
func (b *Book) quoted(id string) string {
	if s := b.ByID(id); s != nil {
		return fmt.Sprintf("%q (%s)", s.Title, s.Path)
	}
	return id
}

// gateTerms tells who is asked before a change, and what follows where there is no yes.
func (b *Book) gateTerms(s *Step) []string {
	switch {
	case s.Gate != nil:
		out := []string{"gate: " + s.Gate.says(b)}
		for _, w := range b.gateWays(s) {
			if w.steps == nil {
				out = append(out, w.label+" → "+b.endSays(w.word))
			}
		}
		return out
	case s.Do == nil || s.Verb != Change:
		return nil
	case b.approvedBefore(s):
		return []string{"needs an approval that was given before it"}
	}
	return []string{"has no gate of its own: the stance of the service decides whether it asks"}
}

// approvedBefore reports whether a yes for the step is given by a block around it or by an answer.
func (b *Book) approvedBefore(s *Step) bool {
	for _, x := range b.All() {
		if x.Gate != nil && strings.HasPrefix(s.Path, x.Path+".do") {
			return true
		}
		if x.Ask == nil || s.ID == "" {
			continue
		}
		for _, c := range x.Ask.Choices {
			if c.Approves == s.ID {
				return true
			}
		}
	}
	return false
}

// says tells whom a gate asks, and what it wants of them.
func (g *Gate) says(b *Book) string {
	ask := g.Ask
	if ask == "" {
		ask = b.Team()
	}
	out := "asks " + ask
	if g.People > 1 {
		out += fmt.Sprintf(", %d people", g.People)
	}
	if g.Comment {
		out += ", with a comment"
	}
	if g.Within > 0 {
		out += ", within " + plain.Span(g.Within)
	}
	return out
}

func (b *Book) changeTerms(s *Step) []Term {
	var out []Term
	if s.Undo == nil {
		out = append(out, Term{"undo", "no undo in this runbook"})
	} else if s.UndoOnlyIfDone {
		out = append(out, Term{"undo", "is undone only if it was done whole"})
	}
	if s.UndoThat != nil {
		out = append(out, Term{"undo", "once undone, " + s.UndoThat.Source + " must hold"})
	}
	proof := "nothing proves it"
	if by := b.proofsOf(s); len(by) > 0 {
		proof = "proved by " + strings.Join(by, " and ")
	}
	out = append(out, Term{"proof", proof})
	if s.Repeatable {
		out = append(out, Term{"again", "is begun again by itself where its outcome is not known"})
	}
	if s.Happened != nil {
		out = append(out, Term{"again", "counts as done where " + s.Happened.Source})
	}
	return out
}

// proofsOf names the checks that prove a change.
func (b *Book) proofsOf(s *Step) []string {
	var out []string
	for _, x := range b.proofs(s) {
		out = append(out, fmt.Sprintf("%q (%s)", x.Title, x.Path))
	}
	return out
}

func (a *Again) says() string {
	out := "again every " + plain.Span(a.Every)
	if a.Times > 0 {
		out += fmt.Sprintf(", %d times at most", a.Times)
	}
	if a.For > 0 {
		out += ", for " + plain.Span(a.For) + " at most"
	}
	if a.Steady > 0 {
		out += ", until it passed for " + plain.Span(a.Steady) + " without a break"
	}
	return out
}

// bounds tells what bounds a step, where the runbook says so.
func (s *Step) bounds() []string {
	var out []string
	if _, said := s.lines["timeout"]; said {
		out = append(out, plain.Span(s.Timeout)+" at most")
	}
	if s.AtOnce > 0 {
		out = append(out, fmt.Sprintf("%d at once", s.AtOnce))
	}
	if s.Fresh > 0 {
		out = append(out, "on readings not older than "+plain.Span(s.Fresh))
	}
	if s.WaitFor > 0 {
		out = append(out, "waits "+plain.Span(s.WaitFor))
	}
	if e := s.Each; e != nil {
		out = append(out, "for each "+e.says()+", "+e.pace())
	}
	if q := s.Ask; q != nil {
		if q.Within > 0 {
			out = append(out, "within "+plain.Span(q.Within))
		}
		if q.AskAgain != nil {
			out = append(out, fmt.Sprintf("asked anew while %s, %d times at most", q.AskAgain.Source, q.Rounds))
		}
	}
	return out
}

// says tells over what an each goes.
func (e *Iteration) says() string {
	switch {
	case e.Over != nil:
		return e.Named + " of " + e.Over.Source
	case e.Peers != nil:
		return "pair of targets"
	}
	return "target"
}

// pace tells how many items are under way at once, and how many may fail.
func (e *Iteration) pace() string {
	out := "one after the other"
	switch {
	case e.Percent:
		out = strconv.Itoa(e.AtOnce) + "% at once"
	case e.AtOnce > 1:
		out = strconv.Itoa(e.AtOnce) + " at once"
	}
	switch e.Tolerate {
	case 0:
		return out + ", none may fail"
	case 1:
		return out + ", one may fail"
	}
	return out + fmt.Sprintf(", %d may fail", e.Tolerate)
}
