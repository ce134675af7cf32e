package runbook

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/agnivade/levenshtein"
	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
	"github.com/goccy/go-yaml/token"
)

// text is what the decoder works with: the parsed YAML and what was found so far.
type text struct {
	old      bool // see ParseOld
	findings Findings
	// probe collects the keys that the decoder knows, where it is asked for them; see Schema.
	probe map[string][]string
}

func (t *text) fail(n ast.Node, format string, args ...any) {
	t.at(position(n), 0, false, fmt.Sprintf(format, args...), "")
}

func (t *text) warn(n ast.Node, format string, args ...any) {
	t.at(position(n), 0, true, fmt.Sprintf(format, args...), "")
}

func (t *text) at(p *token.Position, off int, warning bool, message, meant string) {
	f := Finding{Line: 1, Column: 1, Warning: warning, Message: message, Meant: meant}
	if p != nil {
		f.Line, f.Column = p.Line, p.Column+off
	}
	t.findings = append(t.findings, f)
}

func position(n ast.Node) *token.Position {
	if n == nil {
		return nil
	}
	switch m := n.(type) {
	case *ast.MappingNode:
		if len(m.Values) > 0 {
			return m.Values[0].Key.GetToken().Position
		}
	case *ast.MappingValueNode:
		return m.Key.GetToken().Position
	case *ast.LiteralNode:
		return m.Start.Position
	}
	if tok := n.GetToken(); tok != nil {
		return tok.Position
	}
	return nil
}

// load parses YAML and refuses what makes it mean two things: tags, anchors, aliases, merges,
// keys said twice, more than one document.
func (t *text) load(src []byte) ast.Node {
	if len(src) > MaxSize {
		t.fail(nil, "a runbook may have %d kB of text, this one has %d", MaxSize>>10, len(src)>>10)
		return nil
	}
	if !utf8.Valid(src) {
		t.fail(nil, "the text is not UTF-8")
		return nil
	}
	if err := tooDeep(src); err != nil {
		t.fail(nil, "%s", err)
		return nil
	}
	file, err := parser.ParseBytes(src, 0, parser.AllowDuplicateMapKey())
	if err != nil {
		var se *yaml.SyntaxError
		if errors.As(err, &se) && se.Token != nil {
			if f, ok := slipIn(string(src), se.Token.Position.Line, se.Message); ok {
				t.findings = append(t.findings, f)
				return nil
			}
			t.at(se.Token.Position, 0, false, "this is not well-formed YAML: "+se.Message, "")
		} else {
			t.fail(nil, "this is not well-formed YAML: %s", strings.SplitN(err.Error(), "\n", 2)[0])
		}
		return nil
	}
	var docs []*ast.DocumentNode
	for _, d := range file.Docs {
		if d.Body != nil {
			docs = append(docs, d)
		}
	}
	if len(docs) == 0 {
		t.fail(nil, "the file is empty")
		return nil
	}
	if len(docs) > 1 {
		t.fail(docs[1].Body, "one file holds one runbook")
		return nil
	}
	ast.Walk(refuse{t}, docs[0].Body)
	if t.findings.Failed() {
		return nil
	}
	return docs[0].Body
}

// tooDeep bounds the nesting before the YAML parser, which recurses, sees the text.
func tooDeep(src []byte) error {
	depth, deepest, indent := 0, 0, 0
	for _, line := range strings.Split(string(src), "\n") {
		if n := len(line) - len(strings.TrimLeft(line, " -")); n > indent {
			indent = n
		}
	}
	for _, c := range src {
		switch c {
		case '[', '{':
			depth++
			deepest = max(deepest, depth)
		case ']', '}':
			depth = max(0, depth-1)
		}
	}
	if deepest > 64 || indent > 400 {
		return errors.New("the text is nested too deeply")
	}
	return nil
}

type refuse struct{ t *text }

func (r refuse) Visit(n ast.Node) ast.Visitor {
	switch x := n.(type) {
	case *ast.TagNode:
		r.t.fail(x, "YAML tags are refused: a word that begins with ! must stand in quotes")
		return nil
	case *ast.AnchorNode:
		r.t.fail(x, "YAML anchors are refused: a word that begins with & must stand in quotes")
		return nil
	case *ast.AliasNode:
		r.t.fail(x, "YAML aliases are refused: a word that begins with * must stand in quotes")
		return nil
	case *ast.MergeKeyNode:
		r.t.fail(x, "YAML merges are refused: say what is meant")
		return nil
	}
	return r
}

// entry is one key of a mapping.
type entry struct {
	key   string
	node  ast.Node // the key
	value ast.Node
}

// mapping lists the entries of a mapping; keys said twice and keys that are not text are errors.
func (t *text) mapping(n ast.Node, what string) []entry {
	var values []*ast.MappingValueNode
	switch m := n.(type) {
	case *ast.MappingNode:
		values = m.Values
	case *ast.MappingValueNode:
		values = []*ast.MappingValueNode{m}
	default:
		t.fail(n, "%s must be a mapping, that is KEY: VALUE", what)
		return nil
	}
	seen := map[string]bool{}
	var out []entry
	for _, v := range values {
		k := v.Key.GetToken().Value
		if seen[k] {
			t.fail(v.Key, "%s is said twice", k)
			continue
		}
		seen[k] = true
		out = append(out, entry{k, v.Key, v.Value})
	}
	return out
}

// fields decodes a mapping with known keys; others are errors with what was probably meant.
func (t *text) fields(n ast.Node, what string, known map[string]func(ast.Node)) map[string]ast.Node {
	got := map[string]ast.Node{}
	if t.probe != nil {
		t.probeKeys(what, known)
		return got
	}
	for _, e := range t.mapping(n, what) {
		f, ok := known[e.key]
		if !ok {
			names := make([]string, 0, len(known))
			for k := range known {
				names = append(names, k)
			}
			t.at(position(e.node), 0, false, fmt.Sprintf("%s has no key %s", what, e.key), nearest(e.key, names))
			continue
		}
		got[e.key] = e.value
		if _, null := e.value.(*ast.NullNode); null || e.value == nil {
			t.fail(e.node, "%s has no value", e.key)
			continue
		}
		f(e.value)
	}
	return got
}

// nearest is the known name that a misspelt, shortened or lengthened one probably means; "" without one.
func nearest(word string, names []string) string {
	names = slices.Sorted(slices.Values(names))
	for _, n := range names {
		if short, long := min(len(word), len(n)), max(len(word), len(n)); short >= 3 && long > short+1 &&
			(strings.HasPrefix(word, n) || strings.HasPrefix(n, word)) {
			return n
		}
	}
	best, at := "", 1+len(word)/3
	for _, n := range names {
		if d := levenshtein.ComputeDistance(strings.ToLower(word), n); d <= at {
			best, at = n, d-1
		}
	}
	return best
}

func (t *text) list(n ast.Node, what string) []ast.Node {
	s, ok := n.(*ast.SequenceNode)
	if !ok {
		t.fail(n, "%s must be a list", what)
		return nil
	}
	return s.Values
}

// word is the text of a scalar as it stands in the source: 0644 stays 0644.
func (t *text) word(n ast.Node, what string) string {
	switch x := n.(type) {
	case *ast.StringNode:
		return x.Value
	case *ast.LiteralNode:
		return x.Value.Value
	case *ast.IntegerNode, *ast.FloatNode, *ast.BoolNode, *ast.NullNode, *ast.InfinityNode, *ast.NanNode:
		return n.GetToken().Value
	}
	t.fail(n, "%s must be text", what)
	return ""
}

func (t *text) boolean(n ast.Node, what string) bool {
	if b, ok := n.(*ast.BoolNode); ok {
		return b.Value
	}
	t.fail(n, "%s must be true or false, not %s", what, n.GetToken().Value)
	return false
}

func (t *text) number(n ast.Node, what string) float64 {
	switch x := n.(type) {
	case *ast.IntegerNode:
		switch v := x.Value.(type) {
		case uint64:
			return float64(v)
		case int64:
			return float64(v)
		}
	case *ast.FloatNode:
		return x.Value
	}
	t.fail(n, "%s must be a number", what)
	return 0
}

func (t *text) integer(n ast.Node, what string) int {
	f := t.number(n, what)
	if f != float64(int(f)) {
		t.fail(n, "%s must be a whole number", what)
	}
	return int(f)
}

// duration reads 10s, 5m, 2h, 1d or several together.
func (t *text) duration(n ast.Node, what string) time.Duration {
	w := t.word(n, what)
	d, err := ParseDuration(w)
	if err != nil {
		t.fail(n, "%s must be a time such as 30s, 5m, 2h or 1d, not %q", what, w)
	}
	return d
}

// ParseDuration reads a time span: as time.ParseDuration, and d for days of 24 hours. It must be above 0.
func ParseDuration(s string) (time.Duration, error) {
	days := time.Duration(0)
	rest := s
	if i := strings.IndexByte(s, 'd'); i > 0 {
		n := 0
		if _, err := fmt.Sscanf(s[:i], "%d", &n); err != nil || fmt.Sprint(n) != s[:i] || n > 3650 {
			return 0, fmt.Errorf("%q is not a time span", s)
		}
		days, rest = time.Duration(n)*24*time.Hour, s[i+1:]
	}
	if rest == "" && days > 0 {
		return days, nil
	}
	d, err := time.ParseDuration(rest)
	if err != nil || d+days <= 0 {
		return 0, fmt.Errorf("%q is not a time span", s)
	}
	return d + days, nil
}
