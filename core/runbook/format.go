package runbook

import (
	"bytes"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strings"

	"urgentis/core/doc"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
)

// ErrFormat says that a text cannot be written in the canonical form.
var ErrFormat = errors.New("it cannot be brought into the canonical form")

// Format writes a runbook in the canonical form: its keys in one order, two blanks of indent, an empty line
// between the parts of the whole and between its steps. Comments are kept where they stand. A text that is
// in this form stays as it is. The text must be well-formed YAML; it need not be a sound runbook.
func Format(src []byte) ([]byte, error) {
	// The YAML library moves a comment at an odd place once more when it reads what it wrote: what is given is at rest.
	const most = 4
	for range most {
		out, err := pass(src)
		if err != nil || bytes.Equal(src, out) {
			return out, err
		}
		src = out
	}
	return nil, fmt.Errorf("%w: a comment stands where it cannot be kept in place", ErrFormat)
}

func pass(src []byte) ([]byte, error) {
	t := &doc.Text{What: "a runbook"}
	if t.Load(src); t.Findings.Failed() {
		return nil, t.Findings
	}
	file, err := parser.ParseBytes(bytes.ReplaceAll(src, []byte("\r\n"), []byte("\n")), parser.ParseComments)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrFormat, err)
	}
	var out []byte
	for _, d := range file.Docs {
		if d.Body == nil {
			continue
		}
		k := &keeper{}
		if ast.Walk(k, d.Body); k.line > 0 {
			return nil, fmt.Errorf(
				"%w: line %d: a block of text that keeps its empty lines (+) has no canonical form; write | or >",
				ErrFormat,
				k.line,
			)
		}
		order(d.Body, wholeKeys)
		orderStarts(d.Body)
		out = spaced(d.Body.String())
	}
	return out, same(src, out)
}

// keeper finds a block of text whose empty lines at the end belong to it: the YAML library does not write them as
// they were.
type keeper struct{ line int }

// Visit implements ast.Visitor.
func (k *keeper) Visit(n ast.Node) ast.Visitor {
	if l, ok := n.(*ast.LiteralNode); ok && k.line == 0 && strings.Contains(l.Start.Value, "+") {
		k.line = l.Start.Position.Line
	}
	return k
}

// order sorts the keys of a mapping, and those of the steps in it.
func order(n ast.Node, keys []key) {
	switch x := n.(type) {
	case *ast.MappingNode:
		slices.SortStableFunc(x.Values, func(a, b *ast.MappingValueNode) int { return rank(keys, a) - rank(keys, b) })
		for _, v := range x.Values {
			orderValue(v)
		}
	case *ast.MappingValueNode:
		orderValue(x)
	}
}

func orderStarts(n ast.Node) {
	whole, ok := n.(ast.MapNode)
	if !ok {
		return
	}
	for it := whole.MapRange(); it.Next(); {
		starts, ok := it.Value().(ast.MapNode)
		if !ok || it.Key().GetToken().Value != "starts" {
			continue
		}
		for each := starts.MapRange(); each.Next(); {
			order(each.Value(), startKeys)
		}
	}
}

func orderValue(v *ast.MappingValueNode) {
	if s, ok := v.Value.(*ast.SequenceNode); ok {
		for _, item := range s.Values {
			if isStep(item) {
				order(item, stepKeys)
			}
		}
		return
	}
	if m, ok := v.Value.(ast.MapNode); ok && m != nil {
		for it := m.MapRange(); it.Next(); {
			orderValue(it.KeyValue())
		}
	}
}

func isStep(n ast.Node) bool {
	m, ok := n.(ast.MapNode)
	if !ok {
		return false
	}
	for it := m.MapRange(); it.Next(); {
		if slices.Contains(Verbs, Verb(it.Key().GetToken().Value)) {
			return true
		}
	}
	return false
}

// rank is the place of a key; a verb comes first, an unknown key last.
func rank(keys []key, v *ast.MappingValueNode) int {
	k := v.Key.GetToken().Value
	if slices.Contains(Verbs, Verb(k)) && !slices.Contains(names(wholeKeys), k) && &keys[0] == &stepKeys[0] {
		return -1
	}
	if i := slices.IndexFunc(keys, func(x key) bool { return x.name == k }); i >= 0 {
		return i
	}
	return len(keys)
}

// apart are the parts of the whole that begin after an empty line.
var apart = []string{
	"starts:",
	"inputs:",
	"limits:",
	"parts:",
	"steps:",
	"if_cleared:",
	"if_worse:",
	"on_error:",
	"finally:",
	"results:",
}

// spaced sets the empty lines: before the parts of the whole and between the outermost steps, and nowhere else
// but inside of blocks of text.
func spaced(s string) []byte {
	var out []string
	inSteps := false
	lines := strings.Split(strings.TrimSuffix(s, "\n"), "\n")
	blockAt := -1 // the indent of the key whose block of text we are in
	leave := func() {
		// Empty lines at its end are not part of it.
		for blockAt >= 0 && len(out) > 0 && out[len(out)-1] == "" {
			out = out[:len(out)-1]
		}
		blockAt = -1
	}
	for i, l := range lines {
		indent := len(l) - len(strings.TrimLeft(l, " "))
		trimmed := strings.TrimSpace(l)
		if blockAt >= 0 && (trimmed == "" || indent > blockAt) {
			out = append(out, strings.TrimRight(l, " "))
			continue
		}
		leave()
		if trimmed == "" {
			continue
		}
		if endsBlock(trimmed) {
			blockAt = indent
			if strings.HasPrefix(trimmed, "- ") {
				blockAt += 2
			}
		}
		first := indent == 0 && slices.ContainsFunc(apart, func(k string) bool { return strings.HasPrefix(trimmed, k) })
		step := inSteps && indent == 2 && strings.HasPrefix(trimmed, "- ")
		if indent == 0 && !strings.HasPrefix(trimmed, "#") {
			inSteps = strings.HasPrefix(trimmed, "steps:") || strings.HasPrefix(trimmed, "finally:")
		}
		if (first || step && !strings.HasSuffix(strings.TrimSpace(lines[max(0, i-1)]), ":")) && len(out) > 0 {
			out = beforeComments(out, indent)
		}
		out = append(out, strings.TrimRight(l, " "))
	}
	leave()
	return []byte(strings.Join(out, "\n") + "\n")
}

// endsBlock reports whether a line begins a block of text.
func endsBlock(l string) bool {
	for _, m := range []string{": |", ": >", ": |-", ": >-"} {
		if strings.HasSuffix(l, m) {
			return true
		}
	}
	return false
}

// beforeComments adds an empty line, above the comments that belong to what follows.
func beforeComments(out []string, indent int) []string {
	i := len(out)
	for i > 0 && strings.HasPrefix(strings.TrimSpace(out[i-1]), "#") && len(out[i-1])-len(strings.TrimLeft(out[i-1],
		" ")) == indent {
		i--
	}
	if i > 0 && out[i-1] != "" && (indent == 0 || !strings.HasSuffix(out[i-1], ":")) {
		out = slices.Insert(out, i, "")
	}
	return out
}

// same makes sure that nothing was lost: the same values, and as many comments.
func same(src, out []byte) error {
	var a, b any
	if err := yaml.Unmarshal(src, &a); err != nil {
		return fmt.Errorf("%w: %w", ErrFormat, err)
	}
	if err := yaml.Unmarshal(out, &b); err != nil {
		return fmt.Errorf("%w: what came out is not well-formed: %w", ErrFormat, err)
	}
	if !reflect.DeepEqual(a, b) {
		return fmt.Errorf("%w: a value would be another one", ErrFormat)
	}
	if comments(src) != comments(out) {
		return fmt.Errorf("%w: a comment would be lost", ErrFormat)
	}
	return nil
}

func comments(src []byte) int {
	file, err := parser.ParseBytes(src, parser.ParseComments)
	if err != nil {
		return -1
	}
	n := 0
	for _, d := range file.Docs {
		if d.Body == nil {
			continue
		}
		ast.Walk(counting{&n}, d.Body)
	}
	return n
}

type counting struct{ n *int }

func (c counting) Visit(n ast.Node) ast.Visitor {
	if g := n.GetComment(); g != nil {
		if _, group := n.(*ast.CommentGroupNode); !group {
			*c.n += len(g.Comments)
		}
	}
	return c
}
