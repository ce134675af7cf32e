package runbook

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// shelf is a set of runbooks by name, each given by what stands after its head.
func shelf(t *testing.T, texts map[string]string) func(string) *Book {
	books := map[string]*Book{}
	for name, text := range texts {
		src := "urgentis: runbook/1\nname: " + name + "\ntitle: T\nowner: o\nservice: s\n" + text
		b, found := Parse([]byte(src))
		require.False(t, found.Failed(), found.Format(name, []byte(src)))
		books[name] = b
	}
	return func(n string) *Book { return books[n] }
}

func TestLink(t *testing.T) {
	const note, takes = "steps: [{note: N, text: t}]\n", "inputs: {size: {type: integer, max: 9}}\nsteps: [{note: " +
		"N, text: t}]\n"
	deep := map[string]string{}
	for i := range MaxCalls + 2 {
		deep[fmt.Sprint("a", i)] = fmt.Sprintf("steps: [{call: a%d}]\n", i+1)
	}
	deep[fmt.Sprint("a", MaxCalls+2)] = note
	deep["a"] = "steps: [{call: a0}]\n"
	for name, c := range map[string]struct {
		books map[string]string
		want  string // "" for a sound one
	}{
		"one in another": {map[string]string{"a": "steps: [{call: b}]\n", "b": "steps: [{call: c}]\n", "c": note}, ""},
		"the same twice": {map[string]string{"a": "steps: [{call: b}, {call: c}]\n", "b": "steps: [{call: c}]\n",
			"c": note}, ""},
		"nobody there": {map[string]string{"a": "steps: [{call: b}]\n"}, "there is no part and no " +
			"runbook b to call"},
		"nobody deeper": {map[string]string{"a": "steps: [{call: b}]\n", "b": "steps: [{call: c}]\n"},
			"in what b calls: there is no part and no runbook c to call"},
		"a circle": {map[string]string{"a": "steps: [{call: b}]\n", "b": "steps: [{call: a}]\n"},
			"in what b calls: runbook a would call itself: a → b → a"},
		"itself": {map[string]string{"a": "steps: [{call: a}]\n"}, "runbook a would call itself: " +
			"a → a"},
		"from a part": {map[string]string{"a": "parts: {p: {steps: [{call: a}]}}\nsteps: [{call: " +
			"p}]\n"}, "runbook a would call itself: a → a"},
		"an input less": {map[string]string{"a": "steps: [{call: b}]\n", "b": takes}, "the call does not " +
			"give b the input size, which has no default"},
		"the second call lacks it": {map[string]string{"a": "steps: [{call: b, inputs: {size: 3}}, {call: " +
			"b}]\n", "b": takes}, "the call does not give b the input size, which has no default"},
		"too deep": {deep, fmt.Sprintf("calls may stand %d deep in one another", MaxCalls)},
	} {
		t.Run(name, func(t *testing.T) {
			lookup := shelf(t, c.books)
			linked, found := lookup("a").Link(lookup)
			if c.want == "" {
				assert.Empty(t, found)
				assert.NotNil(t, linked.Callee("b").Callee("c"))
				return
			}
			assert.Nil(t, linked)
			var said []string
			for _, f := range found {
				said = append(said, f.Message)
				assert.Positive(t, f.Line)
			}
			assert.Contains(t, strings.Join(said, "\n"), c.want)
		})
	}
}
