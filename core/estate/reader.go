package estate

import (
	"regexp"
	"slices"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"urgentis/core/reads"
)

// maxForms bounds how many forms and scripts one document names.
const maxForms = 500

var digestPattern = regexp.MustCompile(`^sha256:[0-9a-f]{64}$`)

// reader decodes what else is known to only read.
func (x *decoder) reader(root ast.Node) {
	r := &reads.Extension{}
	x.d.Reader = r
	var elsewhere []string
	nodes := map[string]ast.Node{}
	got := x.Fields(root, "a reader", map[string]func(ast.Node){
		"urgentis": func(ast.Node) {}, "name": x.name,
		"programs": func(n ast.Node) {
			for _, e := range x.Mapping(n, "programs") {
				for _, item := range listed(e.Value) {
					form := e.Key + ": " + x.Word(item, "a form")
					r.Forms, nodes[form] = append(r.Forms, form), item
				}
			}
		},
		"elsewhere": func(n ast.Node) {
			for _, item := range x.List(n, "elsewhere") {
				elsewhere = append(elsewhere, x.Word(item, "elsewhere"))
			}
		},
		"scripts": func(n ast.Node) {
			for _, item := range x.List(n, "scripts") {
				d := x.Word(item, "scripts")
				if !digestPattern.MatchString(d) {
					x.Fail(item, "a script is named by the digest of its text, sha256: and 64 digits: "+
						"urgentis runbook check says it")
				}
				r.Scripts = append(r.Scripts, d)
			}
		},
	})
	x.need(root, got, "reader", "name")
	if len(r.Forms)+len(r.Scripts) > maxForms {
		x.Fail(root, "a reader names at most %d forms and scripts", maxForms)
	}
	if root != nil && len(r.Forms)+len(r.Scripts) == 0 && !x.Findings.Failed() {
		x.Fail(root, "a reader says what only reads: programs, or scripts")
	}
	try := reads.Builtin()
	for i, f := range r.Forms {
		at := nodes[f]
		name, _, _ := strings.Cut(f, ":")
		if slices.Contains(elsewhere, name) {
			f = name + "^" + strings.TrimPrefix(f, name)
			r.Forms[i] = f
		}
		if err := try.Add(f); err != nil {
			x.Fail(at, "%s", err)
		}
	}
	for _, name := range elsewhere {
		if !slices.ContainsFunc(r.Forms, func(f string) bool { return strings.HasPrefix(f, name+"^:") }) {
			x.Fail(got["elsewhere"], "%s is none of its programs", name)
		}
	}
}

// listed is a list, or one value as a list of it.
func listed(n ast.Node) []ast.Node {
	if s, ok := n.(*ast.SequenceNode); ok {
		return s.Values
	}
	return []ast.Node{n}
}
