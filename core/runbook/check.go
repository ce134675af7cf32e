package runbook

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"urgentis/core/doc"
	"urgentis/core/expr"
)

// OpenEnd warns of a path that says nothing of how it ends.
const OpenEnd = "a path ends here without close or hand_over: the incident stays open for a person"

// check finds what only shows in the whole: references, order, proofs, paths.
func (d *decoder) check(root ast.Node) {
	b := d.book
	line := func(s *Step, warning bool, meant, format string, args ...any) {
		d.Findings = append(
			d.Findings,
			Finding{
				Line:    s.Line,
				Column:  s.Column,
				Warning: warning,
				Message: fmt.Sprintf(format, args...),
				Meant:   meant,
			},
		)
	}
	key := func(s *Step, key, meant, format string, args ...any) {
		d.Findings = append(
			d.Findings,
			Finding{Line: s.LineOf(key), Column: s.Column, Message: fmt.Sprintf(format, args...), Meant: meant},
		)
	}
	w := &whole{decoder: d, line: line, key: key, proved: map[string]bool{}}
	for _, s := range b.All() {
		w.references(s)
		w.bounded(s)
	}
	for _, l := range b.lists() {
		w.paths(l.steps, within{undone: l.name == "" && b.OnError.Word == UndoWord})
	}
	taken := map[string]bool{}
	for _, l := range b.lists() {
		w.order(l.steps, taken, nil)
	}
	for _, r := range b.Results {
		for _, h := range r.Value.Holes() {
			for _, n := range h.Refers("readings") {
				if !taken[n] {
					d.Fail(root, "result %s uses reading %s, which no path takes", r.Name, n)
				}
			}
		}
	}
	if last := lastOf(b.Steps); last != nil && !d.part && !ends(b.Steps) {
		line(last, true, "", OpenEnd)
	}
}

// whole checks what only shows in the whole.
type whole struct {
	*decoder
	line   lineFunc
	key    keyFunc
	proved map[string]bool
}

// undoes refuses an undo_change of what is no change before it, or has no undo.
func (w *whole) undoes(s *Step) {
	b := w.book
	c := b.byID[s.UndoOf]
	switch {
	case c == nil || c.Verb != Change && c.Verb != Each && c.Verb != Together:
		w.key(s, "of", doc.Nearest(s.UndoOf, keys(b.byID)), "of names no change, each or together: there is none "+
			"with the id %s", s.UndoOf)
	case c.Line > s.Line || strings.HasPrefix(s.Path, c.Path+"."):
		w.key(s, "of", "", "%s does not stand before this step", s.UndoOf)
	case !strings.HasPrefix(s.Path, concurrent(b, c.Path)):
		w.key(s, "of", "", "%s stands inside an each or a together: undo all of that", s.UndoOf)
	default:
		if why := b.neverSees(s, c); why != "" {
			w.key(s, "of", "", "%s %s: there would be nothing to undo", s.UndoOf, why)
		}
	}
	if c == nil {
		return
	}
	changes := changesIn(c)
	if len(changes) == 0 {
		w.key(s, "of", "", "%s changes nothing", s.UndoOf)
	}
	for _, x := range changes {
		if x.Undo == nil {
			w.key(s, "of", "", "the change %q has no undo", x.Title)
		}
	}
}

func (w *whole) references(s *Step) {
	b, ids := w.book, keys(w.book.byID)
	if s.Retake != "" {
		if l := b.byID[s.Retake]; l == nil && b.takes[s.Retake] != nil && b.takes[s.Retake].ID != "" {
			w.key(
				s,
				"retake",
				"",
				"retake names a look by its id: %s is taken by the look %s",
				s.Retake,
				b.takes[s.Retake].ID,
			)
		} else if l == nil || l.Verb != Look {
			w.key(s, "retake", doc.Nearest(s.Retake, ids), "retake names no look: there is none with the id "+
				"%s", s.Retake)
		} else if !strings.HasPrefix(s.Path, concurrent(b, l.Path)) {
			w.key(s, "retake", "", "look %s stands inside an each or a together: it can be retaken only "+
				"there", s.Retake)
		}
	}
	if s.UndoOf != "" {
		w.undoes(s)
	}
	if s.Proves != "" {
		w.proved[s.Proves] = true
		if c := b.byID[s.Proves]; c == nil || c.Verb != Change {
			meant := doc.Nearest(s.Proves, ids)
			w.key(s, "proves", meant, "proves names no change: there is none with the id %s", s.Proves)
			w.proved[meant] = true // that nothing proves it would be said of the same slip
		} else if why := b.neverSees(s, c); why != "" {
			w.key(s, "proves", "", "the change %s %s: this check can prove nothing of it", s.Proves, why)
		}
	}
	if q := s.Ask; q != nil {
		labels := map[string]bool{}
		for _, c := range q.Choices {
			if labels[strings.ToLower(c.Label)] {
				w.line(s, false, "", "nobody can reach the choice %s: another one has the same label", c.Name)
			}
			labels[strings.ToLower(c.Label)] = true
			w.approves(s, c.Name, c.Approves)
		}
	}
	for _, p := range s.programs() {
		for _, c := range p.Compared("answers") {
			if a := b.byID[c.Of]; a != nil && a.Ask != nil && c.Field == "choice" && !a.Ask.has(c.Value) {
				w.line(s, false, doc.Nearest(c.Value, a.Ask.names()), "the question %s has no choice %s", c.Of, c.Value)
			}
		}
	}
}

// approves refuses a choice that approves what is no change, or one that does not follow it.
func (w *whole) approves(s *Step, choice, id string) {
	a := w.book.byID[id]
	own := s.Path + ".choices."
	switch {
	case id == "":
	case a == nil || a.Verb != Change:
		meant := doc.Nearest(id, keys(w.book.byID))
		w.line(s, false, meant, "approves names no change: there is none with the id %s", id)
	case w.book.neverSees(a, s) != "":
		w.line(s, false, "", "the choice %s approves the change %s, which does not come after it", choice, id)
	case strings.HasPrefix(a.Path, own) && !strings.HasPrefix(a.Path, own+choice+"."):
		w.line(s, false, "", "the choice %s approves the change %s, which stands in another choice", choice, id)
	}
}

func (q *Question) names() []string {
	out := []string{NoneOfThese}
	for _, c := range q.Choices {
		out = append(out, c.Name)
	}
	return out
}

func (q *Question) has(name string) bool { return name == "" || slices.Contains(q.names(), name) }

// concurrent is the path up to and with the innermost each or branch of a together around a step; "" without one.
func concurrent(b *Book, place string) string {
	segs := strings.Split(place, ".")
	for i := len(segs) - 1; i > 0; i-- {
		if around := b.byPath[strings.Join(segs[:i], ".")]; around != nil {
			switch {
			case around.Verb == Each && segs[i] == "do":
				return strings.Join(segs[:i+1], ".") + "."
			case around.Verb == Together && segs[i] == "branches":
				return strings.Join(segs[:i+2], ".") + "."
			}
		}
	}
	return ""
}

// within says what stands around a step.
type within struct {
	concurrent bool // an each or a together
	gate       bool
	proved     bool // a block around is proved
	undone     bool // on_error of a block around takes its changes back
}

// paths finds steps that nobody reaches, ends where others are still under way, and changes that nobody proves.
func (w *whole) paths(list []*Step, in within) {
	for i, s := range list {
		if i > 0 && ends(list[:i]) && !ends(list[:i-1]) {
			w.line(s, true, "", "nobody reaches this step: every path ends before it")
		}
		if (s.Verb == Close || s.Verb == HandOver) && in.concurrent {
			w.line(
				s,
				false,
				"",
				"%s cannot stand inside an each or a together, where other steps are under way: end the run after it",
				s.Verb,
			)
		}
		inner := in
		inner.proved = in.proved || s.ID != "" && w.proved[s.ID]
		inner.gate = in.gate || s.Gate != nil
		inner.concurrent = in.concurrent || s.Verb == Each || s.Verb == Together
		inner.undone = in.undone || s.OnError.Word == UndoWord
		if s.Verb == Change && s.Do != nil {
			if inner.undone && s.Undo == nil {
				w.line(s, true, "", "on_error undoes changes, and this one has no undo: it would stay as it is")
			}
			if !inner.proved {
				w.line(
					s,
					true,
					"",
					"nothing proves this change: add a check with proves: ID that takes the reading again",
				)
			}
			if s.Still == nil && inner.gate {
				w.line(s, true, "", "without still: nobody looks again between the approval and the change")
			}
		}
		for _, br := range s.branches() {
			w.paths(br.steps, inner)
		}
	}
}

// keyFunc reports an error at one of a step's keys.
type keyFunc func(s *Step, key, meant, format string, args ...any)

type lineFunc func(s *Step, warning bool, meant, format string, args ...any)

// order walks the paths and finds readings that are used before any path takes them. known is what was
// taken when the gate around was raised; nil without one.
func (w *whole) order(list []*Step, taken, known map[string]bool) {
	for _, s := range list {
		w.uses(s, taken, known)
		for _, r := range s.Read {
			taken[r.Name] = true
		}
		if (s.Verb == Check || s.Verb == Wait) && s.ID != "" {
			taken["check "+s.ID] = true
		}
		inGate := known
		if s.Gate != nil && s.Do == nil {
			inGate = copied(taken)
		}
		after := map[string]bool{}
		for _, br := range s.branches() {
			inner := copied(taken)
			if s.Verb != Together {
				maps.Copy(inner, after)
			}
			if s.Ask != nil && s.ID != "" {
				inner["answer "+s.ID] = true
			}
			w.order(br.steps, inner, inGate)
			// Another path may have taken it; what is not there at run time is unsure, never guessed.
			maps.Copy(after, inner)
		}
		maps.Copy(taken, after)
		if s.Ask != nil && s.ID != "" {
			taken["answer "+s.ID] = true
		}
		if s.Verb == Call && s.ID != "" {
			taken["call "+s.ID] = true
		}
	}
}

func copied(m map[string]bool) map[string]bool {
	out := make(map[string]bool, len(m))
	maps.Copy(out, m)
	return out
}

func (w *whole) uses(s *Step, taken, known map[string]bool) {
	if look := w.book.byID[s.Retake]; look != nil && len(look.Read) > 0 && !taken[look.Read[0].Name] {
		w.line(s, false, "", "look %s is retaken before it was taken", s.Retake)
	}
	if s.Agrees != nil && !taken[s.Agrees.Reading] {
		w.line(s, false, "", "reading %s is used before any path takes it", s.Agrees.Reading)
	}
	for _, p := range s.programs() {
		for _, r := range p.Refers("readings") {
			if !taken[r] {
				w.line(s, false, "", "reading %s is used before any path takes it", r)
			}
		}
		for object, kind := range map[string]string{"checks": "check", "answers": "answer", "calls": "call"} {
			for _, c := range p.Refers(object) {
				if !taken[kind+" "+c] && c != s.ID {
					w.line(s, false, "", "%s %s is used before it is made", kind, c)
				}
			}
		}
	}
	if s.Verb != Change || s.Do == nil {
		return
	}
	for _, t := range slices.Concat(s.Do.Templates(), s.Undo.Templates()) {
		for _, h := range t.Holes() {
			if h.Calls("first") {
				w.line(s, true, "own", "first() takes the value of whichever target comes first by name")
			}
			for _, r := range h.Refers("readings") {
				if known != nil && !known[r] && h.Bound() == nil {
					w.line(
						s,
						false,
						"",
						"{{ %s }} is not known yet when the gate around stands: give it a bound, as in within(…, "+
							"'[0-9]+')",
						h.Source,
					)
				}
			}
		}
	}
}

// programs lists every expression of a step, without those of the steps in it.
func (s *Step) programs() []*expr.Program {
	out := []*expr.Program{s.When, s.That, s.Still, s.Happened, s.UndoThat}
	for _, t := range s.templates() {
		out = append(out, t.Holes()...)
	}
	if s.Ask != nil {
		out = append(out, s.Ask.AskAgain)
		for _, c := range s.Ask.Choices {
			out = append(out, c.Itself)
		}
	}
	if s.Each != nil {
		out = append(out, s.Each.Over)
	}
	return slices.DeleteFunc(out, func(p *expr.Program) bool { return p == nil })
}

func (s *Step) templates() []*expr.Template {
	out := slices.Concat(s.Do.Templates(), s.Undo.Templates(), []*expr.Template{s.Text, s.Because})
	sorted := func(m map[string]*expr.Template) {
		for _, k := range keys(m) {
			out = append(out, m[k])
		}
	}
	sorted(s.Given)
	if s.Ask != nil {
		out = append(out, s.Ask.Text)
		sorted(s.Ask.Suggest)
	}
	selectors := []*Selector{s.Where}
	if s.Each != nil {
		selectors = append(selectors, s.Each.Where, s.Each.Peers)
	}
	for _, sel := range selectors {
		if sel != nil {
			out = append(out, sel.Name)
			sorted(sel.Labels)
		}
	}
	return slices.DeleteFunc(out, func(t *expr.Template) bool { return t == nil })
}

func lastOf(list []*Step) *Step {
	if len(list) == 0 {
		return nil
	}
	return list[len(list)-1]
}

// ends reports whether every path through the list ends the run.
func ends(list []*Step) bool {
	for _, s := range list {
		if s.When != nil {
			continue
		}
		switch s.Verb {
		case Close, HandOver:
			return true
		case Check:
			word := func(b Branch, def string) bool {
				b = b.Or(def)
				return b.Word != "" && b.Word != GoOn || b.Steps != nil && ends(b.Steps)
			}
			if word(s.Passes, GoOn) && word(s.Fails, HandOverWord) && word(s.Unsure, HandOverWord) {
				return true
			}
		case Ask:
			if len(s.Ask.Choices) > 0 && s.Ask.AskAgain == nil &&
				!slices.ContainsFunc(s.Ask.Choices, func(c Choice) bool { return !ends(c.Steps) }) {
				return true
			}
		}
	}
	return false
}
