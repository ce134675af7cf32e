package runbook

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestTheFirstWordOfAStatement(t *testing.T) {
	for statement, want := range map[string]string{
		"select 1": "select", "  SELECT\n1": "select", "(select 1)": "select", "((select 1))": "select",
		"-- how many\nselect 1": "select", "# a\n-- b\n/* c */ (delete from t)": "delete", "select(1)": "select",
		"-- nothing": "", "/* cut off": "", "": "", "1": "", "/*a*//*b*/show tables": "show",
	} {
		assert.Equal(t, want, FirstWord(statement), statement)
	}
}

// A remark before a look's statement neither makes it a change nor hides one.
func TestALookMayBeginWithARemark(t *testing.T) {
	const head = "urgentis: runbook/1\nname: b\ntitle: B\nowner: o\nservice: s\nsteps:\n" +
		"  - look: L\n    where: {role: db}\n" +
		"    sql:\n      database: d\n      user: u\n      statement: |\n        -- all of them\n"
	const end = "    read: {n: {json: .count, type: integer}}\n  - note: N\n    text: \"{{ max(readings.n) }}\"\n"
	_, found := Parse([]byte(head + "        select 1\n" + end))
	require.False(t, found.Failed(), found)
	_, found = Parse([]byte(head + "        delete from t\n" + end))
	require.True(t, found.Failed())
	assert.Contains(t, found.Error(), "a look only reads: DELETE does more than that")
}
