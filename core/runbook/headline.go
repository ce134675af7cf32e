package runbook

import (
	"fmt"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"urgentis/core/expr"
	"urgentis/core/plain"
)

// Extent is how far a change would reach, as it is known when it is asked for.
type Extent struct {
	Targets []string // those that it would touch, each once
	Of      int      // how many targets the service has; 0 where that is not known
	AtOnce  int      // how many items of an each are under way at once; 0: one after the other
}

// Headline is a change, or a block of changes, in words that somebody who never saw the runbook understands.
type Headline struct {
	What   string // what it does, and on what
	How    string // how many at once, and what proves it
	Stops  string // what stops it; "" for one target
	Back   string // what would be undone by itself, and what can be
	Cannot string // what has no undo; "" where all can
}

// Says is the headline in one line.
func (h Headline) Says() string {
	out := strings.Join(filled(h.What, h.How), ", ")
	return strings.Join(filled(out, h.Stops, h.Back, h.Cannot), "; ") + "."
}

func filled(list ...string) []string {
	return slices.DeleteFunc(list, func(s string) bool { return s == "" })
}

// Headline says what a step means to change, as far as it would reach.
func (b *Book) Headline(s *Step, x Extent) Headline {
	changes := changesIn(s)
	return Headline{
		What:   whatOf(s, changes) + b.reach(x),
		How:    strings.Join(filled(pace(s, x), b.provenHow(s, changes)), ", "),
		Stops:  stops(s, x),
		Back:   b.undoes(s, changes),
		Cannot: cannot(changes),
	}
}

// Changes lists the changes of a step: itself, or those of a block on every path through it.
func (s *Step) Changes() []*Step { return changesIn(s) }

// ProofsOf lists the checks that prove what a step changes, those within its own block first.
func (b *Book) ProofsOf(s *Step) []*Step { return b.proofsAfter(s, changesIn(s)) }

// changesIn lists the changes of a step: itself, or those of a block on every path through it.
func changesIn(s *Step) []*Step {
	if s.Verb == Change && s.Do != nil {
		return []*Step{s}
	}
	var out []*Step
	for _, l := range s.branches() {
		if s.Gate != nil && (l.name == "refused" || l.name == "unanswered") {
			continue
		}
		for _, x := range l.steps {
			out = append(out, changesIn(x)...)
		}
	}
	return out
}

// whatOf names what is done: the titles of what is done whatever comes, and how many changes more there may be.
func whatOf(s *Step, changes []*Step) string {
	var always []string
	more := 0
	for _, c := range changes {
		if c != s && !straight(s, c) {
			more++
			continue
		}
		title := strings.TrimRight(c.Title, ".")
		if len(always) > 0 {
			title = lowerFirst(title)
		}
		if !slices.Contains(always, title) {
			always = append(always, title)
		}
	}
	const most = 3
	if len(always) == 0 {
		return s.Title
	}
	if len(always) > most {
		always = append(always[:most:most], fmt.Sprintf("%d changes more", len(always)-most))
	}
	out := expr.Words(always)
	switch {
	case more == 1:
		out += " (and, where it is needed, one change more)"
	case more > 1:
		out += fmt.Sprintf(" (and, where they are needed, %d changes more)", more)
	}
	return out
}

// straight reports whether a step within a block is come to on the way straight through it.
func straight(block, s *Step) bool {
	rest := strings.TrimPrefix(s.Path, block.Path+".")
	for piece := range strings.SplitSeq(rest, ".") {
		if piece != "do" && strings.Trim(piece, "0123456789") != "" {
			return false
		}
	}
	return true
}

// lowerFirst lets a title stand within a sentence, unless its first word is a name of capitals.
func lowerFirst(s string) string {
	r, n := utf8.DecodeRuneInString(s)
	if next, _ := utf8.DecodeRuneInString(s[n:]); unicode.IsUpper(next) {
		return s
	}
	return string(unicode.ToLower(r)) + s[n:]
}

// How many targets are named, in how many letters, before only their number is said.
const (
	mostNamed = 4
	mostNames = 30
)

// reach says on what, and on how many of how many.
func (b *Book) reach(x Extent) string {
	n := len(x.Targets)
	of := fmt.Sprintf("targets of %s", b.Service)
	switch {
	case n == 0 || n == 1 && x.Targets[0] == "":
		return " on the host of the service itself"
	case n == 1 && x.Of > 1:
		return fmt.Sprintf(" on %s, 1 of %d %s", x.Targets[0], x.Of, of)
	case n == 1:
		return " on " + x.Targets[0]
	case n <= mostNamed && len(expr.Words(x.Targets)) <= mostNames && x.Of >= n:
		how := fmt.Sprintf("%d of %d", n, x.Of)
		if n == x.Of {
			how = fmt.Sprintf("all %d", n)
		}
		return fmt.Sprintf(" on %s, %s %s", expr.Words(x.Targets), how, of)
	case n == x.Of:
		return fmt.Sprintf(" on all %d %s", n, of)
	case x.Of > n:
		return fmt.Sprintf(" on %d of %d %s", n, x.Of, of)
	}
	return fmt.Sprintf(" on %d targets", n)
}

// pace says how many are under way at once.
func pace(s *Step, x Extent) string {
	each := eachIn(s)
	switch {
	case len(x.Targets) < 2:
		return ""
	case each == nil || x.AtOnce < 2:
		return "one after the other"
	case x.AtOnce >= len(x.Targets):
		return "all at once"
	}
	return fmt.Sprintf("%d at a time", x.AtOnce)
}

// EachIn is the each that goes over the targets of a block; nil without one.
func (s *Step) EachIn() *Step { return eachIn(s) }

// eachIn is the each that goes over the targets of a block; nil without one.
func eachIn(s *Step) *Step {
	if s.Verb == Each {
		return s
	}
	if s.Verb != Change || s.Do != nil {
		return nil
	}
	for _, x := range s.Steps {
		if e := eachIn(x); e != nil {
			return e
		}
	}
	return nil
}

// provenHow says what proves the changes.
func (b *Book) provenHow(s *Step, changes []*Step) string {
	each := eachIn(s)
	var unproven []string
	within, after := false, []string{}
	for _, c := range changes {
		proven := false
		for _, p := range b.proofs(c) {
			proven = true
			if each != nil && strings.HasPrefix(p.Path, each.Path+".do.") {
				within = true
			} else if says := "“" + p.Title + "”" + p.Again.within(); !slices.Contains(after, says) {
				after = append(after, says)
			}
		}
		if !proven {
			unproven = append(unproven, c.Title)
		}
	}
	switch {
	case within:
		return "each proved before the next"
	case len(after) > 0:
		return "proved by " + expr.Words(after)
	case len(unproven) == len(changes):
		return "and nothing proves it"
	}
	return ""
}

// proofs lists the checks that prove a change.
func (b *Book) proofs(c *Step) []*Step {
	var out []*Step
	for _, x := range b.All() {
		if c.ID != "" && x.Proves == c.ID {
			out = append(out, x)
		}
	}
	return out
}

// within says for how long a check is made again, if it is.
func (a *Again) within() string {
	switch {
	case a == nil:
		return ""
	case a.For > 0:
		return " within " + plain.Span(a.For)
	}
	return fmt.Sprintf(" at the %d. time at the latest", a.Times)
}

// stops says what keeps it from going on.
func stops(s *Step, x Extent) string {
	each := eachIn(s)
	switch {
	case len(x.Targets) < 2:
		return ""
	case each == nil || each.Each.Tolerate == 0:
		return "stops at the first failure"
	case each.Each.Tolerate == 1:
		return "stops where more than one fails"
	}
	return fmt.Sprintf("stops where more than %d fail", each.Each.Tolerate)
}

// cannotBeUndone says it of what its author says it of.
func cannotBeUndone(titles []string, of int) string {
	switch {
	case of == 1:
		return "it cannot be undone"
	case len(titles) > 3:
		return fmt.Sprintf("%d of its changes cannot be undone", len(titles))
	}
	return expr.Words(titles) + " cannot be undone"
}

// undoes says what is undone without asking, or could be.
func (b *Book) undoes(s *Step, changes []*Step) string {
	can := slices.ContainsFunc(changes, func(c *Step) bool { return c.Undo != nil })
	switch {
	case !can:
		return ""
	case b.undoesFor(s, changes):
		return "what was done is undone if it fails"
	}
	return "it can be undone"
}

// undoesFor reports whether the runbook undoes changes by itself where they fail or are not proven.
func (b *Book) undoesFor(s *Step, changes []*Step) bool {
	if b.OnError.Word == UndoWord || s.OnError.Word == UndoWord {
		return true
	}
	for p := s.Path; p != ""; p = p[:max(0, strings.LastIndexByte(p, '.'))] {
		if outer := b.Step(p); outer != nil && outer.OnError.Word == UndoWord {
			return true
		}
	}
	for _, c := range changes {
		for _, p := range b.proofs(c) {
			if p.Fails.Word == UndoWord {
				return true
			}
		}
	}
	return false
}

// cannot says what has no undo.
func cannot(changes []*Step) string {
	var titles []string
	stated := true
	for _, c := range changes {
		if title := "“" + c.Title + "”"; c.Undo == nil && !slices.Contains(titles, title) {
			titles, stated = append(titles, title), stated && c.NoUndo
		}
	}
	if stated && len(titles) > 0 {
		return cannotBeUndone(titles, len(changes))
	}
	switch {
	case len(titles) == 0:
		return ""
	case len(changes) == 1:
		return "no undo in this runbook"
	case len(titles) > 3:
		return fmt.Sprintf("%d of its changes have no undo", len(titles))
	case len(titles) == 1:
		return titles[0] + " has no undo"
	}
	return expr.Words(titles) + " have no undo"
}
