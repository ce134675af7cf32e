package estate

import (
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"

	"urgentis/core/alert"
	"urgentis/core/doc"
	"urgentis/core/expr"
	"urgentis/core/objective"
)

// freshDefault is how old a reading may be for an objective that does not say so.
const freshDefault = 5 * time.Minute

// objective decodes what a service is measured against.
func (x *decoder) objective(root ast.Node) {
	o := &objective.Objective{Fresh: freshDefault, Where: map[string]string{}, Burns: objective.DefaultBurns()}
	x.d.Objective = o
	got := x.Fields(root, "an objective", map[string]func(ast.Node){
		"urgentis": func(ast.Node) {}, "name": x.name,
		"service":   func(n ast.Node) { o.Service = x.named(n, "service") },
		"title":     func(n ast.Node) { o.Title = strings.TrimSpace(x.Word(n, "title")) },
		"good_when": func(n ast.Node) { x.holds(n, o) },
		"events":    func(n ast.Node) { x.events(n, o) },
		"where": func(n ast.Node) {
			for _, e := range x.Mapping(n, "where") {
				o.Where[e.Key] = x.Word(e.Value, "a label")
			}
		},
		"target": func(n ast.Node) {
			if o.Target = x.Number(n, "target") / 100; o.Target <= 0 || o.Target >= 1 {
				x.Fail(n, "target is a percentage above 0 and below 100, such as 99.5")
			}
		},
		"window": func(n ast.Node) { x.window(n, o) },
		"zone":   func(n ast.Node) { o.Window.Zone = x.Zone(n, "zone") },
		"fresh": func(n ast.Node) {
			if o.Fresh = x.Duration(n, "fresh"); o.Fresh < objective.Step || o.Fresh > 24*time.Hour {
				x.Fail(n, "fresh is from 1m to 24h")
			}
		},
		"missing": func(n ast.Node) {
			w := x.Word(n, "missing")
			if o.MissingIsBad = w == "bad"; !o.MissingIsBad && w != "unknown" {
				x.Fail(n, "missing is bad or unknown")
			}
		},
		"burns": func(n ast.Node) { x.burns(n, o) },
	})
	o.Name = x.d.Name
	x.need(root, got, "objective", "name", "service", "title", "target", "window")
	switch {
	case x.Findings.Failed():
	case (got["good_when"] == nil) == (got["events"] == nil):
		x.Fail(root, "an objective has either good_when, a condition that is true while all is well, or events, which "+
			"counts good ones among all")
	case o.Window.Rolling > 0 && got["zone"] != nil:
		x.Fail(got["zone"], "a zone is for a window by the calendar")
	}
	if o.Window.Zone == nil {
		o.Window.Zone = time.UTC
	}
	for _, b := range o.Burns {
		if !x.Findings.Failed() && o.Window.Rolling > 0 && got["burns"] != nil && b.Over > o.Window.Rolling {
			x.Fail(got["burns"], "a burn is over less time than the window")
		}
	}
	o.Burns = slices.DeleteFunc(o.Burns, func(b objective.Burn) bool {
		return got["burns"] == nil && o.Window.Rolling > 0 && b.Over > o.Window.Rolling
	})
}

var readingsNamed = regexp.MustCompile(`\breadings\.([a-z][a-z0-9_]*)`)

// holds compiles the condition of an objective. Its readings are numbers, whoever takes them.
func (x *decoder) holds(n ast.Node, o *objective.Objective) {
	text := x.Word(n, "good_when")
	schema := expr.Schema{Readings: map[string]expr.Type{}}
	for _, m := range readingsNamed.FindAllStringSubmatch(text, -1) {
		schema.Readings[m[1]] = expr.Number
	}
	cel, err := expr.NewCompiler(schema)
	if err != nil {
		x.Fail(n, "%s", err)
		return
	}
	p, err := cel.Compile(text, expr.InStep)
	if err != nil {
		x.Expr(n, err, func(word string) string { return doc.Nearest(word, []string{"readings"}) })
		return
	}
	o.Holds, o.Readings = p, p.Refers("readings")
	slices.Sort(o.Readings)
	switch {
	case !p.IsBool():
		x.Fail(n, "good_when must be true or false, this is %s", p.TypeName())
	case len(o.Readings) == 0:
		x.Fail(n, "good_when speaks of no reading, such as max(readings.depth) < 200")
	case len(o.Readings) > objective.MaxReadings:
		x.Fail(n, "good_when speaks of at most %d readings", objective.MaxReadings)
	}
	for _, other := range []string{"alert", "alert_now", "inputs", "checks", "answers", "calls", "run", "error"} {
		if len(p.Refers(other)) > 0 {
			x.Fail(n, "good_when speaks of readings alone, not of %s", other)
		}
	}
	if p.Calls("before") || p.Calls("previous") || p.Calls("own") {
		x.Fail(n, "before, previous and own have no meaning here: an objective sees what was read last of each target")
	}
}

var readingPattern = regexp.MustCompile(`^[a-z][a-z0-9_]{0,62}$`)

// events reads which readings count events.
func (x *decoder) events(n ast.Node, o *objective.Objective) {
	reading := func(to *string, what string) func(ast.Node) {
		return func(v ast.Node) {
			if *to = x.Word(v, what); !readingPattern.MatchString(*to) {
				x.Fail(v, "%s must be the name of a reading", what)
			}
		}
	}
	got := x.Fields(n, "events", map[string]func(ast.Node){
		"good": reading(&o.Good, "good"), "all": reading(&o.All, "all"),
	})
	if got["good"] == nil || got["all"] == nil {
		x.Fail(n, "events has good and all: readings that count good events, and all, upwards")
	}
	o.Readings = []string{o.Good, o.All}
}

// window reads over which time an objective is held.
func (x *decoder) window(n ast.Node, o *objective.Objective) {
	w := x.Word(n, "window")
	if slices.Contains(objective.Calendars, w) {
		o.Window.Calendar = w
		return
	}
	d, err := doc.ParseDuration(w)
	if err != nil || d < objective.MinWindow || d > objective.MaxWindow {
		x.Fail(n, "window is a time from 1h to 400d, or %s", strings.Join(objective.Calendars, ", "))
	}
	o.Window.Rolling = d
}

// burns reads at which speeds of spending the budget alerts are raised.
func (x *decoder) burns(n ast.Node, o *objective.Objective) {
	o.Burns = nil
	for _, item := range x.List(n, "burns") {
		b := objective.Burn{Severity: alert.Major}
		got := x.Fields(item, "a burn", map[string]func(ast.Node){
			"spends": func(v ast.Node) {
				if b.Share = x.Number(v, "spends") / 100; b.Share <= 0 || b.Share > 1 {
					x.Fail(v, "spends is a percentage of the budget above 0, up to 100")
				}
			},
			"in": func(v ast.Node) {
				if b.Over = x.Duration(v, "in"); b.Over < 5*time.Minute || b.Over > 30*24*time.Hour {
					x.Fail(v, "in is from 5m to 30d")
				}
			},
			"severity": func(v ast.Node) {
				words := alert.Severities()[1:] // cleared is none here
				b.Severity = alert.Severity(x.Word(v, "severity"))
				if !slices.Contains(words, string(b.Severity)) {
					x.Fail(v, "severity is one of %s", strings.Join(words, ", "))
				}
			},
		})
		if got["spends"] == nil || got["in"] == nil {
			x.Fail(item, "a burn has spends, a percentage of the budget, and in, the time in which that is spent")
		}
		o.Burns = append(o.Burns, b)
	}
	if len(o.Burns) > objective.MaxBurns {
		x.Fail(n, "an objective has at most %d burns", objective.MaxBurns)
	}
}
