package estate

import (
	"strings"

	"github.com/goccy/go-yaml/ast"

	"urgentis/core/doc"
	"urgentis/core/watch"
)

// watch decodes scheduled looks.
func (x *decoder) watch(root ast.Node) {
	w := &watch.Watch{}
	x.d.Watch = w
	got := x.Fields(root, "a watch", map[string]func(ast.Node){
		"urgentis": func(ast.Node) {}, "name": x.name,
		"service": func(n ast.Node) { w.Service = x.named(n, "service") },
		"every": func(n ast.Node) {
			if w.Every = x.Duration(n, "every"); w.Every < watch.MinEvery || w.Every > watch.MaxEvery {
				x.Fail(n, "every is from 1s to 24h")
			}
		},
		"looks": func(n ast.Node) { x.List(n, "looks") },
	})
	w.Name = x.d.Name
	x.need(root, got, "watch", "name", "service", "every", "looks")
	if x.Findings.Failed() || got["looks"] == nil {
		return
	}
	block := blockOf(x.d.Text, "looks")
	if block == "" {
		x.Fail(got["looks"], "looks must begin a line of its own, as steps do in a runbook")
		return
	}
	w.Line = strings.Count(x.d.Text[:strings.Index("\n"+x.d.Text, "\nlooks:")], "\n") + 1
	var found doc.Findings
	w.Looks, found = watch.ReadLooks(w.Name, w.Service, block, w.Line)
	x.Findings = append(x.Findings, found...)
}

// named reads the name of something else.
func (x *decoder) named(n ast.Node, what string) string {
	w := x.Word(n, what)
	if !namePattern.MatchString(w) {
		x.Fail(n, "%s must be a name: small letters, digits and hyphens", what)
	}
	return w
}
