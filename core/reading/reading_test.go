package reading

import (
	"regexp"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/expr"
)

func jq(t testing.TB, src string) *Query {
	q, err := CompileQuery(src)
	require.NoError(t, err)
	return q
}

func TestTake(t *testing.T) {
	for name, c := range map[string]struct {
		spec Spec
		out  string
		want any
		err  string
	}{
		"integer": {Spec{Name: "d", Type: expr.Integer, JSON: jq(t, ".depth")}, `{"depth": 812}`,
			int64(812), ""},
		"big integer": {Spec{Name: "d", Type: expr.Integer, JSON: jq(t, ".d")}, `{"d": 9007199254740993}`,
			int64(9007199254740993), ""},
		"text": {Spec{Name: "m", Type: expr.Text, JSON: jq(t, ".m")}, `{"m": "x y"}`, "x y", ""},
		"missing": {Spec{Name: "d", Type: expr.Integer, JSON: jq(t, ".depth")}, `{}`, nil,
			"does not hold it"},
		"not JSON": {Spec{Name: "d", Type: expr.Integer, JSON: jq(t, ".depth")}, `depth=1`, nil,
			"not JSON"},
		"wrong type": {Spec{Name: "d", Type: expr.Integer, JSON: jq(t, ".depth")}, `{"depth":"many"}`,
			nil, `"many" is not a whole number`},
		"structure": {Spec{Name: "d", Type: expr.JSON, JSON: jq(t, ".a")}, `{"a":[1,{"b":2.5}]}`,
			[]any{int64(1), map[string]any{"b": 2.5}}, ""},
		"endless": {Spec{Name: "d", Type: expr.JSON, JSON: jq(t, "def f: f; f")}, `{}`, nil, "deadline"},
		"pattern with group": {Spec{Name: "l", Type: expr.Number, Pattern: regexp.MustCompile(`load (\d+\.\d+)`)},
			"load 0.75 now", 0.75, ""},
		"pattern without one": {Spec{Name: "l", Type: expr.Text, Pattern: regexp.MustCompile(`m-\d+`)}, "at m-77.",
			"m-77", ""},
		"pattern not found": {Spec{Name: "l", Type: expr.Text, Pattern: regexp.MustCompile(`m-\d+`)}, "none",
			nil, "does not hold it"},
		"fraction no integer": {Spec{Name: "d", Type: expr.Integer, JSON: jq(t, ".")}, `1.5`, nil,
			"not a whole number"},
		"NaN is not a number": {Spec{Name: "d", Type: expr.Number, Pattern: regexp.MustCompile(`.+`)}, `NaN`, nil,
			"not a number"},
		"environment is hidden": {Spec{Name: "d", Type: expr.Text, JSON: jq(t, "env.PATH")}, `{}`, nil,
			"does not hold it"},
	} {
		t.Run(name, func(t *testing.T) {
			v, err := Take(c.spec, []byte(c.out), nil)
			if c.err != "" {
				require.ErrorContains(t, err, c.err)
				return
			}
			require.NoError(t, err)
			assert.Equal(t, c.want, v)
		})
	}
}

func FuzzTakeJSON(f *testing.F) {
	q := jq(f, ".depth")
	f.Add([]byte(`{"depth":1}`))
	f.Add([]byte(`[[[[`))
	f.Fuzz(func(t *testing.T, out []byte) {
		v, err := Take(Spec{Name: "d", Type: expr.Integer, JSON: q}, out, nil)
		if err == nil {
			assert.IsType(t, int64(0), v)
		}
	})
}
