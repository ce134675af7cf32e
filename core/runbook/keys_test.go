package runbook

import (
	"os"
	"regexp"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The tables of keys have what is read, and nothing else; the pages about the language and about triggers tell of each.
func TestTheKeysAreThoseThatAreRead(t *testing.T) {
	var page []byte
	for _, name := range []string{"runbook-language", "triggers"} {
		text, err := os.ReadFile("../../docs/" + name + ".md")
		require.NoError(t, err)
		page = append(page, text...)
	}
	read := probed()
	step := []string{}
	for _, v := range Verbs {
		step = append(step, read["a "+string(v)]...)
	}
	for _, c := range []struct {
		name  string
		table []key
		read  []string
	}{
		{"the whole", wholeKeys, slices.Concat(read["a runbook"], read["a part"])},
		{"a start", startKeys, read["a start"]},
		{"a step", stepKeys, step},
	} {
		t.Run(c.name, func(t *testing.T) {
			have := names(c.table)
			for _, k := range c.read {
				assert.True(t, slices.Contains(have, k), "%s has no place in the order of keys", k)
			}
			for i, k := range have {
				assert.True(t, slices.Contains(c.read, k), "nothing reads %s", k)
				assert.False(t, slices.Contains(have[:i], k), "%s stands twice", k)
				told := regexp.MustCompile("`" + k + "[`:]|(^|[\\s{(])" + k + ":")
				assert.True(t, told.Match(page), "the documents do not tell of %s", k)
			}
		})
	}
	inner := []string{}
	for what, keys := range read {
		if what != "a runbook" && what != "a start" {
			inner = append(inner, keys...)
		}
	}
	for _, k := range names(innerKeys) {
		assert.True(t, slices.Contains(inner, k), "nothing reads %s", k)
	}
}
