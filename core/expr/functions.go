package expr

import (
	"errors"
	"fmt"
	"regexp"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/common/types/traits"
)

// Function documents one of the functions that runbooks have beyond CEL's own.
type Function struct {
	Name, Says string
	// Example is an expression over the series of examples in the tests, and Gives its value.
	Example, Gives string
}

// Functions lists them for the reference; every example runs as a test.
var Functions = []Function{
	{"max", "The largest value over all targets asked. Unsure if one did not answer.", "max(readings.depth)", "812"},
	{"min", "The smallest value over all targets asked. Unsure if one did not answer.", "min(readings.depth)", "790"},
	{"mean", "The arithmetic mean over all targets asked.", "mean(readings.depth)", "801"},
	{"sum", "The sum over all targets asked.", "sum(readings.depth)", "1602"},
	{
		"values",
		"The values as a list, in the order of the targets. Unsure if one did not answer.",
		"values(readings.depth)",
		"[790,812]",
	},
	{
		"samples",
		"Those that did answer, each with value, unit, target and at. Never unsure.",
		"samples(readings.depth)[0].target",
		"a",
	},
	{"own", "The value of the target at hand.", "own(readings.stuck)", "m-7"},
	{"first", "The value of the first target by name that answered.", "first(readings.stuck)", "m-7"},
	{
		"before",
		"Per target, the last sample before the change that the check proves, else the newest of this run, was begun.",
		"max(before(readings.depth))",
		"700",
	},
	{"age", "How long ago the oldest of the newest samples was taken.", "age(readings.depth) < duration('1m')", "true"},
	{
		"outliers",
		"The targets whose value stands apart from the others, by name: a modified z-score above 3.5, which " +
			"rests on the median (Iglewicz and Hoaglin, 1993); where the others are all the same, whatever differs, " +
			"however little, if it is a third at most. Unsure with fewer than 3 values.",
		"outliers(readings.errors)",
		`["c"]`,
	},
	{
		"within",
		"The value itself if it matches the pattern as a whole, or lies between two numbers; else an error. Says in " +
			"advance what a person approves.",
		"within(own(readings.stuck), 'm-[0-9]+')",
		"m-7",
	},
	{"previous", "Per target, the sample before the newest one.", "max(previous(readings.depth))", "700"},
}

// ErrOutside marks a value that is not within the bound that the runbook gives it.
var ErrOutside = errors.New("outside of its bound")

// wholeMatch compiles a pattern that must match the whole of a text.
func wholeMatch(pattern string) (*regexp.Regexp, error) {
	// By itself first: a bracket too many would reach out of ours.
	if _, err := regexp.Compile(pattern); err != nil {
		return nil, err
	}
	return regexp.Compile(`^(?:` + pattern + `)$`)
}

func withinPattern(v, pattern ref.Val) ref.Val {
	re, err := wholeMatch(string(pattern.(types.String)))
	if err != nil {
		return bad(err)
	}
	if !re.MatchString(string(v.(types.String))) {
		return bad(
			fmt.Errorf(
				"%w: %q does not match %s",
				ErrOutside,
				string(v.(types.String)),
				string(pattern.(types.String)),
			),
		)
	}
	return v
}

func withinRange(args ...ref.Val) ref.Val {
	v, ok := args[0].(traits.Comparer)
	if !ok {
		return types.MaybeNoSuchOverloadErr(args[0])
	}
	if v.Compare(args[1]) == types.IntNegOne || v.Compare(args[2]) == types.IntOne {
		return bad(
			fmt.Errorf(
				"%w: %s is not from %s to %s",
				ErrOutside,
				Say(native(args[0])),
				Say(native(args[1])),
				Say(native(args[2])),
			),
		)
	}
	return args[0]
}

func bad(err error) ref.Val { return types.WrapErr(err) }

func ourFunctions(adapt types.Adapter) []cel.EnvOption {
	t := cel.TypeParamType("T")
	reading := cel.OpaqueType(ReadingType, t)
	list := cel.ListType(t)
	asList := func(v ref.Val) (traits.Lister, ref.Val) {
		switch x := v.(type) {
		case *Series:
			ts, err := x.list()
			if err != nil {
				return nil, bad(err)
			}
			vals := make([]any, len(ts))
			for i, k := range ts {
				vals[i] = k.Value
			}
			return adapt.NativeToValue(vals).(traits.Lister), nil
		case traits.Lister:
			if n, ok := x.Size().(types.Int); !ok || n < 0 || n > maxParts {
				return nil, bad(ErrTooLarge)
			} else if n == 0 {
				return nil, bad(ErrUnsure)
			}
			return x, nil
		}
		return nil, types.MaybeNoSuchOverloadErr(v)
	}
	// over makes a function of one list that folds its values.
	over := func(name string, result *cel.Type, fold func(traits.Lister) ref.Val) cel.EnvOption {
		run := cel.UnaryBinding(func(v ref.Val) ref.Val {
			l, err := asList(v)
			if err != nil {
				return err
			}
			return fold(l)
		})
		return cel.Function(name,
			cel.Overload(name+"_reading", []*cel.Type{reading}, result, run),
			cel.Overload(name+"_list", []*cel.Type{list}, result, run))
	}
	pick := func(want types.Int) func(traits.Lister) ref.Val {
		return func(l traits.Lister) ref.Val {
			best := l.Get(types.IntZero)
			for i := types.Int(1); i < l.Size().(types.Int); i++ {
				v := l.Get(i)
				c, ok := v.(traits.Comparer)
				if !ok {
					return types.NewErr("these values cannot be put in order")
				}
				got := c.Compare(best)
				if types.IsError(got) {
					return got
				}
				if got == want {
					best = v
				}
			}
			return best
		}
	}
	total := func(l traits.Lister) ref.Val {
		acc := l.Get(types.IntZero)
		for i := types.Int(1); i < l.Size().(types.Int); i++ {
			a, ok := acc.(traits.Adder)
			if !ok {
				return types.NewErr("these values cannot be added")
			}
			acc = a.Add(l.Get(i))
			if s, ok := acc.(types.String); ok && len(s) > MaxValue {
				return bad(ErrTooLarge)
			}
			if types.IsError(acc) {
				return acc
			}
		}
		return acc
	}
	of := func(name string, result *cel.Type, f func(*Series) (any, error)) cel.EnvOption {
		return cel.Function(name, cel.Overload(name+"_reading", []*cel.Type{reading}, result,
			cel.UnaryBinding(func(v ref.Val) ref.Val {
				s, ok := v.(*Series)
				if !ok {
					return types.MaybeNoSuchOverloadErr(v)
				}
				got, err := f(s)
				if err != nil {
					return bad(err)
				}
				return adapt.NativeToValue(got)
			})))
	}
	return []cel.EnvOption{
		over("max", t, pick(types.IntOne)),
		over("min", t, pick(types.IntNegOne)),
		over("sum", t, total),
		over("mean", cel.DoubleType, func(l traits.Lister) ref.Val {
			s := total(l)
			if types.IsError(s) {
				return s
			}
			d := s.ConvertToType(types.DoubleType)
			n, ok := d.(types.Double)
			if !ok {
				return types.NewErr("these values have no mean")
			}
			return n / types.Double(l.Size().(types.Int))
		}),
		of("values", list, func(s *Series) (any, error) {
			ts, err := s.list()
			out := make([]any, len(ts))
			for i, k := range ts {
				out[i] = k.Value
			}
			return out, err
		}),
		of("samples", cel.ListType(object("sample")), func(s *Series) (any, error) {
			r, err := s.newest()
			if err != nil {
				return []any{}, nil
			}
			var out []any
			for _, k := range r.ordered() {
				out = append(out, map[string]any{"value": k.Value, "target": k.Target, "unit": k.Unit, "at": k.At})
			}
			return out, nil
		}),
		of("own", t, func(s *Series) (any, error) { k, err := s.own(); return k.Value, err }),
		of("first", t, func(s *Series) (any, error) {
			r, err := s.newest()
			if err != nil {
				return nil, err
			}
			if ts := r.ordered(); len(ts) > 0 {
				return ts[0].Value, nil
			}
			return nil, ErrUnsure
		}),
		of("age", cel.DurationType, func(s *Series) (any, error) {
			ts, err := s.list()
			oldest := s.now
			for _, k := range ts {
				if k.At.Before(oldest) {
					oldest = k.At
				}
			}
			return s.now.Sub(oldest), err
		}),
		of("outliers", cel.ListType(cel.StringType), func(s *Series) (any, error) { return s.outliers() }),
		cel.Function(
			"within",
			cel.Overload(
				"within_pattern",
				[]*cel.Type{cel.StringType, cel.StringType},
				cel.StringType,
				cel.BinaryBinding(withinPattern),
			),
			cel.Overload(
				"within_int",
				[]*cel.Type{cel.IntType, cel.IntType, cel.IntType},
				cel.IntType,
				cel.FunctionBinding(withinRange),
			),
			cel.Overload(
				"within_double",
				[]*cel.Type{cel.DoubleType, cel.DoubleType, cel.DoubleType},
				cel.DoubleType,
				cel.FunctionBinding(withinRange),
			),
		),
		of("before", reading, func(s *Series) (any, error) { return s.before() }),
		of("previous", reading, func(s *Series) (any, error) { return s.previous() }),
	}
}
