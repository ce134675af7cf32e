package runbook

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"urgentis/core/doc"
	"urgentis/core/reads"
)

// Estate is what a runbook is held against: what is there, as far as it matters to a text.
type Estate struct {
	Services []string       `json:"services"`
	Targets  []EstateTarget `json:"targets"` // those of the runbook's service
	// Reads is what is known to only read; nil: looks are not judged.
	Reads *reads.Set `json:"-"`
}

// EstateTarget is a target that selectors may select.
type EstateTarget struct {
	Name   string            `json:"name"`
	Labels map[string]string `json:"labels,omitempty"`
	// CannotWrite: the account that it is looked at with cannot write there.
	CannotWrite bool `json:"cannot_write,omitempty"`
}

// Against tells, as warnings, what a runbook names and the estate does not have: its service, and targets; and which of
// its looks are not known to only read.
func (b *Book) Against(e Estate) Findings {
	var looks Findings
	if e.Reads != nil {
		looks = b.Looks(e.Reads, append([]EstateTarget{}, e.Targets...))
	}
	return append(append(b.missing(e), b.Unstated()...), looks...)
}

// Unstated tells, as warnings, of changes without an undo whose author does not say what is lost by them: whoever is
// asked at night must guess it.
func (b *Book) Unstated() Findings {
	var found Findings
	for _, st := range b.Everything() {
		if st.Verb != Change || st.Do == nil || st.Undo != nil || st.Loses != "" {
			continue
		}
		found = append(found, Finding{Line: st.Line, Column: 1, Warning: true, Message: fmt.Sprintf(
			"“%s” has no undo and does not say what is lost: add undo, or undo: none and loses: what is lost, in a "+
				"line",
			st.Title)})
	}
	return found
}

// missing tells what a runbook names and the estate does not have.
func (b *Book) missing(e Estate) Findings {
	if !slices.Contains(e.Services, b.Service) {
		return Findings{{
			Line: b.LineOf("service"), Column: 1, Warning: true,
			Message: "there is no service " + b.Service, Meant: doc.Nearest(b.Service, e.Services),
		}}
	}
	var found Findings
	for _, st := range b.Everything() {
		for _, sel := range st.Selectors() {
			if says, meant := sel.missing(b.Service, e.Targets); says != "" {
				found = append(
					found,
					Finding{Line: st.LineOf("where"), Column: 1, Warning: true, Message: says, Meant: meant},
				)
			}
		}
	}
	return found
}

// missing says why a selector can select none of the targets; "" where it can. What is not written out may be anything.
func (sel *Selector) missing(service string, targets []EstateTarget) (says, meant string) {
	names := make([]string, len(targets))
	for i, t := range targets {
		names[i] = t.Name
		if sel.fits(t) {
			return "", ""
		}
	}
	if sel.Name != nil && len(sel.Name.Holes()) == 0 && !slices.Contains(names, sel.Name.Source) {
		return fmt.Sprintf(
				"the service %s has no target %s",
				service,
				sel.Name.Source,
			), doc.Nearest(
				sel.Name.Source,
				names,
			)
	}
	for _, k := range slices.Sorted(maps.Keys(sel.Labels)) {
		v := sel.Labels[k]
		if v == nil || len(v.Holes()) > 0 {
			continue
		}
		var values []string
		for _, t := range targets {
			if has, ok := t.Labels[k]; ok && !slices.Contains(values, has) {
				values = append(values, has)
			}
		}
		switch {
		case slices.Contains(values, v.Source):
		case len(values) == 0:
			return fmt.Sprintf("no target of the service %s has a label %s", service, k), ""
		default:
			return fmt.Sprintf("no target of the service %s has %s: %s; there are %s", service, k, v.Source,
				strings.Join(values, ", ")), doc.Nearest(v.Source, values)
		}
	}
	return fmt.Sprintf("no target of %s matches %s", service, sel.written()), ""
}

// written is what the selector demands of labels, as far as it is written out.
func (sel *Selector) written() string {
	var out []string
	for _, k := range slices.Sorted(maps.Keys(sel.Labels)) {
		if v := sel.Labels[k]; v != nil && len(v.Holes()) == 0 {
			out = append(out, k+"="+v.Source)
		}
	}
	return strings.Join(out, ", ") + "; each label has targets, all together none"
}

func (sel *Selector) fits(t EstateTarget) bool {
	ok := sel.Name == nil || len(sel.Name.Holes()) > 0 || sel.Name.Source == t.Name
	for k, v := range sel.Labels {
		ok = ok && (v == nil || len(v.Holes()) > 0 || t.Labels[k] == v.Source)
	}
	return ok
}
