package runbook

import (
	"fmt"
	"os"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/expr"
)

var fenced = regexp.MustCompile("(?s)```yaml\n(.*?)```")

// Every runbook in the documentation is sound, and every function and verb is in the reference.
func TestTheDocumentationIsTrue(t *testing.T) {
	for file, first := range map[string]bool{
		"../../docs/runbook-language.md": false, "../../README.md": true, "../../docs/setting-up.md": true,
	} {
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		found := fenced.FindAllSubmatch(text, -1)
		require.NotEmpty(t, found, file)
		for i, m := range found {
			_, f := Parse(m[1])
			says := f.Format(fmt.Sprintf("%s, example %d", file, i+1), m[1])
			assert.False(t, f.Failed(), says)
			if first {
				assert.Empty(t, f, "what somebody begins with draws nothing at all: %s", says)
			}
		}
	}
	text, err := os.ReadFile("../../docs/runbook-language.md")
	require.NoError(t, err)
	for _, f := range expr.Functions {
		line := fmt.Sprintf("| `%s` | %s | `%s` | `%s` |", f.Name, f.Says, f.Example, f.Gives)
		assert.True(t, strings.Contains(string(text), line), line)
	}
	for _, v := range Verbs {
		assert.True(t, strings.Contains(string(text), fmt.Sprintf("| `%s` |", v)), v)
	}
	for _, o := range Outcomes {
		assert.Contains(t, string(text), "`"+o+"`")
	}
}
