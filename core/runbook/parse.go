package runbook

import (
	"crypto/sha256"
	"encoding/hex"
	"regexp"
	"slices"
	"sort"
	"strings"
	"time"

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
	sum := sha256.Sum256(src)
	d := newDecoder(&text{}, &Book{Source: src, Revision: hex.EncodeToString(sum[:])})
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

// decoder decodes one runbook, or a part of one, in two passes: names first, so that expressions can be typed.
type decoder struct {
	*text
	book  *Book
	cel   *expr.Compiler
	steps int
	// schema is collected by the first pass.
	schema expr.Schema
	// names are those that the steps around the one at hand give.
	names expr.Where
	// inChange is set while a gated change is decoded, in which now is refused.
	inChange bool
	// part is set for a part, which owns no parts.
	part bool
	// calls collects what the whole file calls, by the name of the caller.
	calls map[string][]callAt
}

type callAt struct {
	step *Step
	node ast.Node
}

func newDecoder(t *text, b *Book) *decoder {
	b.byPath, b.byID, b.takes = map[string]*Step{}, map[string]*Step{}, map[string]*Step{}
	return &decoder{text: t, book: b, names: expr.InStep, calls: map[string][]callAt{}, schema: expr.Schema{
		Inputs: map[string]expr.Type{}, Readings: map[string]expr.Type{}, Sealed: map[string]bool{},
		Answers: map[string]map[string]expr.Type{}, Calls: map[string]map[string]expr.Type{}}}
}

// sections are the keys of a runbook or a part that are decoded after the names are known.
type sections struct {
	inputs, starts, steps, limits, onError, finally, cleared, worse, results, parts ast.Node
}

// shared lists the keys that a part has too.
func (d *decoder) shared(x *sections) map[string]func(ast.Node) {
	return map[string]func(ast.Node){
		"about":    func(n ast.Node) { d.book.About = strings.TrimSpace(d.word(n, "about")) },
		"inputs":   func(n ast.Node) { x.inputs = n },
		"steps":    func(n ast.Node) { x.steps = n },
		"on_error": func(n ast.Node) { x.onError = n },
		"results":  func(n ast.Node) { x.results = n },
	}
}

func (d *decoder) decode(root ast.Node) {
	var x sections
	b := d.book
	known := d.shared(&x)
	for k, f := range map[string]func(ast.Node){
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
		"saves":      func(n ast.Node) { b.Saves = d.duration(n, "saves") },
		"starts":     func(n ast.Node) { x.starts = n },
		"limits":     func(n ast.Node) { x.limits = n },
		"finally":    func(n ast.Node) { x.finally = n },
		"if_cleared": func(n ast.Node) { x.cleared = n },
		"if_worse":   func(n ast.Node) { x.worse = n },
		"parts":      func(n ast.Node) { x.parts = n },
	} {
		known[k] = f
	}
	got := d.fields(root, "a runbook", known)
	for _, k := range []string{"urgentis", "name", "title", "owner", "service", "steps"} {
		if got[k] == nil {
			d.fail(root, "the runbook has no %s", k)
		}
	}
	if x.parts != nil {
		d.parts(x.parts)
	}
	d.body(root, x)
	if x.parts != nil && !d.findings.Failed() {
		d.loops()
	}
}

// parts decodes the local parts: each is a small runbook of its own, with names of its own.
func (d *decoder) parts(n ast.Node) {
	d.book.Parts = map[string]*Book{}
	entries := d.mapping(n, "parts")
	// First what each promises, since parts may call each other.
	for _, e := range entries {
		if !namePattern.MatchString(e.key) {
			d.fail(e.node, "a part's name must be small letters, digits and hyphens, and begin with a letter")
		}
		d.book.Parts[e.key] = &Book{Name: e.key, Title: e.key, Owner: d.book.Owner, Service: d.book.Service, Source: d.book.Source, Revision: d.book.Revision, Parts: d.book.Parts}
	}
	for _, e := range entries {
		p := newDecoder(d.text, d.book.Parts[e.key])
		p.part, p.calls = true, d.calls
		var x sections
		p.fields(e.value, "part "+e.key, p.shared(&x))
		if x.steps == nil {
			d.fail(e.node, "part %s has no steps", e.key)
			continue
		}
		p.body(e.value, x)
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
		d.fail(root, "%s", err)
		return
	}
	if x.starts != nil {
		d.starts(x.starts)
	}
	if x.limits != nil {
		d.limits(x.limits)
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
	if !d.findings.Failed() {
		d.check(root)
	}
}

func (d *decoder) limits(n ast.Node) {
	d.fields(n, "limits", map[string]func(ast.Node){
		"one_at_a_time": func(n ast.Node) {
			p, err := d.cel.Compile(d.word(n, "one_at_a_time"), expr.InStep)
			if err != nil {
				d.exprAt(n, err)
				return
			}
			if len(p.Refers("readings"))+len(p.Refers("answers")) > 0 {
				d.fail(n, "one_at_a_time is asked before the first step: it can use inputs and the alert only")
			}
			d.book.Limits.OneAtATime = p
		},
		"give_up_after": func(n ast.Node) {
			if d.book.Limits.GiveUpAfter = d.duration(n, "give_up_after"); d.book.Limits.GiveUpAfter > 30*24*time.Hour {
				d.fail(n, "a run may last 30 days at most")
			}
		},
	})
}

func (d *decoder) results(n ast.Node) {
	for _, e := range d.mapping(n, "results") {
		r := Result{Name: e.key, Type: expr.Text}
		if !idPattern.MatchString(e.key) {
			d.fail(e.node, "a result's name must be small letters, digits and _, and begin with a letter")
		}
		got := d.fields(e.value, "result "+e.key, map[string]func(ast.Node){
			"type":  func(n ast.Node) { r.Type = d.typ(n) },
			"value": func(n ast.Node) { r.Value = d.template(n, expr.InStep, "value") },
		})
		if got["value"] == nil {
			d.fail(e.node, "result %s needs value", e.key)
		}
		d.book.Results = append(d.book.Results, r)
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

// inputs decodes typed values that a person or a caller gives.
func (d *decoder) inputs(n ast.Node, what string) []Input {
	var out []Input
	for _, e := range d.mapping(n, what+"s") {
		in := Input{Name: e.key, Type: expr.Text}
		if !idPattern.MatchString(e.key) {
			d.fail(e.node, "the name of an %s must be small letters, digits and _, and begin with a letter", what)
		}
		def, pattern := d.inputFields(&in, what+" "+e.key, e.value)
		if pattern != nil && in.Type != expr.Text {
			d.fail(pattern, "a pattern is for text; give min and max for a number")
		}
		if def != nil {
			v, err := in.Accept(d.scalar(def))
			if err != nil {
				d.fail(def, "the default is not allowed by the %s itself: %s", what, err)
			}
			in.Default = v
		}
		out = append(out, in)
	}
	return out
}

func (d *decoder) inputFields(in *Input, what string, n ast.Node) (def, pattern ast.Node) {
	d.fields(n, what, map[string]func(ast.Node){
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
	return def, pattern
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

// placed is the place where with the names that the steps around give.
func (d *decoder) placed(where expr.Where) expr.Where {
	if where == expr.InStart {
		return where
	}
	if d.inChange {
		where = where.Change()
	}
	return where.WithNamesOf(d.names)
}

func (d *decoder) condition(n ast.Node, where expr.Where, what string) *expr.Program {
	if b, ok := n.(*ast.BoolNode); ok {
		d.fail(n, "%s: %v is no condition; leave the key out instead", what, b.Value)
		return nil
	}
	p, err := d.cel.Compile(d.word(n, what), d.placed(where))
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
	t, err := d.cel.CompileTemplate(d.word(n, what), d.placed(where))
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

// holders are the keys under which steps stand, or mappings that hold steps.
var holders = []string{"otherwise", "passes", "fails", "unsure", "on_error", "steps", "gate", "refused", "unanswered", "choices", "branches", "between", "none"}

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
		for _, k := range quiet.mapping(r.value, "") {
			if k.key == "type" {
				if w := expr.Type(quiet.word(k.value, "type")); slices.Contains(expr.Types, w) {
					t = w
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
		s, forms := d.readingFields("reading "+e.key, e.value)
		s.Name = name
		if forms != 1 {
			d.fail(e.node, "reading %s needs one form: json, pattern, table, lines, exit or whole", e.key)
		}
		if s.Sealed && s.Type != expr.Text {
			d.fail(e.node, "reading %s is sealed: its type is text", e.key)
		}
		if s.Exit && s.Type != expr.Integer {
			d.fail(e.node, "reading %s is an exit: its type is integer", e.key)
		}
		out = append(out, s)
	}
	return out
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
			q, err := reading.CompileQuery(d.word(n, "json"))
			if err != nil {
				d.fail(n, "%s", err)
			}
			s.JSON = q
		},
		"pattern": func(n ast.Node) { forms++; s.Pattern = d.pattern(n) },
		"table":   func(n ast.Node) { forms++; s.Table = d.table(n) },
		"lines":   func(n ast.Node) { forms++; s.Lines = d.pattern(n) },
		"exit":    func(n ast.Node) { forms++; s.Exit = d.only(n, "exit") },
		"whole":   func(n ast.Node) { forms++; s.Whole = d.only(n, "whole") },
		"sealed":  func(n ast.Node) { s.Sealed = d.boolean(n, "sealed") },
	})
	return s, forms
}
