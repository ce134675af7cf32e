package runbook

import (
	"crypto/sha256"
	"encoding/hex"
	"regexp"
	"slices"
	"sort"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"urgentis/core/expr"
	"urgentis/core/reading"
)

var (
	namePattern = regexp.MustCompile(`^[a-z][a-z0-9-]{0,62}$`)
	idPattern   = regexp.MustCompile(`^[a-z][a-z0-9_]{0,40}$`)
)

// Parse checks the text of a runbook. The book is nil when the findings hold an error.
func Parse(src []byte) (*Book, Findings) {
	d := &decoder{text: &text{}, book: &Book{Source: src, byPath: map[string]*Step{}, byID: map[string]*Step{}, takes: map[string]*Step{}}}
	sum := sha256.Sum256(src)
	d.book.Revision = hex.EncodeToString(sum[:])
	if root := d.load(src); root != nil {
		d.decode(root)
	}
	sort.SliceStable(d.findings, func(i, j int) bool {
		a, b := d.findings[i], d.findings[j]
		return a.Line < b.Line || a.Line == b.Line && a.Column < b.Column
	})
	if d.findings.Failed() {
		return nil, d.findings
	}
	return d.book, d.findings
}

// decoder decodes one runbook in two passes: names first, so that expressions can be typed.
type decoder struct {
	*text
	book  *Book
	cel   *expr.Compiler
	steps int
	// schema is collected by the first pass.
	schema expr.Schema
	// inChange is set while a gated change is decoded, in which now is refused.
	inChange bool
}

func (d *decoder) decode(root ast.Node) {
	d.schema = expr.Schema{Inputs: map[string]expr.Type{}, Readings: map[string]expr.Type{}}
	var inputs, starts, steps ast.Node
	b := d.book
	got := d.fields(root, "a runbook", map[string]func(ast.Node){
		"urgentis": func(n ast.Node) {
			if w := d.word(n, "urgentis"); w != Header {
				d.fail(n, "urgentis must be %s, not %s", Header, w)
			}
		},
		"name": func(n ast.Node) {
			if b.Name = d.word(n, "name"); !namePattern.MatchString(b.Name) {
				d.fail(n, "name must be small letters, digits and hyphens, and begin with a letter")
			}
		},
		"title":   func(n ast.Node) { b.Title = d.title(n) },
		"owner":   func(n ast.Node) { b.Owner = d.name(n, "owner") },
		"service": func(n ast.Node) { b.Service = d.name(n, "service") },
		"tags": func(n ast.Node) {
			for _, x := range d.list(n, "tags") {
				b.Tags = append(b.Tags, d.name(x, "a tag"))
			}
		},
		"saves":  func(n ast.Node) { b.Saves = d.duration(n, "saves") },
		"about":  func(n ast.Node) { b.About = strings.TrimSpace(d.word(n, "about")) },
		"starts": func(n ast.Node) { starts = n },
		"inputs": func(n ast.Node) { inputs = n },
		"steps":  func(n ast.Node) { steps = n },
	})
	for _, k := range []string{"urgentis", "name", "title", "owner", "service", "steps"} {
		if got[k] == nil {
			d.fail(root, "the runbook has no %s", k)
		}
	}
	if inputs != nil {
		d.inputs(inputs)
	}
	if steps != nil {
		d.collect(steps, 0)
	}
	var err error
	if d.cel, err = expr.NewCompiler(d.schema); err != nil {
		d.fail(root, "%s", err)
		return
	}
	if starts != nil {
		d.starts(starts)
	}
	if steps != nil {
		b.Steps = d.stepList(steps, "", 0)
	}
	if !d.findings.Failed() {
		d.check()
	}
}

func (d *decoder) title(n ast.Node) string {
	w := strings.TrimSpace(d.word(n, "a title"))
	if w == "" {
		d.fail(n, "a title is missing")
	}
	if len(w) > 200 {
		d.fail(n, "a title may have 200 bytes")
	}
	if strings.Contains(w, "{{") {
		d.fail(n, "a title is plain text: it names the step also before it runs")
	}
	if tok := n.GetToken(); tok.Next != nil && tok.Next.Type.String() == "Comment" && tok.Next.Position.Line == tok.Position.Line {
		d.warn(n, "the title ends before the # : put it in quotes if that belongs to it")
	}
	return w
}

func (d *decoder) name(n ast.Node, what string) string {
	w := d.word(n, what)
	if !namePattern.MatchString(w) {
		d.fail(n, "%s must be small letters, digits and hyphens, and begin with a letter", what)
	}
	return w
}

func (d *decoder) typ(n ast.Node) expr.Type {
	w := d.word(n, "type")
	names := make([]string, len(expr.Types))
	for i, t := range expr.Types {
		if names[i] = string(t); string(t) == w {
			return t
		}
	}
	d.at(position(n), 0, false, "there is no type "+w+"; the types are "+strings.Join(names, ", "), nearest(w, names))
	return expr.Text
}

func (d *decoder) inputs(n ast.Node) {
	for _, e := range d.mapping(n, "inputs") {
		in := Input{Name: e.key, Type: expr.Text}
		if !idPattern.MatchString(e.key) {
			d.fail(e.node, "an input's name must be small letters, digits and _, and begin with a letter")
		}
		var def, pattern ast.Node
		d.fields(e.value, "input "+e.key, map[string]func(ast.Node){
			"type":    func(n ast.Node) { in.Type = d.typ(n) },
			"label":   func(n ast.Node) { in.Label = d.word(n, "label") },
			"pattern": func(n ast.Node) { pattern = n; in.Pattern = d.pattern(n) },
			"choices": func(n ast.Node) {
				for _, c := range d.list(n, "choices") {
					in.Choices = append(in.Choices, d.word(c, "a choice"))
				}
			},
			"default": func(n ast.Node) { def = n },
			"min":     func(n ast.Node) { f := d.number(n, "min"); in.Min = &f },
			"max":     func(n ast.Node) { f := d.number(n, "max"); in.Max = &f },
		})
		if pattern != nil && in.Type != expr.Text {
			d.fail(pattern, "a pattern is for text; give min and max for a number")
		}
		if def != nil {
			v, err := in.Accept(d.scalar(def))
			if err != nil {
				d.fail(def, "the default is not allowed by the input itself: %s", err)
			}
			in.Default = v
		}
		d.schema.Inputs[in.Name] = in.Type
		d.book.Inputs = append(d.book.Inputs, in)
	}
}

func (d *decoder) scalar(n ast.Node) any {
	switch x := n.(type) {
	case *ast.IntegerNode, *ast.FloatNode:
		f := d.number(n, "the value")
		if f == float64(int64(f)) {
			return int64(f)
		}
		return f
	case *ast.BoolNode:
		return x.Value
	}
	return d.word(n, "the value")
}

func (d *decoder) pattern(n ast.Node) *regexp.Regexp {
	w := d.word(n, "pattern")
	re, err := regexp.Compile(w)
	if err != nil {
		d.fail(n, "this is not a regular expression (RE2): %s", strings.TrimPrefix(err.Error(), "error parsing regexp: "))
		return nil
	}
	return re
}

func (d *decoder) starts(n ast.Node) {
	for _, e := range d.mapping(n, "starts") {
		s := Start{Name: e.key, Line: position(e.node).Line, Inputs: map[string]*expr.Template{}}
		if !namePattern.MatchString(e.key) {
			d.fail(e.node, "a start's name must be small letters, digits and hyphens, and begin with a letter")
		}
		d.fields(e.value, "a start", map[string]func(ast.Node){
			"alert": func(n ast.Node) { s.Alert = d.condition(n, expr.InStart, "alert") },
			"inputs": func(n ast.Node) {
				for _, v := range d.mapping(n, "inputs") {
					if _, ok := d.schema.Inputs[v.key]; !ok {
						d.at(position(v.node), 0, false, "the runbook has no input "+v.key, nearest(v.key, keys(d.schema.Inputs)))
						continue
					}
					s.Inputs[v.key] = d.template(v.value, expr.InStart, "an input")
				}
			},
		})
		if s.Alert == nil && !d.findings.Failed() {
			d.fail(e.node, "start %s does not say on which alert; give alert: CONDITION", e.key)
		}
		for _, in := range d.book.Inputs {
			if in.Default == nil && s.Inputs[in.Name] == nil {
				d.fail(e.node, "start %s does not say input %s, which has no default", e.key, in.Name)
			}
		}
		d.book.Starts = append(d.book.Starts, s)
	}
}

func keys[V any](m map[string]V) []string {
	out := make([]string, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	sort.Strings(out)
	return out
}

// exprAt reports an error of an expression at its place in the text.
func (d *decoder) exprAt(n ast.Node, err error) {
	e := err.(*expr.Error)
	p := *position(n)
	src := ""
	if l, ok := n.(*ast.LiteralNode); ok {
		// The text of a block begins on the next line, at the block's own indent.
		src = l.Value.Value
		p.Line++
		p.Column = 1 + p.IndentNum + 2
	} else {
		if s, ok := n.(*ast.StringNode); ok {
			src = s.Value
		}
		if o := strings.TrimSpace(n.GetToken().Origin); strings.HasPrefix(o, `"`) || strings.HasPrefix(o, "'") {
			p.Column++
		}
	}
	off := min(e.Offset, len(src))
	if nl := strings.Count(src[:off], "\n"); nl > 0 {
		p.Line += nl
		off -= strings.LastIndexByte(src[:off], '\n') + 1
	}
	d.at(&p, off, false, e.Message, d.meant(e.Message))
}

// meant looks for the name that an unknown one in an expression probably stands for.
func (d *decoder) meant(message string) string {
	var word string
	for _, tail := range []string{" there", " here"} {
		if w, ok := strings.CutPrefix(message, "there is no "); ok {
			if w, ok := strings.CutSuffix(w, tail); ok {
				word = w
			}
		}
	}
	if word == "" {
		return ""
	}
	names := slices.Concat(keys(d.schema.Inputs), keys(d.schema.Readings), d.schema.Checks,
		[]string{"alert", "inputs", "readings", "checks", "incident", "service", "target", "run", "labels", "severity", "summary"})
	for _, f := range expr.Functions {
		names = append(names, f.Name)
	}
	return nearest(word, names)
}

func (d *decoder) condition(n ast.Node, where expr.Where, what string) *expr.Program {
	if b, ok := n.(*ast.BoolNode); ok {
		d.fail(n, "%s: %v is no condition; leave the key out instead", what, b.Value)
		return nil
	}
	p, err := d.cel.Compile(d.word(n, what), where)
	if err != nil {
		d.exprAt(n, err)
		return nil
	}
	if !p.IsBool() {
		d.fail(n, "%s must be true or false, this is %s", what, p.TypeName())
	}
	return p
}

func (d *decoder) template(n ast.Node, where expr.Where, what string) *expr.Template {
	if d.inChange && where == expr.InTarget {
		where = expr.InChange
	}
	t, err := d.cel.CompileTemplate(d.word(n, what), where)
	if err != nil {
		d.exprAt(n, err)
		return nil
	}
	return t
}

// value decodes a structure whose texts may have holes.
func (d *decoder) value(n ast.Node, where expr.Where, depth int) *Value {
	if depth > 20 {
		d.fail(n, "this is nested too deeply")
		return nil
	}
	switch x := n.(type) {
	case *ast.MappingNode, *ast.MappingValueNode:
		v := &Value{Map: map[string]*Value{}}
		for _, e := range d.mapping(x, "body") {
			v.Map[e.key] = d.value(e.value, where, depth+1)
		}
		return v
	case *ast.SequenceNode:
		v := &Value{List: []*Value{}}
		for _, i := range x.Values {
			v.List = append(v.List, d.value(i, where, depth+1))
		}
		return v
	case *ast.StringNode, *ast.LiteralNode:
		return &Value{Text: d.template(x, where, "body")}
	case *ast.NullNode:
		return &Value{}
	}
	return &Value{Lit: d.scalar(n)}
}

// Render gives the structure with its holes filled; a text that is one hole keeps its type.
func (v *Value) Render(s *expr.Scope) (any, error) {
	switch {
	case v == nil:
		return nil, nil
	case v.Text != nil:
		return v.Text.Value(s)
	case v.Map != nil:
		out := map[string]any{}
		for k, x := range v.Map {
			r, err := x.Render(s)
			if err != nil {
				return nil, err
			}
			out[k] = r
		}
		return out, nil
	case v.List != nil:
		out := make([]any, len(v.List))
		for i, x := range v.List {
			r, err := x.Render(s)
			if err != nil {
				return nil, err
			}
			out[i] = r
		}
		return out, nil
	}
	return v.Lit, nil
}

// collect is the first pass: it gathers ids, readings and checks.
func (d *decoder) collect(n ast.Node, depth int) {
	seq, ok := n.(*ast.SequenceNode)
	if !ok || depth > MaxDepth {
		return
	}
	for _, item := range seq.Values {
		var id, verb string
		quiet := &text{}
		for _, e := range quiet.mapping(item, "a step") {
			switch e.key {
			case "id":
				id = quiet.word(e.value, "id")
			case "check":
				verb = "check"
			case "read":
				d.collectReadings(e.value)
			case "otherwise", "passes", "fails", "unsure":
				d.collect(e.value, depth+1)
			case "gate":
				for _, g := range quiet.mapping(e.value, "gate") {
					if g.key == "refused" || g.key == "unanswered" {
						d.collect(g.value, depth+1)
					}
				}
			}
		}
		if id != "" && verb == "check" {
			d.schema.Checks = append(d.schema.Checks, id)
		}
	}
}

func (d *decoder) collectReadings(n ast.Node) {
	quiet := &text{}
	for _, r := range quiet.mapping(n, "read") {
		t := expr.Text
		for _, k := range quiet.mapping(r.value, "a reading") {
			if k.key == "type" {
				if w := quiet.word(k.value, "type"); slices.Contains(expr.Types, expr.Type(w)) {
					t = expr.Type(w)
				}
			}
		}
		if old, ok := d.schema.Readings[r.key]; ok && old != t {
			d.fail(r.node, "reading %s is %s here and %s elsewhere", r.key, t, old)
		}
		d.schema.Readings[r.key] = t
	}
}

func (d *decoder) readings(n ast.Node) []reading.Spec {
	var out []reading.Spec
	for _, e := range d.mapping(n, "read") {
		s := reading.Spec{Name: e.key, Type: expr.Text}
		if !idPattern.MatchString(e.key) {
			d.fail(e.node, "a reading's name must be small letters, digits and _, and begin with a letter")
		}
		forms := 0
		d.fields(e.value, "reading "+e.key, map[string]func(ast.Node){
			"type": func(n ast.Node) { s.Type = d.typ(n) },
			"unit": func(n ast.Node) { s.Unit = d.word(n, "unit") },
			"json": func(n ast.Node) {
				forms++
				q, err := reading.CompileQuery(d.word(n, "json"))
				if err != nil {
					d.fail(n, "%s", err)
				}
				s.JSON = q
			},
			"pattern": func(n ast.Node) { forms++; s.Pattern = d.pattern(n) },
		})
		if forms != 1 {
			d.fail(e.node, "reading %s needs one form: json or pattern", e.key)
		}
		out = append(out, s)
	}
	return out
}
