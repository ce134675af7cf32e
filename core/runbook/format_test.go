package runbook

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestFormatKeepsWhatIsSaid(t *testing.T) {
	src := `# about this file
steps:
  # before the look
  - run: [a, "{{ inputs.q }}"]
    look: L   # after the title
    where: {role: x}
  - close: repaired
    because: |
      Two lines,

      and an empty one.
name: n
title: "A: B"
urgentis: runbook/1
`
	out, err := Format([]byte(src))
	require.NoError(t, err)
	assert.Equal(t, `urgentis: runbook/1
name: n
title: "A: B"

# about this file
steps:
  # before the look
  - look: L # after the title
    where: {role: x}
    run: [a, "{{ inputs.q }}"]

  - close: repaired
    because: |
      Two lines,

      and an empty one.
`, string(out))
}

func TestFormatIsIdempotent(t *testing.T) {
	files := shipped(t)
	docs, err := os.ReadFile("../../docs/runbook-language.md")
	require.NoError(t, err)
	texts := [][]byte{}
	for _, m := range fenced.FindAllSubmatch(docs, -1) {
		texts = append(texts, m[1])
	}
	for _, f := range files {
		b, err := os.ReadFile(f)
		require.NoError(t, err)
		texts = append(texts, b)
	}
	for i, src := range texts {
		once, err := Format(src)
		require.NoError(t, err, "text %d", i)
		twice, err := Format(once)
		require.NoError(t, err, "text %d", i)
		assert.Equal(t, string(once), string(twice), "text %d", i)
		a, fa := Parse(src)
		b, fb := Parse(once)
		require.NotNil(t, a)
		require.NotNil(t, b, fb.Format("formatted", once))
		assert.Equal(t, len(a.All()), len(b.All()))
		assert.Equal(t, len(fa), len(fb))
	}
}

// TestFormatOfGeneratedTexts formats generated runbooks, with comments anywhere.
func TestFormatOfGeneratedTexts(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		src := generated(t)
		once, err := Format([]byte(src))
		require.NoError(t, err, src)
		twice, err := Format(once)
		require.NoError(t, err, string(once))
		require.Equal(t, string(once), string(twice), src)
		require.Equal(
			t,
			strings.Count(src, "# c"),
			strings.Count(string(once), "# c"),
			"every comment is kept\n%s\n%s",
			src,
			once,
		)
	})
}

// generated is the text of a runbook with its keys in any order and comments between them.
func generated(t *rapid.T) string {
	n := 0
	comment := func(indent string) string {
		if n++; rapid.IntRange(0, 3).Draw(t, "comment") == 0 {
			return fmt.Sprintf("%s# c%d\n", indent, n)
		}
		return ""
	}
	var steps func(indent string, depth int) string
	steps = func(indent string, depth int) string {
		out := ""
		for range rapid.IntRange(1, 3).Draw(t, "steps") {
			out += comment(indent)
			keys := rapid.Permutation([]string{"look: Title", "where: {role: x}", "run: [a, b]", "timeout: 5s"}).
				Draw(t, "keys")
			if depth > 0 && rapid.Bool().Draw(t, "check") {
				keys = rapid.Permutation([]string{"check: Title", "that: 1 == 1"}).Draw(t, "keys")
			}
			for i, k := range keys {
				if i == 0 {
					out += indent + "- " + k + "\n"
					continue
				}
				out += indent + "  " + k + "\n"
			}
			if strings.HasPrefix(keys[0], "check") || strings.HasPrefix(keys[len(keys)-1], "check") {
				out += indent + "  fails:\n" + steps(indent+"    ", depth-1)
			}
		}
		return out
	}
	parts := rapid.Permutation([]string{"urgentis: runbook/1\n", "name: n\n", "title: T\n", "owner: o\n",
		"service: s\n", "inputs:\n  a: {type: text}\n", "steps:\n" + steps("  ", 2)}).
		Draw(t, "parts")
	return strings.Join(parts, "")
}

func TestFormatRefusesWhatItWouldAlter(t *testing.T) {
	for _, src := range []string{"a: |+\n  x\n\n\nb: 1\n", "a: >+\n  x\n", "a:\n  - |+\n    x\n\n"} {
		out, err := Format([]byte(src))
		require.ErrorIs(t, err, ErrFormat, "%q", out)
		assert.ErrorContains(t, err, "keeps its empty lines")
	}
}

// FuzzFormat formats any text: what comes out is stable, or there is an error.
func FuzzFormat(f *testing.F) {
	docs, err := os.ReadFile("../../docs/runbook-language.md")
	require.NoError(f, err)
	for _, m := range fenced.FindAllSubmatch(docs, -1) {
		f.Add(string(m[1]))
	}
	f.Add("0: |\n 00\n \n")
	f.Add("0: |+\n \n")
	f.Add("0:\nsteps:\n  -   -   #0000")
	f.Add("a: |+\n  x\n\n\nb: |\n  y\n\n\nc: 1\n")
	f.Add("a: |\n  x\n\n  y\nb: [1, # c\n 2]\n")
	f.Fuzz(func(t *testing.T, src string) {
		once, err := Format([]byte(src))
		if err != nil {
			return
		}
		twice, err := Format(once)
		require.NoError(t, err)
		require.Equal(t, string(once), string(twice))
	})
}
