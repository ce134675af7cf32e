package runbook

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"

	"urgentis/core/expr"
	"urgentis/core/reading"
)

// iteration reads what an each goes over, before its steps, and the names that it gives to them.
func (d *decoder) iteration(s *Step, entries []entry, place string, depth int) {
	it := &Iteration{Named: "item", AtOnce: 1}
	s.Each = it
	var between ast.Node
	for _, e := range entries {
		switch e.key {
		case "over":
			it.Over = d.over(e.value)
		case "where":
			it.Where = d.selector(e.value, "where")
		case "peers":
			it.Peers = d.selector(e.value, "peers")
		case "named":
			if it.Named = d.word(e.value, "named"); !idPattern.MatchString(it.Named) ||
				slices.Contains(taken, it.Named) {
				d.fail(e.value, "named must be a name of its own: small letters, digits and _")
			}
		case "at_once":
			it.AtOnce, it.Percent = d.share(e.value)
		case "tolerate":
			if it.Tolerate = d.integer(e.value, "tolerate"); it.Tolerate < 0 || it.Tolerate > MaxItems {
				d.fail(e.value, "tolerate must be from 0 to %d", MaxItems)
			}
		case "between":
			between = e.value
		}
	}
	if between != nil {
		it.Between = d.stepList(between, place+".between.", depth+1)
	}
	if it.Over != nil {
		d.names = d.names.With(it.Named, "").With("target", "target")
		return
	}
	d.names = d.names.With("target", "target")
	if it.Named != "item" {
		d.names = d.names.With(it.Named, "target")
	}
	if it.Peers != nil {
		d.names = d.names.With("peer", "target")
	}
}

// taken are the names that expressions have already.
var taken = []string{
	"alert",
	"alert_now",
	"inputs",
	"readings",
	"checks",
	"answers",
	"calls",
	"incident",
	"service",
	"target",
	"peer",
	"run",
	"now",
	"error",
	"secrets",
	"item",
}

func (d *decoder) over(n ast.Node) *expr.Program {
	p, err := d.cel.Compile(d.word(n, "over"), d.placed(expr.InStep))
	if err != nil {
		d.exprAt(n, err)
		return nil
	}
	switch t := p.TypeName(); {
	case p.IsReading():
		d.fail(
			n,
			"over must be a list: takings(%s) has the value of each target with its target, values(%s) the values "+
				"alone",
			p.Source,
			p.Source,
		)
	case t != "list" && t != string(expr.JSON):
		d.fail(n, "over must be a list, this is %s", t)
	}
	return p
}

// share reads a number, or a share of all such as 25%.
func (d *decoder) share(n ast.Node) (int, bool) {
	w := d.word(n, "at_once")
	digits, percent := strings.CutSuffix(w, "%")
	i, err := strconv.Atoi(digits)
	if err != nil || i < 1 || percent && i > 100 || i > MaxItems {
		d.fail(n, "at_once must be a number such as 4, or a share such as 25%%")
		return 1, false
	}
	return i, percent
}

func (d *decoder) branches(n ast.Node, s *Step, place string, depth int) {
	for _, e := range d.mapping(n, "branches") {
		if !idPattern.MatchString(e.key) {
			d.fail(e.node, "the name of a branch must be small letters, digits and _, and begin with a letter")
		}
		s.Branches = append(s.Branches, NamedSteps{e.key, d.stepList(e.value, place+".branches."+e.key+".", depth+1)})
	}
}

func (d *decoder) askKeys(s *Step, known map[string]func(ast.Node), place string, depth int) {
	q := &Question{Rounds: 5, Within: 30 * time.Minute, Suggest: map[string]*expr.Template{}}
	s.Ask = q
	known["to"] = func(n ast.Node) { q.To = d.people(n, "to") }
	known["text"] = func(n ast.Node) { q.Text = d.template(n, expr.InStep, "text") }
	known["choices"] = func(n ast.Node) {
		for _, e := range d.mapping(n, "choices") {
			q.Choices = append(q.Choices, d.choice(e, place, depth))
		}
	}
	known["fields"] = func(n ast.Node) { q.Fields = d.inputs(n, "field") }
	known["suggest"] = func(n ast.Node) {
		for _, e := range d.mapping(n, "suggest") {
			q.Suggest[e.key] = d.template(e.value, expr.InStep, "a suggestion")
		}
	}
	known["ask_again"] = func(n ast.Node) { q.AskAgain = d.condition(n, expr.InStep, "ask_again") }
	known["rounds"] = func(n ast.Node) {
		if q.Rounds = d.integer(n, "rounds"); q.Rounds < 1 || q.Rounds > 50 {
			d.fail(n, "rounds must be from 1 to 50")
		}
	}
	known["within"] = func(n ast.Node) {
		if q.Within = d.duration(n, "within"); q.Within > 7*24*time.Hour {
			d.fail(n, "a question may wait 7 days at most")
		}
	}
	known["unanswered"] = func(n ast.Node) { q.Unanswered = d.branch(n, "unanswered", place+".", depth) }
	known["none"] = func(n ast.Node) { q.None = d.branch(n, "none", place+".", depth) }
}

func (d *decoder) choice(e entry, place string, depth int) Choice {
	c := Choice{Name: e.key, Label: strings.ReplaceAll(e.key, "_", " ")}
	if !idPattern.MatchString(e.key) || e.key == NoneOfThese || e.key == Back {
		d.fail(
			e.node,
			"the name of a choice must be small letters, digits and _; %s and %s are there by themselves",
			NoneOfThese,
			Back,
		)
	}
	prefix := place + ".choices." + e.key + "."
	if _, steps := e.value.(*ast.SequenceNode); steps {
		c.Steps = d.stepList(e.value, prefix, depth+1)
		return c
	}
	if w, ok := e.value.(*ast.StringNode); ok {
		if w.Value != GoOn {
			d.fail(e.value, "a choice is a list of steps, or %s, or has label, itself, approves and steps", GoOn)
		}
		return c
	}
	d.fields(e.value, "choice "+e.key, map[string]func(ast.Node){
		"label":    func(n ast.Node) { c.Label = d.word(n, "label") },
		"itself":   func(n ast.Node) { c.Itself = d.condition(n, expr.InStep, "itself") },
		"approves": func(n ast.Node) { c.Approves = d.word(n, "approves") },
		"steps":    func(n ast.Node) { c.Steps = d.stepList(n, prefix, depth+1) },
	})
	return c
}

// schemaOf decodes a JSON Schema that is written out in the runbook.
func (d *decoder) schemaOf(n ast.Node) *reading.Schema {
	doc, ok := d.literal(n, 0)
	if !ok {
		return nil
	}
	s, err := reading.CompileSchema(doc)
	if err != nil {
		d.fail(n, "%s", err)
		return nil
	}
	return s
}

// literal decodes a structure as it stands, without holes.
func (d *decoder) literal(n ast.Node, depth int) (any, bool) {
	if depth > 40 {
		d.fail(n, "this is nested too deeply")
		return nil, false
	}
	switch x := n.(type) {
	case *ast.MappingNode, *ast.MappingValueNode:
		out := map[string]any{}
		for _, e := range d.mapping(x, "a schema") {
			v, ok := d.literal(e.value, depth+1)
			if !ok {
				return nil, false
			}
			out[e.key] = v
		}
		return out, true
	case *ast.SequenceNode:
		out := []any{}
		for _, i := range x.Values {
			v, ok := d.literal(i, depth+1)
			if !ok {
				return nil, false
			}
			out = append(out, v)
		}
		return out, true
	case *ast.NullNode:
		return nil, true
	}
	if i, whole := d.scalar(n).(int64); whole {
		return int(i), true
	}
	return d.scalar(n), true
}

func (d *decoder) agrees(n ast.Node) *Agrees {
	a := &Agrees{}
	got := d.fields(n, "agrees", map[string]func(ast.Node){
		"reading":   func(n ast.Node) { a.Reading = d.readingName(n) },
		"known":     func(n ast.Node) { a.Known = d.word(n, "known") },
		"subset":    func(n ast.Node) { a.How.Subset = d.boolean(n, "subset") },
		"any_order": func(n ast.Node) { a.How.AnyOrder = d.boolean(n, "any_order") },
	})
	if got["reading"] == nil || got["known"] == nil {
		d.fail(n, "agrees needs reading, and known: the key of the target's known facts")
	}
	return a
}

func (d *decoder) fits(n ast.Node) *Agrees {
	a := &Agrees{}
	got := d.fields(n, "fits", map[string]func(ast.Node){
		"reading": func(n ast.Node) { a.Reading = d.readingName(n) },
		"schema":  func(n ast.Node) { a.Schema = d.schemaOf(n) },
	})
	if got["reading"] == nil || got["schema"] == nil {
		d.fail(n, "fits needs reading and schema")
	}
	return a
}

func (d *decoder) readingName(n ast.Node) string {
	w := d.word(n, "reading")
	if _, ok := d.schema.Readings[w]; !ok {
		d.at(position(n), 0, false, fmt.Sprintf("no look takes the reading %s", w), nearest(w, keys(d.schema.Readings)))
	}
	return w
}
