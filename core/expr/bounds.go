package expr

import (
	"errors"
	"fmt"
	"strings"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/functions"
	"cel.dev/cel-go/common/operators"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/common/types/traits"
	"cel.dev/cel-go/ext"
	"cel.dev/cel-go/interpreter"
)

// MaxValue bounds what one expression or text may come to, in bytes; maxParts bounds of how many parts it is made.
const (
	MaxValue = 4 << 20
	maxParts = 1_000_000
)

// ErrTooLarge marks a value that is larger than MaxValue.
var ErrTooLarge = errors.New("the value is larger than 4 MiB")

// scale weighs values. Lists can hold one another many times over, so that a small one in memory is endless when it
// is walked: whoever walks a value weighs it.
type scale struct{ bytes, parts int }

func (s *scale) add(bytes int) error {
	s.bytes += bytes
	if s.parts++; s.bytes > MaxValue || s.parts > maxParts {
		return ErrTooLarge
	}
	return nil
}

func (s *scale) weigh(v ref.Val) error {
	switch x := v.(type) {
	case types.String:
		return s.add(len(x))
	case types.Bytes:
		return s.add(len(x))
	case traits.Mapper:
		if err := s.add(8); err != nil {
			return err
		}
		for it := x.Iterator(); it.HasNext() == types.True; {
			k := it.Next()
			if err := s.weigh(k); err != nil {
				return err
			}
			if err := s.weigh(x.Get(k)); err != nil {
				return err
			}
		}
		return nil
	case traits.Lister:
		if err := s.add(8); err != nil {
			return err
		}
		for it := x.Iterator(); it.HasNext() == types.True; {
			if err := s.weigh(it.Next()); err != nil {
				return err
			}
		}
		return nil
	}
	return s.add(8)
}

func weigh(vals ...ref.Val) error {
	var s scale
	for _, v := range vals {
		if err := s.weigh(v); err != nil {
			return err
		}
	}
	return nil
}

// bounded gives a value as Go has it, or ErrTooLarge.
func bounded(v ref.Val) (any, error) {
	if err := weigh(v); err != nil {
		return nil, err
	}
	return native(v), nil
}

// sayBounded writes a value for a reader.
func sayBounded(v ref.Val) string {
	n, err := bounded(v)
	if err != nil {
		return "(" + err.Error() + ")"
	}
	return Say(n)
}

// comparisons weighs what is compared: equality walks both sides, which no cost limit sees.
func comparisons(i interpreter.InterpretableV2) (interpreter.InterpretableV2, error) {
	c, ok := i.(interpreter.InterpretableCall)
	if !ok || len(c.Args()) != 2 {
		return i, nil
	}
	switch c.Function() {
	case operators.Equals, operators.NotEquals, operators.In:
		return comparison{c}, nil
	}
	return i, nil
}

type comparison struct{ interpreter.InterpretableCall }

// Exec implements interpreter.InterpretableV2.
func (c comparison) Exec(frame *interpreter.ExecutionFrame) ref.Val {
	args := c.Args()
	l := args[0].Exec(frame)
	if types.IsUnknownOrError(l) {
		return l
	}
	r := args[1].Exec(frame)
	if types.IsUnknownOrError(r) {
		return r
	}
	out := c.compare(l, r)
	if costs := frame.CostTracker(); costs != nil {
		costs.EvalBinary(frame, c.ID(), c, l, r, out)
	}
	return out
}

// Eval implements interpreter.Interpretable.
func (c comparison) Eval(vars interpreter.Activation) ref.Val {
	return interpreter.EvalActivation(vars, c.Exec)
}

func (c comparison) compare(l, r ref.Val) ref.Val {
	if err := weigh(l, r); err != nil {
		return bad(err)
	}
	switch c.Function() {
	case operators.Equals:
		return types.Equal(l, r)
	case operators.NotEquals:
		return types.Bool(types.Equal(l, r) != types.True)
	}
	in, ok := r.(traits.Container)
	if !ok {
		return types.MaybeNoSuchOverloadErr(r)
	}
	return in.Contains(l)
}

// stringFunctions are those of CEL's extension for strings. What comes of replace, join and format is measured before
// it is made: a text of 1 MiB has replacements of a terabyte.
func stringFunctions() ([]cel.EnvOption, error) {
	opts := []cel.EnvOption{ext.Strings(ext.StringsMaxPrecision(30))}
	plain, err := cel.NewEnv(opts...)
	if err != nil {
		return nil, err
	}
	for name, check := range map[string]func(args []ref.Val) error{"replace": replaced, "join": joined,
		"format": formatted} {
		guarded, err := guard(plain, name, check)
		if err != nil {
			return nil, err
		}
		opts = append(opts, guarded)
	}
	return opts, nil
}

// guard puts a check before every overload of a function.
func guard(env *cel.Env, name string, check func(args []ref.Val) error) (cel.EnvOption, error) {
	f := env.Functions()[name]
	if f == nil {
		return nil, fmt.Errorf("there is no function %s to guard", name)
	}
	bindings, err := f.Bindings()
	if err != nil {
		return nil, err
	}
	run := map[string]*functions.Overload{}
	for _, b := range bindings {
		run[b.Operator] = b
	}
	var overloads []cel.FunctionOpt
	for _, o := range f.OverloadDecls() {
		b := run[o.ID()]
		if b == nil {
			return nil, fmt.Errorf("function %s has no binding of %s to guard", name, o.ID())
		}
		call := func(args ...ref.Val) ref.Val {
			if err := check(args); err != nil {
				return bad(err)
			}
			switch {
			case len(args) == 1 && b.Unary != nil:
				return b.Unary(args[0])
			case len(args) == 2 && b.Binary != nil:
				return b.Binary(args[0], args[1])
			}
			return b.Function(args...)
		}
		bind := cel.FunctionBinding(call)
		switch len(o.ArgTypes()) {
		case 1:
			bind = cel.UnaryBinding(func(v ref.Val) ref.Val { return call(v) })
		case 2:
			bind = cel.BinaryBinding(func(l, r ref.Val) ref.Val { return call(l, r) })
		}
		overloads = append(overloads, cel.MemberOverload(o.ID(), o.ArgTypes(), o.ResultType(), bind))
	}
	return cel.Function(name, overloads...), nil
}

func replaced(args []ref.Val) error {
	s, old, with := string(args[0].(types.String)), string(args[1].(types.String)), string(args[2].(types.String))
	n := strings.Count(s, old)
	if len(args) > 3 {
		if most := int64(args[3].(types.Int)); most >= 0 && most < int64(n) {
			n = int(most)
		}
	}
	// Both are at most MaxValue, so that the product does not overflow.
	if len(s) > MaxValue || len(with) > MaxValue || int64(len(s))+int64(n)*int64(len(with)) > MaxValue {
		return ErrTooLarge
	}
	return nil
}

func joined(args []ref.Val) error {
	between := 0
	if len(args) > 1 {
		between = len(args[1].(types.String))
	}
	var s scale
	l, ok := args[0].(traits.Lister)
	if !ok {
		return nil // refused by join itself
	}
	for it := l.Iterator(); it.HasNext() == types.True; {
		text, _ := it.Next().(types.String)
		if err := s.add(len(text) + between); err != nil {
			return err
		}
	}
	return nil
}

func formatted(args []ref.Val) error { return weigh(args...) }
