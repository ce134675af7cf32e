package expr

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func exampleScope() (*Compiler, *Scope) {
	c, err := NewCompiler(Schema{
		Inputs:   map[string]Type{"low": Integer, "queue": Text, "ratio": Number},
		Readings: map[string]Type{"depth": Integer, "stuck": Text, "never": Integer, "some": Integer},
		Checks:   []string{"real"},
	})
	if err != nil {
		panic(err)
	}
	at := time.Date(2031, 3, 1, 2, 0, 0, 0, time.UTC)
	take := func(kv map[string]any) map[string]Taking {
		out := map[string]Taking{}
		for k, v := range kv {
			out[k] = Taking{Value: v, Target: k, At: at}
		}
		return out
	}
	ab := []string{"a", "b"}
	return c, &Scope{
		Alert:  map[string]any{"severity": "major", "labels": map[string]string{"signal": "queue_depth"}, "summary": "deep"},
		Inputs: map[string]any{"low": int64(200), "queue": "north", "ratio": 0.5},
		Checks: map[string]any{"real": map[string]any{"result": "passes", "passed": true}},
		Target: map[string]any{"name": "a", "labels": map[string]string{"role": "consumer"}},
		Now:    at,
		Readings: map[string]*Series{
			"depth": {Name: "depth", ChangeSeq: 5, Rounds: []Round{
				{Seq: 2, Asked: ab, Takings: take(map[string]any{"a": int64(690), "b": int64(700)})},
				{Seq: 9, Asked: ab, Takings: take(map[string]any{"a": int64(790), "b": int64(812)})}}},
			"stuck": {Name: "stuck", Rounds: []Round{{Seq: 2, Asked: ab, Takings: take(map[string]any{"a": "m-7", "b": "m-7"})}}},
			"some":  {Name: "some", Rounds: []Round{{Seq: 2, Asked: ab, Takings: take(map[string]any{"b": int64(4)})}}},
			"never": {Name: "never"},
		},
	}
}

func TestFunctionExamples(t *testing.T) {
	c, s := exampleScope()
	for _, f := range Functions {
		p, err := c.Compile(f.Example, InTarget)
		require.NoError(t, err, f.Name)
		v, err := p.Eval(s)
		require.NoError(t, err, f.Name)
		assert.Equal(t, f.Gives, Say(v), f.Example)
	}
}

func TestMissingEvidenceIsNeverTrue(t *testing.T) {
	c, s := exampleScope()
	for _, src := range []string{
		"max(readings.some) < 10", "min(readings.some) > 0", "sum(readings.some) > 0", "mean(readings.some) > 0.0",
		"values(readings.some).size() > 0", "own(readings.some) == 4", "max(readings.never) < 10", "!(max(readings.some) < 10)",
		"max([]) == 0", "max(readings.some) < 10 && checks.real.passed", "max(previous(readings.stuck)) == ''",
	} {
		p, err := c.Compile(src, InTarget)
		require.NoError(t, err, src)
		_, err = p.Bool(s)
		assert.ErrorIs(t, err, ErrUnsure, src)
	}
	// What the missing part cannot alter is still said.
	p, err := c.Compile("checks.real.passed || max(readings.some) < 10", InStep)
	require.NoError(t, err)
	ok, err := p.Bool(s)
	require.NoError(t, err)
	assert.True(t, ok)
}

func TestMistakesAreFoundWhenCompiled(t *testing.T) {
	c, _ := exampleScope()
	for src, want := range map[string]string{
		"readings.dept > 1":            "there is no dept there",
		"has(inputs.quue)":             "there is no quue there",
		"inputs.low + 'x' == ''":       "these types do not go together with '_+_' as '(int, string)'",
		"reboot()":                     "there is no reboot here",
		"now > now":                    "now cannot stand in a change: what was approved must be what runs",
		"":                             "an expression is missing here",
		"max(readings.depth) > 'many'": "these types do not go together with '_>_' as '(int, string)'",
		"alert.label.signal == 'x'":    "there is no label there",
	} {
		_, err := c.Compile(src, InChange)
		var e *Error
		require.ErrorAs(t, err, &e, src)
		assert.Equal(t, want, e.Message, src)
	}
	_, err := c.Compile("inputs.low > 1", InStart)
	assert.EqualError(t, err, "there is no inputs here")
}

func TestExplainNamesTheValues(t *testing.T) {
	c, s := exampleScope()
	p, err := c.Compile("max(readings.depth) > inputs.low && inputs.ratio < 1", InStep)
	require.NoError(t, err)
	ok, vals, err := p.Explain(s)
	require.NoError(t, err)
	assert.True(t, ok)
	assert.Equal(t, []Value{{"max(readings.depth)", "812"}, {"inputs.low", "200"}, {"inputs.ratio", "0.5"}}, vals)
	p, err = c.Compile("max(readings.some) > inputs.low", InStep)
	require.NoError(t, err)
	_, vals, err = p.Explain(s)
	require.Error(t, err)
	assert.Contains(t, vals, Value{"max(readings.some)", "unsure: no some from a"})
}

func TestTemplates(t *testing.T) {
	c, s := exampleScope()
	s.Alert["summary"] = `x; rm -rf / #{{ "$(reboot)" }}`
	for src, want := range map[string]any{
		"plain":                          "plain",
		"{{ inputs.low }}":               int64(200),
		"is {{ inputs.low }}":            "is 200",
		"{{ 1234567 }} {{ 12345678.0 }}": "1234567 12345678",
		`{{ "}}" + inputs.queue }}!`:     "}}north!",
		`{{ {"a": {"b": 1}}.a }}`:        map[string]any{"b": int64(1)},
		"{{ alert.summary }}":            `x; rm -rf / #{{ "$(reboot)" }}`,
		`{{ r"\" }}`:                     `\`,
		"{{ own(readings.stuck) }}/{{ max(before(readings.depth)) }}": "m-7/700",
	} {
		tpl, err := c.CompileTemplate(src, InTarget)
		require.NoError(t, err, src)
		v, err := tpl.Value(s)
		require.NoError(t, err, src)
		assert.Equal(t, want, v, src)
	}
	_, err := c.CompileTemplate("a {{ inputs.low ", InStep)
	assert.EqualError(t, err, "this {{ is not closed by }}")
	_, err = c.CompileTemplate("abc {{ inputs.lo }}", InStep)
	assert.Equal(t, 13, err.(*Error).Offset)
	_, err = c.CompileTemplate("{{ readings.depth }}", InStep)
	assert.ErrorContains(t, err, "a whole reading has no text")
}

func TestRequired(t *testing.T) {
	c, _ := exampleScope()
	p, err := c.Compile(`alert.labels.signal == "queue_depth" && "mon" == alert.source && alert.severity in ["major"]`, InStart)
	require.NoError(t, err)
	assert.Equal(t, []Equality{{"alert.labels.signal", "queue_depth"}, {"alert.source", "mon"}}, p.Required())
	p, err = c.Compile(`alert.labels.signal == "queue_depth" || alert.source == "x"`, InStart)
	require.NoError(t, err)
	assert.Empty(t, p.Required())
}

func FuzzTemplate(f *testing.F) {
	c, s := exampleScope()
	for _, src := range []string{"{{ inputs.low }}", `{{ "}}" }}`, "{{{{", `{{ r"\" }}`, "{{ '''}}''' }}", "{{ max([1,2]) }}"} {
		f.Add(src)
	}
	f.Fuzz(func(t *testing.T, src string) {
		tpl, err := c.CompileTemplate(src, InTarget)
		if err != nil {
			var e *Error
			require.ErrorAs(t, err, &e)
			return
		}
		_, _ = tpl.Text(s)
	})
}
