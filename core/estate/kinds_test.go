package estate

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/doc"
	"urgentis/core/message"
)

// The keys of every kind of connection are read, and no other is; the documents tell of each kind.
func TestTheKeysOfConnectionsAreRead(t *testing.T) {
	x := &decoder{Text: &doc.Text{Probe: map[string][]string{}}, d: &Document{}}
	x.connection(nil)
	of := map[string]bool{"urgentis": true, "name": true, "kind": true, "says": true}
	told := ""
	for _, page := range []string{"people-and-messages", "desk"} {
		text, err := os.ReadFile("../../docs/" + page + ".md")
		require.NoError(t, err)
		told += string(text)
	}
	for _, k := range message.Kinds {
		for _, key := range append(k.Needs, k.May...) {
			assert.Contains(t, x.Probe["a connection"], key, k.Name)
			of[key] = true
		}
		assert.True(t, strings.Contains(told, "\nkind: "+k.Name), "no document tells of the kind %s", k.Name)
	}
	for _, key := range x.Probe["a connection"] {
		assert.True(t, of[key], "no kind has the key %s", key)
	}
}
