package cli

import (
	"os"
	"regexp"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Every kind of entry that the service writes has a word of its own in the console.
func TestEveryKindOfEntryHasAWord(t *testing.T) {
	text, err := os.ReadFile("../../console/src/composables/record.ts")
	require.NoError(t, err)
	kinds := 0
	for _, file := range []string{"../engine/project.go", "../intake/incident.go", "../intake/starts.go"} {
		src, err := os.ReadFile(file)
		require.NoError(t, err)
		for _, m := range regexp.MustCompile(`(?:Kind: |p\.entry\(ev, |kind, title :?= |kind = )"([a-z]+\.[a-z-]+)"`).FindAllSubmatch(src, -1) {
			kinds++
			assert.Contains(t, string(text), "'"+string(m[1])+"':", file)
		}
	}
	assert.Greater(t, kinds, 25, "the kinds were found")
}
