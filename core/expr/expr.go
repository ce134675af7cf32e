package expr

import (
	"errors"
	"fmt"
	"slices"
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
type Where struct {
	kind    kind
	secrets bool
	names   string // what With added, as name:type,
}

type kind int

const (
	start kind = iota
	step
	target
	change
	report
)

// The places of expressions.
var (
	InStart  = Where{kind: start}  // a start: only alert
	InStep   = Where{kind: step}   // a step as a whole
	InTarget = Where{kind: target} // once per target: target and own()
	InChange = Where{kind: change} // a gated change: as InTarget without now
	InReport = Where{kind: report} // a source: only the names that With gives it
)

// With adds a name that the steps around give. typ is target, or "" for a value of any type.
func (w Where) With(name, typ string) Where {
	if !strings.Contains(","+w.names, ","+name+":") {
		w.names += name + ":" + typ + ","
	}
	return w
}

// WithNamesOf adds the names that another place was given.
func (w Where) WithNamesOf(o Where) Where { w.names = o.names; return w }

// Names lists the names that With added.
func (w Where) Names() []string {
	var out []string
	for n := range strings.SplitSeq(strings.TrimSuffix(w.names, ","), ",") {
		if name, _, ok := strings.Cut(n, ":"); ok {
			out = append(out, name)
		}
	}
	return out
}

// Secrets allows secrets and sealed readings.
func (w Where) Secrets() Where { w.secrets = true; return w }

// Change forbids now, so that what was approved is what runs.
func (w Where) Change() Where {
	if w.kind == target {
		w.kind = change
	}
	return w
}

// Compiler compiles the expressions of one runbook.
type Compiler struct {
	bare   *cel.Env // the functions, and no names
	envs   map[Where]*cel.Env
	sealed map[string]bool
}

// NewCompiler makes a compiler for a runbook that has these names.
func NewCompiler(s Schema) (*Compiler, error) {
	registry, err := types.NewRegistry()
	if err != nil {
		return nil, err
	}
	texts, err := stringFunctions()
	if err != nil {
		return nil, err
	}
	bare, err := cel.NewEnv(slices.Concat([]cel.EnvOption{
		cel.CustomTypeAdapter(registry),
		cel.CustomTypeProvider(provider{registry, objects(s)}),
		cel.CrossTypeNumericComparisons(true),
		cel.DefaultUTCTimeZone(true),
		cel.ParserRecursionLimit(60),
		cel.ParserExpressionSizeLimit(MaxLength),
	}, texts, ourFunctions(registry))...)
	if err != nil {
		return nil, err
	}
	base, err := bare.Extend(cel.Variable("alert", object("alert")))
	if err != nil {
		return nil, err
	}
	return &Compiler{bare: bare, envs: map[Where]*cel.Env{InStart: base}, sealed: s.Sealed}, nil
}

// env gives the environment of a place; each is made when it is first asked for.
func (c *Compiler) env(w Where) (*cel.Env, error) {
	if e := c.envs[w]; e != nil {
		return e, nil
	}
	if w.kind == report {
		return c.reportEnv(w)
	}
	var opts []cel.EnvOption
	for _, n := range []string{"inputs", "readings", "checks", "answers", "calls", "incident", "service", "run",
		"alert_now", "error"} {
		opts = append(opts, cel.Variable(n, object(n)))
	}
	if w.kind != change {
		opts = append(opts, cel.Variable("now", cel.TimestampType))
	}
	if w.kind != step {
		opts = append(opts, cel.Variable("target", object("target")))
	}
	if w.secrets {
		opts = append(opts, cel.Variable("secrets", cel.MapType(cel.StringType, cel.StringType)))
	}
	for n := range strings.SplitSeq(strings.TrimSuffix(w.names, ","), ",") {
		name, typ, ok := strings.Cut(n, ":")
		switch {
		case !ok || name == "target" && w.kind != step:
		case typ == "target":
			opts = append(opts, cel.Variable(name, object("target")))
		default:
			opts = append(opts, cel.Variable(name, cel.DynType))
		}
	}
	e, err := c.envs[InStart].Extend(opts...)
	if err == nil {
		c.envs[w] = e
	}
	return e, err
}

// reportEnv has what arrived, of any type, and no alert: there is none yet.
func (c *Compiler) reportEnv(w Where) (*cel.Env, error) {
	var opts []cel.EnvOption
	for _, n := range w.Names() {
		opts = append(opts, cel.Variable(n, cel.DynType))
	}
	if w.secrets {
		opts = append(opts, cel.Variable("secrets", cel.MapType(cel.StringType, cel.StringType)))
	}
	e, err := c.bare.Extend(opts...)
	if err == nil {
		c.envs[w] = e
	}
	return e, err
}

// Program is one compiled expression.
type Program struct {
	Source string
	prg    cel.Program
	ast    *cel.Ast
	typ    *cel.Type
	// secrets lists the secrets that the expression names.
	secrets []string
	// sealed says that it names a sealed reading.
	sealed bool
	// bare says that it sees only the names that its place was given: it is evaluated for each report.
	bare bool
	// parts are those of a condition.
	parts []decider
}

// Compile compiles an expression. Errors are of type *Error.
func (c *Compiler) Compile(src string, where Where) (*Program, error) {
	if strings.TrimSpace(src) == "" {
		return nil, &Error{Message: "an expression is missing here"}
	}
	if len(src) > MaxLength {
		return nil, &Error{
			Message: fmt.Sprintf("an expression may have %d bytes, this one has %d", MaxLength, len(src)),
		}
	}
	env, err := c.env(where)
	if err != nil {
		return nil, &Error{Message: err.Error()}
	}
	a, iss := env.Compile(src)
	if iss.Err() != nil {
		e := iss.Errors()[0]
		return nil, mistake(src, offset(src, e.Location.Line(), e.Location.Column()), e.Message)
	}
	opts := []cel.ProgramOption{
		cel.CostLimit(costLimit), cel.CustomDecoratorV2(comparisons), cel.InterruptCheckFrequency(1000),
	}
	if where.kind != report {
		opts = append(opts, cel.EvalOptions(cel.OptTrackState)) // what Explain tells
	}
	p, err := env.Program(a, opts...)
	if err != nil {
		return nil, &Error{Message: err.Error()}
	}
	out := &Program{Source: src, prg: p, ast: a, typ: a.OutputType(), bare: where.kind == report}
	if out.IsBool() && where.kind != report {
		out.parts = partsOf(a)
	}
	if out.secrets = out.Refers("secrets"); len(out.secrets) > 0 && a.NativeRep().Expr().Kind() != ast.SelectKind {
		return nil, &Error{Message: "a secret stands alone, as in {{ secrets.NAME }}"}
	}
	for _, r := range out.Refers("readings") {
		if c.sealed[r] {
			if out.sealed = true; !where.secrets {
				return nil, &Error{
					Message: fmt.Sprintf(
						"reading %s is sealed: it may stand only where secrets may, in env and headers",
						r,
					),
				}
			}
			if !alone(a.NativeRep().Expr()) {
				return nil, &Error{
					Message: fmt.Sprintf(
						"reading %s is sealed: it stands alone, as in {{ own(readings.%s) }} or {{ "+
							"first(readings.%s) }}",
						r,
						r,
						r,
					),
				}
			}
		}
	}
	return out, nil
}

// alone reports whether an expression is one value of a reading and nothing joined to it.
func alone(e ast.Expr) bool {
	switch e.Kind() {
	case ast.SelectKind:
		return true
	case ast.CallKind:
		c := e.AsCall()
		return slices.Contains([]string{"own", "first", "before", "previous"}, c.FunctionName()) &&
			len(c.Args()) == 1 &&
			alone(c.Args()[0])
	}
	return false
}

// offset is a place of the CEL library as bytes from the start; of some mistakes it knows no place.
func offset(src string, line, col int) int {
	whole := len(src)
	for l := 1; l < line; l++ {
		i := strings.IndexByte(src, '\n')
		if i < 0 {
			break
		}
		col += i + 1
		src = src[i+1:]
	}
	return min(max(col, 0), whole)
}

// Scope is what an expression can see.
type Scope struct {
	Alert, AlertNow, Inputs, Incident, Service, Run map[string]any
	Readings                                        map[string]*Series
	Checks, Answers, Calls                          map[string]any
	Error                                           map[string]any
	Target                                          map[string]any
	// Names are those that the steps around give, such as the item of an each.
	Names map[string]any
	Now   time.Time
}

// sight is what an expression sees of a scope: each name is made when it is asked for. It is for one evaluation.
type sight struct {
	*Scope
	secrets  []string
	readings map[string]any
}

// Parent implements cel.Activation.
func (v *sight) Parent() cel.Activation { return nil }

// ResolveName implements cel.Activation. A name that a step around gives hides one that is always there.
func (v *sight) ResolveName(name string) (any, bool) {
	if x, ok := v.Names[name]; ok {
		return x, true
	}
	switch name {
	case "readings":
		if v.readings == nil {
			v.readings = v.series()
		}
		return v.readings, true
	case "now":
		return v.Now, true
	case "secrets":
		if len(v.secrets) > 0 {
			return marksOf(v.secrets), true
		}
		return nil, false
	}
	m, ok := v.object(name)
	if m == nil {
		m = map[string]any{}
	}
	return m, ok
}

func (s *Scope) object(name string) (map[string]any, bool) {
	switch name {
	case "alert":
		return s.Alert, true
	case "alert_now":
		return s.AlertNow, true
	case "inputs":
		return s.Inputs, true
	case "incident":
		return s.Incident, true
	case "service":
		return s.Service, true
	case "run":
		return s.Run, true
	case "checks":
		return s.Checks, true
	case "answers":
		return s.Answers, true
	case "calls":
		return s.Calls, true
	case "error":
		return s.Error, true
	case "target":
		return s.Target, true
	}
	return nil, false
}

// series are the readings as the target at work and the moment have them.
func (s *Scope) series() map[string]any {
	own, _ := s.Target["name"].(string)
	out := make(map[string]any, len(s.Readings))
	for n, r := range s.Readings {
		c := *r
		c.Own, c.now = own, s.Now
		out[n] = &c
	}
	return out
}

// marksOf are the marks of secrets by their names.
func marksOf(secrets []string) map[string]string {
	marks := map[string]string{}
	for _, n := range secrets {
		marks[n] = SecretMark(n)
	}
	return marks
}

// Unsaid is a value that could not be said, with why: whatever reads it is unsure.
func Unsaid(why string) any { return types.WrapErr(fmt.Errorf("%w: %s", ErrUnsure, why)) }

// Eval gives the value as Go has it: int64, float64, bool, string, time.Time, []any, map[string]any or nil.
func (p *Program) Eval(s *Scope) (any, error) {
	v, _, err := p.eval(s)
	if err != nil {
		return nil, err
	}
	return bounded(v)
}

func (p *Program) eval(s *Scope) (ref.Val, *cel.EvalDetails, error) {
	var sees any = s.Names
	switch {
	case !p.bare:
		sees = &sight{Scope: s, secrets: p.secrets}
	case len(p.secrets) > 0:
		sees = map[string]any{"secrets": marksOf(p.secrets)} // it stands alone
	}
	v, det, err := p.prg.Eval(sees)
	if err != nil && strings.Contains(err.Error(), "no such key: ") && !errors.Is(err, ErrUnsure) {
		// What the checker knows by name but no path of this run has produced yet.
		err = fmt.Errorf("%w: nothing has set %s yet", ErrUnsure, strings.SplitN(err.Error(), "no such key: ", 2)[1])
	}
	return v, det, err
}

// Judgement is what a condition came to. Holds says nothing where Err is not nil.
type Judgement struct {
	Holds bool
	Err   error
	parts []decider
	state interpreter.EvalState
}

// Judge evaluates a condition.
func (p *Program) Judge(s *Scope) Judgement {
	v, det, err := p.eval(s)
	j := Judgement{Err: err, parts: p.parts}
	if det != nil {
		j.state = det.State()
	}
	if err != nil {
		return j
	}
	b, ok := v.(types.Bool)
	if !ok {
		j.Err = fmt.Errorf("%s is not true or false but %s", p.Source, v.Type().TypeName())
	}
	j.Holds = bool(b)
	return j
}

// Bool evaluates a condition.
func (p *Program) Bool(s *Scope) (bool, error) {
	j := p.Judge(s)
	return j.Holds, j.Err
}

// Value is one part of an expression and what it was, for the record.
type Value struct {
	Part string `json:"part"`
	Text string `json:"text"`
	// Target is on which target it was, where it is that of one.
	Target string `json:"target,omitempty"`
}

// Explain evaluates a condition and tells the value of each part that decided it.
func (p *Program) Explain(s *Scope) (bool, []Value, error) {
	j := p.Judge(s)
	return j.Holds, j.Values(), j.Err
}

// Values tells the value of each part that decided it.
func (j Judgement) Values() []Value {
	if j.state == nil {
		return nil
	}
	var out []Value
	for _, x := range j.parts {
		v, ok := j.state.Value(x.id)
		if !ok || slices.ContainsFunc(out, func(y Value) bool { return y.Part == x.text }) {
			continue
		}
		if bad, is := v.(*types.Err); is {
			out = append(out, Value{Part: x.text,
				Text: "unsure: " + strings.TrimPrefix(bad.Error(), ErrUnsure.Error()+": ")})
			continue
		}
		if _, whole := v.(*Series); !whole {
			out = append(out, Value{Part: x.text, Text: sayBounded(v), Target: j.targetOf(x, v)})
		}
	}
	return out
}

// targetOf is the target that gave a part its value: of the largest, the smallest and the first of a series, and of
// one's own; "" where several did, or none.
func (j Judgement) targetOf(x decider, v ref.Val) string {
	if x.of == 0 {
		return ""
	}
	arg, ok := j.state.Value(x.of)
	if !ok {
		return ""
	}
	series, ok := arg.(*Series)
	if !ok {
		return ""
	}
	if x.call == "own" {
		return series.Own
	}
	round, err := series.newest()
	if err != nil {
		return ""
	}
	found := ""
	for t, s := range round.Samples {
		if types.DefaultTypeAdapter.NativeToValue(s.Value).Equal(v) != types.True {
			continue
		}
		if found != "" {
			return ""
		}
		found = t
	}
	return found
}

// decider is a part of a condition as it is told of, with the number that its value has; of a call of one argument with
// the name of what is called, and the number of the argument.
type decider struct {
	id   int64
	text string
	call string
	of   int64
}

// ofOne are the functions of a series whose value is that of one target.
var ofOne = []string{"max", "min", "own", "first"}

// partsOf lists the parts whose values decide an expression: what operators join.
func partsOf(a *cel.Ast) []decider {
	var out []decider
	info := a.NativeRep().SourceInfo()
	var visit func(e ast.Expr)
	add := func(e ast.Expr) {
		if text, err := parser.Unparse(e, info); err == nil {
			d := decider{id: e.ID(), text: text}
			if e.Kind() == ast.CallKind && len(e.AsCall().Args()) == 1 &&
				slices.Contains(ofOne, e.AsCall().FunctionName()) {
				d.call, d.of = e.AsCall().FunctionName(), e.AsCall().Args()[0].ID()
			}
			out = append(out, d)
		}
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
