package runbook

import (
	"fmt"
	"maps"
	"slices"
	"strings"
)

// mostAfterYes bounds how many lines tell what follows a yes.
const mostAfterYes = 4

// AfterYes says in a few lines what follows a yes for a step of this book: what is rechecked before anything is
// touched, what proves it, and where each way ends. name tells who somebody is; nil leaves that as it is written.
func (b *Book) AfterYes(s *Step, name func(string) string) []string {
	var out []string
	changes := changesIn(s)
	if line := looksAgain(changes); line != "" {
		out = append(out, line)
	}
	proven, more := false, 0
	for _, p := range b.proofsAfter(s, changes) {
		if strings.HasPrefix(p.Path, s.Path+".") {
			out = append(out, fmt.Sprintf("Each proved by “%s”%s; one that fails: %s.", p.Title, p.Again.within(),
				b.leadsTo(p, p.Fails.Or(trouble), name)))
			continue
		}
		proven = true
		if len(out) > mostAfterYes-2 {
			more++
			continue
		}
		out = append(out,
			fmt.Sprintf("“%s” passes%s: %s.", p.Title, p.Again.within(), b.leadsTo(p, p.Passes.Or(GoOn), name)),
			fmt.Sprintf("It fails: %s.", b.leadsTo(p, p.Fails.Or(trouble), name)))
	}
	switch {
	case more == 1:
		out = append(out, "Then one more check.")
	case more > 1:
		out = append(out, fmt.Sprintf("Then %d more checks.", more))
	case !proven:
		out = append(out, "Then: "+b.leadsTo(s, Branch{Word: GoOn}, name)+".")
	}
	return out
}

// looksAgain says what must still hold before anything is touched.
func looksAgain(changes []*Step) string {
	var still []string
	for _, c := range changes {
		if c.Still != nil && !slices.Contains(still, c.Still.Source) {
			still = append(still, c.Still.Source)
		}
	}
	switch len(still) {
	case 0:
		return ""
	case 1:
		return "Rechecks first, skips targets that no longer need it."
	}
	return "Rechecks before each change, skips what no longer needs it."
}

// proofsAfter lists the checks that prove what a step changes, those within its own block first.
func (b *Book) proofsAfter(s *Step, changes []*Step) []*Step {
	var out []*Step
	for _, c := range changes {
		for _, p := range b.proofs(c) {
			if !slices.Contains(out, p) {
				out = append(out, p)
			}
		}
	}
	slices.SortStableFunc(out, func(x, y *Step) int {
		in := func(p *Step) int {
			if strings.HasPrefix(p.Path, s.Path+".") {
				return 0
			}
			return 1
		}
		return in(x) - in(y)
	})
	return out
}

// leadsTo says where a branch of a step leads if all goes well from there: to ends, or to the step after it.
func (b *Book) leadsTo(s *Step, way Branch, name func(string) string) string {
	switch way.Word {
	case GoOn:
		next := b.next(s)
		switch {
		case next == nil:
		case next.Verb == Close:
			return End{Kind: EndClosed, Outcome: next.Outcome}.Says(name)
		case next.Verb == HandOver:
			return End{Kind: EndHandedOver, To: next.To}.Says(name)
		default:
			return fmt.Sprintf("goes on with “%s”", next.Title)
		}
		return End{Kind: EndOver}.Says(name)
	case UndoWord:
		return "undone, then " + End{Kind: EndHandedOver, To: b.OnCall()}.Says(name)
	}
	f := follower{book: b, smooth: true}
	c := f.branch(way, unsaid)
	if way.Word == trouble {
		for p := s; p != nil; _, p = f.around(p) {
			if p.OnError.Word == UndoWord {
				return "undone, then " + End{Kind: EndHandedOver, To: b.OnCall()}.Says(name)
			}
		}
	}
	ends := slices.SortedFunc(maps.Keys(f.onward(s, c)), compareEnds)
	if len(ends) > 3 {
		return "goes on, to one of several ends"
	}
	var says []string
	for _, e := range ends {
		says = append(says, e.Says(name))
	}
	return strings.Join(says, ", or ")
}

// next is the step that follows a step where nothing special happens; nil where it is the last.
func (b *Book) next(s *Step) *Step {
	f := follower{book: b}
	for s != nil {
		list, parent := f.around(s)
		if i := slices.Index(list, s); i+1 < len(list) {
			return list[i+1]
		}
		s = parent
	}
	return nil
}
