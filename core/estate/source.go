package estate

import (
	"regexp"
	"slices"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"urgentis/core/alert"
	"urgentis/core/doc"
	"urgentis/core/expr"
)

// decoder decodes one document.
type decoder struct {
	*doc.Text
	d   *Document
	cel *expr.Compiler
}

// name takes the name of the document.
func (x *decoder) name(n ast.Node) {
	if x.d.Name = x.Word(n, "name"); !namePattern.MatchString(x.d.Name) {
		x.Fail(n, "name must be small letters, digits and hyphens, and begin with a letter")
	}
}

func (x *decoder) source(root ast.Node) {
	var err error
	if x.cel, err = expr.NewCompiler(expr.Schema{}); err != nil {
		x.Fail(root, "%s", err)
		return
	}
	s := &alert.Source{}
	x.d.Source = s
	got := x.Fields(root, "a source", map[string]func(ast.Node){
		"urgentis": func(ast.Node) {},
		"name":     x.name,
		"takes": func(n ast.Node) {
			if w := x.Word(n, "takes"); w != "http" {
				x.Fail(n, "takes must be http, not %s", w)
			}
		},
		"proof": func(n ast.Node) {
			for _, w := range x.List(n, "proof") {
				way := x.Word(w, "proof")
				if !slices.Contains(alert.Ways, way) {
					x.At(
						doc.Position(w),
						0,
						false,
						"there is no proof "+way+"; they are "+strings.Join(alert.Ways, ", "),
						doc.Nearest(way, alert.Ways),
					)
				}
				s.Proof = append(s.Proof, way)
			}
			if len(s.Proof) == 0 {
				x.Fail(n, "proof is empty: then nothing can be reported")
			}
		},
		"each":         func(n ast.Node) { s.Each = x.expression(n, "each") },
		"map":          func(n ast.Node) { x.fieldMap(n, s) },
		"cleared":      func(n ast.Node) { s.Cleared = x.condition(n, "cleared") },
		"ignore":       func(n ast.Node) { s.Ignore = x.condition(n, "ignore") },
		"silent_after": func(n ast.Node) { s.SilentAfter = x.Duration(n, "silent_after") },
	})
	if s.Name = x.d.Name; s.Name == "urgentis" {
		x.Fail(got["name"], "urgentis is the source of the service's own alerts; give it another name")
	}
	if x.Findings.Failed() {
		return // a key that is misspelt is not missing as well
	}
	if got["name"] == nil {
		x.Fail(root, "the source has no name")
	}
	if got["map"] == nil {
		for _, k := range []string{"each", "cleared", "ignore"} {
			if got[k] != nil {
				x.Fail(got[k], "%s needs a map: without one the source sends our own JSON or CloudEvents", k)
			}
		}
		return
	}
	for _, k := range []string{"severity", "summary"} {
		if s.Map[k] == nil {
			x.Fail(got["map"], "map has no %s", k)
		}
	}
}

// fieldMap decodes how the fields of a report are had.
func (x *decoder) fieldMap(n ast.Node, s *alert.Source) {
	s.Map = map[string]*alert.Field{}
	known := map[string]func(ast.Node){
		"labels": func(n ast.Node) {
			s.Labels = map[string]*alert.Field{}
			for _, e := range x.Mapping(n, "labels") {
				if e.Value == nil {
					x.Fail(e.Node, "%s has no value", e.Key)
					continue
				}
				s.Labels[e.Key] = x.field(e.Value, "labels."+e.Key)
			}
		},
	}
	for _, name := range alert.FieldNames {
		known[name] = func(n ast.Node) { s.Map[name] = x.field(n, name) }
	}
	x.Fields(n, "map", known)
}

// field decodes how one field is had: a text, or a mapping with of.
func (x *decoder) field(n ast.Node, what string) *alert.Field {
	f := &alert.Field{}
	if !isMapping(n) {
		t, err := x.cel.CompileTemplate(x.Word(n, what), expr.InReport)
		if err != nil {
			x.Expr(n, err, x.meant)
		}
		f.Text = t
		return f
	}
	got := x.Fields(n, what, x.fieldKeys(f, what))
	if got["of"] == nil {
		x.Fail(n, "%s needs of: the value that it is made of", what)
	}
	return f
}

// fieldKeys are the keys of a field that is looked at closely.
func (x *decoder) fieldKeys(f *alert.Field, what string) map[string]func(ast.Node) {
	return map[string]func(ast.Node){
		"of": func(n ast.Node) { f.Of = x.expression(n, "of") },
		"pattern": func(n ast.Node) {
			src := x.Word(n, "pattern")
			p, err := regexp.Compile(src)
			if err != nil {
				x.Fail(n, "pattern is not a regular expression (RE2): %s",
					strings.TrimPrefix(err.Error(), "error parsing regexp: "))
			}
			f.Pattern = p
		},
		"as": func(n ast.Node) {
			f.As = map[string]string{}
			for _, e := range x.Mapping(n, "as") {
				if e.Value == nil {
					x.Fail(e.Node, "%s has no value", e.Key)
					continue
				}
				f.As[e.Key] = x.Word(e.Value, "as")
				x.severity(e.Value, what, f.As[e.Key])
			}
		},
		"otherwise": func(n ast.Node) {
			w := x.Word(n, "otherwise")
			f.Otherwise = &w
			x.severity(n, what, w)
			if _, err := alert.Moment(w); what == "at" && err != nil {
				x.Fail(n, "otherwise: %s", err)
			}
		},
	}
}

// severity refuses a word that is no severity where one is wanted.
func (x *decoder) severity(n ast.Node, what, word string) {
	if what != "severity" || slices.Contains(alert.Severities(), word) {
		return
	}
	x.At(doc.Position(n), 0, false, "there is no severity "+word+"; they are "+
		strings.Join(alert.Severities(), ", "), doc.Nearest(word, alert.Severities()))
}

func isMapping(n ast.Node) bool {
	switch n.(type) {
	case *ast.MappingNode, *ast.MappingValueNode:
		return true
	}
	return false
}

func (x *decoder) expression(n ast.Node, what string) *expr.Program {
	p, err := x.cel.Compile(x.Word(n, what), expr.InReport)
	if err != nil {
		x.Expr(n, err, x.meant)
		return nil
	}
	return p
}

func (x *decoder) condition(n ast.Node, what string) *expr.Program {
	p := x.expression(n, what)
	if p != nil && !p.IsBool() {
		x.Fail(n, "%s must be true or false, this is %s", what, p.TypeName())
	}
	return p
}

// meant finds the name that an unknown one in an expression probably stands for.
func (x *decoder) meant(word string) string {
	if word == "" {
		return ""
	}
	return doc.Nearest(word, expr.ReportNames)
}
