package expr

import (
	"errors"
	"fmt"
	"sort"
	"strings"
	"time"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/operators"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/interpreter"
	"cel.dev/cel-go/parser"
)

// MaxLength bounds the source of one expression, in bytes.
const MaxLength = 4096

// costLimit bounds the work of one evaluation; CEL has no loops, so that only sizes matter.
const costLimit = 1_000_000

// Where says in which place of a runbook an expression stands, and so which names it has.
type Where int

// The places of expressions.
const (
	InStart  Where = iota // a start: only alert
	InStep                // a step as a whole
	InTarget              // once per target: target and own()
	InChange              // a gated change: as InTarget without now
)

// Compiler compiles the expressions of one runbook.
type Compiler struct{ envs map[Where]*cel.Env }

// NewCompiler makes a compiler for a runbook that has these names.
func NewCompiler(s Schema) (*Compiler, error) {
	registry, err := types.NewRegistry()
	if err != nil {
		return nil, err
	}
	base, err := cel.NewEnv(append([]cel.EnvOption{
		cel.CustomTypeAdapter(registry),
		cel.CustomTypeProvider(provider{registry, objects(s)}),
		cel.CrossTypeNumericComparisons(true),
		cel.DefaultUTCTimeZone(true),
		cel.ParserRecursionLimit(60),
		cel.ParserExpressionSizeLimit(MaxLength),
		cel.Variable("alert", object("alert")),
	}, ourFunctions(registry)...)...)
	if err != nil {
		return nil, err
	}
	c := &Compiler{envs: map[Where]*cel.Env{InStart: base}}
	step := []cel.EnvOption{}
	for _, n := range []string{"inputs", "readings", "checks", "incident", "service", "run"} {
		step = append(step, cel.Variable(n, object(n)))
	}
	now := cel.Variable("now", cel.TimestampType)
	target := cel.Variable("target", object("target"))
	for where, opts := range map[Where][]cel.EnvOption{
		InStep:   append([]cel.EnvOption{now}, step...),
		InTarget: append([]cel.EnvOption{now, target}, step...),
		InChange: append([]cel.EnvOption{target}, step...),
	} {
		if c.envs[where], err = base.Extend(opts...); err != nil {
			return nil, err
		}
	}
	return c, nil
}

// Program is one compiled expression.
type Program struct {
	Source string
	prg    cel.Program
	ast    *cel.Ast
	typ    *cel.Type
}

// Error is what is wrong with an expression, and where in its source (bytes from 0).
type Error struct {
	Offset  int
	Message string
}

func (e *Error) Error() string { return e.Message }

// Compile compiles an expression. Errors are of type *Error.
func (c *Compiler) Compile(src string, where Where) (*Program, error) {
	if strings.TrimSpace(src) == "" {
		return nil, &Error{0, "an expression is missing here"}
	}
	if len(src) > MaxLength {
		return nil, &Error{0, fmt.Sprintf("an expression may have %d bytes, this one has %d", MaxLength, len(src))}
	}
	env := c.envs[where]
	a, iss := env.Compile(src)
	if iss.Err() != nil {
		e := iss.Errors()[0]
		return nil, &Error{offset(src, e.Location.Line(), e.Location.Column()), plain(e.Message)}
	}
	p, err := env.Program(a, cel.EvalOptions(cel.OptTrackState), cel.CostLimit(costLimit), cel.InterruptCheckFrequency(1000))
	if err != nil {
		return nil, &Error{0, plain(err.Error())}
	}
	return &Program{Source: src, prg: p, ast: a, typ: a.OutputType()}, nil
}

// plain turns the words of the CEL library into those of this product.
func plain(m string) string {
	switch {
	case strings.HasPrefix(m, "undeclared reference to '"):
		name := strings.SplitN(m, "'", 3)[1]
		if name == "now" {
			return "now cannot stand in a change: what was approved must be what runs"
		}
		return fmt.Sprintf("there is no %s here", name)
	case strings.HasPrefix(m, "undefined field '"):
		return fmt.Sprintf("there is no %s there", strings.SplitN(m, "'", 3)[1])
	case strings.HasPrefix(m, "found no matching overload for '"):
		return strings.ReplaceAll(strings.Replace(m, "found no matching overload for", "these types do not go together with", 1), "applied to", "as")
	}
	return m
}

func offset(src string, line, col int) int {
	for l := 1; l < line; l++ {
		i := strings.IndexByte(src, '\n')
		if i < 0 {
			break
		}
		col += i + 1
		src = src[i+1:]
	}
	return col
}

// IsBool reports whether the expression is a condition.
func (p *Program) IsBool() bool {
	return p.typ.IsExactType(cel.BoolType) || p.typ.IsExactType(cel.DynType)
}

// IsReading reports whether the expression is a whole reading, which has no text of its own.
func (p *Program) IsReading() bool { return p.typ.TypeName() == ReadingType }

// TypeName names the type of the value in the words of runbooks.
func (p *Program) TypeName() string {
	switch p.typ.TypeName() {
	case "int":
		return string(Integer)
	case "double":
		return string(Number)
	case "bool":
		return string(Boolean)
	case "string":
		return string(Text)
	case "dyn":
		return string(JSON)
	}
	return p.typ.TypeName()
}

// Refers lists the fields of one object (such as readings) that the expression names, in order.
func (p *Program) Refers(object string) []string {
	found := map[string]bool{}
	walk(p.ast.NativeRep().Expr(), func(e ast.Expr) {
		if e.Kind() != ast.SelectKind {
			return
		}
		s := e.AsSelect()
		if s.Operand().Kind() == ast.IdentKind && s.Operand().AsIdent() == object {
			found[s.FieldName()] = true
		}
	})
	out := make([]string, 0, len(found))
	for k := range found {
		out = append(out, k)
	}
	sort.Strings(out)
	return out
}

// Calls reports whether the expression calls a function of this name.
func (p *Program) Calls(name string) bool {
	found := false
	walk(p.ast.NativeRep().Expr(), func(e ast.Expr) {
		if e.Kind() == ast.CallKind && e.AsCall().FunctionName() == name {
			found = true
		}
	})
	return found
}

// Equality is a condition field == "literal" that must hold for the whole to be true.
type Equality struct{ Field, Value string }

// Required lists the equalities that stand at the top of the expression, joined by &&.
// An index can use them: where one does not hold, the expression is false.
func (p *Program) Required() []Equality {
	var out []Equality
	var conj func(e ast.Expr)
	conj = func(e ast.Expr) {
		if e.Kind() != ast.CallKind {
			return
		}
		c := e.AsCall()
		switch c.FunctionName() {
		case operators.LogicalAnd:
			for _, a := range c.Args() {
				conj(a)
			}
		case operators.Equals:
			a, b := c.Args()[0], c.Args()[1]
			if a.Kind() == ast.LiteralKind {
				a, b = b, a
			}
			if b.Kind() != ast.LiteralKind {
				return
			}
			if s, ok := b.AsLiteral().(types.String); ok {
				if f := dotted(a); f != "" {
					out = append(out, Equality{f, string(s)})
				}
			}
		}
	}
	conj(p.ast.NativeRep().Expr())
	return out
}

func dotted(e ast.Expr) string {
	switch e.Kind() {
	case ast.IdentKind:
		return e.AsIdent()
	case ast.SelectKind:
		s := e.AsSelect()
		if d := dotted(s.Operand()); d != "" && !s.IsTestOnly() {
			return d + "." + s.FieldName()
		}
	}
	return ""
}

func walk(e ast.Expr, f func(ast.Expr)) {
	ast.PreOrderVisit(e, ast.NewExprVisitor(f))
}

// Scope is what an expression can see.
type Scope struct {
	Alert, Inputs, Incident, Service, Run map[string]any
	Readings                              map[string]*Series
	Checks                                map[string]any
	Target                                map[string]any
	Now                                   time.Time
}

func (s *Scope) vars() map[string]any {
	orEmpty := func(m map[string]any) map[string]any {
		if m == nil {
			return map[string]any{}
		}
		return m
	}
	own, _ := s.Target["name"].(string)
	readings := make(map[string]any, len(s.Readings))
	for n, r := range s.Readings {
		c := *r
		c.Own = own
		readings[n] = &c
	}
	return map[string]any{
		"alert": orEmpty(s.Alert), "inputs": orEmpty(s.Inputs), "incident": orEmpty(s.Incident),
		"service": orEmpty(s.Service), "run": orEmpty(s.Run), "checks": orEmpty(s.Checks),
		"target": orEmpty(s.Target), "readings": readings, "now": s.Now,
	}
}

// Eval gives the value as Go has it: int64, float64, bool, string, time.Time, []any, map[string]any or nil.
func (p *Program) Eval(s *Scope) (any, error) {
	v, _, err := p.eval(s)
	if err != nil {
		return nil, err
	}
	return native(v), nil
}

func (p *Program) eval(s *Scope) (ref.Val, *cel.EvalDetails, error) {
	v, det, err := p.prg.Eval(s.vars())
	if err != nil && strings.Contains(err.Error(), "no such key: ") && !errors.Is(err, ErrUnsure) {
		// What the checker knows by name but no path of this run has produced yet.
		err = fmt.Errorf("%w: nothing has set %s yet", ErrUnsure, strings.SplitN(err.Error(), "no such key: ", 2)[1])
	}
	return v, det, err
}

// Bool evaluates a condition.
func (p *Program) Bool(s *Scope) (bool, error) {
	v, _, err := p.eval(s)
	if err != nil {
		return false, err
	}
	b, ok := v.(types.Bool)
	if !ok {
		return false, fmt.Errorf("%s is not true or false but %s", p.Source, v.Type().TypeName())
	}
	return bool(b), nil
}

// Value is one part of an expression and what it was, for the record.
type Value struct {
	Part string `json:"part"`
	Text string `json:"text"`
}

// Explain evaluates a condition and tells the value of each part that decided it.
func (p *Program) Explain(s *Scope) (bool, []Value, error) {
	v, det, err := p.eval(s)
	var out []Value
	if det != nil && det.State() != nil {
		out = parts(p.ast, det.State())
	}
	if err != nil {
		return false, out, err
	}
	b, ok := v.(types.Bool)
	if !ok {
		return false, out, fmt.Errorf("%s is not true or false but %s", p.Source, v.Type().TypeName())
	}
	return bool(b), out, nil
}

func parts(a *cel.Ast, state interpreter.EvalState) []Value {
	var out []Value
	seen := map[string]bool{}
	info := a.NativeRep().SourceInfo()
	var visit func(e ast.Expr)
	add := func(e ast.Expr) {
		text, err := parser.Unparse(e, info)
		if err != nil || seen[text] {
			return
		}
		seen[text] = true
		v, ok := state.Value(e.ID())
		if !ok {
			return
		}
		if er, bad := v.(*types.Err); bad {
			out = append(out, Value{text, "unsure: " + strings.TrimPrefix(er.Error(), ErrUnsure.Error()+": ")})
			return
		}
		if _, whole := v.(*Series); whole {
			return
		}
		out = append(out, Value{text, Say(native(v))})
	}
	operator := func(name string) bool { _, ok := operators.FindReverse(name); return ok }
	visit = func(e ast.Expr) {
		switch e.Kind() {
		case ast.SelectKind:
			add(e)
		case ast.CallKind:
			c := e.AsCall()
			if !operator(c.FunctionName()) || c.FunctionName() == operators.Index {
				add(e)
				return
			}
			for _, x := range c.Args() {
				visit(x)
			}
		}
	}
	visit(a.NativeRep().Expr())
	return out
}
