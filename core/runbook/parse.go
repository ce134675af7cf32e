package runbook

import (
	"regexp"
	"slices"
	"sort"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"urgentis/core/doc"
	"urgentis/core/expr"
)

var (
	namePattern = regexp.MustCompile(`^[a-z][a-z0-9-]{0,62}$`)
	idPattern   = regexp.MustCompile(`^[a-z][a-z0-9_]{0,40}$`)
)

// Finding is one thing that is wrong with, or doubtful in, the text of a runbook.
type Finding = doc.Finding

// Findings is all that was found, in the order of the text.
type Findings = doc.Findings

// Parse checks the text of a runbook. The book is nil when the findings hold an error.
func Parse(src []byte) (*Book, Findings) { return parse(src, false) }

// ParseOld is Parse for a run that was begun before values from outside had to be bounded in the words of a command. It
// goes on as it was begun; nothing new begins with such a text.
func ParseOld(src []byte) (*Book, Findings) { return parse(src, true) }

func parse(src []byte, old bool) (*Book, Findings) {
	d := newDecoder(&Book{Source: src, Revision: doc.Sum(src)})
	d.old = old
	if root := d.Load(src); root != nil {
		d.decode(root)
	}
	if found := d.Sorted(); found.Failed() {
		return nil, found
	}
	d.book.looksAtAlert = d.book.speaksOfAlert()
	return d.book, d.Findings
}

// decoder decodes one runbook, or a part of one, in two passes: names first, so that expressions can be typed.
type decoder struct {
	*doc.Text
	book  *Book
	old   bool // see ParseOld
	cel   *expr.Compiler
	steps int
	// schema is collected by the first pass.
	schema expr.Schema
	// names are those that the steps around the one at hand give.
	names expr.Where
	// inChange is set while a gated change is decoded, in which now is refused.
	// ofJob says that the URL at hand may have what a job is known by.
	ofJob    bool
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

func newDecoder(b *Book) *decoder {
	b.byPath, b.byID, b.takes = map[string]*Step{}, map[string]*Step{}, map[string]*Step{}
	return &decoder{
		Text:  &doc.Text{What: "a runbook"},
		book:  b,
		names: expr.InStep,
		calls: map[string][]callAt{},
		schema: expr.Schema{
			Inputs: map[string]expr.Type{}, Readings: map[string]expr.Type{}, Sealed: map[string]bool{},
			Answers: map[string]map[string]expr.Type{}, Calls: map[string]map[string]expr.Type{}},
	}
}

func (d *decoder) decode(root ast.Node) {
	var x sections
	b := d.book
	known := d.shared(&x)
	for k, f := range map[string]func(ast.Node){
		"urgentis": func(n ast.Node) {
			if w := d.Word(n, "urgentis"); w != Header {
				d.Fail(n, "urgentis must be %s, not %s", Header, w)
			}
		},
		"name": func(n ast.Node) {
			if b.Name = d.Word(n, "name"); !namePattern.MatchString(b.Name) {
				meant := strings.ReplaceAll(strings.ToLower(b.Name), " ", "-")
				if !namePattern.MatchString(meant) {
					meant = ""
				}
				d.At(doc.Position(n), 0, false, "name must be small letters, digits and hyphens, and begin with a "+
					"letter", meant)
			}
		},
		"title":   func(n ast.Node) { b.Title = d.title(n) },
		"owner":   func(n ast.Node) { b.Owner = d.name(n, "owner") },
		"service": func(n ast.Node) { b.Service = d.name(n, "service") },
		"tags": func(n ast.Node) {
			for _, x := range d.List(n, "tags") {
				b.Tags = append(b.Tags, d.name(x, "a tag"))
			}
		},
		"saves":          func(n ast.Node) { b.Saves = d.Duration(n, "saves") },
		"harm":           func(n ast.Node) { b.Harm = d.plainLine(n, "harm", MaxHarm, "who suffers, and how") },
		"links":          func(n ast.Node) { b.Links = d.links(n) },
		"starts":         func(n ast.Node) { x.starts = n },
		"limits":         func(n ast.Node) { x.limits = n },
		"incident_title": func(n ast.Node) { x.title = n },
		"finally":        func(n ast.Node) { x.finally = n },
		"if_cleared":     func(n ast.Node) { x.cleared = n },
		"if_worse":       func(n ast.Node) { x.worse = n },
		"parts":          func(n ast.Node) { x.parts = n },
	} {
		known[k] = f
	}
	got := d.Fields(root, "a runbook", known)
	b.lines = make(map[string]int, len(got))
	for k, n := range got {
		if p := doc.Position(n); p != nil {
			b.lines[k] = p.Line
		}
	}
	for _, k := range []string{"urgentis", "name", "title", "owner", "service", "steps"} {
		if got[k] == nil {
			d.Fail(root, "the runbook has no %s", k)
		}
	}
	if x.parts != nil {
		d.parts(x.parts)
	}
	d.body(root, x)
	if x.parts != nil && !d.Findings.Failed() {
		d.loops()
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

// meant looks for the name that an unknown one in an expression probably stands for.
func (d *decoder) meant(word string) string {
	if word == "" {
		return ""
	}
	// A name that stands bare belongs to a group.
	for group, names := range map[string][]string{
		"inputs": keys(d.schema.Inputs), "readings": keys(d.schema.Readings), "checks": d.schema.Checks,
		"answers": keys(d.schema.Answers), "calls": keys(d.schema.Calls),
	} {
		if slices.Contains(names, word) {
			return group + "." + word
		}
	}
	names := slices.Concat(
		keys(d.schema.Inputs),
		keys(d.schema.Readings),
		d.schema.Checks,
		[]string{
			"alert",
			"inputs",
			"readings",
			"checks",
			"incident",
			"service",
			"target",
			"run",
			"labels",
			"severity",
			"summary",
		},
	)
	for _, f := range expr.Functions {
		names = append(names, f.Name)
	}
	return doc.Nearest(word, names)
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
		d.Fail(n, "%s: %v is no condition; leave the key out instead", what, b.Value)
		return nil
	}
	p, err := d.cel.Compile(d.Word(n, what), d.placed(where))
	if err != nil {
		d.Expr(n, err, d.meant)
		return nil
	}
	if !p.IsBool() {
		d.Fail(n, "%s must be true or false, this is %s", what, p.TypeName())
	}
	return p
}

func (d *decoder) template(n ast.Node, where expr.Where, what string) *expr.Template {
	text := d.Word(n, what)
	if d.ofJob && what == "url" {
		text = jobURL(text)
	}
	t, err := d.cel.CompileTemplate(text, d.placed(where))
	if err != nil {
		d.Expr(n, err, d.meant)
		return nil
	}
	if m := singleBraces.FindStringSubmatch(t.Source); m != nil {
		d.Warn(n, "%s stands as it is: a value is filled in by {%s}", m[1], m[1])
	}
	return t
}

// singleBraces finds a value that its author meant to be filled in.
var singleBraces = regexp.MustCompile(
	`(?:^|[^{])(\{ ?(?:inputs|readings|alert|answers|checks|calls|incident|service|target)\.[a-z_.]+ ?\})(?:[^}]|$)`,
)

// value decodes a structure whose texts may have holes.
func (d *decoder) value(n ast.Node, where expr.Where) *Value {
	return ReadValue(d.Text, n, func(n ast.Node) *expr.Template { return d.template(n, where, "body") })
}

// maxDeep bounds how deep a structure is nested.
const maxDeep = 20

// ReadValue reads a structure, and each of its texts by text.
func ReadValue(t *doc.Text, n ast.Node, text func(ast.Node) *expr.Template) *Value {
	return readValue(t, n, text, 0)
}

func readValue(t *doc.Text, n ast.Node, text func(ast.Node) *expr.Template, depth int) *Value {
	if depth > maxDeep {
		t.Fail(n, "this is nested too deeply")
		return nil
	}
	switch x := n.(type) {
	case *ast.MappingNode, *ast.MappingValueNode:
		v := &Value{Map: map[string]*Value{}}
		for _, e := range t.Mapping(x, "body") {
			v.Map[e.Key] = readValue(t, e.Value, text, depth+1)
		}
		return v
	case *ast.SequenceNode:
		v := &Value{List: []*Value{}}
		for _, i := range x.Values {
			v.List = append(v.List, readValue(t, i, text, depth+1))
		}
		return v
	case *ast.StringNode, *ast.LiteralNode:
		return &Value{Text: text(x)}
	case *ast.NullNode:
		return &Value{}
	}
	return &Value{Lit: t.Scalar(n)}
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
