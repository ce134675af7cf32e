package runbook

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

const changeC = "{change: C, id: c, where: {role: a}, run: [a], undo: {run: [b]}}\n"

// A reference that can match nothing, however a run goes, is a mistake.
func TestReferencesThatMatchNothing(t *testing.T) {
	const head = "urgentis: runbook/1\nname: play\ntitle: Play\nowner: o\nservice: s\nsteps:\n"
	for name, x := range map[string]struct{ steps, says string }{
		"proves what runs beside it": {`
  - together: T
    branches:
      left:
      - ` + changeC + `      right:
      - {check: Good, that: 1 == 1, proves: c}
`, "the change c runs beside this step: this check can prove nothing of it"},
		"proves what comes": {`
  - {check: Good, that: 1 == 1, proves: c}
  - ` + changeC, "the change c does not stand before this step"},
		"proves what another way did": {`
  - check: Which
    that: 1 == 1
    passes:
      - ` + changeC + `    fails:
      - {check: Good, that: 1 == 1, proves: c}
`, "the change c stands on another way on from the same check"},
		"takes back what another way did": {`
  - check: Which
    that: 1 == 1
    passes:
      - ` + changeC + `    fails:
      - {undo_change: B, of: c}
`, "c stands on another way on from the same check: there would be nothing to undo"},
		"approves what was": {`
  - ` + changeC + `  - ask: A
    choices: {yes_do: {approves: c}}
`, "the choice yes_do approves the change c, which does not come after it"},
		"approves what another choice does": {`
  - ask: A
    choices:
      one: {approves: c}
      two:
        steps:
          - ` + changeC, "the choice one approves the change c, which stands in another choice"},
		"proves what an earlier round did": {`
  - ask: A
    choices:
      one:
        steps:
          - {check: Good, that: 1 == 1, proves: c}
          - back: A
      two:
        steps:
          - ` + changeC, ""},
		"takes back at the end": {`
  - together: T
    branches:
      left:
      - ` + changeC + `finally:
  - {check: Good, that: 1 == 1, proves: c}
`, ""},
		"proves all of an each": {`
  - each: E
    where: {role: a}
    steps:
      - ` + changeC + `  - {check: Good, that: 1 == 1, proves: c}
`, ""},
	} {
		_, found := Parse([]byte(head + x.steps[1:]))
		if x.says == "" {
			assert.NotContains(t, found.Error(), "the change c", name)
			continue
		}
		assert.True(t, found.Failed(), name)
		assert.Contains(t, found.Error(), x.says, name)
	}
}
