package runbook

import (
	"os"
	"strings"
	"testing"

	"urgentis/core/doc"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const head = `urgentis: runbook/1
name: x
title: X
owner: quayside
service: berth-queue
inputs:
  queue: {type: text, pattern: '^[a-z][a-z-]{0,39}$'}
  low: {type: integer, default: 200, min: 0, max: 1000}
steps:
`

const tail = `
  - look: Depth
    id: depth
    where: {role: consumer}
    run: [berthq, depth]
    read: {depth: {json: .depth, type: integer}}
`

func find(t *testing.T, src string) string {
	_, f := Parse([]byte(src))
	if fits, ok := fitsSchema(t, src); ok && !fits {
		// What an editor marks the checker refuses too.
		assert.True(t, f.Failed(), src)
	}
	return f.Format("x.yaml", []byte(src))
}

func TestTheExampleIsSound(t *testing.T) {
	src, err := os.ReadFile("../../examples/ferry/runbooks/berth-queue-backlog.yaml")
	require.NoError(t, err)
	b, f := Parse(src)
	assert.Empty(t, f)
	require.NotNil(t, b)
	assert.Len(t, b.All(), 11)
	assert.Equal(t, "6", b.ByID("draining").Path)
	assert.Equal(t, "6.passes.2", b.ByID("draining").Passes.Steps[1].Path)
	assert.Equal(t, "depth", b.Takes("stuck").ID)
}

func TestFindings(t *testing.T) {
	for name, c := range map[string]struct{ src, want string }{
		"unknown key": {head + tail + "  - check: Deep?\n    taht: max(readings.depth) > 1\n",
			"x.yaml:17:5: error: a check has no key taht; did you mean that?\n    17 |     taht: " +
				"max(readings.depth) > 1\n       |     ^\n"},
		"a tell to nobody": {head + "  - tell: A\n    to: [ticket, mara]\n", "x.yaml:11:18: error: \"mara\" is nobody: " +
			"write team/NAME, on-call/NAME, person/NAME, room/NAME, connection/NAME, ticket or ticket/openly\n" +
			"    11 |     to: [ticket, mara]\n       |                  ^\n"},
		"two verbs": {head + "  - look: A\n    check: B\n", "x.yaml:11:5: error: this step has two verbs, " +
			"look and check\n"},
		"no verb": {head + "  - lok: A\n", "x.yaml:10:5: error: this step has no verb; it needs one of " +
			"look, check, ask, change, wait, tell, note, call, each, together, undo_change, close, hand_over; did you mean look?\n"},
		"misspelt reading": {head + tail + "  - check: Deep?\n    that: max(readings.dept) > " +
			"1\n", "x.yaml:17:23: error: there is no dept there; did you mean depth?\n"},
		"misspelt in text": {head + tail + "  - note: N\n    text: \"a {{ inputs.quue }}\"\n", "x.yaml:17:23: " +
			"error: there is no quue there; did you mean queue?\n"},
		"wrong type": {head + tail + "  - check: Deep?\n    that: max(readings.depth) > " +
			"'x'\n", "these types do not go together"},
		"not a condition": {head + tail + "  - check: Deep?\n    that: max(readings.depth)\n", "that must be " +
			"true or false, this is integer"},
		"before it is taken": {head + "  - check: Deep?\n    that: max(readings.depth) > 1\n" + tail, "reading " +
			"depth is used before any path takes it"},
		"retake of nothing": {head + tail + "  - check: D\n    retake: dept\n    that: max(readings.depth) > " +
			"1\n", "retake names no look: there is none with the id dept; did you mean depth?"},
		"nothing proves": {head + tail + "  - change: C\n    where: {role: consumer}\n    run: [berthq, park]\n " +
			" - close: repaired\n    because: b\n", "x.yaml:16:5: warning: nothing proves this change"},
		"takes back nothing": {head + tail + "  - undo_change: B\n    of: dept\n", "of names no change, each or together: " +
			"there is none with the id dept"},
		"takes back a look": {head + tail + "  - undo_change: B\n    of: depth\n", "of names no change"},
		"takes back itself": {head + tail + "  - undo_change: B\n", "an undo_change needs of"},
		"takes back what comes": {head + "  - undo_change: B\n    of: c\n  - change: C\n    id: c\n    where: {role: a}\n" +
			"    run: [a]\n    undo: {run: [b]}\n", "c does not stand before this step"},
		"takes back for good": {head + "  - change: C\n    id: c\n    where: {role: a}\n    run: [a]\n" +
			"  - undo_change: B\n    of: c\n", `the change "C" has no undo`},
		"takes back one of many": {head + "  - each: E\n    where: {role: a}\n    steps:\n      - change: C\n" +
			"        id: c\n        run: [a]\n        undo: {run: [b]}\n  - undo_change: B\n    of: c\n",
			"c stands inside an each or a together: undo all of that"},
		"open end":        {head + tail, "warning: a path ends here without close or hand_over"},
		"said twice":      {head + tail + "name: y\n", "error: name is said twice"},
		"tag":             {head + "  - check: A\n    that: !inputs.low\n", "YAML tags are refused"},
		"alias":           {head + "  - note: &a x\n    text: *a\n", "YAML anchors are refused"},
		"merge":           {"a: {b: 1}\n<<: {c: 1}\n", "YAML merges are refused"},
		"empty condition": {head + "  - check: A\n    that:\n", "that has no value"},
		"cut title": {head + "  - look: Depth # of all\n    where: {role: a}\n    run: " +
			"[a]\n", "warning: the title ends before the #"},
		"program from outside": {head + "  - look: A\n    where: {role: a}\n    run: ['{{ inputs.queue }}']\n",
			"the program must be written out"},
		"program text": {head + "  - look: A\n    where: {role: a}\n    run: [sudo, -n, /bin/bash, -lc, 'echo {{ " +
			"alert.summary }}']\n",
			"bash would read this as program text"},
		"wrapped program": {head + "  - look: A\n    where: {role: a}\n    run: [timeout, 5s, '{{ alert.summary " +
			"}}']\n", "the program must be written out"},
		"awk": {head + "  - look: A\n    where: {role: a}\n    run: [awk, '{{ alert.summary " +
			"}}']\n", "awk would read this as program text"},
		"look that writes": {head + "  - look: A\n    http: {method: POST, url: 'http://a/'}\n", "a look only reads"},
		"host from alert": {head + "  - look: A\n    http: {url: 'http://{{ alert.labels.host " +
			"}}/'}\n", "the host of a url must be written out"},
		"now in a change": {head + "  - change: A\n    where: {role: a}\n    run: [a, '{{ now " +
			"}}']\n", "now cannot stand in a change"},
		"no target": {head + "  - look: A\n    run: [a]\n", "where does this run?"},
		"again without end": {head + tail + "  - check: A\n    retake: depth\n    that: max(readings.depth) > 1\n   " +
			" again: {every: 1s}\n", "again needs an end"},
		"again alone": {head + tail + "  - check: A\n    that: max(readings.depth) > 1\n    again: {every: " +
			"1s, for: 1m}\n", "again needs retake"},
		"bad outcome": {head + tail + "  - close: repared\n    because: b\n", "did you mean repaired?"},
		"who approves": {head + "  - change: A\n    where: {role: a}\n    run: [a]\n    gate: {ask: '{{ " +
			"alert.summary }}'}\n", "ask must be team/NAME or on-call/NAME, written out"},
		"bad duration": {head + "  - look: A\n    where: {role: a}\n    run: [a]\n    timeout: " +
			"soon\n", `timeout must be a time such as 30s, 5m, 2h or 1d, not "soon"`},
		"bad default": {strings.Replace(head, "default: 200", "default: 2000", 1) + tail, "the default does " +
			"not fit the input: low: 2000 is above 1000"},
		"missing header": {"name: x\n", "the runbook has no urgentis"},
		"broken YAML":    {"a: [1\n", "this [ is not closed by ]"},
		"empty":          {"", "the file is empty"},
		"whole reading": {head + tail + "  - note: N\n    text: '{{ readings.depth }}'\n",
			"a whole reading has no text"},
		"start lacks input": {strings.Replace(head, "steps:", "starts:\n  s:\n    alert: alert.severity == "+
			"'major'\nsteps:", 1) + tail, "start s does not say input queue, which has no default"},
		"start on a state": {strings.Replace(head, "steps:", "starts:\n  s:\n    alert: alert.state == "+
			"'cleared'\nsteps:", 1) + tail, "alert.state says nothing here"},
		"start on a count": {strings.Replace(head, "steps:", "starts:\n  s:\n    alert: alert.count >= "+
			"5\nsteps:", 1) + tail, "it cannot wait for a number of reports"},
	} {
		t.Run(name, func(t *testing.T) { assert.Contains(t, find(t, c.src), c.want) })
	}
}

func TestWordsAreTakenAsWritten(t *testing.T) {
	b, f := Parse(
		[]byte(
			head + "  - look: A\n    where: {role: a}\n    run: [install, -m, 0644, 1.10, true, null, 0x1F, 1_000]\n",
		),
	)
	require.False(t, f.Failed(), f)
	var words []string
	for _, w := range b.Steps[0].Do.Run {
		words = append(words, w.Source)
	}
	assert.Equal(t, []string{"install", "-m", "0644", "1.10", "true", "null", "0x1F", "1_000"}, words)
}

func TestInputs(t *testing.T) {
	b, f := Parse([]byte(head + tail))
	require.False(t, f.Failed())
	got, err := b.AcceptAll(map[string]any{"queue": "north-quay"})
	require.NoError(t, err)
	assert.Equal(t, map[string]any{"queue": "north-quay", "low": int64(200)}, got)
	for want, given := range map[string]map[string]any{
		"input queue is missing":                      {},
		"does not match the pattern":                  {"queue": `x; rm -rf / #{{ "$(reboot)" }}`},
		"input low: 1001 is above 1000":               {"queue": "a", "low": 1001},
		"input queue: it holds the NUL character":     {"queue": "a\x00b"},
		`"lots" is not a whole number`:                {"queue": "a", "low": "lots"},
		"there is no input quue; did you mean queue?": {"queue": "a", "quue": "b"},
	} {
		_, err := b.AcceptAll(given)
		assert.ErrorContains(t, err, want)
	}
}

func TestDurations(t *testing.T) {
	for _, bad := range []string{"", "0s", "-5m", "5", "x", "d", "1.5d", "99999d", "1dd"} {
		_, err := doc.ParseDuration(bad)
		assert.Error(t, err, bad)
	}
	d, err := doc.ParseDuration("1d2h")
	require.NoError(t, err)
	assert.Equal(t, 26.0, d.Hours())
}

func FuzzParse(f *testing.F) {
	src, _ := os.ReadFile("../../examples/ferry/runbooks/berth-queue-backlog.yaml")
	f.Add(string(src))
	f.Add(head + tail)
	f.Add("a: !x &b *c\n<<: d")
	f.Add("- [{")
	f.Fuzz(func(t *testing.T, src string) {
		b, found := Parse([]byte(src))
		if (b == nil) != found.Failed() {
			t.Fatalf("book and findings disagree: %v", found)
		}
		_ = found.Format("x", []byte(src))
	})
}
