package runbook

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// Of some mistakes the libraries know no place; that must not be the end of the checker.
func TestDeepAndUnclosedTextsAreFindings(t *testing.T) {
	places := []string{
		"  - check: a\n    that: '%s'\n", "  - check: a\n    that: %s\n", "  - note: a\n    text: 'x {{ %s }}'\n",
		"  - look: a\n    where: {role: x}\n    run: [a]\n    read: {v: {json: '%s'}}\n",
		"  - look: a\n    where: {role: x}\n    run: [a]\n    read: {v: {pattern: '%s'}}\n",
		"  - note: a\n    text: \"{{ within('a', r'%s') }}\"\n",
	}
	for _, n := range []int{100, 400, 1200} {
		texts := []string{
			strings.Repeat("(", n) + "1 == 1" + strings.Repeat(")", n),
			strings.Repeat("a.b(", n) + strings.Repeat(")", n),
		}
		for _, s := range []string{"(", "[", "{", ")", "a(", `"`} {
			texts = append(texts, strings.Repeat(s, n))
		}
		for _, text := range texts {
			for _, place := range places {
				src := "urgentis: runbook/1\nname: play\ntitle: Play\nowner: quayside\nservice: " +
					"gates\nsteps:\n" + fmt.Sprintf(
					place,
					text,
				)
				assert.NotPanics(t, func() { Parse([]byte(src)) }, "%d of %.4s in %s", n, text, place)
			}
		}
	}
}

func TestRoundsAreBoundedHoweverTheyAreSaid(t *testing.T) {
	for again, says := range map[string]string{
		"{every: 1ms, for: 1d}":      "every must be 100ms or longer",
		"{every: 1ms, times: 5}":     "every must be 100ms or longer",
		"{every: 200ms, for: 5m}":    "that is 1500 rounds; with less than 1s between them there may be 600",
		"{every: 1s, for: 1d}":       "that is 86400 rounds; there may be 10000",
		"{every: 200ms, times: 600}": "",
		"{every: 10s, for: 1d}":      "",
	} {
		_, f := Parse(
			[]byte(
				"urgentis: runbook/1\nname: play\ntitle: Play\nowner: quayside\nservice: gates\nsteps:\n  - look: " +
					"L\n    where: {role: x}\n    run: [a]\n    again: " + again + "\n    read: {v: {whole: true}}\n",
			),
		)
		assert.Equal(t, says != "", f.Failed(), again)
		assert.Contains(t, f.Error(), says, again)
	}
}
