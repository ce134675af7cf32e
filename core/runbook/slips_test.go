package runbook

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// first is a first runbook, of which nothing is to be said.
const first = `urgentis: runbook/1
name: queue-backlog
title: The queue is deep
owner: quayside
service: berths
inputs:
  queue: {type: text, default: north, pattern: '^[a-z]{1,20}$'}
  low: {type: integer, default: 200}
steps:
  - look: How deep is it?
    id: depth
    where: {role: consumer}
    run: [berthq, depth, --queue, "{{ inputs.queue }}"]
    read:
      depth: {json: .depth, type: integer}
      stuck: {json: .stuck, type: text}
  - check: Is it deep?
    that: max(readings.depth) > inputs.low
    fails:
      - close: false-alarm
        because: It is not deep.
  - change: Park the message
    id: park
    where: {role: consumer}
    run: [berthq, park]
    still: max(readings.depth) > inputs.low
    gate: {ask: team/quayside, within: 20m}
    undo: {run: [berthq, unpark]}
  - check: Does it drain?
    retake: depth
    again: {every: 2s, for: 5m}
    that: max(readings.depth) < inputs.low
    proves: park
  - close: repaired
    because: It drains again.
`

// slips are what goes wrong in a first runbook, each with all that is said of it: one message, where it is.
var slips = []struct{ what, from, to, said string }{
	{"braces unquoted", `because: It drains again.`, `because: {{ inputs.queue }} drains again.`,
		`35:14: a text that begins with {{ stands in quotes: "{{ inputs.queue }} drains again."`},
	{"braces unquoted alone", `because: It drains again.`, `because: {{ inputs.queue }}`,
		`35:14: a text that begins with {{ stands in quotes: "{{ inputs.queue }}"`},
	{"braces unquoted in a list", `"{{ inputs.queue }}"]`, `{{ inputs.queue }}]`,
		`13:35: a text that begins with {{ stands in quotes: "{{ inputs.queue }}"`},
	{"colon in a title", `title: The queue is deep`, `title: Queue: it is deep`,
		`3:8: the text holds a colon: put it in quotes, as in title: "Queue: it is deep"`},
	{"colon in a step's title", `- look: How deep is it?`, `- look: Depth: how deep is it?`,
		`10:11: the text holds a colon: put it in quotes, as in look: "Depth: how deep is it?"`},
	{
		"a tab",
		"    where: {role: consumer}\n    run: [berthq, park]",
		"\twhere: {role: consumer}\n    run: [berthq, park]",
		`24:1: this line begins with a tab: a runbook is indented with spaces`,
	},
	{"one space too few", "    id: park", "   id: park",
		`23:4: id stands one space too far to the left: the keys of a step stand under one another`},
	{"one space too many", "    id: park", "     id: park",
		`23:6: id stands one space too far to the right: the keys of a step stand under one another`},
	{"an unclosed quote", `"{{ inputs.queue }}"]`, `"{{ inputs.queue }}]`,
		`13:35: this quote is not closed`},
	{"an unclosed quote in a text", `because: It drains again.`, `because: "It drains again.`,
		`35:14: this quote is not closed`},
	{"run as text", `run: [berthq, park]`, `run: berthq park`,
		`25:10: run is a list of words, as in run: [berthq, park]; a line of a shell stands in script`},
	{"a default of the wrong type", `default: 200`, `default: many`,
		`8:33: the default does not fit the input: low: "many" is not a whole number`},
	{"two ways", "    run: [berthq, park]", "    run: [berthq, park]\n    script: echo",
		`26:13: run and script are two ways of doing: a step has one`},
	{"a duplicate id", "id: park", "id: depth",
		`23:9: the step in line 10 has the id depth already`},
	{"proves misspelt", "proves: park", "proves: parc",
		`33:5: proves names no change: there is none with the id parc; did you mean park?`},
	{"= for ==", `that: max(readings.depth) > inputs.low`, `that: max(readings.depth) = inputs.low`,
		`18:31: = compares nothing: write ==`},
	{"a series compared", `that: max(readings.depth) > inputs.low`, `that: readings.depth > inputs.low`,
		`18:11: readings.depth has a value of each target: say which one counts, as in max(readings.depth) or min(readings.depth)`},
	{
		"a series for a list",
		"  - close: repaired",
		"  - each: Host\n    over: readings.stuck\n    steps: [{note: N, text: t}]\n  - close: repaired",
		`35:11: over must be a list: samples(readings.stuck) has the value of each target with its target, values(readings.stuck) the values alone`,
	},
	{"an unknown type", `depth: {json: .depth, type: integer}`, `depth: {json: .depth, type: int}`,
		`15:35: there is no type int; the types are text, integer, number, boolean, json; did you mean integer?`},
	{"an unknown type of an input", `low: {type: integer, default: 200}`, `low: {type: float, default: 200}`,
		`8:15: there is no type float; the types are text, integer, number, boolean, json`},
	{"a program's braces", `run: [berthq, park]`, `run: [berthq, park, --format, "{{.Name}}"]`,
		`25:39: {{ }} holds an expression; braces for another program are written {{ '{{' }} and {{ '}}' }}`},
	{"a script that is filled in", `run: [berthq, park]`, `script: berthq park {{ inputs.queue }}`,
		`25:13: a script is never filled in: hand values over as its arguments, as in args: ["{{ inputs.queue }}"], where the script has $1`},
	{"a key in the wrong place", "    retake: depth\n", "    retake: depth\n    gate: {ask: team/quayside}\n",
		`31:5: a check has no key gate`},
	{"an unclosed bracket", `run: [berthq, park]`, `run: [berthq, park`,
		`25:10: this [ is not closed by ]`},
	{"an unclosed brace", `gate: {ask: team/quayside, within: 20m}`, `gate: {ask: team/quayside, within: 20m`,
		`27:11: this { is not closed by }`},
	{"no space after a colon", "    id: park", "    id:park",
		`23:5: a space is missing after the colon: id: park`},
	{"a dash without a space", "  - close: repaired", "  -close: repaired",
		`34:3: a space is missing after the dash: - close: repaired`},
	{"single braces", `"{{ inputs.queue }}"]`, `"{ inputs.queue }"]`,
		`13:35: warning: { inputs.queue } stands as it is: a value is filled in by {{ inputs.queue }}`},
	{"no end of a hole", `"{{ inputs.queue }}"]`, `"{{ inputs.queue "]`,
		`13:36: this {{ is not closed by }}`},
	{"a misspelt input", `"{{ inputs.queue }}"]`, `"{{ inputs.qeue }}"]`,
		`13:45: there is no qeue there; did you mean queue?`},
	{"a bare name", `that: max(readings.depth) > inputs.low`, `that: max(depth) > low`,
		`18:15: there is no depth here; did you mean readings.depth?`},
	{"a function that is none", `that: max(readings.depth) > inputs.low`, `that: maximum(readings.depth) > inputs.low`,
		`18:18: there is no function maximum; did you mean max?`},
	{"and for &&", `that: max(readings.depth) > inputs.low`, `that: max(readings.depth) > inputs.low and true`,
		`18:44: write && for and`},
	{"single & ", `that: max(readings.depth) > inputs.low`, `that: max(readings.depth) > inputs.low & true`,
		`18:44: write && for and`},
	{"not for !", `that: max(readings.depth) > inputs.low`, `that: not (max(readings.depth) > inputs.low)`,
		`18:15: write ! for not`},
	{"text compared with a number", `that: max(readings.depth) > inputs.low`, `that: max(readings.depth) > "200"`,
		`18:31: integer > text: these types do not go together; a number stands without quotes: 200`},
	{"a condition that is text", `that: max(readings.depth) > inputs.low`, `that: deep`,
		`18:11: there is no deep here`},
	{"a parenthesis too few", `that: max(readings.depth) > inputs.low`, `that: max(readings.depth > inputs.low`,
		`18:14: this ( is not closed`},
	{"jq without a dot", `depth: {json: .depth, type: integer}`, `depth: {json: depth, type: integer}`,
		`15:21: this is not a jq expression: function not defined: depth/0; did you mean .depth?`},
	{"retake of a reading", `retake: depth`, `retake: stuck`,
		`30:5: retake names a look by its id: stuck is taken by the look depth`},
	{"a time without a unit", `within: 20m`, `within: 20`,
		`27:40: within must be a time such as 30s, 5m, 2h or 1d, not "20"`},
	{"who without team", `ask: team/quayside`, `ask: quayside`,
		`27:17: ask must be team/NAME or on-call/NAME, written out; did you mean team/quayside?`},
	{"steps as a mapping", "  - close: repaired\n    because: It drains again.\n", "  close: repaired\n",
		`34:3: every step begins with a dash: - close: repaired`},
	{"no steps", first[len("urgentis: runbook/1"):], "\nname: x\ntitle: X\nowner: o\nservice: s\n",
		`1:1: the runbook has no steps`},
	{"another header", "urgentis: runbook/1", "urgentis: 1",
		`1:11: urgentis must be runbook/1, not 1`},
	{"a name with spaces", "name: queue-backlog", "name: Queue Backlog",
		`2:7: name must be small letters, digits and hyphens, and begin with a letter; did you mean queue-backlog?`},
	{"an id with a hyphen", "id: park", "id: park-it",
		`23:9: an id must be small letters, digits and _, and begin with a letter; did you mean park_it?`},
	{"a verb misspelt", "- change: Park", "- chnage: Park",
		`22:5: this step has no verb; it needs one of look, check, ask, change, wait, tell, note, call, each, together, undo_change, close, hand_over; did you mean change?`},
	{"yes for true", "    undo: {run: [berthq, unpark]}", "    undo: {run: [berthq, unpark]}\n    repeatable: yes",
		`29:17: repeatable must be true or false, not yes`},
	{
		"where as text",
		"    where: {role: consumer}\n    run: [berthq, park]",
		"    where: consumer\n    run: [berthq, park]",
		`24:12: where selects targets by their labels or by name, as in where: {role: consumer} or where: {name: consumer}`,
	},
	{"an outcome misspelt", "close: repaired", "close: fixed",
		`34:12: close needs an outcome: repaired, repaired-by-hand, mitigated, false-alarm, cleared-itself, not-repaired`},
	{"read without a form", "depth: {json: .depth, type: integer}", "depth: integer",
		`15:14: say where depth stands in the output, as in depth: {json: .depth, type: integer}`},
	{"because missing", "    because: It drains again.\n", "",
		`34:5: close needs because: the record says why`},
	{"an outside value as program", "run: [berthq, park]", "run: [sh, -c, \"park {{ readings.stuck }}\"]",
		`25:27: a whole reading has no text; say which value is meant, as in own(…) or max(…)`},
	{"a reading whole", "because: It drains again.", "because: \"It holds {{ readings.depth }}.\"",
		`35:26: a whole reading has no text; say which value is meant, as in own(…) or max(…)`},
	{"for without every", "again: {every: 2s, for: 5m}", "again: {for: 5m}",
		`31:13: again needs every, as in again: {every: 10s, for: 5m}`},
}

func TestOneSlipOneMessage(t *testing.T) {
	_, f := Parse([]byte(first))
	require.Empty(t, f.Format("x.yaml", []byte(first)))
	assert.GreaterOrEqual(t, len(slips), 40)
	for _, s := range slips {
		t.Run(s.what, func(t *testing.T) {
			require.Contains(t, first, s.from)
			_, f := Parse([]byte(strings.Replace(first, s.from, s.to, 1)))
			var said []string
			for _, x := range f {
				at := fmt.Sprintf("%d:%d: ", x.Line, x.Column)
				if x.Warning {
					at += "warning: "
				}
				said = append(said, at+x.Sentence())
			}
			assert.Equal(t, s.said, strings.Join(said, "\n"))
		})
	}
}
