package expr

import (
	"encoding/json"
	"fmt"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// grown is how many bytes were allocated meanwhile.
func grown(f func()) uint64 {
	var a, b runtime.MemStats
	runtime.ReadMemStats(&a)
	f()
	runtime.ReadMemStats(&b)
	return b.TotalAlloc - a.TotalAlloc
}

func TestNoExpressionGrowsWithoutBound(t *testing.T) {
	c, err := NewCompiler(Schema{})
	require.NoError(t, err)
	doubled := "[l]" + strings.Repeat(".map(x, x + x)", 60)
	nested := "[l]" + strings.Repeat(".map(x, [x, x, x, x, x, x])", 30)
	// Of each: the message, and that it takes neither the memory nor the time that its result would.
	for src, says := range map[string]string{
		`s.replace("0", s)`:                     ErrTooLarge.Error(),
		`s.replace("0", s, 500000)`:             ErrTooLarge.Error(),
		`s.replace("", s)`:                      ErrTooLarge.Error(),
		`l.map(x, s).join()`:                    ErrTooLarge.Error(),
		`l.join(s)`:                             ErrTooLarge.Error(),
		`"%s".format([` + nested + `])`:         ErrTooLarge.Error(),
		`"%.2000000000f".format([1.0])`:         "precision",
		nested:                                  ErrTooLarge.Error(),
		nested + ` == ` + nested:                ErrTooLarge.Error(),
		nested + ` != ` + nested:                ErrTooLarge.Error(),
		`"a" in ` + nested:                      ErrTooLarge.Error(),
		`max(` + doubled + `[0])`:               ErrTooLarge.Error(),
		doubled:                                 ErrTooLarge.Error(),
		`sum(l.map(x, s))`:                      ErrTooLarge.Error(),
		`{"a": ` + nested + `}`:                 ErrTooLarge.Error(),
		`{` + nested + `: 1}`:                   "",
		`l.map(a, l.map(b, l.map(c, a + b)))`:   "",
		`s + s + s + s + s + s + s + s + s + s`: "",
	} {
		p, err := c.Compile(src, InStep.With("s", "").With("l", ""))
		if err != nil {
			continue // refused before it runs
		}
		list := make([]any, 1000)
		for i := range list {
			list[i] = fmt.Sprint("e", i)
		}
		began := time.Now()
		size := grown(func() {
			_, err = p.Eval(&Scope{Names: map[string]any{"s": strings.Repeat("0", 1<<20), "l": list}})
		})
		assert.ErrorContains(t, err, says, clipped(src))
		assert.Less(t, size, uint64(512<<20), clipped(src))
		assert.Less(t, time.Since(began), 20*time.Second, clipped(src))
	}
}

func clipped(s string) string { return s[:min(len(s), 60)] }

func TestWhatIsBoundedStillWorks(t *testing.T) {
	c, err := NewCompiler(Schema{})
	require.NoError(t, err)
	for src, want := range map[string]any{
		`"a-b-c".replace("-", "+")`:       "a+b+c",
		`"a-b-c".replace("-", "+", 1)`:    "a+b-c",
		`"abc".replace("", "_")`:          "_a_b_c_",
		`["a", "b"].join()`:               "ab",
		`["a", "b"].join(", ")`:           "a, b",
		`"%.2f of %s".format([1.5, [1]])`: "1.50 of [1]",
		`"a" in ["a", "b"]`:               true,
		`"z" in {"a": 1}`:                 false,
		`[1, 2] != [1, 3]`:                true,
		`"b" in l`:                        true,
	} {
		p, err := c.Compile(src, InStep.With("l", ""))
		require.NoError(t, err, src)
		v, err := p.Eval(&Scope{Names: map[string]any{"l": []any{"a", "b"}}})
		require.NoError(t, err, src)
		assert.Equal(t, want, v, src)
	}
}

func TestATextIsBounded(t *testing.T) {
	c, err := NewCompiler(Schema{})
	require.NoError(t, err)
	tpl, err := c.CompileTemplate(strings.Repeat("{{ s }}", 5), InStep.With("s", ""))
	require.NoError(t, err)
	_, err = tpl.Text(&Scope{Names: map[string]any{"s": strings.Repeat("0", 1<<20)}})
	assert.ErrorIs(t, err, ErrTooLarge)
}

func TestBoundsWithGroupsOfTheirOwn(t *testing.T) {
	low, high := 1.0, 9.0
	mark := func(b Bound) string {
		text, err := json.Marshal(b)
		require.NoError(t, err)
		return boundOpen + string(text) + boundClose
	}
	named, again, number := mark(
		Bound{Pattern: `(?P<b>m)-(?P<c>[0-9]+)`},
	), mark(
		Bound{Pattern: `(?P<b>n)`},
	), mark(
		Bound{Low: &low, High: &high},
	)
	approved := "park " + named + " of " + again + " by " + number
	assert.True(t, Covers(approved, "park m-7 of n by 3"))
	assert.False(t, Covers(approved, "park m-7 of n by 30"))
	assert.False(t, Covers(approved, "park m-x of n by 3"))
	for _, outside := range []string{`m)|(.*`, `m)(.*`, `[`} {
		assert.False(t, Covers("park "+mark(Bound{Pattern: outside}), "park what you like"), outside)
		assert.False(t, Bound{Pattern: outside}.Allows("what you like"), outside)
	}
	assert.False(
		t,
		Covers("park "+mark(Bound{Pattern: "m.*"}), "park m\nreboot"),
		"a dot matches no end of line, as in within()",
	)
	assert.False(t, Covers("park "+mark(Bound{}), "park 7"), "an empty bound allows nothing")
}
