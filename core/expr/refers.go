package expr

import (
	"fmt"
	"slices"
	"sort"
	"strconv"
	"strings"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/operators"
	"cel.dev/cel-go/common/types"
)

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

// Bound is what keeps a value that is not known yet within what a person approved.
type Bound struct {
	Pattern string   `json:"pattern,omitempty"`
	Low     *float64 `json:"low,omitempty"`
	High    *float64 `json:"high,omitempty"`
}

// Bound gives the bound of an expression that is a call of within; nil for others.
func (p *Program) Bound() *Bound {
	e := p.ast.NativeRep().Expr()
	if e.Kind() != ast.CallKind || e.AsCall().FunctionName() != "within" {
		return nil
	}
	number := func(e ast.Expr) *float64 {
		if e.Kind() != ast.LiteralKind {
			return nil
		}
		var f float64
		switch v := e.AsLiteral().(type) {
		case types.Int:
			f = float64(v)
		case types.Double:
			f = float64(v)
		default:
			return nil
		}
		return &f
	}
	args := e.AsCall().Args()
	switch {
	case len(args) == 2 && args[1].Kind() == ast.LiteralKind:
		if s, ok := args[1].AsLiteral().(types.String); ok {
			return &Bound{Pattern: string(s)}
		}
	case len(args) == 3:
		if b := (Bound{Low: number(args[1]), High: number(args[2])}); b.Low != nil && b.High != nil {
			return &b
		}
	}
	return nil
}

// Allows reports whether a rendered value is within the bound.
func (b Bound) Allows(text string) bool {
	if b.Pattern != "" {
		re, err := wholeMatch(b.Pattern)
		return err == nil && re.MatchString(text)
	}
	f, err := strconv.ParseFloat(text, 64)
	return err == nil && b.Low != nil && b.High != nil && f >= *b.Low && f <= *b.High
}

// String says the bound as a person reads it.
func (b Bound) String() string {
	if b.Low == nil && b.Pattern == "" {
		return "nothing"
	}
	if b.Pattern != "" {
		return "matching " + b.Pattern
	}
	return fmt.Sprintf("from %s to %s", Say(*b.Low), Say(*b.High))
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

// Comparison is OBJECT.Of.Field compared with a literal text somewhere in an expression.
type Comparison struct{ Of, Field, Value string }

// Compared lists what of one object the expression compares with literal texts.
func (p *Program) Compared(object string) []Comparison {
	var out []Comparison
	walk(p.ast.NativeRep().Expr(), func(e ast.Expr) {
		if e.Kind() != ast.CallKind ||
			e.AsCall().FunctionName() != operators.Equals && e.AsCall().FunctionName() != operators.NotEquals {
			return
		}
		a, b := e.AsCall().Args()[0], e.AsCall().Args()[1]
		if a.Kind() == ast.LiteralKind {
			a, b = b, a
		}
		if b.Kind() != ast.LiteralKind {
			return
		}
		v, ok := b.AsLiteral().(types.String)
		if f := strings.Split(dotted(a), "."); ok && len(f) == 3 && f[0] == object {
			out = append(out, Comparison{f[1], f[2], string(v)})
		}
	})
	return out
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

// Limit is a comparison of one reading with a number: what decides a condition.
type Limit struct {
	Reading string
	Op      string // <, <=, >, >=, == or !=, with the reading on its left
	Value   float64
}

// String is the limit as it is written, as in "< 200".
func (l Limit) String() string { return l.Op + " " + Say(l.Value) }

// Says is the limit in words, as in "below 200".
func (l Limit) Says() string {
	words := map[string]string{
		"<":  "below",
		"<=": "at most",
		">":  "above",
		">=": "at least",
		"==": "exactly",
		"!=": "not",
	}
	return words[l.Op] + " " + Say(l.Value)
}

// Opposite is the limit that holds where this one does not.
func (l Limit) Opposite() *Limit {
	l.Op = map[string]string{"<": ">=", "<=": ">", ">": "<=", ">=": "<", "==": "!=", "!=": "=="}[l.Op]
	return &l
}

var limitOps = map[string][2]string{
	operators.Less: {"<", ">"}, operators.LessEquals: {"<=", ">="}, operators.Greater: {">", "<"},
	operators.GreaterEquals: {">=", "<="}, operators.Equals: {"==", "=="}, operators.NotEquals: {"!=", "!="},
}

// Limits lists the comparisons of readings with numbers, written out or given as inputs, that must all hold.
func (p *Program) Limits(inputs map[string]any) []Limit {
	var out []Limit
	var all func(e ast.Expr)
	all = func(e ast.Expr) {
		if e.Kind() != ast.CallKind || len(e.AsCall().Args()) != 2 {
			return
		}
		left, right := e.AsCall().Args()[0], e.AsCall().Args()[1]
		if e.AsCall().FunctionName() == operators.LogicalAnd {
			all(left)
			all(right)
			return
		}
		ops, is := limitOps[e.AsCall().FunctionName()]
		if !is {
			return
		}
		for i, side := range [][2]ast.Expr{{left, right}, {right, left}} {
			reading := onlyReading(side[0])
			if value, ok := plainNumber(side[1], inputs); ok && reading != "" {
				out = append(out, Limit{reading, ops[i], value})
			}
		}
	}
	all(p.ast.NativeRep().Expr())
	return out
}

// ofValues are the functions that give a value of a reading as it is; what others make of it, such as how many stand
// apart, is another number.
var ofValues = []string{"max", "min", "own", "first"}

// onlyReading is the reading of which an expression is a value; "" where it is anything else.
func onlyReading(e ast.Expr) string {
	switch e.Kind() {
	case ast.CallKind:
		c := e.AsCall()
		if !c.IsMemberFunction() && len(c.Args()) == 1 && slices.Contains(ofValues, c.FunctionName()) {
			return onlyReading(c.Args()[0])
		}
	case ast.SelectKind:
		s := e.AsSelect()
		if s.Operand().Kind() == ast.IdentKind && s.Operand().AsIdent() == "readings" {
			return s.FieldName()
		}
	}
	return ""
}

// plainNumber is a number that is written out, or an input.
func plainNumber(e ast.Expr, inputs map[string]any) (float64, bool) {
	switch e.Kind() {
	case ast.LiteralKind:
		return AsNumber(e.AsLiteral().Value())
	case ast.SelectKind:
		s := e.AsSelect()
		if s.Operand().Kind() == ast.IdentKind && s.Operand().AsIdent() == "inputs" {
			return AsNumber(inputs[s.FieldName()])
		}
	}
	return 0, false
}

// AsNumber is a value as a number; false where it is none.
func AsNumber(v any) (float64, bool) {
	switch x := v.(type) {
	case int64:
		return float64(x), true
	case float64:
		return x, true
	}
	return 0, false
}
