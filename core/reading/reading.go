// Package reading turns the raw output of a command or call into typed values.
package reading

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"regexp"
	"strconv"
	"strings"
	"time"

	"github.com/itchyny/gojq"

	"urgentis/core/expr"
)

// Spec says how one reading is taken from output.
type Spec struct {
	Name string
	Type expr.Type
	Unit string
	// Good says which way is better; "" where that is not said.
	Good Good
	// Sealed keeps the value out of every record.
	Sealed bool
	// Matches bounds a text: one that does not match it as a whole is missing.
	Matches *regexp.Regexp
	// One of these: a jq expression over the output as JSON, a pattern over its text, a table of
	// columns, the lines that match, the exit (or HTTP status), the whole text.
	JSON    *Query
	Pattern *regexp.Regexp
	Table   *Table
	Lines   *regexp.Regexp
	Exit    bool
	Whole   bool
}

// Good says which way a reading is better.
type Good string

// The ways that are better: the lower, the higher, or the nearer to what is wanted.
const (
	Low  Good = "low"
	High Good = "high"
	Near Good = "near"
)

// Goods lists them.
var Goods = []Good{Low, High, Near}

// Safety tells how safe a value of the reading is.
func (s Spec) Safety() expr.Safety {
	switch {
	case s.Exit || s.Lines != nil || s.Type == expr.Boolean:
		return expr.Harmless
	case s.Type == expr.Integer || s.Type == expr.Number:
		return expr.Hyphen
	case s.Type == expr.Text && s.Matches != nil:
		return expr.HarmlessPattern(s.Matches.String(), false)
	}
	return expr.Unbounded
}

// Query is a compiled jq expression.
type Query struct {
	Source  string
	code    *gojq.Code
	bounded bool
}

// Bounded reports whether the value can be no larger than the output: the expression only follows a path.
func (q *Query) Bounded() bool { return q.bounded }

// Evaluator evaluates a query over output. Query.Run does it at once; whoever runs what others wrote bounds it.
type Evaluator func(ctx context.Context, q *Query, output []byte) (any, error)

// path reports whether a query only follows names and numbers.
func path(q *gojq.Query) bool {
	if q.Term == nil || len(q.FuncDefs) > 0 || len(q.Imports) > 0 || q.Meta != nil {
		return q.Term == nil && q.Op == gojq.OpPipe && q.Left != nil && q.Right != nil && len(q.Patterns) == 0 &&
			path(q.Left) &&
			path(q.Right)
	}
	plain := func(i *gojq.Index) bool {
		return i.Name != "" || i.Str != nil && i.Str.Queries == nil ||
			!i.IsSlice && i.Start != nil && i.End == nil && number(i.Start)
	}
	switch q.Term.Type {
	case gojq.TermTypeIdentity:
	case gojq.TermTypeIndex:
		if !plain(q.Term.Index) {
			return false
		}
	default:
		return false
	}
	for _, s := range q.Term.SuffixList {
		if s.Iter || s.Index != nil && !plain(s.Index) {
			return false
		}
	}
	return true
}

func number(q *gojq.Query) bool {
	return q.Term != nil && q.Term.Type == gojq.TermTypeNumber && len(q.Term.SuffixList) == 0
}

// queryTime bounds one jq evaluation, which may loop.
const queryTime = 2 * time.Second

// CompileQuery compiles a jq expression; it can read no files, environment or time.
func CompileQuery(src string) (*Query, error) {
	q, err := gojq.Parse(src)
	if err != nil {
		return nil, fmt.Errorf("this is not a jq expression: %w", err)
	}
	code, err := gojq.Compile(q, gojq.WithEnvironLoader(func() []string { return nil }))
	if err != nil {
		return nil, fmt.Errorf("this is not a jq expression: %w", err)
	}
	return &Query{src, code, path(q)}, nil
}

// ErrMissing marks a reading that the output does not hold.
var ErrMissing = errors.New("the output does not hold it")

// Take takes one reading from output and its exit. It never guesses: what is not there is an error.
func Take(s Spec, output []byte, exit *int) (any, error) {
	return TakeWith(context.Background(), runNow, s, output, exit)
}

func runNow(ctx context.Context, q *Query, output []byte) (any, error) { return q.Run(ctx, output) }

// TakeWith is Take with an evaluator.
func TakeWith(ctx context.Context, evaluate Evaluator, s Spec, output []byte, exit *int) (any, error) {
	var v any
	var err error
	switch {
	case s.JSON != nil:
		v, err = evaluate(ctx, s.JSON, output)
	case s.Pattern != nil:
		m := s.Pattern.FindSubmatch(output)
		if m == nil {
			return nil, fmt.Errorf("%s: %w: nothing matches %s", s.Name, ErrMissing, s.Pattern)
		}
		v = string(m[len(m)-1])
		if s.Pattern.NumSubexp() > 0 {
			v = string(m[1])
		}
	case s.Table != nil:
		v, err = s.Table.take(string(output), s.Type)
	case s.Lines != nil:
		v, err = linesOf(s.Lines, string(output), s.Type)
	case s.Exit:
		if exit == nil {
			return nil, fmt.Errorf("%s: %w: there was no exit", s.Name, ErrMissing)
		}
		v = *exit
	case s.Whole:
		v = strings.TrimRight(string(output), "\r\n")
	default:
		return nil, fmt.Errorf("%s: no form is given", s.Name)
	}
	if err != nil {
		return nil, fmt.Errorf("%s: %w", s.Name, err)
	}
	out, err := s.Accept(v)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", s.Name, err)
	}
	return out, nil
}

// MaxSize bounds one reading, in bytes of its text or JSON.
const MaxSize = 1 << 20

// Keepable refuses what no record can hold.
func Keepable(v any) error {
	text, ok := v.(string)
	nul := "\x00"
	if !ok {
		b, err := json.Marshal(v)
		if err != nil {
			return fmt.Errorf("it cannot be kept: %w", err)
		}
		text, nul = string(b), `\u0000`
	}
	if len(text) > MaxSize {
		return fmt.Errorf("it has %d bytes, a reading may have 1 MiB", len(text))
	}
	if strings.Contains(text, nul) {
		return errors.New("it holds the NUL character, which cannot be kept")
	}
	return nil
}

// ParseJSON reads output as JSON; whole numbers are int.
func ParseJSON(output []byte) (any, error) {
	dec := json.NewDecoder(bytes.NewReader(output))
	dec.UseNumber()
	var in any
	if err := dec.Decode(&in); err != nil {
		return nil, fmt.Errorf("the output is not JSON: %w", err)
	}
	return numbers(in, 0)
}

// Run evaluates the query at once, within two seconds and any amount of memory.
func (q *Query) Run(ctx context.Context, output []byte) (any, error) {
	in, err := ParseJSON(output)
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, queryTime)
	defer cancel()
	v, ok := q.code.RunWithContext(ctx, in).Next()
	if !ok || v == nil {
		return nil, fmt.Errorf("%w: %s gives nothing", ErrMissing, q.Source)
	}
	if err, bad := v.(error); bad {
		return nil, fmt.Errorf("%s: %w", q.Source, err)
	}
	return v, nil
}

// MaxWhy bounds what is kept of why something went wrong, in bytes.
const MaxWhy = 2 << 10

// Why makes what others say of their trouble, whatever they say, such that it can be kept: plain, and not too long.
func Why(s string) string {
	if len(s) > MaxWhy {
		s = strings.ToValidUTF8(s[:MaxWhy], "") + "…"
	}
	return Plain(s)
}

// Plain makes any text such that every store and page can hold it: UTF-8 without NUL.
func Plain(s string) string {
	return strings.ReplaceAll(strings.ToValidUTF8(s, "\uFFFD"), "\x00", "\uFFFD")
}

// numbers keeps whole numbers whole, where encoding/json would make each a float.
func numbers(v any, depth int) (any, error) {
	if depth > 200 {
		return nil, errors.New("the output is nested too deeply")
	}
	switch x := v.(type) {
	case json.Number:
		if i, err := strconv.Atoi(x.String()); err == nil {
			return i, nil
		}
		return x.Float64()
	case []any:
		for i := range x {
			var err error
			if x[i], err = numbers(x[i], depth+1); err != nil {
				return nil, err
			}
		}
	case map[string]any:
		for k := range x {
			var err error
			if x[k], err = numbers(x[k], depth+1); err != nil {
				return nil, err
			}
		}
	}
	return v, nil
}

// Convert brings a value to the type of a reading or an input, or says why it cannot.
func Convert(v any, t expr.Type) (any, error) {
	no := func() (any, error) { return nil, fmt.Errorf("%s is not %s", quote(v), article(t)) }
	switch t {
	case expr.Integer:
		switch x := v.(type) {
		case int:
			return int64(x), nil
		case int64:
			return x, nil
		case float64:
			if x == math.Trunc(x) && math.Abs(x) < 1<<53 {
				return int64(x), nil
			}
		case string:
			if i, err := strconv.ParseInt(strings.TrimSpace(x), 10, 64); err == nil {
				return i, nil
			}
		}
		return no()
	case expr.Number:
		switch x := v.(type) {
		case int:
			return float64(x), nil
		case int64:
			return float64(x), nil
		case float64:
			return x, nil
		case string:
			if f, err := strconv.ParseFloat(strings.TrimSpace(x), 64); err == nil && !math.IsNaN(f) && !math.IsInf(f,
				0) {
				return f, nil
			}
		}
		return no()
	case expr.Boolean:
		switch x := v.(type) {
		case bool:
			return x, nil
		case string:
			if x == "true" || x == "false" {
				return x == "true", nil
			}
		}
		return no()
	case expr.JSON:
		return wide(v), nil
	}
	switch x := v.(type) {
	case string:
		return x, nil
	case int:
		return strconv.Itoa(x), nil
	case int64, float64, bool:
		return expr.Say(x), nil
	}
	return no()
}

// wide makes every int an int64, as expressions have them.
func wide(v any) any {
	switch x := v.(type) {
	case int:
		return int64(x)
	case []any:
		out := make([]any, len(x))
		for i := range x {
			out[i] = wide(x[i])
		}
		return out
	case map[string]any:
		out := make(map[string]any, len(x))
		for k := range x {
			out[k] = wide(x[k])
		}
		return out
	}
	return v
}

func article(t expr.Type) string {
	switch t {
	case expr.Integer:
		return "a whole number"
	case expr.Number:
		return "a number"
	case expr.Boolean:
		return "true or false"
	}
	return "text"
}

func quote(v any) string {
	s := fmt.Sprintf("%q", expr.Say(v))
	if len(s) > 80 {
		s = s[:77] + `…"`
	}
	return s
}

// Accept brings a value that was given by hand, instead of being read, to what the reading may be.
func (s Spec) Accept(v any) (any, error) {
	out, err := Convert(v, s.Type)
	if err == nil {
		err = s.check(out)
	}
	return out, err
}

func (s Spec) check(v any) error {
	if text, ok := v.(string); ok && s.Matches != nil && !s.Matches.MatchString(text) {
		return fmt.Errorf("%s does not match %s", quote(v), s.Matches)
	}
	return Keepable(v)
}
