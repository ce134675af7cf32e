package runbook

import (
	"regexp"
	"slices"

	"urgentis/core/expr"
	"urgentis/core/reading"

	"github.com/goccy/go-yaml/ast"
)

// holders are the keys under which steps stand, or mappings that hold steps.
var holders = []string{
	"otherwise",
	"passes",
	"fails",
	"unsure",
	"on_error",
	"steps",
	"gate",
	"refused",
	"unanswered",
	"choices",
	"branches",
	"between",
	"none",
}

// collect is the first pass: it gathers ids, readings, checks, questions and calls.
func (d *decoder) collect(n ast.Node, depth int) {
	if depth > 3*MaxDepth {
		return
	}
	seq, ok := n.(*ast.SequenceNode)
	if !ok {
		// choices, branches and gates are mappings that hold steps somewhere below.
		if m, ok := n.(ast.MapNode); ok {
			for it := m.MapRange(); it.Next(); {
				d.collect(it.Value(), depth+1)
			}
		}
		return
	}
	for _, item := range seq.Values {
		d.collectStep(item, depth)
	}
}

func (d *decoder) collectStep(item ast.Node, depth int) {
	quiet := &text{}
	var id, verb, callee string
	var fields ast.Node
	for _, e := range quiet.mapping(item, "a step") {
		switch {
		case e.key == "id":
			id = quiet.word(e.value, "id")
		case e.key == "fields":
			fields = e.value
		case e.key == "read":
			d.collectReadings(e.value)
		case slices.Contains(holders, e.key):
			d.collect(e.value, depth+1)
		case slices.Contains(Verbs, Verb(e.key)):
			if verb = e.key; verb == "call" {
				callee = quiet.word(e.value, "call")
			}
		}
	}
	if id == "" {
		return
	}
	switch Verb(verb) {
	case Check, Wait:
		d.schema.Checks = append(d.schema.Checks, id)
	case Ask:
		d.schema.Answers[id] = types(fields)
	case Call:
		d.schema.Calls[id] = nil
		if p := d.book.Parts[callee]; p != nil && len(p.Results) > 0 {
			d.schema.Calls[id] = map[string]expr.Type{}
			for _, r := range p.Results {
				d.schema.Calls[id][r.Name] = r.Type
			}
		}
	}
}

// types reads name and type of each entry, before anything is checked.
func types(n ast.Node) map[string]expr.Type {
	out := map[string]expr.Type{}
	if n == nil {
		return out
	}
	quiet := &text{}
	for _, r := range quiet.mapping(n, "") {
		t := expr.Text
		if _, plain := r.value.(*ast.StringNode); plain {
			t = expr.JSON // as below
		}
		for _, k := range quiet.mapping(r.value, "") {
			if k.key == "type" {
				t = expr.Type(quiet.word(k.value, "type"))
				if !slices.Contains(expr.Types, t) {
					t = expr.JSON // what is wrong with it is said once, where it stands
				}
			}
		}
		out[r.key] = t
	}
	return out
}

func (d *decoder) collectReadings(n ast.Node) {
	quiet := &text{}
	found := types(n)
	for _, r := range quiet.mapping(n, "read") {
		t := found[r.key]
		if old, ok := d.schema.Readings[r.key]; ok && old != t {
			d.fail(r.node, "reading %s is %s here and %s elsewhere", r.key, t, old)
		}
		d.schema.Readings[r.key] = t
		for _, k := range quiet.mapping(r.value, "a reading") {
			if b, ok := k.value.(*ast.BoolNode); k.key == "sealed" && ok && b.Value {
				d.schema.Sealed[r.key] = true
			}
		}
	}
}

func (d *decoder) readings(n ast.Node) []reading.Spec {
	var out []reading.Spec
	for _, e := range d.mapping(n, "read") {
		s := reading.Spec{Name: e.key, Type: expr.Text}
		if !idPattern.MatchString(e.key) {
			d.fail(e.node, "a reading's name must be small letters, digits and _, and begin with a letter")
		}
		name := s.Name
		if x, plain := e.value.(*ast.StringNode); plain {
			typ := expr.Text
			if slices.Contains(expr.Types, expr.Type(x.Value)) {
				typ = expr.Type(x.Value)
			}
			d.fail(
				e.value,
				"say where %s stands in the output, as in %s: {json: .%s, type: %s}",
				e.key,
				e.key,
				e.key,
				typ,
			)
			continue
		}
		s, forms := d.readingFields("reading "+e.key, e.value)
		s.Name = name
		if forms != 1 {
			d.fail(e.node, "reading %s needs one form: json, pattern, table, lines, exit or whole", e.key)
		}
		if s.Sealed && s.Type != expr.Text {
			d.fail(e.node, "reading %s is sealed: its type is text", e.key)
		}
		if s.Matches != nil && s.Type != expr.Text {
			d.fail(e.node, "reading %s has matches, which is for text", e.key)
		}
		if s.Exit && s.Type != expr.Integer {
			d.fail(e.node, "reading %s is an exit: its type is integer", e.key)
		}
		out = append(out, s)
	}
	return out
}

// matches decodes a pattern that a text must match as a whole.
func (d *decoder) matches(n ast.Node) *regexp.Regexp {
	re := d.pattern(n)
	if re == nil {
		return nil
	}
	return regexp.MustCompile(`^(?:` + re.String() + `)$`) // it compiles by itself, so no bracket reaches out
}

// only reads a key that is either left out or true.
func (d *decoder) only(n ast.Node, what string) bool {
	if !d.boolean(n, what) {
		d.fail(n, "%s can only be true; leave it out instead", what)
	}
	return true
}

func (d *decoder) table(n ast.Node) *reading.Table {
	t := &reading.Table{}
	d.fields(n, "table", map[string]func(ast.Node){
		"column": func(n ast.Node) { t.Column = d.word(n, "column") },
		"where": func(n ast.Node) {
			t.Where = map[string]string{}
			for _, e := range d.mapping(n, "where") {
				t.Where[e.key] = d.word(e.value, "a cell")
			}
		},
		"names": func(n ast.Node) {
			for _, x := range d.list(n, "names") {
				t.Names = append(t.Names, d.word(x, "a column"))
			}
		},
		"skip": func(n ast.Node) {
			if t.Skip = d.integer(n, "skip"); t.Skip < 0 || t.Skip > 1000 {
				d.fail(n, "skip must be from 0 to 1000")
			}
		},
	})
	return t
}

// readingFields decodes how a reading is taken; forms counts the forms that are given.
func (d *decoder) readingFields(what string, n ast.Node) (s reading.Spec, forms int) {
	s.Type = expr.Text
	d.fields(n, what, map[string]func(ast.Node){
		"type": func(n ast.Node) { s.Type = d.typ(n) },
		"unit": func(n ast.Node) { s.Unit = d.word(n, "unit") },
		"json": func(n ast.Node) {
			forms++
			src := d.word(n, "json")
			q, err := reading.CompileQuery(src)
			if err != nil {
				meant := ""
				if idPattern.MatchString(src) {
					meant = "." + src
				}
				d.at(position(n), 0, false, err.Error(), meant)
			}
			s.JSON = q
		},
		"pattern": func(n ast.Node) { forms++; s.Pattern = d.pattern(n) },
		"table":   func(n ast.Node) { forms++; s.Table = d.table(n) },
		"lines":   func(n ast.Node) { forms++; s.Lines = d.pattern(n) },
		"exit":    func(n ast.Node) { forms++; s.Exit = d.only(n, "exit") },
		"whole":   func(n ast.Node) { forms++; s.Whole = d.only(n, "whole") },
		"sealed":  func(n ast.Node) { s.Sealed = d.boolean(n, "sealed") },
		"matches": func(n ast.Node) { s.Matches = d.matches(n) },
	})
	return s, forms
}
