package runbook

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"urgentis/core/doc"
	"urgentis/core/expr"
)

// loops follows the calls of parts: what they are given, and that none calls itself in the end.
func (d *decoder) loops() {
	for _, list := range d.calls {
		for _, c := range list {
			p := d.book.Parts[c.step.Callee]
			if p == nil {
				continue
			}
			if err := p.takesInputs(c.step.Given); err != nil {
				d.Fail(c.node, "%s", err)
			}
		}
	}
	var visit func(name string, trail []string) bool
	visit = func(name string, trail []string) bool {
		for _, c := range d.calls[name] {
			next := c.step.Callee
			if d.book.Parts[next] == nil {
				continue
			}
			if slices.Contains(trail, next) {
				d.Fail(c.node, "part %s would call itself: %s", next, strings.Join(append(trail, next), " → "))
				return false
			}
			if len(trail) >= MaxCalls {
				d.Fail(c.node, "calls may stand %d deep in one another", MaxCalls)
				return false
			}
			if !visit(next, append(slices.Clone(trail), next)) {
				return false
			}
		}
		return true
	}
	visit("", nil)
	for _, p := range keys(d.book.Parts) {
		if !visit(p, []string{p}) {
			return
		}
	}
}

// takesInputs compares what a call gives with what is taken.
func (b *Book) takesInputs(given map[string]*expr.Template) error {
	var names []string
	for _, in := range b.Inputs {
		names = append(names, in.Name)
		if in.Default == nil && given[in.Name] == nil {
			return fmt.Errorf("the call does not give %s the input %s, which has no default", b.Name, in.Name)
		}
	}
	for _, k := range keys(given) {
		if !slices.Contains(names, k) {
			f := Finding{Message: fmt.Sprintf("%s has no input %s", b.Name, k), Meant: doc.Nearest(k, names)}
			return errors.New(f.Sentence())
		}
	}
	return nil
}

// Link gives the book with the other runbooks that it calls, and those that they call. lookup returns nil
// for a runbook that is not there. Findings tell what is missing, given wrongly, or called in a circle.
func (b *Book) Link(lookup func(name string) *Book) (*Book, Findings) {
	l := &linker{lookup: lookup, done: map[string]*Book{}}
	out := l.link(b, []string{b.Name})
	if l.findings.Failed() {
		return nil, l.findings
	}
	return out, l.findings
}

type linker struct {
	lookup   func(string) *Book
	done     map[string]*Book
	findings Findings
	// at is the step of the outermost book that is followed: what is wrong further in is shown there.
	at *Step
}

func (l *linker) fail(s *Step, meant, format string, args ...any) {
	message := fmt.Sprintf(format, args...)
	if l.at != nil && l.at != s {
		message = "in what " + l.at.Callee + " calls: " + message
		s = l.at
	}
	l.findings = append(l.findings, Finding{Line: s.Line, Column: s.Column, Message: message, Meant: meant})
}

func (l *linker) link(b *Book, trail []string) *Book {
	out := *b
	out.linked = map[string]*Book{}
	if b.Parts != nil && b.linked == nil {
		out.Parts = map[string]*Book{}
		for n, p := range b.Parts {
			c := *p
			c.linked, c.Parts = out.linked, out.Parts
			out.Parts[n] = &c
		}
	}
	for _, s := range b.allCalls() {
		if b.Parts[s.Callee] != nil {
			continue
		}
		if len(trail) == 1 {
			l.at = s
		}
		if slices.Contains(trail, s.Callee) {
			l.fail(s, "", "runbook %s would call itself: %s", s.Callee, strings.Join(append(trail, s.Callee), " → "))
			continue
		}
		if len(trail) > MaxCalls {
			l.fail(s, "", "calls may stand %d deep in one another", MaxCalls)
			continue
		}
		callee := l.done[s.Callee]
		if callee == nil {
			found := l.lookup(s.Callee)
			if found == nil {
				l.fail(s, "", "there is no part and no runbook %s to call", s.Callee)
				continue
			}
			callee = l.link(found, append(slices.Clone(trail), s.Callee))
			l.done[s.Callee] = callee
		}
		if err := callee.takesInputs(s.Given); err != nil {
			l.fail(s, "", "%s", err)
		}
		out.linked[s.Callee] = callee
	}
	return &out
}

// allCalls lists the calls of the runbook and of its parts.
func (b *Book) allCalls() []*Step {
	var out []*Step
	books := []*Book{b}
	for _, n := range keys(b.Parts) {
		books = append(books, b.Parts[n])
	}
	for _, x := range books {
		for _, s := range x.All() {
			if s.Verb == Call {
				out = append(out, s)
			}
		}
	}
	return out
}

// Calls lists the other runbooks that this one calls, by name.
func (b *Book) Calls() []string {
	var out []string
	for _, s := range b.allCalls() {
		if b.Parts[s.Callee] == nil && !slices.Contains(out, s.Callee) {
			out = append(out, s.Callee)
		}
	}
	slices.Sort(out)
	return out
}
