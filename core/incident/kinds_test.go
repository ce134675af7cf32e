package incident_test

import (
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"

	"urgentis/core/incident"
)

func TestEveryKindIsDescribedOnce(t *testing.T) {
	seen := map[incident.Kind]bool{}
	for _, k := range incident.Kinds {
		assert.False(t, seen[k.Kind], k.Kind)
		seen[k.Kind] = true
		assert.Equal(t, k, k.Kind.About())
		assert.NotEmpty(t, k.Word, k.Kind)
		assert.LessOrEqual(t, utf8.RuneCountInString(k.Word), 10, "%s: it stands in a column", k.Kind)
	}
	for _, result := range []string{"passes", "fails", "unsure"} {
		assert.True(t, seen[incident.CheckKind(result)], result)
	}
	for _, change := range []string{"worse", "better", "cleared"} {
		assert.True(t, seen[incident.AlertKind(change)], change)
	}
	assert.Equal(t, "orbit", incident.Kind("orbit.left").About().Word, "of a newer program")
}
