package runbook

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"urgentis/core/expr"
)

var accountPattern = regexp.MustCompile(`^[a-z_][a-z0-9_-]{0,31}$`)

// complete finds what one step lacks, and titles that are words with a meaning of their own.
func (d *decoder) complete(s *Step, n ast.Node, got map[string]ast.Node) {
	if s.Do != nil {
		d.completeDo(s, n, got)
	}
	switch s.Verb {
	case Look:
		for _, r := range s.Read {
			if old := d.book.takes[r.Name]; old != nil {
				d.fail(got["read"], "reading %s is taken by two looks", r.Name)
			}
			d.book.takes[r.Name] = s
		}
		if h := s.Do.HTTP; h != nil && h.Method != "GET" && h.Method != "HEAD" {
			d.fail(got["http"], "a look only reads: use GET or HEAD, or make it a change")
		}
	case Check:
		if s.That == nil {
			d.fail(n, "a check needs that: CONDITION")
		}
		if s.Again != nil && s.Retake == "" {
			d.fail(got["again"], "again needs retake: without a new look the answer stays the same")
		}
	case Tell:
		if s.Text == nil && s.Source == "" {
			s.Text = plain(d, s.Title)
		}
	case Note:
		if s.Text == nil {
			d.fail(n, "a note needs text")
		}
	case Close:
		s.Outcome = s.Title
		if !slices.Contains(Outcomes, s.Outcome) {
			d.at(position(got["close"]), 0, false, "close needs an outcome: "+strings.Join(Outcomes, ", "), nearest(s.Outcome, Outcomes))
		}
		if s.Because == nil {
			d.fail(n, "close needs because: the record says why")
		}
	case HandOver:
		s.To = d.people(got["hand_over"], "hand_over")
		if s.Because == nil {
			d.fail(n, "hand_over needs because: whoever takes it must know why")
		}
	}
}

func plain(d *decoder, s string) *expr.Template {
	t, err := d.cel.CompileTemplate(s, expr.InStep)
	if err != nil {
		return nil
	}
	return t
}

func (d *decoder) completeDo(s *Step, n ast.Node, got map[string]ast.Node) {
	if (len(s.Do.Run) > 0) == (s.Do.HTTP != nil) {
		d.fail(n, "a %s needs one way of doing: run or http", s.Verb)
		return
	}
	if len(s.Do.Run) > 0 && s.Where == nil && !s.Do.FromHere {
		d.fail(n, "where does this run? give where: {LABEL: VALUE}, or from: here")
	}
	if s.Where != nil && s.Where.Name == nil && len(s.Where.Labels) == 0 {
		d.fail(got["where"], "where selects by name or by labels")
	}
	if s.Undo != nil && s.Undo.HTTP != nil && s.Do.HTTP == nil && s.Where == nil {
		d.fail(got["undo"], "undo must act where the change acts")
	}
	if s.Again != nil && s.Again.Steady > 0 {
		d.fail(got["again"], "steady is for a check")
	}
	if s.Where == nil {
		d.noTarget(s, got)
	}
}

// noTarget refuses the names that only a target gives.
func (d *decoder) noTarget(s *Step, got map[string]ast.Node) {
	for key, do := range map[string]*Do{"": s.Do, "undo": s.Undo} {
		for _, t := range do.Templates() {
			for _, h := range t.Holes() {
				if len(h.Refers("target")) > 0 {
					n := got["http"]
					if n == nil {
						n = got["run"]
					}
					if key != "" {
						n = got[key]
					}
					d.fail(n, "there is no target here; give where: {LABEL: VALUE}")
					return
				}
			}
		}
	}
}

// Templates lists every text of a way of doing that may have holes.
func (do *Do) Templates() []*expr.Template {
	if do == nil {
		return nil
	}
	out := slices.Clone(do.Run)
	if h := do.HTTP; h != nil {
		out = append(out, h.URL)
		for _, k := range keys(h.Headers) {
			out = append(out, h.Headers[k])
		}
		var add func(v *Value)
		add = func(v *Value) {
			if v == nil {
				return
			}
			if v.Text != nil {
				out = append(out, v.Text)
			}
			for _, x := range v.List {
				add(x)
			}
			for _, x := range v.Map {
				add(x)
			}
		}
		add(h.Body)
	}
	return out
}

// check finds what only shows in the whole: references, order, proofs.
func (d *decoder) check() {
	b := d.book
	proved := map[string]bool{}
	line := func(s *Step, warning bool, meant, format string, args ...any) {
		d.findings = append(d.findings, Finding{Line: s.Line, Column: 1, Warning: warning, Message: fmt.Sprintf(format, args...), Meant: meant})
	}
	ids := keys(b.byID)
	for _, s := range b.All() {
		if s.Retake != "" {
			if l := b.byID[s.Retake]; l == nil || l.Verb != Look {
				line(s, false, nearest(s.Retake, ids), "retake names no look: there is none with the id %s", s.Retake)
			}
		}
		if s.Proves != "" {
			if c := b.byID[s.Proves]; c == nil || c.Verb != Change {
				line(s, false, nearest(s.Proves, ids), "proves names no change: there is none with the id %s", s.Proves)
			}
			proved[s.Proves] = true
		}
	}
	for _, s := range b.All() {
		if s.Verb == Change && !proved[s.ID] {
			line(s, true, "", "nothing proves this change: add a check with proves: ID that takes the reading again")
		}
		if s.Verb == Change && s.Still == nil && s.Gate != nil {
			line(s, true, "", "without still: nobody looks again between the approval and the change")
		}
	}
	taken := map[string]bool{}
	d.order(b.Steps, taken, line)
	if last := lastOf(b.Steps); last != nil && !ends(b.Steps) {
		line(last, true, "", "a path ends here without close or hand_over: the incident stays open for a person")
	}
}

type lineFunc func(s *Step, warning bool, meant, format string, args ...any)

// order walks the paths and finds readings that are used before any path takes them.
func (d *decoder) order(list []*Step, taken map[string]bool, line lineFunc) {
	use := func(s *Step, p *expr.Program) {
		if p == nil {
			return
		}
		for _, r := range p.Refers("readings") {
			if !taken[r] {
				line(s, false, "", "reading %s is used before any path takes it", r)
			}
		}
		for _, c := range p.Refers("checks") {
			if !taken["check "+c] {
				line(s, false, "", "check %s is used before it is made", c)
			}
		}
	}
	for _, s := range list {
		if look := d.book.byID[s.Retake]; look != nil && len(look.Read) > 0 && !taken[look.Read[0].Name] {
			line(s, false, "", "look %s is retaken before it was taken", s.Retake)
		}
		use(s, s.When)
		use(s, s.That)
		use(s, s.Still)
		for _, t := range s.templates() {
			for _, h := range t.Holes() {
				use(s, h)
			}
		}
		for _, r := range s.Read {
			taken[r.Name] = true
		}
		if s.Verb == Check && s.ID != "" {
			taken["check "+s.ID] = true
		}
		for _, br := range s.branches() {
			inner := map[string]bool{}
			for k := range taken {
				inner[k] = true
			}
			d.order(br.steps, inner, line)
			// Another path may have taken it; what is not there at run time is unsure, never guessed.
			for k := range inner {
				taken[k] = true
			}
		}
	}
}

func (s *Step) templates() []*expr.Template {
	out := slices.Concat(s.Do.Templates(), s.Undo.Templates())
	for _, t := range []*expr.Template{s.Text, s.Because} {
		if t != nil {
			out = append(out, t)
		}
	}
	if s.Where != nil {
		if s.Where.Name != nil {
			out = append(out, s.Where.Name)
		}
		for _, k := range keys(s.Where.Labels) {
			out = append(out, s.Where.Labels[k])
		}
	}
	return out
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
				return b.Word == Stop || b.Word == HandOverWord || b.Steps != nil && ends(b.Steps)
			}
			if word(s.Passes, GoOn) && word(s.Fails, HandOverWord) && word(s.Unsure, HandOverWord) {
				return true
			}
		}
	}
	return false
}
