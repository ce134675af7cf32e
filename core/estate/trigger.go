package estate

import (
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"

	"urgentis/core/calendar"
	"urgentis/core/doc"
	"urgentis/core/expr"
	"urgentis/core/trigger"
)

// need says that a key is missing, unless the document has other mistakes: a key that is misspelt is not missing as
// well.
func (x *decoder) need(root ast.Node, got map[string]ast.Node, what string, keys ...string) {
	for _, k := range keys {
		if got[k] == nil && !x.Findings.Failed() {
			x.Fail(root, "the %s has no %s", what, k)
		}
	}
}

// trigger decodes an occasion on which a runbook starts, that stands beside it.
func (x *decoder) trigger(root ast.Node) {
	t := &trigger.Beside{}
	x.d.Trigger = t
	r := &trigger.Reader{Text: x.Text, Cel: x.cel}
	keys := r.Keys(&t.Start)
	keys["urgentis"], keys["name"] = func(ast.Node) {}, x.name
	keys["runbook"] = func(n ast.Node) { t.Runbook = x.Word(n, "runbook") }
	got := x.Fields(root, "a trigger", keys)
	t.Start.Name = x.d.Name
	x.need(root, got, "trigger", "name", "runbook")
	r.Finish(&t.Start, root, got)
}

// calendar decodes hours that people keep.
func (x *decoder) calendar(root ast.Node) {
	c := &calendar.Calendar{Zone: time.UTC, Days: map[string][]calendar.Hours{}}
	x.d.Calendar = c
	got := x.Fields(root, "a calendar", map[string]func(ast.Node){
		"urgentis": func(ast.Node) {}, "name": x.name,
		"zone": func(n ast.Node) { c.Zone = x.Zone(n, "zone") },
		"weekly": func(n ast.Node) {
			for _, w := range x.List(n, "weekly") {
				h, err := calendar.ParseWeekly(x.Word(w, "weekly"))
				if err != nil {
					x.Fail(w, "%s", err)
				}
				c.Weekly = append(c.Weekly, h)
			}
		},
		"days": func(n ast.Node) {
			for _, e := range x.Mapping(n, "days") {
				x.day(e, c)
			}
		},
	})
	c.Name = x.d.Name
	x.need(root, got, "calendar", "name", "zone", "weekly")
}

// day decodes the hours of one day, or that it is closed.
func (x *decoder) day(e doc.Entry, c *calendar.Calendar) {
	if _, err := time.Parse(time.DateOnly, e.Key); err != nil {
		x.Fail(e.Node, "%s is no day; write it like 2026-12-24", e.Key)
		return
	}
	c.Days[e.Key] = nil
	word := x.Word(e.Value, "days")
	if word == "closed" {
		return
	}
	for piece := range strings.SplitSeq(word, ",") {
		h, err := calendar.ParseHours(strings.TrimSpace(piece))
		if err != nil {
			x.Fail(e.Value, "%s; a day without hours is closed", err)
			return
		}
		c.Days[e.Key] = append(c.Days[e.Key], h)
	}
}

// mute decodes planned work, for which triggers and messages are held back.
func (x *decoder) mute(root ast.Node) {
	m := &trigger.Mute{}
	x.d.Mute = m
	moment := func(at *time.Time, key string) func(ast.Node) {
		return func(n ast.Node) {
			t, err := time.Parse(time.RFC3339, x.Word(n, key))
			if err != nil {
				x.Fail(n, "%s must be a time such as 2026-12-01T22:00:00Z", key)
			}
			*at = t
		}
	}
	got := x.Fields(root, "a mute", map[string]func(ast.Node){
		"urgentis": func(ast.Node) {}, "name": x.name,
		"when": func(n ast.Node) {
			p, err := x.cel.Compile(x.Word(n, "when"), expr.InStart)
			if err != nil {
				x.Expr(n, err, func(word string) string { return doc.Nearest(word, []string{"alert"}) })
				return
			}
			if m.When = p; !p.IsBool() {
				x.Fail(n, "when must be true or false, this is %s", p.TypeName())
			}
		},
		"from": moment(&m.From, "from"), "until": moment(&m.Until, "until"),
		"because": func(n ast.Node) { m.Because = strings.TrimSpace(x.Word(n, "because")) },
	})
	m.Name = x.d.Name
	x.need(root, got, "mute", "name", "when", "from", "until", "because")
	if !x.Findings.Failed() && !m.Until.After(m.From) {
		x.Fail(got["until"], "until is not after from")
	}
}
