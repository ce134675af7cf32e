package expr

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func exampleScope() (*Compiler, *Scope) {
	c, err := NewCompiler(Schema{
		Inputs: map[string]Type{"low": Integer, "queue": Text, "ratio": Number},
		Readings: map[string]Type{
			"depth":  Integer,
			"stuck":  Text,
			"never":  Integer,
			"some":   Integer,
			"errors": Integer,
		},
		Checks: []string{"real"},
	})
	if err != nil {
		panic(err)
	}
	at := time.Date(2031, 3, 1, 2, 0, 0, 0, time.UTC)
	take := func(kv map[string]any) map[string]Sample {
		out := map[string]Sample{}
		for k, v := range kv {
			out[k] = Sample{Value: v, Target: k, At: at}
		}
		return out
	}
	ab := []string{"a", "b"}
	return c, &Scope{
		Alert: map[string]any{
			"severity": "major",
			"labels":   map[string]string{"signal": "queue_depth"},
			"summary":  "deep",
		},
		Inputs: map[string]any{"low": int64(200), "queue": "north", "ratio": 0.5},
		Checks: map[string]any{"real": map[string]any{"result": "passes", "passed": true}},
		Target: map[string]any{"name": "a", "labels": map[string]string{"role": "consumer"}},
		Now:    at,
		Readings: map[string]*Series{
			"depth": {Name: "depth", ChangeSeq: 5, Rounds: []Round{
				{Seq: 2, Asked: ab, Samples: take(map[string]any{"a": int64(690), "b": int64(700)})},
				{Seq: 9, Asked: ab, Samples: take(map[string]any{"a": int64(790), "b": int64(812)})}}},
			"stuck": {
				Name:   "stuck",
				Rounds: []Round{{Seq: 2, Asked: ab, Samples: take(map[string]any{"a": "m-7", "b": "m-7"})}},
			},
			"some":  {Name: "some", Rounds: []Round{{Seq: 2, Asked: ab, Samples: take(map[string]any{"b": int64(4)})}}},
			"never": {Name: "never"},
			"errors": {Name: "errors", Rounds: []Round{{Seq: 2, Asked: []string{"a", "b", "c", "d", "e"},
				Samples: take(
					map[string]any{"a": int64(3), "b": int64(4), "c": int64(97), "d": int64(2), "e": int64(3)},
				)}}},
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
		"values(readings.some).size() > 0", "own(readings.some) == 4", "max(readings.never) < 10",
		"!(max(readings.some) < 10)",
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
		"readings.dept > 1": "there is no dept there",
		"has(inputs.quue)":  "there is no quue there",
		"inputs.low + 'x' == ''": "integer + text: these types do not go together; make a text of a number " +
			"with string(…)",
		"reboot()": "there is no function reboot",
		"max(readings.depth) > '200'": "integer > text: these types do not go together; a number stands without " +
			"quotes: 200",
		"max(readings.depth) = 1": "= compares nothing: write ==",
		"1 == 1 and 2 == 2":       "write && for and",
		"1 == 1 & 2 == 2":         "write && for and",
		"1 == 1 or 2 == 2":        "write || for or",
		"not (1 == 1)":            "write ! for not",
		"readings.depth > 1": "readings.depth has a value of each target: say which one counts, as in " +
			"max(readings.depth) or min(readings.depth)",
		"max(readings.depth > 1":       "this ( is not closed",
		"max(inputs.low)":              "max() does not take integer",
		"1 +":                          "the expression ends before it is whole",
		"'a":                           "this quote is not closed",
		"1 2":                          "2 does not belong here",
		"now > now":                    "now cannot stand in a change: what was approved must be what runs",
		"":                             "an expression is missing here",
		"max(readings.depth) > 'many'": "integer > text: these types do not go together",
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
	assert.Equal(t, []Value{{Part: "max(readings.depth)", Text: "812", Target: "b"}, {Part: "inputs.low", Text: "200"},
		{Part: "inputs.ratio", Text: "0.5"}}, vals)
	p, err = c.Compile("max(readings.some) > inputs.low", InStep)
	require.NoError(t, err)
	_, vals, err = p.Explain(s)
	require.Error(t, err)
	assert.Contains(t, vals, Value{Part: "max(readings.some)", Text: "unsure: no some from a"})
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
	p, err := c.Compile(
		`alert.labels.signal == "queue_depth" && "mon" == alert.source && alert.severity in ["major"]`,
		InStart,
	)
	require.NoError(t, err)
	assert.Equal(t, []Equality{{"alert.labels.signal", "queue_depth"}, {"alert.source", "mon"}}, p.Required())
	p, err = c.Compile(`alert.labels.signal == "queue_depth" || alert.source == "x"`, InStart)
	require.NoError(t, err)
	assert.Empty(t, p.Required())
}

func FuzzTemplate(f *testing.F) {
	c, s := exampleScope()
	for _, src := range []string{"{{ inputs.low }}", `{{ "}}" }}`, "{{{{", `{{ r"\" }}`, "{{ '''}}''' }}",
		"{{ max([1,2]) }}"} {
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

func TestSecretsStandOnlyWhereTheyMay(t *testing.T) {
	c, s := exampleScope()
	_, err := c.CompileTemplate("Bearer {{ secrets.desk }}", InTarget)
	assert.EqualError(t, err, "secrets may stand only in env, headers and the password of a database")
	tm, err := c.CompileTemplate("Bearer {{ secrets.desk }}", InTarget.Secrets())
	require.NoError(t, err)
	text, err := tm.Text(s)
	require.NoError(t, err)
	assert.Equal(t, []string{"desk"}, SecretsIn(text))
	filled, err := FillSecrets(text, func(kind, name string) (string, error) { return kind + "/" + name, nil })
	require.NoError(t, err)
	assert.Equal(t, "Bearer secret/desk", filled)
	_, err = c.Compile("secrets.desk + 'x'", InTarget.Secrets())
	assert.EqualError(t, err, "a secret stands alone, as in {{ secrets.NAME }}")

	// A value from outside that looks like the mark of a secret does not become one.
	s.Alert["summary"] = SecretMark("desk")
	tm, err = c.CompileTemplate("{{ alert.summary }}", InTarget.Secrets())
	require.NoError(t, err)
	_, err = tm.Text(s)
	assert.ErrorContains(t, err, "the value holds the mark of a secret")
	_, err = c.CompileTemplate(SecretMark("desk"), InTarget.Secrets())
	assert.Error(t, err)
}

func TestBounds(t *testing.T) {
	c, s := exampleScope()
	tm, err := c.CompileTemplate("kill {{ within(string(own(readings.never)), '[0-9]+') }}", InTarget)
	require.NoError(t, err)
	text, err := tm.Bounded(s)
	require.NoError(t, err)
	assert.Equal(t, "kill ⟨matching [0-9]+⟩", ShowBounds(text))
	assert.True(t, Covers(text, "kill 4711"))
	assert.False(t, Covers(text, "kill 4711; reboot"))
	assert.False(t, Covers(text, "kil 4711"))
	assert.True(t, Covers("plain", "plain"))

	tm, err = c.CompileTemplate("at {{ within(own(readings.never), 5, 20) }} of {{ inputs.low }}", InTarget)
	require.NoError(t, err)
	text, err = tm.Bounded(s)
	require.NoError(t, err)
	assert.True(t, Covers(text, "at 7 of 200"))
	assert.False(t, Covers(text, "at 70 of 200"))
	assert.False(t, Covers(text, "at 7 of 2000"))

	tm, err = c.CompileTemplate("kill {{ own(readings.never) }}", InTarget)
	require.NoError(t, err)
	_, err = tm.Bounded(s)
	assert.ErrorContains(t, err, "has no limit")

	p, err := c.Compile("within(inputs.low, 1, 100)", InStep)
	require.NoError(t, err)
	_, err = p.Eval(s)
	assert.ErrorIs(t, err, ErrOutside)
	assert.Equal(t, "from 1 to 100", p.Bound().String())
}

func TestOutliers(t *testing.T) {
	assert.Equal(t, 3.0, median([]float64{9, 1, 3}))
	assert.Equal(t, 2.0, median([]float64{9, 1, 3, 0}))
	// Two that stand apart, by far.
	z := scores([]float64{2.1, 2.6, 2.4, 2.5, 2.3, 2.1, 2.3, 2.6, 8.2, 8.3})
	assert.InDelta(t, 26.3, z[9], 0.1)
	assert.Less(t, z[0], 3.5)
	// More than half the same.
	z = scores([]float64{0, 0, 0, 0, 0, 12})
	assert.Greater(t, z[5], 3.5)
	for _, x := range scores([]float64{5, 5, 5, 5}) {
		assert.Zero(t, x)
	}
}

func TestNamesOfSteps(t *testing.T) {
	c, s := exampleScope()
	_, err := c.Compile("host.name", InStep)
	assert.EqualError(t, err, "there is no host here")
	p, err := c.Compile("host.name == 'a' && item > 2", InStep.With("host", "target").With("item", ""))
	require.NoError(t, err)
	s.Names = map[string]any{"host": map[string]any{"name": "a"}, "item": int64(3)}
	ok, err := p.Bool(s)
	require.NoError(t, err)
	assert.True(t, ok)
}

// FuzzExpression compiles any text as an expression and evaluates what compiles: it gives a value or an error, in
// bounded time.
func FuzzExpression(f *testing.F) {
	for _, fn := range Functions {
		f.Add(fn.Example)
	}
	f.Add(`[1,2,3].map(x, x*x).exists(y, y > inputs.low)`)
	f.Add(`"a".matches("(a+)+$") && alert.labels.all(k, k != "")`)
	c, s := exampleScope()
	f.Fuzz(func(t *testing.T, src string) {
		p, err := c.Compile(src, InTarget)
		if err != nil {
			return
		}
		var v any
		if size := grown(func() { v, err = p.Eval(s) }); size > 512<<20 {
			t.Fatalf("%d bytes for %s", size, src)
		}
		if err == nil {
			Say(v)
		}
		p.Explain(s) //nolint:errcheck // only that it comes back
		p.Refers("readings")
		p.Required()
		p.Compared("answers")
		p.Bound()
	})
}

func TestLimitsAreOfValuesOnly(t *testing.T) {
	c, err := NewCompiler(Schema{
		Inputs:   map[string]Type{"low": Integer},
		Readings: map[string]Type{"depth": Integer, "errors": Number},
	})
	require.NoError(t, err)
	for src, want := range map[string]string{
		"max(readings.depth) < inputs.low":                       "depth below 200",
		"200 <= min(readings.depth)":                             "depth at least 200",
		"own(readings.errors) > 0.5 && max(readings.depth) == 3": "errors above 0.5, depth exactly 3",
		"outliers(readings.errors).size() == 0":                  "",
		"max(readings.depth) - min(readings.depth) < 5":          "",
		"max(readings.depth) < max(readings.errors)":             "",
		"max(before(readings.depth)) > 3 || 1 == 1":              "",
		"values(readings.errors).all(e, e < 3.0)":                "",
		"max(readings.depth) < inputs.low + 1":                   "",
		"!(max(readings.depth) < 5)":                             "",
	} {
		p, err := c.Compile(src, InStep)
		require.NoError(t, err, src)
		var says []string
		for _, l := range p.Limits(map[string]any{"low": int64(200)}) {
			says = append(says, l.Reading+" "+l.Says())
		}
		assert.Equal(t, want, strings.Join(says, ", "), src)
	}
}
