package expr

import (
	"regexp/syntax"
	"strings"
	"unicode"

	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/operators"
	"cel.dev/cel-go/common/types"
)

// HarmlessChars are the characters that no program is known to read as more than themselves: letters and digits of
// ASCII, and these.
const HarmlessChars = "_.:,+-"

func harmless(r rune) bool {
	return r < unicode.MaxASCII &&
		(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || strings.ContainsRune(HarmlessChars, r))
}

// Safety is what is known beforehand of a value that comes from outside.
type Safety int

// From the worst to the best.
const (
	Unbounded Safety = iota // it can be any text
	Hyphen                  // harmless characters, and it may begin with a hyphen, as an option does
	Harmless
)

// HarmlessPattern tells how safe a text is that matches a pattern. Where whole is not set the pattern matches
// anywhere in it, and must itself begin with ^ and end with $.
func HarmlessPattern(pattern string, whole bool) Safety {
	re, err := syntax.Parse(pattern, syntax.Perl)
	if err != nil || !whole && !anchored(re) || !onlyHarmless(re) {
		return Unbounded
	}
	if hyphen, _ := firstHyphen(re); hyphen {
		return Hyphen
	}
	return Harmless
}

// anchored reports whether a pattern matches nothing but whole texts.
func anchored(re *syntax.Regexp) bool {
	switch re.Op {
	case syntax.OpCapture:
		return anchored(re.Sub[0])
	case syntax.OpAlternate:
		for _, s := range re.Sub {
			if !anchored(s) {
				return false
			}
		}
		return true
	case syntax.OpConcat:
		return len(re.Sub) > 1 && re.Sub[0].Op == syntax.OpBeginText && re.Sub[len(re.Sub)-1].Op == syntax.OpEndText
	}
	return false
}

func onlyHarmless(re *syntax.Regexp) bool {
	switch re.Op {
	case syntax.OpAnyChar, syntax.OpAnyCharNotNL:
		return false
	case syntax.OpLiteral:
		for _, r := range re.Rune {
			if !harmless(r) {
				return false
			}
			// Without regard to case, k is also the sign of Kelvin.
			for f := unicode.SimpleFold(r); re.Flags&syntax.FoldCase != 0 && f != r; f = unicode.SimpleFold(f) {
				if !harmless(f) {
					return false
				}
			}
		}
	case syntax.OpCharClass:
		for i := 0; i+1 < len(re.Rune); i += 2 {
			if re.Rune[i+1] >= unicode.MaxASCII {
				return false
			}
			for r := re.Rune[i]; r <= re.Rune[i+1]; r++ {
				if !harmless(r) {
					return false
				}
			}
		}
	}
	for _, s := range re.Sub {
		if !onlyHarmless(s) {
			return false
		}
	}
	return true
}

// firstHyphen reports whether a match can begin with a hyphen, and whether it can be empty.
func firstHyphen(re *syntax.Regexp) (hyphen, empty bool) {
	switch re.Op {
	case syntax.OpLiteral:
		return len(re.Rune) > 0 && re.Rune[0] == '-', len(re.Rune) == 0
	case syntax.OpCharClass:
		for i := 0; i+1 < len(re.Rune); i += 2 {
			if re.Rune[i] <= '-' && '-' <= re.Rune[i+1] {
				return true, false
			}
		}
		return false, false
	case syntax.OpCapture, syntax.OpPlus:
		return firstHyphen(re.Sub[0])
	case syntax.OpStar, syntax.OpQuest:
		hyphen, _ = firstHyphen(re.Sub[0])
		return hyphen, true
	case syntax.OpRepeat:
		hyphen, empty = firstHyphen(re.Sub[0])
		return hyphen, empty || re.Min == 0
	case syntax.OpAlternate:
		for _, s := range re.Sub {
			h, e := firstHyphen(s)
			hyphen, empty = hyphen || h, empty || e
		}
		return hyphen, empty
	case syntax.OpConcat:
		for _, s := range re.Sub {
			h, e := firstHyphen(s)
			if hyphen = hyphen || h; !e {
				return hyphen, false
			}
		}
		return hyphen, true
	}
	return false, true
}

// Origins tells how safe the values are that an expression can name: those of an object (inputs, readings, answers), by
// name, and of an answer by field.
type Origins func(object, name, field string) Safety

// inside are the objects whose values come from those who set the installation up, not from outside.
var inside = map[string]bool{"target": true, "service": true, "run": true, "checks": true, "now": true}

// Safe tells how safe the value of the expression is, as far as it can be told from its text.
func (p *Program) Safe(of Origins, names map[string]bool) Safety {
	return p.safe(p.ast.NativeRep().Expr(), of, names)
}

func (p *Program) safe(e ast.Expr, of Origins, targets map[string]bool) Safety {
	typ := p.ast.NativeRep().GetType(e.ID()).TypeName()
	switch typ {
	case "uint", "bool", "google.protobuf.Timestamp":
		return Harmless
	case "int", "double", "google.protobuf.Duration":
		if p.notNegative(e, of) {
			return Harmless
		}
		return Hyphen
	}
	switch e.Kind() {
	case ast.LiteralKind:
		if s, ok := e.AsLiteral().(types.String); ok && strings.HasPrefix(string(s), "-") {
			return Hyphen
		}
		return Harmless // the runbook's own words
	case ast.SelectKind:
		f := strings.Split(dotted(e), ".")
		switch root := rootOf(e); {
		case inside[root] || targets[root]:
			return Harmless
		case f[0] == "inputs" && len(f) == 2:
			return of("inputs", f[1], "")
		case f[0] == "answers" && len(f) == 3:
			return of("answers", f[1], f[2])
		}
	case ast.CallKind:
		return p.safeCall(e.AsCall(), of, targets)
	}
	return Unbounded
}

// Numeric reports whether the value is a number or a span of time.
func (p *Program) Numeric() bool {
	switch p.ast.NativeRep().GetType(p.ast.NativeRep().Expr().ID()).TypeName() {
	case "int", "double", "google.protobuf.Duration":
		return true
	}
	return false
}

// notNegative reports whether it is known beforehand of a number that it has no sign.
func (p *Program) notNegative(e ast.Expr, of Origins) bool {
	switch e.Kind() {
	case ast.LiteralKind:
		f, ok := AsNumber(e.AsLiteral().Value())
		return ok && f >= 0
	case ast.SelectKind:
		f := strings.Split(dotted(e), ".")
		return dotted(e) == "alert.count" ||
			f[0] == "inputs" && len(f) == 2 && of("inputs", f[1], "") == Harmless ||
			f[0] == "answers" && len(f) == 3 && of("answers", f[1], f[2]) == Harmless
	case ast.CallKind:
		return p.notNegativeCall(e.AsCall(), of)
	}
	return false
}

func (p *Program) notNegativeCall(c ast.CallExpr, of Origins) bool {
	args := c.Args()
	switch c.FunctionName() {
	case "size":
		return true
	case "within":
		return len(args) == 3 && p.notNegative(args[1], of)
	case "own", "first", "max", "min":
		return len(args) == 1 && p.safeReading(args[0], of) == Harmless
	case operators.Conditional:
		return p.notNegative(args[1], of) && p.notNegative(args[2], of)
	case operators.Add, operators.Multiply, operators.Divide, operators.Modulo:
		return p.notNegative(args[0], of) && p.notNegative(args[1], of)
	case "int", "double", "round":
		return len(args) > 0 && p.notNegative(args[0], of)
	}
	return false
}

func (p *Program) safeCall(c ast.CallExpr, of Origins, targets map[string]bool) Safety {
	args := c.Args()
	switch c.FunctionName() {
	case "within":
		if len(args) == 2 && args[1].Kind() == ast.LiteralKind {
			if s, ok := args[1].AsLiteral().(types.String); ok {
				return HarmlessPattern(string(s), true)
			}
		}
	case operators.Index:
		if root := rootOf(args[0]); inside[root] || targets[root] {
			return Harmless
		}
	case operators.Conditional:
		return min(p.safe(args[1], of, targets), p.safe(args[2], of, targets))
	case operators.Add:
		l, r := p.safe(args[0], of, targets), p.safe(args[1], of, targets)
		if l == Unbounded || r == Unbounded {
			return Unbounded
		}
		return min(l, r) // the first may be empty
	case "own", "first", "max", "min":
		if len(args) == 1 {
			return p.safeReading(args[0], of)
		}
	case "string", "lowerAscii", "upperAscii":
		of1 := args
		if c.IsMemberFunction() {
			of1 = []ast.Expr{c.Target()}
		}
		if len(of1) == 1 {
			return p.safe(of1[0], of, targets)
		}
	}
	return Unbounded
}

// rootOf is the name that a chain of fields and indexes begins with; "" for none.
func rootOf(e ast.Expr) string {
	for {
		switch {
		case e.Kind() == ast.IdentKind:
			return e.AsIdent()
		case e.Kind() == ast.SelectKind:
			e = e.AsSelect().Operand()
		case e.Kind() == ast.CallKind && e.AsCall().FunctionName() == operators.Index:
			e = e.AsCall().Args()[0]
		default:
			return ""
		}
	}
}

// safeReading is for a reading, or an earlier taking of it.
func (p *Program) safeReading(e ast.Expr, of Origins) Safety {
	if e.Kind() == ast.CallKind {
		if c := e.AsCall(); len(c.Args()) == 1 && (c.FunctionName() == "before" || c.FunctionName() == "previous") {
			return p.safeReading(c.Args()[0], of)
		}
		return Unbounded
	}
	if f := strings.Split(dotted(e), "."); len(f) == 2 && f[0] == "readings" {
		return of("readings", f[1], "")
	}
	return Unbounded
}

// LeadingHole is the expression with which a text begins; nil where it begins with words of its own.
func (t *Template) LeadingHole() *Program {
	if len(t.parts) == 0 {
		return nil
	}
	return t.parts[0].hole
}
