package estate_test

import (
	"os"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/alert"
	"urgentis/core/estate"
)

var fenced = regexp.MustCompile("(?s)```(yaml|json)\n(.*?)```")

// Every document in the documentation is sound, and the sample becomes what it says.
func TestTheDocumentationIsTrue(t *testing.T) {
	text, err := os.ReadFile("../../docs/sources.md")
	require.NoError(t, err)
	var s *alert.Source
	sample := ""
	for _, m := range fenced.FindAllStringSubmatch(string(text), -1) {
		if m[1] == "yaml" {
			s = source(t, m[2])
		} else if sample == "" {
			sample = m[2]
		}
	}
	got, err := s.Mapping(json(sample), now)
	require.NoError(t, err)
	require.Len(t, got, 2)
	assert.Equal(t, "north/ramp-2", got[0].Report.Key)
	assert.Equal(t, alert.Major, got[0].Report.Severity)
	assert.Equal(t, "ramp_blocked", got[0].Report.Labels["signal"])
	assert.Equal(t, alert.Cleared, got[1].Report.Severity)
	for _, k := range append(estate.Kinds, "push", "pull") {
		assert.Contains(t, string(text), string(k))
	}
	for _, n := range alert.FieldNames {
		assert.True(t, strings.Contains(string(text), "`"+n+"`"), n)
	}
}

// The demo's sources are sound, and the sample beside them is read by theirs.
func TestTheDemosSources(t *testing.T) {
	text, err := os.ReadFile("../../examples/ferry/sources/quay-panel.yaml")
	require.NoError(t, err)
	body, err := os.ReadFile("../../examples/ferry/samples/quay-panel.xml")
	require.NoError(t, err)
	got, err := source(t, string(text)).Mapping(alert.Payload{ContentType: "text/xml", Body: body}, now)
	require.NoError(t, err)
	require.Len(t, got, 4)
	assert.True(t, got[2].Ignored)
	for _, i := range []int{0, 1, 3} {
		assert.Empty(t, got[i].Unread)
	}
	text, err = os.ReadFile("../../examples/ferry/sources/harbour-watch.yaml")
	require.NoError(t, err)
	source(t, string(text))
}
