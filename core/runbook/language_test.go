package runbook

import (
	"bytes"
	"encoding/json"
	"os"
	"sync"
	"testing"

	"github.com/goccy/go-yaml"
	other "github.com/google/jsonschema-go/jsonschema"
	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const closing = "  - close: repaired\n    because: b\n"

// Every finding beyond those of the first verbs, with its exact words.
func TestFindingsOfTheWholeLanguage(t *testing.T) {
	for name, c := range map[string]struct{ src, want string }{
		"an unknown choice": {head + "  - ask: A\n    id: a\n    choices: {yes_do: go on}\n  - check: " +
			"C\n    that: answers.a.choice == \"yes\"\n" + closing, "x.yaml:13:5: error: the question a has no " +
			"choice yes"},
		"a choice nobody can reach": {head + "  - ask: A\n    choices: {one: {label: Same}, two: {label: " +
			"same}}\n" + closing, "x.yaml:10:5: error: nobody can reach the choice two: another one has the same " +
			"label"},
		"a choice that is there": {head + "  - ask: A\n    choices: {back: go on}\n" + closing,
			"none_of_these and back are there by themselves"},
		"approves nothing": {head + "  - ask: A\n    choices: {one: {approves: " +
			"parc}}\n" + closing, "x.yaml:10:5: error: approves names no change: there is none with the id parc"},
		"an ask without answers": {head + "  - ask: A\n" + closing, "x.yaml:10:5: error: an ask needs choices " +
			"or fields"},
		"a suggestion for nothing": {head + "  - ask: A\n    fields: {n: {type: integer}}\n    suggest: {m: " +
			"\"1\"}\n" + closing, "suggest names the field m, which is not there"},
		"a wait without end": {head + tail + "  - wait: W\n    until: max(readings.depth) < 1\n    " +
			"retake: depth\n" + closing, "x.yaml:16:5: error: this wait has no end: give again, as in again: " +
			"{every: 10s, for: 5m}"},
		"a wait for nothing": {head + "  - wait: W\n" + closing, "a wait needs for: TIME, or until: " +
			"CONDITION"},
		"a wait on old evidence": {head + tail + "  - wait: W\n    until: max(readings.depth) < 1\n    again: " +
			"{every: 1s, for: 1m}\n" + closing, "until needs retake: without a new look the answer stays the same"},
		"an end among others": {head + "  - each: E\n    where: {role: consumer}\n    steps:\n      - " +
			"close: repaired\n        because: b\n", "x.yaml:13:9: error: close cannot stand inside an each or a " +
			"together, where other steps are under way: end the run after it"},
		"retake from outside": {head + "  - each: E\n    where: {role: consumer}\n    steps:\n      - " +
			"look: L\n        id: l\n        run: [x]\n        read: {n: {whole: true}}\n  - check: C\n    retake: " +
			"l\n    that: readings.n == readings.n\n", "look l stands inside an each or a together: it can be " +
			"retaken only there"},
		"branches do not read": {head + "  - together: T\n    branches:\n      a:\n        - look: L\n      " +
			"    from: here\n          run: [x]\n          read: {n: {whole: true}}\n      b:\n        - note: N\n  " +
			"        text: \"{{ first(readings.n) }}\"\n" + closing, "reading n is used before any path takes it"},
		"a dialect that is none": {head + "  - look: L\n    where: {role: db}\n    sql: {dialect: mysqll, statement: select " +
			"1, database: d, user: u}\n" + closing, "dialect must be one of postgresql, mysql, sqlite; MariaDB speaks " +
			"mysql; did you mean mysql?"},
		"a file of SQLite elsewhere": {head + "  - look: L\n    where: {role: db}\n    sql: {dialect: sqlite, statement: " +
			"select 1, database: d}\n" + closing, "goes with from: here"},
		"a user of a file": {head + "  - look: L\n    from: here\n    sql: {dialect: sqlite, statement: select 1, " +
			"database: d, user: u}\n" + closing, "SQLite is a file and has no user"},
		"a look that writes a file": {head + "  - look: L\n    where: {role: db}\n    sql: {dialect: mysql, statement: " +
			"select 1 into outfile '/tmp/x', database: d, user: u}\n" + closing, "into outfile, into dumpfile and /*! do"},
		"one branch": {head + "  - together: T\n    branches: {a: [{note: N, text: " +
			"t}]}\n" + closing, "a together needs at least two branches"},
		"over no list": {head + "  - each: E\n    over: inputs.low\n    steps: [{note: N, text: " +
			"t}]\n" + closing, "over must be a list, this is integer"},
		"over and where": {head + "  - each: E\n    steps: [{note: N, text: t}]\n" + closing,
			"an each needs over: LIST, or where: {LABEL: VALUE} for targets"},
		"a name that is taken": {head + "  - each: E\n    over: \"[1]\"\n    named: target\n    steps: " +
			"[{note: N, text: t}]\n" + closing, "named must be a name of its own"},
		"at once of nothing": {head + "  - each: E\n    over: \"[1]\"\n    at_once: 0\n    steps: [{note: " +
			"N, text: t}]\n" + closing, "at_once must be a number such as 4, or a share such as 25%"},
		"a part that calls itself": {"parts:\n  a:\n    steps:\n      - call: b\n  b:\n    steps:\n      - " +
			"call: a\n" + head + "  - call: a\n" + closing, "would call itself: a → b → a"},
		"a part's input": {"parts:\n  a:\n    inputs: {n: {type: integer}}\n    steps:\n      - note: " +
			"N\n        text: \"{{ inputs.n }}\"\n" + head + "  - call: a\n" + closing, "the call does not give a " +
			"the input n, which has no default"},
		"a part's other input": {"parts:\n  a:\n    inputs: {size: {type: integer, default: 1}}\n    " +
			"steps:\n      - note: N\n        text: \"{{ inputs.size }}\"\n" + head + "  - call: a\n    inputs: " +
			"{siz: \"1\"}\n" + closing, "a has no input siz; did you mean size?"},
		"a result nobody takes": {"parts:\n  a:\n    steps:\n      - note: N\n        text: t\n    " +
			"results:\n      n: {value: \"{{ max(readings.x) }}\"}\n" + head + "  - call: a\n" + closing,
			"there is no x there"},
		"a misspelt result": {"parts:\n  a:\n    steps:\n      - note: N\n        text: t\n    " +
			"results:\n      size: {value: \"1\", type: integer}\n" + head + "  - call: a\n    id: c\n  - note: N\n " +
			"   text: \"{{ calls.c.results.siz }}\"\n" + closing, "there is no siz there"},
		"filled in script": {head + "  - look: L\n    where: {role: consumer}\n    script: echo {{ " +
			"inputs.queue }}\n" + closing, "a script is never filled in: hand values over as its arguments"},
		"filled in statement": {head + "  - look: L\n    where: {role: db}\n    sql: {statement: \"select " +
			"{{ inputs.low }}\", database: d, user: u}\n" + closing, "a statement is never filled in: write $1 and " +
			"give with"},
		"a name out of the blue": {head + "  - look: L\n    where: {role: db}\n    sql: {statement: \"select " +
			"* from [[t]]\", database: d, user: u}\n" + closing, "the statement has [[t]], which names does not give"},
		"a statement that writes": {head + "  - look: L\n    where: {role: db}\n    sql: {statement: \"delete " +
			"from x\", database: d, user: u}\n" + closing, "a look only reads: DELETE does more than that; if it " +
			"only reads, say so: only_reads: \"why\""},
		"a look that is none": {head + "  - look: L\n    where: {role: db}\n    run: [rm, -rf, " +
			"/tmp/x]\n" + closing, "a reader would not call rm a look: make it a change"},
		"an interpreter alone": {head + "  - look: L\n    where: {role: db}\n    run: [x]\n    interpreter: " +
			"bash\n" + closing, "interpreter goes with script"},
		"two ways": {head + "  - look: L\n    where: {role: db}\n    run: [x]\n    port: " +
			"22\n" + closing, "x.yaml:13:11: error: run and port are two ways of doing: a step has one"},
		"plain with env": {head + "  - look: L\n    where: {role: db}\n    words: plain\n    run: " +
			"[x]\n    env: {A: b}\n" + closing, "a device with plain words has no shell: env, script and as do not " +
			"go with it"},
		"a secret in a word": {head + "  - look: L\n    where: {role: db}\n    run: [x, \"{{ secrets.key " +
			"}}\"]\n" + closing, "secrets may stand only in env, headers and the password of a database"},
		"a sealed reading in a word": {head + "  - look: L\n    where: {role: db}\n    run: [x]\n    read: {tok: " +
			"{whole: true, sealed: true}}\n  - note: N\n    text: \"{{ first(readings.tok) " +
			"}}\"\n" + closing, "reading tok is sealed: it may stand only where secrets may, in env and headers"},
		"no bound": {head + "  - change: B\n    gate: {ask: team/x}\n    steps:\n      - look: " +
			"L\n        where: {name: a}\n        run: [x]\n        read: {n: {whole: true}}\n      - change: C\n   " +
			"     where: {name: a}\n        run: [y, \"{{ own(readings.n) }}\"]\n" + closing,
			"{{ own(readings.n) }} is not known yet when the gate around stands: give it a bound, as in within(…, " +
				"'[0-9]+')"},
		"first in a change": {head + tail + "  - change: C\n    where: {role: consumer}\n    run: [x, " +
			"\"{{ first(readings.depth) }}\"]\n" + closing, "warning: first() takes the value of whichever target " +
			"comes first by name; did you mean own?"},
		"a block that does": {head + "  - change: C\n    where: {role: consumer}\n    run: [x]\n    " +
			"steps: [{note: N, text: t}]\n" + closing, "a change with steps is a block: what is done stands in its " +
			"steps"},
		"a step nobody reaches": {head + closing + "  - note: N\n    text: t\n", "x.yaml:12:5: warning: " +
			"nobody reaches this step: every path ends before it"},
		"two conditions": {head + tail + "  - check: C\n    that: max(readings.depth) > 1\n    " +
			"agrees: {reading: depth, known: k}\n" + closing, "a check needs that: CONDITION, or agrees, or fits"},
		"agrees with a misspelt": {head + tail + "  - check: C\n    agrees: {reading: dept, known: " +
			"k}\n" + closing, "no look takes the reading dept; did you mean depth?"},
		"a schema that is none": {head + tail + "  - check: C\n    fits: {reading: depth, schema: {type: " +
			"nonsense}}\n" + closing, "this is not a JSON Schema"},
		"a rate that is none": {"starts: {s: {alert: alert.severity == \"major\", at_most: " +
			"often}}\n" + head + tail + closing, "at_most must be a number per a time, as in 3 per 1h"},
		"a rate over a month": {"starts: {s: {alert: alert.severity == \"major\", at_most: 3 per " +
			"30d}}\n" + head + tail + closing, "at_most counts over a time such as 10m, 1h or 1d, and over 7d at most"},
		"steady for a week": {"starts: {s: {alert: alert.severity == \"major\", steady: " +
			"7d}}\n" + head + tail + closing, "steady may be a day at most"},
		"a start's misspelt key": {"starts: {s: {alert: alert.severity == \"major\", stedy: " +
			"7s}}\n" + head + tail + closing, "a start has no key stedy; did you mean steady?"},
		"one at a time by a reading": {"limits: {one_at_a_time: max(readings.depth)}\n" + head + tail + closing,
			"one_at_a_time is asked before the first step: it can use inputs and the alert only"},
		"a word that is none": {head + "  - check: C\n    that: 1 == 1\n    fails: " +
			"undoo\n" + closing, "fails must be a list of steps, or one of: go on, stop, undo, hand_over; did you " +
			"mean undo?"},
		"a table of nothing": {head + "  - look: L\n    where: {role: db}\n    run: [x]\n    read: {n: " +
			"{table: {colum: A}}}\n" + closing, "table has no key colum; did you mean column?"},
		"an exit that is text": {head + "  - look: L\n    where: {role: db}\n    run: [x]\n    read: {n: " +
			"{exit: true}}\n" + closing, "reading n is an exit: its type is integer"},
		"a file filled in": {head + "  - change: C\n    where: {role: db}\n    send: {to: /x, text: " +
			"\"{{ inputs.queue }}\"}\n" + closing, "the text of a file is never filled in; use json for values"},
		"accepts nonsense": {head + "  - change: C\n    where: {role: db}\n    run: [x]\n    accept: " +
			"[lost]\n" + closing, "accept lists exits or statuses, or connection-lost"},
		"a call used before it is": {head + "  - note: N\n    text: \"{{ calls.c.state }}\"\n  - call: other\n  " +
			"  id: c\n" + closing, "call c is used before it is made"},
		"an answer used before it is": {head + "  - note: N\n    text: \"{{ answers.a.choice }}\"\n  - ask: A\n    " +
			"id: a\n    choices: {x: go on}\n" + closing, "answer a is used before it is made"},
		"two people too many": {head + "  - change: C\n    where: {role: db}\n    run: [x]\n    gate: " +
			"{people: 9}\n" + closing, "people must be from 1 to 5"},
		"whoever approves is written": {head + "  - change: C\n    where: {role: db}\n    run: [x]\n    gate: " +
			"{ask: \"{{ alert.summary }}\"}\n" + closing, "ask must be team/NAME or on-call/NAME, written out"},
		"now in a block's gated words": {head + "  - change: C\n    where: {role: db}\n    run: [x, \"{{ " +
			"string(now) }}\"]\n" + closing, "now cannot stand in a change: what was approved must be what runs"},
	} {
		t.Run(name, func(t *testing.T) {
			assert.Contains(t, find(t, c.src), c.want)
		})
	}
}

// schemas are the JSON Schema for editors, in two validators that know nothing of each other.
var schemas = sync.OnceValues(func() (*jsonschema.Schema, *other.Resolved) {
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(Schema()))
	if err != nil {
		panic(err)
	}
	c := jsonschema.NewCompiler()
	if err := c.AddResource("urgentis:runbook", doc); err != nil {
		panic(err)
	}
	var second other.Schema
	if err := json.Unmarshal(Schema(), &second); err != nil {
		panic(err)
	}
	resolved, err := second.Resolve(nil)
	if err != nil {
		panic(err)
	}
	return c.MustCompile("urgentis:runbook"), resolved
})

// fitsSchema reports whether a text fits the JSON Schema; both validators must say the same. ok is false for a text
// that is no YAML mapping.
func fitsSchema(t *testing.T, text string) (fits, ok bool) {
	var v any
	if yaml.Unmarshal([]byte(text), &v) != nil {
		return false, false
	}
	j, err := json.Marshal(v)
	if err != nil {
		return false, false
	}
	inst, err := jsonschema.UnmarshalJSON(bytes.NewReader(j))
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(j, &v))
	one, two := schemas()
	first, second := one.Validate(inst), two.Validate(v)
	assert.Equal(t, first == nil, second == nil, "the validators part: %v / %v\n%s", first, second, text)
	return first == nil, true
}

// TestTheSchemaTakesWhatTheCheckerTakes holds every sound runbook against the JSON Schema for editors.
func TestTheSchemaTakesWhatTheCheckerTakes(t *testing.T) {
	files := shipped(t)
	docs, err := os.ReadFile("../../docs/runbook-language.md")
	require.NoError(t, err)
	var texts []string
	for _, m := range fenced.FindAllSubmatch(docs, -1) {
		texts = append(texts, string(m[1]))
	}
	for _, f := range files {
		b, err := os.ReadFile(f)
		require.NoError(t, err)
		texts = append(texts, string(b))
	}
	for i, text := range texts {
		fits, ok := fitsSchema(t, text)
		assert.True(t, ok && fits, "text %d", i)
	}
	fits, _ := fitsSchema(
		t,
		`{"urgentis":"runbook/1","name":"x","title":"X","owner":"o","service":"s","steps":[{"look":"L","rum":["x"]}]}`,
	)
	assert.False(t, fits, "an unknown key of a step is found by editors too")
}

// An author says that a change cannot be undone, what is lost by it, and what the cause was; what is not said is no
// claim, and where nothing is said a warning asks for it.
func TestWhatIsLostIsStated(t *testing.T) {
	text := func(keys string) string {
		return "urgentis: runbook/1\nname: a\ntitle: A\nowner: o\nservice: s\nsteps:\n  - change: Step it\n    where: {role: x}\n" +
			"    run: [clockctl, step]\n" + keys + "  - close: repaired\n    because: x\n    cause: A wrong time.\n"
	}
	for _, c := range []struct{ keys, cannot, warning string }{
		{"", "no undo in this runbook", "“Step it” has no undo and does not say what is lost"},
		{"    undo: none\n", "it cannot be undone", "“Step it” has no undo and does not say what is lost"},
		{"    loses: Time jumps.\n", "no undo in this runbook", ""},
		{"    undo: none\n    loses: Time jumps.\n", "it cannot be undone", ""},
		{"    undo: {run: [clockctl, back]}\n", "", ""},
	} {
		b, found := Parse([]byte(text(c.keys)))
		require.False(t, found.Failed(), found)
		assert.Equal(t, c.cannot, b.Headline(b.Steps[0], Extent{Targets: []string{"c1"}, Of: 1}).Cannot, c.keys)
		unstated := b.Unstated()
		if c.warning == "" {
			assert.Empty(t, unstated, c.keys)
		} else {
			require.Len(t, unstated, 1)
			assert.True(t, unstated[0].Warning)
			assert.Contains(t, unstated[0].Message, c.warning)
		}
		assert.Equal(t, "A wrong time.", b.Steps[1].Cause.Source)
	}
	_, found := Parse([]byte(text("    loses: \"{{ inputs.x }}\"\n")))
	assert.Contains(t, found.Format("x", nil), "one line of plain text")
	_, found = Parse([]byte(text("    undo: nothing\n")))
	assert.True(t, found.Failed())
}
