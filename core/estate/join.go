package estate

import (
	"github.com/goccy/go-yaml/ast"

	"urgentis/core/doc"
	"urgentis/core/expr"
	"urgentis/core/incident"
)

// join decodes by what alerts are one incident.
func (x *decoder) join(root ast.Node) {
	j := &incident.Join{}
	x.d.Join = j
	meant := func(word string) string { return doc.Nearest(word, []string{"alert"}) }
	got := x.Fields(root, "a join", map[string]func(ast.Node){
		"urgentis": func(ast.Node) {}, "name": x.name,
		"when": func(n ast.Node) {
			p, err := x.cel.Compile(x.Word(n, "when"), expr.InStart)
			if err != nil {
				x.Expr(n, err, meant)
				return
			}
			if j.When = p; !p.IsBool() {
				x.Fail(n, "when must be true or false, this is %s", p.TypeName())
			}
		},
		"by": func(n ast.Node) {
			for _, v := range x.List(n, "by") {
				p, err := x.cel.Compile(x.Word(v, "by"), expr.InStart)
				if err != nil {
					x.Expr(v, err, meant)
					continue
				}
				j.By = append(j.By, p)
			}
		},
		"within": func(n ast.Node) {
			if j.Within = x.Duration(n, "within"); j.Within > incident.MaxWithin {
				x.Fail(n, "within may be 7d at most")
			}
		},
		"also":  func(n ast.Node) { j.Also = x.directions(n) },
		"order": func(n ast.Node) { j.Order = x.Integer(n, "order") },
	})
	j.Name = x.d.Name
	x.need(root, got, "join", "name", "by", "within")
	if got["by"] != nil && len(j.By) == 0 && !x.Findings.Failed() {
		x.Fail(got["by"], "by is empty: then all alerts would be one incident; say by: [alert.service]")
	}
}

// directions reads along which dependencies a join looks.
func (x *decoder) directions(n ast.Node) (out []incident.Direction) {
	for _, v := range x.List(n, "also") {
		out = append(out, incident.Direction(x.oneOf(v, "each of also", incident.Directions)))
	}
	return out
}
