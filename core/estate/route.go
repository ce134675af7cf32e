package estate

import (
	"time"

	"github.com/goccy/go-yaml/ast"

	"urgentis/core/expr"
	"urgentis/core/route"
	"urgentis/core/trigger"
)

// route decodes who is told of some notices.
func (x *decoder) route(root ast.Node) {
	r := &route.Route{}
	x.d.Route = r
	hours := &trigger.Reader{Text: x.Text, Cel: x.cel}
	got := x.Fields(root, "a route", map[string]func(ast.Node){
		"urgentis": func(ast.Node) {}, "name": x.name,
		"when": func(n ast.Node) { r.When = x.judged(n, "when", expr.InReport.With("notice", "")) },
		"hours": func(n ast.Node) {
			h := hours.Hours(n)
			r.Hours, r.Inside = h.Calendar, h.Inside
		},
		"tell": func(n ast.Node) {
			for _, v := range x.List(n, "tell") {
				r.Tell = append(r.Tell, x.told(v))
			}
		},
		"escalate_after": func(n ast.Node) { r.EscalateAfter = x.patience(n, "escalate_after") },
		"page_after":     func(n ast.Node) { r.Page = x.patience(n, "page_after") },
		"last_resort":    func(n ast.Node) { r.Last = x.Boolean(n, "last_resort") },
		"nobody":         func(n ast.Node) { r.Nobody = x.Boolean(n, "nobody") },
	})
	r.Name = x.d.Name
	x.need(root, got, "route", "name")
	switch {
	case x.Findings.Failed():
	case r.Nobody == (len(r.Tell) > 0):
		x.Fail(root, "a route either tells somebody (tell: [on-call/quayside]), or says nobody: true")
	case r.Last && (r.Nobody || r.When != nil || r.Hours != "" || r.Page != 0):
		x.Fail(
			root,
			"the last resort is told at any time of whatever nobody took: it has no when, hours, page_after or "+
				"nobody",
		)
	}
}

// patience reads how long it takes until somebody else is told.
func (x *decoder) patience(n ast.Node, what string) time.Duration {
	d := x.Duration(n, what)
	if d < 10*time.Second || d > 24*time.Hour {
		x.Fail(n, "%s is from 10s to 24h", what)
	}
	return d
}

// told reads the word for somebody who is told.
func (x *decoder) told(n ast.Node) string {
	w := x.Word(n, "tell")
	if !route.IsWord(w) {
		x.Fail(n, "%q is nobody: write room/NAME, team/NAME, on-call/NAME, person/NAME or connection/NAME", w)
	}
	return w
}
