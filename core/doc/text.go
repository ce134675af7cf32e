// Package doc reads YAML documents that people write, with the place of everything in them, and says what is wrong with
// them in their own words. What the documents mean is said by core/runbook and core/estate.
package doc

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"maps"
	"math"
	"slices"
	"sort"
	"strings"
	"time"
	_ "time/tzdata" // zones, on a machine that has none
	"unicode/utf8"

	"urgentis/core/expr"

	"github.com/agnivade/levenshtein"
	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
	"github.com/goccy/go-yaml/token"
)

// MaxSize is how large a text may be, in bytes.
const MaxSize = 256 << 10

// Text is what a decoder works with: what was found so far. Its zero value reads what it calls the document.
type Text struct {
	// What is what a text is called in messages, with its article: a runbook.
	What     string
	Findings Findings
	// Probe collects the keys that a decoder knows, where it is asked for them and not for a document: Fields notes the
	// keys by what it calls the mapping, and calls nothing.
	Probe map[string][]string
}

func (t *Text) Fail(n ast.Node, format string, args ...any) {
	t.At(Position(n), 0, false, fmt.Sprintf(format, args...), "")
}

func (t *Text) Warn(n ast.Node, format string, args ...any) {
	t.At(Position(n), 0, true, fmt.Sprintf(format, args...), "")
}

func (t *Text) At(p *token.Position, off int, warning bool, message, meant string) {
	f := Finding{Line: 1, Column: 1, Warning: warning, Message: message, Meant: meant}
	if p != nil {
		f.Line, f.Column = p.Line, p.Column+off
	}
	t.Findings = append(t.Findings, f)
}

func Position(n ast.Node) *token.Position {
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

// Load parses YAML of one document; nil where it is not sound. It refuses what makes YAML mean two things: tags,
// anchors, aliases, merges, keys said twice.
func (t *Text) Load(src []byte) ast.Node {
	docs := t.parse(src)
	if len(docs) == 0 {
		return nil
	}
	if len(docs) > 1 {
		t.Fail(docs[1], "one file holds one %s", strings.TrimPrefix(t.What, "a "))
		return nil
	}
	return docs[0]
}

// LoadAll is Load of several documents in one text.
func (t *Text) LoadAll(src []byte) []ast.Node { return t.parse(src) }

func (t *Text) parse(src []byte) []ast.Node {
	if len(src) > MaxSize {
		t.Fail(nil, "%s may have %d kB of text, this one has %d", t.What, MaxSize>>10, len(src)>>10)
		return nil
	}
	if !utf8.Valid(src) {
		t.Fail(nil, "the text is not UTF-8")
		return nil
	}
	if err := tooDeep(src); err != nil {
		t.Fail(nil, "%s", err)
		return nil
	}
	file, err := parser.ParseBytes(src, 0, parser.AllowDuplicateMapKey())
	if err != nil {
		t.notYAML(src, err)
		return nil
	}
	var docs []ast.Node
	for _, d := range file.Docs {
		if d.Body != nil {
			docs = append(docs, d.Body)
			ast.Walk(refuse{t}, d.Body)
		}
	}
	if len(docs) == 0 {
		t.Fail(nil, "the file is empty")
	}
	if t.Findings.Failed() {
		return nil
	}
	return docs
}

// notYAML says why a text cannot be parsed: by the slip that it probably is, or in the parser's words.
func (t *Text) notYAML(src []byte, err error) {
	var se *yaml.SyntaxError
	if !errors.As(err, &se) || se.Token == nil {
		t.Fail(nil, "this is not well-formed YAML: %s", strings.SplitN(err.Error(), "\n", 2)[0])
		return
	}
	if f, ok := slipIn(string(src), se.Token.Position.Line, se.Message); ok {
		t.Findings = append(t.Findings, f)
		return
	}
	t.At(se.Token.Position, 0, false, "this is not well-formed YAML: "+se.Message, "")
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

type refuse struct{ t *Text }

func (r refuse) Visit(n ast.Node) ast.Visitor {
	switch x := n.(type) {
	case *ast.TagNode:
		r.t.Fail(x, "YAML tags are refused: a word that begins with ! must stand in quotes")
		return nil
	case *ast.AnchorNode:
		r.t.Fail(x, "YAML anchors are refused: a word that begins with & must stand in quotes")
		return nil
	case *ast.AliasNode:
		r.t.Fail(x, "YAML aliases are refused: a word that begins with * must stand in quotes")
		return nil
	case *ast.MergeKeyNode:
		r.t.Fail(x, "YAML merges are refused: say what is meant")
		return nil
	}
	return r
}

// Entry is one key of a mapping.
type Entry struct {
	Key   string
	Node  ast.Node // the key
	Value ast.Node
}

// Mapping lists the entries of a Mapping; keys said twice and keys that are not text are errors.
func (t *Text) Mapping(n ast.Node, what string) []Entry {
	var values []*ast.MappingValueNode
	switch m := n.(type) {
	case *ast.MappingNode:
		values = m.Values
	case *ast.MappingValueNode:
		values = []*ast.MappingValueNode{m}
	default:
		t.Fail(n, "%s must be a mapping, that is KEY: VALUE", what)
		return nil
	}
	seen := map[string]bool{}
	var out []Entry
	for _, v := range values {
		k := v.Key.GetToken().Value
		if seen[k] {
			t.Fail(v.Key, "%s is said twice", k)
			continue
		}
		seen[k] = true
		out = append(out, Entry{k, v.Key, v.Value})
	}
	return out
}

// Fields decodes a mapping with known keys; others are errors with what was probably meant.
func (t *Text) Fields(n ast.Node, what string, known map[string]func(ast.Node)) map[string]ast.Node {
	got := map[string]ast.Node{}
	if t.Probe != nil {
		t.Probe[what] = slices.Collect(maps.Keys(known))
		return got
	}
	for _, e := range t.Mapping(n, what) {
		f, ok := known[e.Key]
		if !ok {
			names := slices.Collect(maps.Keys(known))
			t.At(Position(e.Node), 0, false, fmt.Sprintf("%s has no key %s", what, e.Key), Nearest(e.Key, names))
			continue
		}
		got[e.Key] = e.Value
		if _, null := e.Value.(*ast.NullNode); null || e.Value == nil {
			t.Fail(e.Node, "%s has no value", e.Key)
			continue
		}
		f(e.Value)
	}
	return got
}

// otherWords are what many would write, and what it is here.
var otherWords = map[string]string{
	"if": "when", "condition": "when", "for_each": "each", "foreach": "each", "loop": "each", "parallel": "together",
	"sleep": "wait", "retry": "retake", "rollback": "undo", "catch": "on_error", "always": "finally", "message": "tell",
	"host": "where", "hosts": "where", "targets": "where", "on": "where", "description": "about",
}

// Nearest is the known name that a misspelt, shortened or lengthened one, or another word for it, probably means; ""
// without one.
func Nearest(word string, names []string) string {
	names = slices.Sorted(slices.Values(names))
	if other := otherWords[strings.ToLower(word)]; slices.Contains(names, other) {
		return other
	}
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

func (t *Text) List(n ast.Node, what string) []ast.Node {
	s, ok := n.(*ast.SequenceNode)
	if !ok {
		t.Fail(n, "%s must be a list", what)
		return nil
	}
	return s.Values
}

// Word is the text of a scalar as it stands in the source: 0644 stays 0644.
func (t *Text) Word(n ast.Node, what string) string {
	switch x := n.(type) {
	case *ast.StringNode:
		return x.Value
	case *ast.LiteralNode:
		return x.Value.Value
	case *ast.IntegerNode, *ast.FloatNode, *ast.BoolNode, *ast.NullNode, *ast.InfinityNode, *ast.NanNode:
		return n.GetToken().Value
	}
	t.Fail(n, "%s must be text", what)
	return ""
}

func (t *Text) Boolean(n ast.Node, what string) bool {
	if b, ok := n.(*ast.BoolNode); ok {
		return b.Value
	}
	t.Fail(n, "%s must be true or false, not %s", what, n.GetToken().Value)
	return false
}

func (t *Text) Number(n ast.Node, what string) float64 {
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
	t.Fail(n, "%s must be a number", what)
	return 0
}

func (t *Text) Integer(n ast.Node, what string) int {
	f := t.Number(n, what)
	if f != float64(int(f)) {
		t.Fail(n, "%s must be a whole number", what)
	}
	return int(f)
}

// Scalar reads a number, a boolean or a text.
func (t *Text) Scalar(n ast.Node) any {
	switch x := n.(type) {
	case *ast.IntegerNode, *ast.FloatNode:
		f := t.Number(n, "the value")
		if f == float64(int64(f)) {
			return int64(f)
		}
		return f
	case *ast.BoolNode:
		return x.Value
	}
	return t.Word(n, "the value")
}

// Values reads a mapping of any values; whole numbers are int64, as they are in expressions.
func (t *Text) Values(n ast.Node, what string) map[string]any {
	t.Mapping(n, what)
	out := map[string]any{}
	if err := yaml.NodeToValue(n, &out); err != nil {
		t.Fail(n, "%s cannot be read: %s", what, err)
	}
	for k, v := range out {
		out[k] = wholeNumbers(v)
	}
	return out
}

func wholeNumbers(v any) any {
	switch x := v.(type) {
	case uint64:
		if x <= math.MaxInt64 {
			return int64(x)
		}
		return float64(x)
	case []any:
		for i := range x {
			x[i] = wholeNumbers(x[i])
		}
	case map[string]any:
		for k := range x {
			x[k] = wholeNumbers(x[k])
		}
	}
	return v
}

// Duration reads 10s, 5m, 2h, 1d or several together.
func (t *Text) Duration(n ast.Node, what string) time.Duration {
	w := t.Word(n, what)
	d, err := ParseDuration(w)
	if err != nil {
		t.Fail(n, "%s must be a time such as 30s, 5m, 2h or 1d, not %q", what, w)
	}
	return d
}

// Zone reads a time zone by its name; UTC where it cannot be read.
func (t *Text) Zone(n ast.Node, what string) *time.Location {
	w := t.Word(n, what)
	zone, err := time.LoadLocation(w)
	if err != nil || w == "Local" {
		t.Fail(n, "there is no zone %s; write it like Europe/Lisbon or UTC", w)
		return time.UTC
	}
	return zone
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

// Sorted gives the findings in the order of the text.
func (t *Text) Sorted() Findings {
	sort.SliceStable(t.Findings, func(i, j int) bool {
		a, b := t.Findings[i], t.Findings[j]
		return a.Line < b.Line || a.Line == b.Line && a.Column < b.Column
	})
	return t.Findings
}

// Sum is the SHA-256 of a text in hexadecimal: the name of its revision.
func Sum(src []byte) string {
	sum := sha256.Sum256(src)
	return hex.EncodeToString(sum[:])
}

// Expr says at its place in the text what is wrong with an expression in a node; err is of type *expr.Error. meant
// finds what an unknown name in it probably stands for.
func (t *Text) Expr(n ast.Node, err error, meant func(unknown string) string) {
	e := err.(*expr.Error)
	p := *Position(n)
	src := ""
	if l, ok := n.(*ast.LiteralNode); ok {
		// The text of a block begins on the next line, at the block's own indent.
		src = l.Value.Value
		p.Line++
		p.Column = 1 + p.IndentNum + 2
	} else {
		if s, ok := n.(*ast.StringNode); ok {
			src = s.Value
		}
		if o := strings.TrimSpace(n.GetToken().Origin); strings.HasPrefix(o, `"`) || strings.HasPrefix(o, "'") {
			p.Column++
		}
	}
	off := min(e.Offset, len(src))
	if nl := strings.Count(src[:off], "\n"); nl > 0 {
		p.Line += nl
		off -= strings.LastIndexByte(src[:off], '\n') + 1
	}
	t.At(&p, off, false, e.Message, meant(e.Unknown))
}
