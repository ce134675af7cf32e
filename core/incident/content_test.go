package incident

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Each kind of entry holds one type of content, and what is written is read again.
func TestEachKindHoldsOneTypeOfContent(t *testing.T) {
	of := map[Kind]int{}
	for _, c := range Contents {
		for _, k := range c.Kinds() {
			of[k]++
			assert.True(t, k.Holds(c))
		}
	}
	for _, k := range Kinds {
		assert.Equal(t, 1, of[k.Kind], k.Kind)
	}
	assert.False(t, Note.Holds(AlertContent{}))
	assert.False(t, Note.Holds(nil))
	holder := "mara"
	for kind, c := range map[Kind]Content{
		Held:        HeadContent{Holder: &holder, Because: "end of my watch"},
		AlertRaised: AlertContent{ID: "a", Labels: map[string]string{"q": "north"}, FirstAt: time.Unix(5, 0).UTC()},
		LookTaken:   AttemptContent{Attempt: "x", OfStep: OfStep{Verb: "look", Title: "Depth"}},
	} {
		raw, err := ContentOf(c)
		require.NoError(t, err)
		assert.Equal(t, c, (&Entry{Kind: kind, Content: raw}).Read())
	}
	assert.Nil(t, (&Entry{Kind: "made.up", Content: json.RawMessage("{}")}).Read())
	assert.Nil(t, (&Entry{Kind: Note}).Read(), "it was taken out")
}
