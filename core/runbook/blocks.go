package runbook

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"

	"urgentis/core/doc"
	"urgentis/core/expr"
	"urgentis/core/reading"
)

// iteration reads what an each goes over, before its steps, and the names that it gives to them.
func (d *decoder) iteration(s *Step, entries []doc.Entry, place string, depth int) {
	it := &Iteration{Named: "item", AtOnce: 1}
	s.Each = it
	var between ast.Node
	for _, e := range entries {
		switch e.Key {
		case "over":
			it.Over = d.over(e.Value)
		case "where":
			it.Where = d.selector(e.Value, "where")
		case "peers":
			it.Peers = d.selector(e.Value, "peers")
		case "named":
			if it.Named = d.Word(e.Value, "named"); !idPattern.MatchString(it.Named) ||
				slices.Contains(taken, it.Named) {
				d.Fail(e.Value, "named must be a name of its own: small letters, digits and _")
			}
		case "at_once":
			it.AtOnce, it.Percent = d.share(e.Value)
		case "tolerate":
			if it.Tolerate = d.Integer(e.Value, "tolerate"); it.Tolerate < 0 || it.Tolerate > MaxItems {
				d.Fail(e.Value, "tolerate must be from 0 to %d", MaxItems)
			}
		case "between":
			between = e.Value
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
	p, err := d.cel.Compile(d.Word(n, "over"), d.placed(expr.InStep))
	if err != nil {
		d.Expr(n, err, d.meant)
		return nil
	}
	switch t := p.TypeName(); {
	case p.IsReading():
		d.Fail(
			n,
			"over must be a list: samples(%s) has the value of each target with its target, values(%s) the values "+
				"alone",
			p.Source,
			p.Source,
		)
	case t != "list" && t != string(expr.JSON):
		d.Fail(n, "over must be a list, this is %s", t)
	}
	return p
}

// share reads a number, or a share of all such as 25%.
func (d *decoder) share(n ast.Node) (int, bool) {
	w := d.Word(n, "at_once")
	digits, percent := strings.CutSuffix(w, "%")
	i, err := strconv.Atoi(digits)
	if err != nil || i < 1 || percent && i > 100 || i > MaxItems {
		d.Fail(n, "at_once must be a number such as 4, or a share such as 25%%")
		return 1, false
	}
	return i, percent
}

func (d *decoder) branches(n ast.Node, s *Step, place string, depth int) {
	for _, e := range d.Mapping(n, "branches") {
		if !idPattern.MatchString(e.Key) {
			d.Fail(e.Node, "the name of a branch must be small letters, digits and _, and begin with a letter")
		}
		s.Branches = append(s.Branches, NamedSteps{e.Key, d.stepList(e.Value, place+".branches."+e.Key+".", depth+1)})
	}
}

func (d *decoder) askKeys(s *Step, known map[string]func(ast.Node), place string, depth int) {
	q := &Question{Rounds: 5, Within: 30 * time.Minute, Suggest: map[string]*expr.Template{}}
	s.Ask = q
	known["to"] = func(n ast.Node) { q.To = d.people(n, "to") }
	known["text"] = func(n ast.Node) { q.Text = d.template(n, expr.InStep, "text") }
	known["knowledge"] = func(n ast.Node) { q.Knowledge = d.knowledge(n) }
	known["choices"] = func(n ast.Node) {
		for _, e := range d.Mapping(n, "choices") {
			q.Choices = append(q.Choices, d.choice(e, place, depth))
		}
	}
	known["fields"] = func(n ast.Node) { q.Fields = d.inputs(n, "field") }
	known["suggest"] = func(n ast.Node) {
		for _, e := range d.Mapping(n, "suggest") {
			q.Suggest[e.Key] = d.template(e.Value, expr.InStep, "a suggestion")
		}
	}
	known["ask_again"] = func(n ast.Node) { q.AskAgain = d.condition(n, expr.InStep, "ask_again") }
	known["rounds"] = func(n ast.Node) {
		if q.Rounds = d.Integer(n, "rounds"); q.Rounds < 1 || q.Rounds > 50 {
			d.Fail(n, "rounds must be from 1 to 50")
		}
	}
	known["within"] = func(n ast.Node) {
		if q.Within = d.Duration(n, "within"); q.Within > 7*24*time.Hour {
			d.Fail(n, "a question may wait 7 days at most")
		}
	}
	known["unanswered"] = func(n ast.Node) { q.Unanswered = d.branch(n, "unanswered", place+".", depth) }
	known["none"] = func(n ast.Node) { q.None = d.branch(n, "none", place+".", depth) }
}

func (d *decoder) choice(e doc.Entry, place string, depth int) Choice {
	c := Choice{Name: e.Key, Label: strings.ReplaceAll(e.Key, "_", " ")}
	if !idPattern.MatchString(e.Key) || e.Key == NoneOfThese || e.Key == Back {
		d.Fail(
			e.Node,
			"the name of a choice must be small letters, digits and _; %s and %s are there by themselves",
			NoneOfThese,
			Back,
		)
	}
	prefix := place + ".choices." + e.Key + "."
	if _, steps := e.Value.(*ast.SequenceNode); steps {
		c.Steps = d.stepList(e.Value, prefix, depth+1)
		return c
	}
	if w, ok := e.Value.(*ast.StringNode); ok {
		if w.Value != GoOn {
			d.Fail(e.Value, "a choice is a list of steps, or %s, or has label, itself, approves and steps", GoOn)
		}
		return c
	}
	d.Fields(e.Value, "choice "+e.Key, map[string]func(ast.Node){
		"label":    func(n ast.Node) { c.Label = d.Word(n, "label") },
		"itself":   func(n ast.Node) { c.Itself = d.condition(n, expr.InStep, "itself") },
		"approves": func(n ast.Node) { c.Approves = d.Word(n, "approves") },
		"says":     func(n ast.Node) { c.Says = d.plainLine(n, "says", MaxLoses, "what the choice comes to") },
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
		d.Fail(n, "%s", err)
		return nil
	}
	return s
}

// literal decodes a structure as it stands, without holes.
func (d *decoder) literal(n ast.Node, depth int) (any, bool) {
	if depth > 40 {
		d.Fail(n, "this is nested too deeply")
		return nil, false
	}
	switch x := n.(type) {
	case *ast.MappingNode, *ast.MappingValueNode:
		out := map[string]any{}
		for _, e := range d.Mapping(x, "a schema") {
			v, ok := d.literal(e.Value, depth+1)
			if !ok {
				return nil, false
			}
			out[e.Key] = v
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
	if i, whole := d.Scalar(n).(int64); whole {
		return int(i), true
	}
	return d.Scalar(n), true
}

func (d *decoder) agrees(n ast.Node) *Agrees {
	a := &Agrees{}
	got := d.Fields(n, "agrees", map[string]func(ast.Node){
		"reading":   func(n ast.Node) { a.Reading = d.readingName(n) },
		"known":     func(n ast.Node) { a.Known = d.Word(n, "known") },
		"subset":    func(n ast.Node) { a.How.Subset = d.Boolean(n, "subset") },
		"any_order": func(n ast.Node) { a.How.AnyOrder = d.Boolean(n, "any_order") },
	})
	if got["reading"] == nil || got["known"] == nil {
		d.Fail(n, "agrees needs reading, and known: the key of the target's known facts")
	}
	return a
}

func (d *decoder) fits(n ast.Node) *Agrees {
	a := &Agrees{}
	got := d.Fields(n, "fits", map[string]func(ast.Node){
		"reading": func(n ast.Node) { a.Reading = d.readingName(n) },
		"schema":  func(n ast.Node) { a.Schema = d.schemaOf(n) },
	})
	if got["reading"] == nil || got["schema"] == nil {
		d.Fail(n, "fits needs reading and schema")
	}
	return a
}

func (d *decoder) readingName(n ast.Node) string {
	w := d.Word(n, "reading")
	if _, ok := d.schema.Readings[w]; !ok {
		d.At(
			doc.Position(n),
			0,
			false,
			fmt.Sprintf("no look takes the reading %s", w),
			doc.Nearest(w, keys(d.schema.Readings)),
		)
	}
	return w
}
