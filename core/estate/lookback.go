package estate

import (
	"slices"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"

	"urgentis/core/doc"
	"urgentis/core/expr"
	"urgentis/core/lookback"
	"urgentis/core/reading"
	"urgentis/core/runbook"
	"urgentis/core/watch"
)

// lookBackInputs is what the looks of a look back are given: from when until when, as texts and in seconds.
const lookBackInputs = `inputs: {from: {type: text, pattern: '^[0-9]{4}-[0-9]{2}-[0-9]{2}T[0-9:]{8}Z$'}, ` +
	`until: {type: text, pattern: '^[0-9]{4}-[0-9]{2}-[0-9]{2}T[0-9:]{8}Z$'}, from_s: {type: integer}, ` +
	`until_s: {type: integer}}` + "\n"

// lookBack decodes looks into the past.
func (x *decoder) lookBack(root ast.Node) {
	l := &lookback.LookBack{Before: time.Hour, After: 15 * time.Minute}
	x.d.LookBack = l
	span := func(to *time.Duration, what string) func(ast.Node) {
		return func(n ast.Node) {
			if *to = x.Duration(n, what); *to < time.Minute || *to > lookback.MaxBack {
				x.Fail(n, "%s is from 1m to 168h", what)
			}
		}
	}
	got := x.Fields(root, "a look back", map[string]func(ast.Node){
		"urgentis": func(ast.Node) {}, "name": x.name,
		"service": func(n ast.Node) { l.Service = x.named(n, "service") },
		"title":   func(n ast.Node) { l.Title = strings.TrimSpace(x.Word(n, "title")) },
		"before":  span(&l.Before, "before"),
		"after":   span(&l.After, "after"),
		"looks":   func(n ast.Node) { x.List(n, "looks") },
		"series": func(n ast.Node) {
			for _, e := range x.Mapping(n, "series") {
				s := x.backSeries(e.Value)
				s.Name = e.Key
				l.Series = append(l.Series, s)
			}
		},
		"lines": func(n ast.Node) {
			for _, i := range x.List(n, "lines") {
				l.Lines = append(l.Lines, x.Word(i, "a reading"))
			}
		},
	})
	l.Name = x.d.Name
	x.need(root, got, "look back", "name", "service", "title", "looks")
	if x.Findings.Failed() || got["looks"] == nil {
		return
	}
	if len(l.Series) == 0 && len(l.Lines) == 0 {
		x.Fail(root, "a look back draws series, or groups lines: say of which readings")
		return
	}
	x.backLooks(l, got)
}

// backSeries decodes a series of a look back.
func (x *decoder) backSeries(n ast.Node) lookback.Series {
	var s lookback.Series
	got := x.Fields(n, "a series", map[string]func(ast.Node){
		"of":     func(n ast.Node) { s.Of = x.Word(n, "of") },
		"unit":   func(n ast.Node) { s.Unit = x.Word(n, "unit") },
		"metric": func(n ast.Node) { s.Metric = x.Word(n, "metric") },
		"target": func(n ast.Node) { s.Target = x.Word(n, "target") },
		"good": func(n ast.Node) {
			if s.Good = x.Word(n, "good"); !slices.Contains(
				[]string{string(reading.Low), string(reading.High)},
				s.Good,
			) {
				x.Fail(n, "good is low or high")
			}
		},
	})
	x.need(n, got, "series", "of")
	return s
}

// backLooks reads the looks, and holds what is drawn against what they read.
func (x *decoder) backLooks(l *lookback.LookBack, got map[string]ast.Node) {
	block := blockOf(x.d.Text, "looks")
	if block == "" {
		x.Fail(got["looks"], "looks must begin a line of its own, as steps do in a runbook")
		return
	}
	l.Line = strings.Count(x.d.Text[:strings.Index("\n"+x.d.Text, "\nlooks:")], "\n") + 1
	var found doc.Findings
	l.Looks, found = watch.ReadLooksWith(lookBackInputs, l.Name, l.Service, block, l.Line)
	x.Findings = append(x.Findings, found...)
	if l.Looks == nil {
		return
	}
	for _, s := range l.Series {
		x.drawn(got["series"], l.Looks, s.Of, map[bool]expr.Type{true: expr.Text, false: expr.JSON}[s.Metric != ""])
	}
	for _, name := range l.Lines {
		x.drawn(got["lines"], l.Looks, name, expr.Text)
	}
}

// drawn wants a reading of a type.
func (x *decoder) drawn(n ast.Node, book *runbook.Book, name string, want expr.Type) {
	look, typ := book.TypeOf(name)
	switch {
	case look == nil:
		x.At(doc.Position(n), 0, false, "no look reads "+name, doc.Nearest(name, book.ReadingNames()))
	case typ != want:
		x.Fail(
			n,
			"the reading %s is %s and must be %s: a list of {at, value, target} is json, OpenMetrics and lines are "+
				"text",
			name,
			typ,
			want,
		)
	}
}
