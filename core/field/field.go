// Package field makes one value of what somebody outside sent: a text with values filled in, or a value of which a part
// is taken, translated, or replaced where there is none. The maps of sources and the inputs of starts are made of
// fields. What was sent is data throughout: nothing of it is evaluated.
package field

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"urgentis/core/alert"
	"urgentis/core/doc"
	"urgentis/core/expr"
)

// Field is how one value is had: a text with values filled in, or a value that is looked at more closely.
type Field struct {
	Template *expr.Template
	// Of is a value; of its text Pattern takes the first group, or what it matches; As translates that.
	Of      *expr.Program
	Pattern *regexp.Regexp
	As      map[string]string
	// Otherwise stands where the value is missing, Pattern does not match, or As has no word for it; nil: then the
	// field cannot be had.
	Otherwise *expr.Template
	// From is what made it, for who reads of it; "": its own words.
	From string
}

// Text is the field as a text.
func (f *Field) Text(scope *expr.Scope) (string, error) {
	if f.Of == nil {
		return f.Template.Text(scope)
	}
	v, err := f.closely(scope)
	if err != nil && f.Otherwise != nil {
		return f.Otherwise.Text(scope)
	}
	return v, err
}

// Value is the field: a template that is one hole keeps the type of its value, anything else is a text.
func (f *Field) Value(scope *expr.Scope) (any, error) {
	if f.Of == nil {
		return f.Template.Value(scope)
	}
	return f.Text(scope)
}

func (f *Field) closely(scope *expr.Scope) (string, error) {
	v, err := f.Of.Eval(scope)
	if err != nil {
		return "", err
	}
	if v == nil {
		return "", fmt.Errorf("%s is null", f.Of.Source)
	}
	text := expr.Say(v)
	if f.Pattern != nil {
		m := f.Pattern.FindStringSubmatch(text)
		if m == nil {
			return "", fmt.Errorf("%q does not match the pattern", alert.Clip(text))
		}
		text = m[len(m)-1]
		if len(m) > 1 {
			text = m[1]
		}
	}
	if f.As != nil {
		word, ok := f.As[text]
		if !ok {
			return "", fmt.Errorf("as has no word for %q", alert.Clip(text))
		}
		text = word
	}
	return text, nil
}

// Says is what the field is made of, for who reads of it.
func (f *Field) Says() string {
	switch {
	case f.From != "":
		return f.From
	case f.Of == nil:
		return f.Template.Source
	}
	return "of: " + f.Of.Source
}

// Sources are the texts of all expressions in it.
func (f *Field) Sources() []string {
	var out []string
	for _, t := range []*expr.Template{f.Template, f.Otherwise} {
		if t != nil {
			out = append(out, t.Source)
		}
	}
	if f.Of != nil {
		out = append(out, f.Of.Source)
	}
	return out
}

// Reader reads fields out of documents.
type Reader struct {
	*doc.Text
	Cel *expr.Compiler
	// Where is the place of the expressions, Meant what an unknown word in one probably stands for.
	Where expr.Where
	Meant func(word string) string
	// Check looks at a word that the field may come to whatever is sent; nil: any is good.
	Check func(n ast.Node, what, word string)
	// Plain looks at the text of a template; nil: nobody does.
	Plain func(n ast.Node, t *expr.Template)
}

// Read reads a field: a text, or a mapping with of. What is wrong with it is found, and said of what.
func (r *Reader) Read(n ast.Node, what string) *Field {
	f := &Field{}
	if !isMapping(n) {
		if f.Template = r.template(n, what); f.Template != nil && r.Plain != nil {
			r.Plain(n, f.Template)
		}
		return f
	}
	got := r.Fields(n, what, r.Keys(f, what))
	if got["of"] == nil {
		r.Fail(n, "%s needs of: the value that it is made of", what)
	}
	return f
}

// Keys are those of a field that is looked at closely; they are read into f.
func (r *Reader) Keys(f *Field, what string) map[string]func(ast.Node) {
	return map[string]func(ast.Node){
		"of": func(n ast.Node) {
			p, err := r.Cel.Compile(r.Word(n, "of"), r.Where)
			if err != nil {
				r.Expr(n, err, r.Meant)
				return
			}
			f.Of = p
		},
		"pattern": func(n ast.Node) {
			p, err := regexp.Compile(r.Word(n, "pattern"))
			if err != nil {
				r.Fail(n, "pattern is not a regular expression (RE2): %s",
					strings.TrimPrefix(err.Error(), "error parsing regexp: "))
			}
			f.Pattern = p
		},
		"as": func(n ast.Node) { f.As = r.words(n, what) },
		"otherwise": func(n ast.Node) {
			f.Otherwise = r.template(n, "otherwise")
			if f.Otherwise != nil && len(f.Otherwise.Holes()) == 0 && r.Check != nil {
				r.Check(n, what, f.Otherwise.Source) // with holes, what it comes to is known when something came
			}
		},
	}
}

func (r *Reader) words(n ast.Node, what string) map[string]string {
	out := map[string]string{}
	for _, e := range r.Mapping(n, "as") {
		if e.Value == nil {
			r.Fail(e.Node, "%s has no value", e.Key)
			continue
		}
		out[e.Key] = r.Word(e.Value, "as")
		if r.Check != nil {
			r.Check(e.Value, what, out[e.Key])
		}
	}
	return out
}

func (r *Reader) template(n ast.Node, what string) *expr.Template {
	t, err := r.Cel.CompileTemplate(r.Word(n, what), r.Where)
	if err != nil {
		r.Expr(n, err, r.Meant)
		return nil
	}
	return t
}

func isMapping(n ast.Node) bool {
	switch n.(type) {
	case *ast.MappingNode, *ast.MappingValueNode:
		return true
	}
	return false
}

// Values makes all fields of a mapping. The error names the field that cannot be had.
func Values(fields map[string]*Field, scope *expr.Scope) (map[string]any, error) {
	out := map[string]any{}
	for _, name := range slices.Sorted(maps.Keys(fields)) {
		v, err := fields[name].Value(scope)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		out[name] = v
	}
	return out, nil
}
