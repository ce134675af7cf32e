package runbook

import (
	"bytes"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
	"github.com/goccy/go-yaml/token"

	"urgentis/core/reading"
)

// Alone gives the text of a runbook in which one change is all that is changed: the looks and checks that it rests on
// come before it, those that prove it after it, and its gate, its undo and the blocks around it are its own. One that
// has no gate is given one, as the checks that would have kept the runbook from it are not there. What else the runbook
// would do, and what starts it, is left out; where the proof fails it is handed over, unless a word says otherwise. It
// is another text, so that everything that is said of a runbook is said of this one.
func (b *Book) Alone(change *Step) ([]byte, error) {
	if change.Verb != Change {
		return nil, fmt.Errorf("step %s is a %s: a change can be tried alone", change.Path, change.Verb)
	}
	file, err := parser.ParseBytes(bytes.ReplaceAll(b.Source, []byte("\r\n"), []byte("\n")), 0)
	if err != nil {
		return nil, err
	}
	root, ok := file.Docs[0].Body.(*ast.MappingNode)
	if !ok {
		return nil, fmt.Errorf("the runbook %s has no steps", b.Name)
	}
	a := &alone{change: change}
	steps, ok := valueUnder(root, "steps").(*ast.SequenceNode)
	if !ok || !a.list(steps, b.Steps) {
		return nil, fmt.Errorf("the change %q stands in a branch, a choice or a part: what stands among the steps, in "+
			"an each or in a block of changes can be tried alone", change.Title)
	}
	a.sift()
	if x := answered.FindString(a.text()); x != "" {
		return nil, fmt.Errorf("the change %q rests on %s, which somebody answered or another runbook found: it "+
			"cannot be tried alone", change.Title, x)
	}
	if change.Gate == nil && len(b.GatesAround(change)) == 0 {
		if err := a.gate("gate: {ask: team/" + b.Owner + "}"); err != nil {
			return nil, err
		}
	}
	keepKeys(root, aloneKeys)
	retitle(root, "Only: "+change.Title)
	return Format([]byte(root.String() + "\n"))
}

// aloneKeys are the parts of the whole that stay.
var aloneKeys = []string{
	"urgentis", "name", "title", "owner", "service", "tags", "harm", "about", "inputs", "limits", "steps",
}

// alone is what is left of the steps: the sequences in which they stand, from the outermost in.
type alone struct {
	change *Step
	lists  []*aloneList
}

type aloneList struct {
	nodes *ast.SequenceNode
	steps []*Step // beside the nodes
	// around is the step on the way to the change, or the change.
	around *Step
}

var answered = regexp.MustCompile(`\b(answers|calls)\.[a-z][a-z0-9_]*`)

// list keeps of a list of steps what may be needed, and leads on to the change. It reports whether that is in it.
func (a *alone) list(nodes *ast.SequenceNode, steps []*Step) bool {
	leads := func(s *Step) bool { return s == a.change || slices.Contains(s.allWithin(), a.change) }
	at := slices.IndexFunc(steps, leads)
	if at < 0 || len(nodes.Values) != len(steps) {
		return false
	}
	l := &aloneList{nodes: nodes, around: steps[at]}
	var kept []ast.Node
	for i, s := range steps {
		m, ok := nodes.Values[i].(*ast.MappingNode)
		mayHelp := s.Verb == Look || i < at && s.Verb == Check && s.ID != "" ||
			i > at && s.Verb == Check && s.Proves != "" && s.Proves == a.change.ID
		if !ok || i != at && !mayHelp {
			continue
		}
		bare(m, s)
		kept, l.steps = append(kept, m), append(l.steps, s)
	}
	nodes.Values = kept
	a.lists = append(a.lists, l)
	if steps[at] == a.change {
		return true
	}
	within, ok := valueUnder(nodes.Values[slices.Index(l.steps, steps[at])], "steps").(*ast.SequenceNode)
	return ok && a.list(within, steps[at].Steps)
}

// allWithin lists the steps of an each or a block, and of those in it.
func (s *Step) allWithin() []*Step {
	out := slices.Clone(s.Steps)
	for _, in := range s.Steps {
		out = append(out, in.allWithin()...)
	}
	return out
}

// bare takes the steps out of a step that follow its ends; words stay.
func bare(m *ast.MappingNode, s *Step) {
	m.Values = slices.DeleteFunc(m.Values, func(v *ast.MappingValueNode) bool {
		switch k := v.Key.GetToken().Value; k {
		case "when", "otherwise", "between":
			return true
		case "passes", "unsure", "fails", "on_error":
			_, steps := v.Value.(*ast.SequenceNode)
			return steps || k == "passes" || s.Verb == Check && s.Proves == "" && k != "on_error"
		case "gate":
			if g, ok := v.Value.(*ast.MappingNode); ok {
				g.Values = slices.DeleteFunc(g.Values, func(v *ast.MappingValueNode) bool {
					_, steps := v.Value.(*ast.SequenceNode)
					return steps
				})
			}
		}
		return false
	})
}

// gate puts a gate on the change.
func (a *alone) gate(text string) error {
	file, err := parser.ParseBytes([]byte(text), 0)
	if err != nil {
		return err
	}
	gate, ok := file.Docs[0].Body.(*ast.MappingNode)
	if !ok {
		return fmt.Errorf("%s is no gate", text)
	}
	l := a.lists[len(a.lists)-1]
	at, ok := l.nodes.Values[slices.Index(l.steps, a.change)].(*ast.MappingNode)
	if !ok {
		return fmt.Errorf("%w: the change %q is no mapping", ErrFormat, a.change.Title)
	}
	gate.AddColumn(at.Values[0].Key.GetToken().Position.Column - 1)
	at.Values = append(at.Values, gate.Values...)
	return nil
}

// sift leaves out looks and checks on which nothing rests that is left.
func (a *alone) sift() {
	for again := true; again; {
		again = false
		for _, l := range a.lists {
			for i, s := range l.steps {
				if s == l.around || s.Proves != "" && s.Proves == a.change.ID || a.wanted(s, l.nodes.Values[i]) {
					continue
				}
				l.nodes.Values = slices.Delete(l.nodes.Values, i, i+1)
				l.steps = slices.Delete(l.steps, i, i+1)
				again = true
				break
			}
		}
	}
}

// wanted reports whether anything that is left speaks of what a step makes known.
func (a *alone) wanted(s *Step, node ast.Node) bool {
	rest := strings.Replace(a.text(), node.String(), "", 1)
	if s.Verb == Check {
		return regexp.MustCompile(`\bchecks\.` + s.ID + `\b`).MatchString(rest)
	}
	if s.ID != "" && regexp.MustCompile(`(?m)\b(retake|agrees|of): *`+s.ID+`\b`).MatchString(rest) {
		return true
	}
	return slices.ContainsFunc(s.Read, func(r reading.Spec) bool {
		return regexp.MustCompile(`\b(readings\.|reading: *|agrees: *)` + r.Name + `\b`).MatchString(rest)
	})
}

func (a *alone) text() string { return a.lists[0].nodes.String() }

func valueUnder(n ast.Node, name string) ast.Node {
	m, ok := n.(*ast.MappingNode)
	if !ok {
		return nil
	}
	for _, v := range m.Values {
		if v.Key.GetToken().Value == name {
			return v.Value
		}
	}
	return nil
}

func keepKeys(m *ast.MappingNode, names []string) {
	m.Values = slices.DeleteFunc(m.Values, func(v *ast.MappingValueNode) bool {
		return !slices.Contains(names, v.Key.GetToken().Value)
	})
}

func retitle(m *ast.MappingNode, title string) {
	for _, v := range m.Values {
		if s, ok := v.Value.(*ast.StringNode); ok && v.Key.GetToken().Value == "title" {
			s.Value, s.Token.Type = title, token.DoubleQuoteType
		}
	}
}
