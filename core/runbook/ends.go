package runbook

import (
	"cmp"
	"maps"
	"slices"
	"strings"
)

// End is one way in which a run can end.
type End struct {
	Kind    EndKind
	Outcome string // of a close
	To      string // of a hand-over
}

// EndKind is what kind of end it is.
type EndKind string

// The kinds of ends: closed with an outcome, handed over to people, stopped as failed, or over without having closed
// the incident.
const (
	EndClosed     EndKind = "closed"
	EndHandedOver EndKind = "handed over"
	EndFailed     EndKind = "failed"
	EndOver       EndKind = "over"
)

// Says is the end in words. name tells who somebody is, such as who is on call; nil leaves it as it is written.
func (e End) Says(name func(who string) string) string {
	to := e.To
	if name != nil {
		to = name(to)
	}
	switch e.Kind {
	case EndClosed:
		return "closed as " + e.Outcome
	case EndHandedOver:
		return "handed over to " + to
	case EndFailed:
		return "ended as failed"
	}
	return "at its end, with the incident still open"
}

func compareEnds(a, b End) int {
	rank := func(e End) int {
		return slices.Index([]EndKind{EndClosed, EndOver, EndHandedOver, EndFailed}, e.Kind)
	}
	return cmp.Or(rank(a)-rank(b), strings.Compare(a.Outcome, b.Outcome), strings.Compare(a.To, b.To))
}

// Word is what a gate or a question is told; silence is the word of nobody.
type Word string

// Answer is the word of whoever answers a question with a choice.
func Answer(choice string) Word { return Word("answer " + choice) }

// The words.
const (
	Yes     Word = "yes"
	No      Word = "no"
	Silence Word = "silence"
)

// EndsAfter lists every way in which a run of the runbook can end after the gate, or the question, of the step at a
// place is told a word, those of what calls the step's runbook included. What cannot be foreseen (a cancel, or what the
// runbook provides for where its alert turns) is not among them. paths are those of the steps that call, one in the
// other, and of the step itself.
func (b *Book) EndsAfter(paths []string, word Word) []End {
	books := []*Book{b}
	for _, p := range paths[:len(paths)-1] {
		call := books[len(books)-1].Step(p)
		if call == nil {
			return nil
		}
		books = append(books, books[len(books)-1].Callee(call.Callee))
	}
	var set map[End]bool
	for i := len(paths) - 1; i >= 0; i-- {
		f := follower{book: books[i]}
		s := books[i].Step(paths[i])
		if s == nil && set == nil {
			set = f.undoing(paths[i])
			continue
		}
		if s == nil {
			return nil
		}
		r := newCourse()
		if set == nil {
			r = f.told(s, word)
		} else {
			r.called(set)
		}
		set = f.onward(s, r)
	}
	return slices.SortedFunc(maps.Keys(set), compareEnds)
}

// undoing are the ends that may come where somebody is asked while changes are undone, by the word undo at a
// path: that of a branch of a step, or on_error of the whole. What is undone is in trouble, and nothing provides
// for that.
func (f follower) undoing(path string) map[End]bool {
	final := func(c course) course {
		out := newCourse()
		for t := range c.troubles {
			t.final = true
			out.troubles[t] = true
		}
		return out
	}
	at := strings.LastIndexByte(path, '.')
	if at < 0 {
		return f.ends(final(f.list(f.book.Steps)))
	}
	s := f.book.Step(path[:at])
	if s == nil {
		return nil
	}
	return f.onward(s, final(f.step(s)))
}

// mishap is a trouble that travels outward.
type mishap struct {
	to          string
	stop, final bool
}

// course is how steps can come out: the flow goes on, ends, or is in trouble.
type course struct {
	on       bool
	ends     map[End]bool
	troubles map[mishap]bool
}

func newCourse() course { return course{ends: map[End]bool{}, troubles: map[mishap]bool{}} }

// or adds another way to come out.
func (c *course) or(d course) {
	c.on = c.on || d.on
	maps.Copy(c.ends, d.ends)
	maps.Copy(c.troubles, d.troubles)
}

// called is how a call comes out whose runbook ends in one of these ways.
func (c *course) called(set map[End]bool) {
	for e := range set {
		switch e.Kind {
		case EndHandedOver:
			c.troubles[mishap{to: e.To}] = true
		case EndFailed:
			c.troubles[mishap{stop: true}] = true
		default:
			c.on = true
		}
	}
}

// follower follows the flow of one runbook or part.
type follower struct {
	book  *Book
	depth int // calls within calls
	// smooth leaves out what nobody wrote: troubles that may come to any step.
	smooth bool
}

// list is how a list of steps can come out.
func (f follower) list(steps []*Step) course {
	out := newCourse()
	for _, s := range steps {
		c := f.step(s)
		on := c.on
		c.on = false
		out.or(c)
		if !on {
			return out
		}
	}
	out.on = true
	return out
}

// branch is how a branch can come out; unsaid stands for one that nobody wrote.
func (f follower) branch(b Branch, unsaid Branch) course {
	if b.Word == "" && b.Steps == nil {
		b = unsaid
	}
	out := newCourse()
	switch b.Word {
	case GoOn:
		out.on = true
	case Stop:
		out.troubles[mishap{stop: true, final: true}] = true
	case HandOverWord:
		out.troubles[mishap{final: true}] = true
	case UndoWord, trouble:
		out.troubles[mishap{}] = true
		out.troubles[mishap{final: true}] = b.Word == UndoWord // no undo in this runbook
	default:
		return f.list(b.Steps)
	}
	maps.DeleteFunc(out.troubles, func(_ mishap, may bool) bool { return !may })
	return out
}

// step is how a step can come out, with what is provided for its troubles.
func (f follower) step(s *Step) course { return f.caught(s, f.inside(s)) }

func (f follower) caught(s *Step, c course) course { return f.catch(c, s.OnError) }

// catch is what a branch makes of the troubles of a course.
func (f follower) catch(c course, b Branch) course {
	if b.Word == "" && b.Steps == nil {
		return c
	}
	out := newCourse()
	out.on = c.on
	maps.Copy(out.ends, c.ends)
	for t := range c.troubles {
		if t.final {
			out.troubles[t] = true
			continue
		}
		switch b.Word {
		case GoOn:
			out.on = true
		case Stop:
			out.troubles[mishap{stop: true, final: true}] = true
		case HandOverWord:
			out.troubles[mishap{to: t.to, final: true}] = true
		case UndoWord:
			out.troubles[t] = true
			out.troubles[mishap{to: t.to, final: true}] = true
		default:
			out.or(f.list(b.Steps))
		}
	}
	return out
}

// anyTrouble is the trouble that may come to any step.
func (f follower) anyTrouble() course {
	out := newCourse()
	if !f.smooth {
		out.troubles[mishap{}] = true
		out.troubles[mishap{final: true}] = true
	}
	return out
}

// unsaid is a branch that nobody wrote, where its step is in trouble.
var unsaid = Branch{Word: trouble}

// inside is how a step can come out by itself. Any step can be in trouble: an expression cannot be evaluated.
func (f follower) inside(s *Step) course {
	out := newCourse()
	out.or(f.anyTrouble())
	if s.When != nil {
		out.or(f.list(s.Otherwise))
	}
	switch {
	case s.Verb == Close:
		out.ends[End{Kind: EndClosed, Outcome: s.Outcome}] = true
		return out
	case s.Verb == HandOver:
		out.ends[End{Kind: EndHandedOver, To: s.To}] = true
		return out
	case s.Verb == Check || s.Verb == Wait:
		out.or(f.branch(s.Passes, Branch{Word: GoOn}))
		if f.smooth && s.Proves != "" {
			return out
		}
		for _, b := range []Branch{s.Fails, s.Unsure} {
			if !f.smooth || b.Steps != nil {
				out.or(f.branch(b, unsaid))
			}
		}
		return out
	case s.Ask != nil:
		out.or(f.answers(s.Ask))
		return out
	case s.Verb == Call:
		if callee := f.book.Callee(s.Callee); callee != nil && f.depth < MaxCalls {
			out.called(follower{callee, f.depth + 1, f.smooth}.whole())
		}
		return out
	case s.Verb == Change || s.Verb == Each || s.Verb == Together:
		out.or(f.told(s, Yes))
		if !f.smooth {
			out.or(f.told(s, No))
			out.or(f.told(s, Silence))
		}
		return out
	}
	out.on = true
	return out
}

// answered is how a question can come out that is answered with a choice, or by nobody.
func (f follower) answered(s *Step, choice string, silence bool) course {
	q := s.Ask
	out := newCourse()
	out.or(f.anyTrouble())
	switch {
	case silence:
		out.or(f.branch(q.Unanswered, Branch{Word: HandOverWord}))
	case choice == NoneOfThese:
		out.or(f.branch(q.None, Branch{Word: HandOverWord}))
	case choice == Back:
		return f.inside(s) // whatever is asked anew around it is among what may come to that
	default:
		out.on = len(q.Choices) == 0
		for _, c := range q.Choices {
			if c.Name == choice {
				out.or(f.list(c.Steps))
			}
		}
	}
	if q.AskAgain != nil {
		out.or(f.answers(q))
	}
	return out
}

func (f follower) answers(q *Question) course {
	out := newCourse()
	out.on = len(q.Choices) == 0
	for _, c := range q.Choices {
		out.or(f.list(c.Steps))
	}
	if !f.smooth {
		out.or(f.branch(q.None, Branch{Word: HandOverWord}))
		out.or(f.branch(q.Unanswered, Branch{Word: HandOverWord}))
	}
	return out
}

// told is how a step can come out once its gate, or its question, is told a word.
func (f follower) told(s *Step, word Word) course {
	if choice, is := strings.CutPrefix(string(word), "answer "); s.Ask != nil && (is || word == Silence) {
		return f.answered(s, choice, word == Silence)
	} else if is {
		return f.inside(s) // it is asked what became of the change
	}
	out := newCourse()
	out.or(f.anyTrouble())
	if word != Yes {
		var b Branch
		if s.Gate != nil && word == No {
			b = s.Gate.Refused
		} else if s.Gate != nil {
			b = s.Gate.Unanswered
		}
		if b.Word == "" && b.Steps == nil {
			return out
		}
		return f.branch(b, unsaid)
	}
	out.on = true
	if s.Otherwise != nil {
		out.or(f.list(s.Otherwise))
	}
	out.or(f.list(s.Steps))
	for _, b := range s.Branches {
		out.or(f.list(b.Steps))
	}
	if s.Each != nil {
		out.or(f.list(s.Each.Between))
	}
	return out
}

// whole is every end that a runbook can come to.
func (f follower) whole() map[End]bool { return f.ends(f.list(f.book.Steps)) }

// ends are the ends of a runbook whose steps come out in one of these ways.
func (f follower) ends(c course) map[End]bool {
	caught := f.catch(c, f.book.OnError)
	if f.book.OnError.Steps != nil {
		maps.Copy(caught.troubles, c.troubles) // its steps did something, and did not end the run
		caught.on = c.on
	}
	out := caught.ends
	if caught.on {
		out[End{Kind: EndOver}] = true
	}
	for t := range caught.troubles {
		switch {
		case t.stop:
			out[End{Kind: EndFailed}] = true
		case t.to != "":
			out[End{Kind: EndHandedOver, To: t.to}] = true
		default:
			out[End{Kind: EndHandedOver, To: f.book.OnCall()}] = true
		}
	}
	if !f.smooth && (f.book.Finally != nil || f.book.Limits.GiveUpAfter > 0) {
		out[End{Kind: EndHandedOver, To: f.book.OnCall()}] = true
	}
	return out
}

// onward are the ends of the runbook where the step comes out in one of these ways.
func (f follower) onward(s *Step, c course) map[End]bool {
	c = f.caught(s, c)
	for {
		list, parent := f.around(s)
		if c.on {
			i := slices.Index(list, s)
			rest := f.list(list[i+1:])
			c.on = false
			c.or(rest)
		}
		if parent == nil {
			break
		}
		switch {
		case !f.smooth && (parent.Each != nil || parent.Verb == Together || parent.Ask != nil):
			// Beside it, before or after it, all that stands in the step around may come; to an ask one may go back.
			c.or(f.inside(parent))
		default:
			c.or(f.anyTrouble())
		}
		s, c = parent, f.caught(parent, c)
	}
	if !slices.Contains(f.book.Steps, s) {
		// It stands in what belongs to the whole: the run goes on, or ends, as it was about to.
		out := f.whole()
		maps.Copy(out, f.ends(c))
		return out
	}
	return f.ends(c)
}

// around gives the list that a step stands in, and the step that this is part of; nil at the outermost.
func (f follower) around(s *Step) ([]*Step, *Step) {
	for p := s.Path; strings.Contains(p, "."); {
		p = p[:strings.LastIndexByte(p, '.')]
		if parent := f.book.Step(p); parent != nil {
			for _, l := range parent.branches() {
				if slices.Contains(l.steps, s) {
					return l.steps, parent
				}
			}
		}
	}
	for _, l := range f.book.lists() {
		if slices.Contains(l.steps, s) {
			return l.steps, nil
		}
	}
	return []*Step{s}, nil
}
