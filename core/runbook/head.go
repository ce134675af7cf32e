package runbook

import (
	"regexp"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"

	"urgentis/core/doc"
	"urgentis/core/expr"
	"urgentis/core/links"
	"urgentis/core/trigger"
)

// sections are the keys of a runbook or a part that are decoded after the names are known.
type sections struct {
	inputs, starts, title, steps, limits, onError, finally, cleared, worse, results, parts ast.Node
}

// shared lists the keys that a part has too.
func (d *decoder) shared(x *sections) map[string]func(ast.Node) {
	return map[string]func(ast.Node){
		"about":    func(n ast.Node) { d.book.About = strings.TrimSpace(d.Word(n, "about")) },
		"inputs":   func(n ast.Node) { x.inputs = n },
		"steps":    func(n ast.Node) { x.steps = n },
		"on_error": func(n ast.Node) { x.onError = n },
		"results":  func(n ast.Node) { x.results = n },
	}
}

// parts decodes the local parts: each is a small runbook of its own, with names of its own.
func (d *decoder) parts(n ast.Node) {
	d.book.Parts = map[string]*Book{}
	entries := d.Mapping(n, "parts")
	// First what each promises, since parts may call each other.
	for _, e := range entries {
		if !namePattern.MatchString(e.Key) {
			d.Fail(e.Node, "a part's name must be small letters, digits and hyphens, and begin with a letter")
		}
		d.book.Parts[e.Key] = &Book{
			Name:     e.Key,
			Title:    e.Key,
			Owner:    d.book.Owner,
			Service:  d.book.Service,
			Source:   d.book.Source,
			Revision: d.book.Revision,
			Parts:    d.book.Parts,
		}
	}
	for _, e := range entries {
		p := newDecoder(d.book.Parts[e.Key])
		p.Text, p.old, p.part, p.calls = d.Text, d.old, true, d.calls
		var x sections
		p.Fields(e.Value, "part "+e.Key, p.shared(&x))
		if x.steps == nil {
			d.Fail(e.Node, "part %s has no steps", e.Key)
			continue
		}
		p.body(e.Value, x)
	}
}

// body decodes what a runbook and a part have in common.
func (d *decoder) body(root ast.Node, x sections) {
	b := d.book
	if x.inputs != nil {
		b.Inputs = d.inputs(x.inputs, "input")
		for _, in := range b.Inputs {
			d.schema.Inputs[in.Name] = in.Type
		}
	}
	for _, n := range []ast.Node{x.steps, x.onError, x.finally, x.cleared, x.worse} {
		if n != nil {
			d.collect(n, 0)
		}
	}
	var err error
	if d.cel, err = expr.NewCompiler(d.schema); err != nil {
		d.Fail(root, "%s", err)
		return
	}
	if x.starts != nil {
		d.starts(x.starts)
	}
	if x.limits != nil {
		d.limits(x.limits)
	}
	if x.title != nil {
		b.IncidentTitle = d.template(x.title, expr.InStep, "incident_title")
	}
	if x.steps != nil {
		b.Steps = d.stepList(x.steps, "", 0)
	}
	if x.onError != nil {
		b.OnError = d.branch(x.onError, "on_error", "", 0)
	}
	if x.finally != nil {
		b.Finally = d.stepList(x.finally, "finally.", 1)
	}
	if x.cleared != nil {
		b.IfCleared = d.branch(x.cleared, "if_cleared", "", 0)
	}
	if x.worse != nil {
		b.IfWorse = d.branch(x.worse, "if_worse", "", 0)
	}
	if x.results != nil {
		d.results(x.results)
	}
	if !d.Findings.Failed() {
		d.check(root)
	}
}

func (d *decoder) limits(n ast.Node) {
	d.Fields(n, "limits", map[string]func(ast.Node){
		"one_at_a_time": func(n ast.Node) {
			p, err := d.cel.Compile(d.Word(n, "one_at_a_time"), expr.InStep)
			if err != nil {
				d.Expr(n, err, d.meant)
				return
			}
			if len(p.Refers("readings"))+len(p.Refers("answers")) > 0 {
				d.Fail(n, "one_at_a_time is asked before the first step: it can use inputs and the alert only")
			}
			d.book.Limits.OneAtATime = p
		},
		"give_up_after": func(n ast.Node) {
			if d.book.Limits.GiveUpAfter = d.Duration(n, "give_up_after"); d.book.Limits.GiveUpAfter > 30*24*time.Hour {
				d.Fail(n, "a run may last 30 days at most")
			}
		},
		"steps": func(n ast.Node) {
			if d.book.Limits.Steps = d.Integer(n, "steps"); d.book.Limits.Steps < 1 || d.book.Limits.Steps > 40000 {
				d.Fail(n, "steps must be from 1 to 40000")
			}
		},
	})
}

func (d *decoder) results(n ast.Node) {
	for _, e := range d.Mapping(n, "results") {
		r := Result{Name: e.Key, Type: expr.Text}
		if !idPattern.MatchString(e.Key) {
			d.Fail(e.Node, "a result's name must be small letters, digits and _, and begin with a letter")
		}
		got := d.Fields(e.Value, "result "+e.Key, map[string]func(ast.Node){
			"type":  func(n ast.Node) { r.Type = d.typ(n) },
			"value": func(n ast.Node) { r.Value = d.template(n, expr.InStep, "value") },
		})
		if got["value"] == nil {
			d.Fail(e.Node, "result %s needs value", e.Key)
		}
		d.book.Results = append(d.book.Results, r)
	}
}

func (d *decoder) title(n ast.Node) string {
	w := strings.TrimSpace(d.Word(n, "a title"))
	if w == "" {
		d.Fail(n, "a title is missing")
	}
	if len(w) > 200 {
		d.Fail(n, "a title may have 200 bytes")
	}
	if strings.Contains(w, "{{") {
		d.Fail(n, "a title is plain text: it names the step also before it runs")
	}
	if tok := n.GetToken(); tok.Next != nil && tok.Next.Type.String() == "Comment" &&
		tok.Next.Position.Line == tok.Position.Line {
		d.Warn(n, "the title ends before the # : put it in quotes if that belongs to it")
	}
	return w
}

// links reads pages outside that tell more: titles with their addresses.
func (d *decoder) links(n ast.Node) []links.Link {
	var out []links.Link
	for _, e := range d.Mapping(n, "links") {
		l := links.Link{Title: e.Key, Address: strings.TrimSpace(d.Word(e.Value, "an address"))}
		if wrong := l.Check(); wrong != "" {
			d.Fail(e.Value, "%s", wrong)
		}
		out = append(out, l)
	}
	if len(out) > links.Most {
		d.Fail(n, "a runbook may have %d links", links.Most)
	}
	return out
}

// knowledge reads what somebody who is asked may need to know: Markdown without holes.
func (d *decoder) knowledge(n ast.Node) string {
	w := strings.TrimSpace(d.Word(n, "knowledge"))
	if len(w) > MaxKnowledge {
		d.Fail(n, "knowledge may have %d bytes", MaxKnowledge)
	}
	if strings.Contains(w, "{{") {
		d.Fail(n, "knowledge is plain Markdown: values belong in text")
	}
	return w
}

// plainLine reads words that stand where people decide: one line without holes. what tells what they are about.
func (d *decoder) plainLine(n ast.Node, key string, most int, what string) string {
	w := strings.TrimSpace(d.Word(n, key))
	if len(w) > most || strings.ContainsAny(w, "\r\n") || strings.Contains(w, "{{") {
		d.Fail(n, "%s is one line of plain text of %d bytes at most: %s", key, most, what)
	}
	return w
}

func (d *decoder) name(n ast.Node, what string) string {
	w := d.Word(n, what)
	if !namePattern.MatchString(w) {
		d.Fail(n, "%s must be small letters, digits and hyphens, and begin with a letter", what)
	}
	return w
}

func (d *decoder) typ(n ast.Node) expr.Type {
	w := d.Word(n, "type")
	names := make([]string, len(expr.Types))
	for i, t := range expr.Types {
		if names[i] = string(t); string(t) == w {
			return t
		}
	}
	d.At(
		doc.Position(n),
		0,
		false,
		"there is no type "+w+"; the types are "+strings.Join(names, ", "),
		doc.Nearest(w, names),
	)
	return expr.JSON // anything goes with it: what is wrong is said once
}

// inputs decodes typed values that a person or a caller gives.
func (d *decoder) inputs(n ast.Node, what string) []Input {
	var out []Input
	for _, e := range d.Mapping(n, what+"s") {
		in := Input{Name: e.Key, Type: expr.Text}
		if !idPattern.MatchString(e.Key) {
			d.Fail(e.Node, "the name of an %s must be small letters, digits and _, and begin with a letter", what)
		}
		def, pattern := d.inputFields(&in, what+" "+e.Key, e.Value)
		if pattern != nil && in.Type != expr.Text {
			d.Fail(pattern, "a pattern is for text; give min and max for a number")
		}
		if def != nil {
			v, err := in.Accept(d.Scalar(def))
			if err != nil {
				d.Fail(def, "the default does not fit the %s: %s", what, err)
			}
			in.Default = v
		}
		out = append(out, in)
	}
	return out
}

func (d *decoder) inputFields(in *Input, what string, n ast.Node) (def, pattern ast.Node) {
	d.Fields(n, what, map[string]func(ast.Node){
		"type":    func(n ast.Node) { in.Type = d.typ(n) },
		"label":   func(n ast.Node) { in.Label = d.Word(n, "label") },
		"pattern": func(n ast.Node) { pattern = n; in.Pattern = d.pattern(n) },
		"choices": func(n ast.Node) {
			for _, c := range d.List(n, "choices") {
				in.Choices = append(in.Choices, d.Word(c, "a choice"))
			}
		},
		"default": func(n ast.Node) { def = n },
		"min":     func(n ast.Node) { f := d.Number(n, "min"); in.Min = &f },
		"max":     func(n ast.Node) { f := d.Number(n, "max"); in.Max = &f },
	})
	return def, pattern
}

func (d *decoder) pattern(n ast.Node) *regexp.Regexp {
	w := d.Word(n, "pattern")
	re, err := regexp.Compile(w)
	if err != nil {
		d.Fail(
			n,
			"this is not a regular expression (RE2): %s",
			strings.TrimPrefix(err.Error(), "error parsing regexp: "),
		)
		return nil
	}
	return re
}

func (d *decoder) starts(n ast.Node) {
	r := d.startReader()
	for _, e := range d.Mapping(n, "starts") {
		s := Start{Name: e.Key, Line: doc.Position(e.Node).Line}
		if !namePattern.MatchString(e.Key) {
			d.Fail(e.Node, "a start's name must be small letters, digits and hyphens, and begin with a letter")
		}
		got := d.Fields(e.Value, "a start", r.Keys(&s))
		r.Finish(&s, e.Node, got)
		d.book.Starts = append(d.book.Starts, s)
	}
}

// startReader reads starts that give this runbook's inputs.
func (d *decoder) startReader() *trigger.Reader {
	r := &trigger.Reader{Text: d.Text, Cel: d.cel, Old: d.old, Inputs: []trigger.Input{}}
	for _, in := range d.book.Inputs {
		r.Inputs = append(r.Inputs, trigger.Input{Name: in.Name, Wanted: in.Default == nil})
	}
	return r
}
