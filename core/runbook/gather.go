package runbook

import (
	"regexp"
	"slices"

	"urgentis/core/doc"
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
	quiet := &doc.Text{}
	var id, verb, callee string
	var fields ast.Node
	for _, e := range quiet.Mapping(item, "a step") {
		switch {
		case e.Key == "id":
			id = quiet.Word(e.Value, "id")
		case e.Key == "fields":
			fields = e.Value
		case e.Key == "read":
			d.collectReadings(e.Value)
		case slices.Contains(holders, e.Key):
			d.collect(e.Value, depth+1)
		case slices.Contains(Verbs, Verb(e.Key)):
			if verb = e.Key; verb == "call" {
				callee = quiet.Word(e.Value, "call")
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
	quiet := &doc.Text{}
	for _, r := range quiet.Mapping(n, "") {
		t := expr.Text
		if _, plain := r.Value.(*ast.StringNode); plain {
			t = expr.JSON // as below
		}
		for _, k := range quiet.Mapping(r.Value, "") {
			if k.Key == "type" {
				t = expr.Type(quiet.Word(k.Value, "type"))
				if !slices.Contains(expr.Types, t) {
					t = expr.JSON // what is wrong with it is said once, where it stands
				}
			}
		}
		out[r.Key] = t
	}
	return out
}

func (d *decoder) collectReadings(n ast.Node) {
	quiet := &doc.Text{}
	found := types(n)
	for _, r := range quiet.Mapping(n, "read") {
		t := found[r.Key]
		if old, ok := d.schema.Readings[r.Key]; ok && old != t {
			d.Fail(r.Node, "reading %s is %s here and %s elsewhere", r.Key, t, old)
		}
		d.schema.Readings[r.Key] = t
		for _, k := range quiet.Mapping(r.Value, "a reading") {
			if b, ok := k.Value.(*ast.BoolNode); k.Key == "sealed" && ok && b.Value {
				d.schema.Sealed[r.Key] = true
			}
		}
	}
}

func (d *decoder) readings(n ast.Node) []reading.Spec {
	var out []reading.Spec
	for _, e := range d.Mapping(n, "read") {
		s := reading.Spec{Name: e.Key, Type: expr.Text}
		if !idPattern.MatchString(e.Key) {
			d.Fail(e.Node, "a reading's name must be small letters, digits and _, and begin with a letter")
		}
		name := s.Name
		if x, plain := e.Value.(*ast.StringNode); plain {
			typ := expr.Text
			if slices.Contains(expr.Types, expr.Type(x.Value)) {
				typ = expr.Type(x.Value)
			}
			d.Fail(
				e.Value,
				"say where %s stands in the output, as in %s: {json: .%s, type: %s}",
				e.Key,
				e.Key,
				e.Key,
				typ,
			)
			continue
		}
		s, forms := d.readingFields("reading "+e.Key, e.Value)
		s.Name = name
		if forms != 1 {
			d.Fail(e.Node, "reading %s needs one form: json, pattern, table, lines, exit or whole", e.Key)
		}
		if s.Sealed && s.Type != expr.Text {
			d.Fail(e.Node, "reading %s is sealed: its type is text", e.Key)
		}
		if s.Matches != nil && s.Type != expr.Text {
			d.Fail(e.Node, "reading %s has matches, which is for text", e.Key)
		}
		if s.Good != "" && s.Type != expr.Integer && s.Type != expr.Number {
			d.Fail(e.Node, "reading %s says which way is good, which is for numbers", e.Key)
		}
		if s.Exit && s.Type != expr.Integer {
			d.Fail(e.Node, "reading %s is an exit: its type is integer", e.Key)
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
	if !d.Boolean(n, what) {
		d.Fail(n, "%s can only be true; leave it out instead", what)
	}
	return true
}

func (d *decoder) table(n ast.Node) *reading.Table {
	t := &reading.Table{}
	d.Fields(n, "table", map[string]func(ast.Node){
		"column": func(n ast.Node) { t.Column = d.Word(n, "column") },
		"where": func(n ast.Node) {
			t.Where = map[string]string{}
			for _, e := range d.Mapping(n, "where") {
				t.Where[e.Key] = d.Word(e.Value, "a cell")
			}
		},
		"names": func(n ast.Node) {
			for _, x := range d.List(n, "names") {
				t.Names = append(t.Names, d.Word(x, "a column"))
			}
		},
		"skip": func(n ast.Node) {
			if t.Skip = d.Integer(n, "skip"); t.Skip < 0 || t.Skip > 1000 {
				d.Fail(n, "skip must be from 0 to 1000")
			}
		},
	})
	return t
}

// good reads which way a reading is better.
func (d *decoder) good(n ast.Node) reading.Good {
	w := reading.Good(d.Word(n, "good"))
	if !slices.Contains(reading.Goods, w) {
		d.At(doc.Position(n), 0, false, "good must be low, high or near: which way the reading is better",
			doc.Nearest(string(w), []string{"low", "high", "near"}))
	}
	return w
}

// readingFields decodes how a reading is taken; forms counts the forms that are given.
func (d *decoder) readingFields(what string, n ast.Node) (s reading.Spec, forms int) {
	s.Type = expr.Text
	d.Fields(n, what, map[string]func(ast.Node){
		"type": func(n ast.Node) { s.Type = d.typ(n) },
		"unit": func(n ast.Node) { s.Unit = d.Word(n, "unit") },
		"good": func(n ast.Node) { s.Good = d.good(n) },
		"json": func(n ast.Node) {
			forms++
			src := d.Word(n, "json")
			q, err := reading.CompileQuery(src)
			if err != nil {
				meant := ""
				if idPattern.MatchString(src) {
					meant = "." + src
				}
				d.At(doc.Position(n), 0, false, err.Error(), meant)
			}
			s.JSON = q
		},
		"pattern": func(n ast.Node) { forms++; s.Pattern = d.pattern(n) },
		"table":   func(n ast.Node) { forms++; s.Table = d.table(n) },
		"lines":   func(n ast.Node) { forms++; s.Lines = d.pattern(n) },
		"exit":    func(n ast.Node) { forms++; s.Exit = d.only(n, "exit") },
		"whole":   func(n ast.Node) { forms++; s.Whole = d.only(n, "whole") },
		"sealed":  func(n ast.Node) { s.Sealed = d.Boolean(n, "sealed") },
		"matches": func(n ast.Node) { s.Matches = d.matches(n) },
	})
	return s, forms
}
