package internal_test

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// replaced are words that people do not read any more, each with the word that stands in its place.
var replaced = []struct{ was, is string }{
	{`It goes so|For example:$|^Everywhere$`, "Usage, Examples, Global flags"},
	{`When something is the matter|To look into what happened|To set up who|To run it yourself`, "Respond, Investigate, …"},
	{`[Tt]ell how the installation is`, "show system health"},
	{`used wrongly|not as you took it to be`, "usage error; changed since you looked"},
	{`\bmistakes\b`, "errors"},
	{`[Ss]tanding looks?\b`, "scheduled looks"},
	{`\bway of theirs\b|\bways out\b|\banother way out\b|\bcontact way`, "contact method; integrations"},
	{`[Hh]and-on\b|handing on\b`, "reassign"},
	{`who stands apart`, "outliers"},
	{`[Bb]ring(s|ing)?[- ]back\b|\bbrought back\b`, "restore"},
	{`\bset aside\b|\brun release\b`, "quarantined, resume"},
	{`[Tt]akes? back\b|[Tt]aken back\b|[Tt]aking back\b|\btook back\b|take-back|take_back`, "undo, undone"},
	{`\bapproval wanted|\banswer wanted`, "needed"},
	{`\bends in \d|wanted (below|above) \d`, "expires in; target <"},
	{`looks once more first|touches only what still needs`, "rechecks first"},
	{`What else the approval is bound to`, "Approval is void if any of these change"},
	{`Nobody has it yet|others are called in\b`, "unclaimed; escalates in"},
	{`\bclimbs?\b|\bclimb_after|\bclimbing\b`, "escalates"},
	{`After that: nobody`, "Secondary"},
	{`spends it evenly`, "burn rate"},
	{`broken line`, "dashed"},
	{`what may help|What is read`, "suggested runbooks; readings"},
	{`\bwere set otherwise|was set otherwise`, "updated"},
	{`Held back; not lately|\bnot lately\b`, "suppressed; none in 24 h"},
	{`as others have it|Nobody looked back yet`, "history from outside stores"},
	{`It was (not )?there before`, "first time; happened before"},
	{`\btakings?\b|\bretakings\b`, "sample, samples"},
	{`\bincidents? (is|are|was|were) resolved\b`, "closed"},
	{`provide for is handed over|takes two to try everything`, "goes to the owner's on-call; at least two people"},
	{`cannot be said yet|Could not be said`, "not known yet"},
	{`nobody could say what became of`, "its outcome is unknown"},
}

// What people read is in one word for one thing: documents, the API document, pages, and what commands print.
func TestReplacedWordsAreGone(t *testing.T) {
	var files []string
	for _, glob := range []string{"../docs/*.md", "../README.md", "../CONTRIBUTING.md", "../api/openapi.yaml",
		"../console/src/*.vue", "../console/src/*/*.vue", "../console/src/composables/*.ts", "../internal/cli/*.go",
		"../library/*.yaml", "../examples/ferry/runbooks/*.yaml"} {
		found, err := filepath.Glob(glob)
		require.NoError(t, err)
		files = append(files, found...)
	}
	require.Greater(t, len(files), 100)
	for _, f := range files {
		if strings.HasSuffix(f, "_test.go") || strings.Contains(f, ".gen.") {
			continue
		}
		b, err := os.ReadFile(f)
		require.NoError(t, err)
		for n, line := range strings.Split(string(b), "\n") {
			for _, w := range replaced {
				if found := regexp.MustCompile(w.was).FindString(line); found != "" {
					assert.Fail(t, "a word that was replaced", "%s:%d: %q, say: %s", f, n+1, found, w.is)
				}
			}
		}
	}
}
