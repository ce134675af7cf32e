package estate

import (
	"strings"

	"github.com/goccy/go-yaml/ast"

	"urgentis/core/doc"
	"urgentis/core/library"
	"urgentis/core/runbook"
)

// binding decodes what a runbook of the library is bound to.
func (x *decoder) binding(root ast.Node) {
	b := &library.Binding{Roles: map[string]string{}, Inputs: map[string]any{}}
	x.d.Binding = b
	word := func(to *string, what string) func(ast.Node) {
		return func(n ast.Node) { *to = strings.TrimSpace(x.Word(n, what)) }
	}
	got := x.Fields(root, "a binding", map[string]func(ast.Node){
		"urgentis": func(ast.Node) {}, "name": x.name,
		"library": word(&b.Library, "library"),
		"service": word(&b.Service, "service"),
		"owner":   word(&b.Owner, "owner"),
		"title":   word(&b.Title, "title"),
		"harm":    word(&b.Harm, "harm"),
		"roles": func(n ast.Node) {
			for _, e := range x.Mapping(n, "roles") {
				role := x.Word(e.Value, "a role")
				if !rolePattern.MatchString(role) {
					x.Fail(e.Value, "%s cannot be the role of targets here: letters, digits, . _ and -", role)
				}
				b.Roles[e.Key] = role
			}
		},
		"inputs": func(n ast.Node) { b.Inputs = x.Values(n, "inputs") },
		"starts": func(n ast.Node) {
			x.Mapping(n, "starts")
			if b.Starts = blockOf(x.d.Text, "starts"); b.Starts == "" {
				x.Fail(n, "starts must begin a line of its own, as it does in a runbook")
			}
		},
	})
	b.Name = x.d.Name
	x.need(root, got, "binding", "name", "library", "service", "owner")
	for key, value := range map[string]string{"service": b.Service, "owner": b.Owner} {
		if got[key] != nil && !namePattern.MatchString(value) {
			x.Fail(got[key], "%s must be a name: small letters, digits and hyphens", key)
		}
	}
}

// blockOf is the text of one of the outermost keys with all that stands under it.
func blockOf(text, key string) string {
	var out strings.Builder
	in := false
	for l := range strings.SplitAfterSeq(text, "\n") {
		if l != "" && l[0] != ' ' && l[0] != '#' && strings.TrimSpace(l) != "" {
			in = strings.HasPrefix(l, key+":")
		}
		if in {
			out.WriteString(l)
		}
	}
	return out.String()
}

// bound makes the runbook that a binding asks for. It stands where its binding stands.
func bound(d *Document) (*Document, doc.Findings) {
	at := func(says string) doc.Findings { return doc.Findings{{Line: d.Line, Column: 1, Message: says}} }
	text, err := library.Bind(*d.Binding)
	if err != nil {
		return nil, at(err.Error())
	}
	book, found := runbook.Parse([]byte(text))
	for i := range found {
		found[i].Message = "in the runbook that it makes: " + found[i].Message
		found[i].Line, found[i].Column = d.Line, 1
	}
	if book == nil {
		return nil, found
	}
	return &Document{Kind: Runbook, Name: book.Name, Text: text, Digest: doc.Sum([]byte(text)), Line: d.Line,
		Runbook: book, FromBinding: true}, found
}
