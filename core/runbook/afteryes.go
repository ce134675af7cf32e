package runbook

import (
	"fmt"
	"maps"
	"slices"
	"strings"
)

// AfterYes says in a few lines what follows a yes for a step of this book: what is looked at once more before anything
// is touched, what decides whether it helped, and where each way ends. name tells who somebody is; nil leaves that as
// it is written.
func (b *Book) AfterYes(s *Step, name func(string) string) []string {
	var out []string
	changes := changesIn(s)
	if line := looksAgain(changes); line != "" {
		out = append(out, line)
	}
	proven := false
	for _, p := range b.proofsAfter(s, changes) {
		if strings.HasPrefix(p.Path, s.Path+".") {
			out = append(out, fmt.Sprintf("Each is proven by “%s”%s; if it is not, %s.", p.Title, p.Again.within(),
				b.leadsTo(p, p.Fails.Or(trouble), name)))
			continue
		}
		out = append(out, b.decides(p, name))
		proven = true
	}
	if !proven {
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
		return "It rechecks first, and skips targets that no longer need it."
	}
	return "It rechecks before each change, and skips targets that no longer need it."
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

// decides says what a check leads to.
func (b *Book) decides(p *Step, name func(string) string) string {
	return fmt.Sprintf("“%s”%s: if so, %s; if not, %s.", p.Title, p.Again.within(),
		b.leadsTo(p, p.Passes.Or(GoOn), name), b.leadsTo(p, p.Fails.Or(trouble), name))
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
			return fmt.Sprintf("it goes on with “%s”", next.Title)
		}
		return End{Kind: EndOver}.Says(name)
	case UndoWord:
		return "what was done is undone, and it is " + End{Kind: EndHandedOver, To: b.OnCall()}.Says(name)
	}
	f := follower{book: b, smooth: true}
	c := f.branch(way, unsaid)
	if way.Word == trouble {
		for p := s; p != nil; _, p = f.around(p) {
			if p.OnError.Word == UndoWord {
				return "what was done is undone, and it is " + End{Kind: EndHandedOver, To: b.OnCall()}.Says(name)
			}
		}
	}
	ends := slices.SortedFunc(maps.Keys(f.onward(s, c)), compareEnds)
	if len(ends) > 3 {
		return "it goes on, to one of several ends"
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
