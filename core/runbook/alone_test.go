package runbook

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Every change that ships can be tried alone, where it stands among the steps, in an each or in a block: what comes out
// is a sound runbook with that one change, its gate, its undo and its proof.
func TestEveryChangeThatShipsCanBeTriedAlone(t *testing.T) {
	tried := 0
	for _, pattern := range []string{"../../examples/ferry/runbooks/*.yaml", "../../library/*.yaml"} {
		files, err := filepath.Glob(pattern)
		require.NoError(t, err)
		require.NotEmpty(t, files)
		for _, f := range files {
			if strings.HasSuffix(f, ".cases.yaml") {
				continue
			}
			src, err := os.ReadFile(f)
			require.NoError(t, err)
			b, findings := Parse(src)
			require.NotNil(t, b, "%s: %v", f, findings)
			for _, s := range b.All() {
				if s.Verb != Change || s.Do == nil {
					continue
				}
				text, err := b.Alone(s)
				if err != nil {
					assert.Regexp(t, "stands in a branch|rests on", err.Error(), f)
					continue
				}
				tried++
				only, findings := Parse(text)
				require.False(t, findings.Failed(), "%s %s: %s\n%s", f, s.Path, findings.Format(f, text), text)
				assert.Equal(t, 1, only.ChangesMade(), "%s", text)
				assert.Equal(t, "Only: "+s.Title, only.Title)
				assert.Empty(t, only.Starts)
				for _, c := range only.All() {
					if c.Verb == Change && c.Do != nil {
						assert.NotEmpty(t, only.GatesAround(c), "%s %s has no gate\n%s", f, s.Path, text)
					}
				}
				if s.ID != "" && len(b.proofs(s)) > 0 && !strings.Contains(s.Path, "choices") {
					assert.NotEmpty(t, only.proofs(only.ByID(s.ID)), "%s %s\n%s", f, s.Path, text)
				}
			}
		}
	}
	assert.Greater(t, tried, 20)
}

const twoChanges = `urgentis: runbook/1
name: n
title: T
owner: o
service: s
starts:
  x: {alert: "true"}
inputs: {low: {type: integer, default: 5}}
steps:
  - {look: Days, id: days, where: {role: gate}, run: [days], read: {days: {json: .days, type: integer}}}
  - {look: Other, id: other, where: {role: gate}, run: [other], read: {other: {json: .n, type: integer}}}
  - check: Enough?
    that: min(readings.other) > 3
    passes: [{close: false-alarm, because: It is well.}]
    fails: go on
  - each: Every gate
    where: {role: gate}
    gate: {ask: team/o, within: 0644s, refused: [{note: N, text: No.}]}
    on_error: undo
    steps:
      - change: Renew
        id: renew
        run: [renew, 0644]
        still: own(readings.days) < 14
        undo: {run: [back]}
      - {change: Reload, id: reload, run: [reload]}
      - check: Renewed
        retake: days
        that: own(readings.days) > 14
        proves: renew
        fails: [{tell: T, text: It is not.}]
  - {close: repaired, because: All are renewed.}
`

func TestOneChangeAlone(t *testing.T) {
	src := strings.Replace(twoChanges, "0644s", "10m", 1)
	b, f := Parse([]byte(src))
	require.False(t, f.Failed(), f.Format("x", []byte(src)))
	text, err := b.Alone(b.ByID("renew"))
	require.NoError(t, err)
	assert.Equal(t, strings.TrimPrefix(`
steps:
  - {look: Days, id: days, where: {role: gate}, run: [days], read: {days: {json: .days, type: integer}}}

  - each: Every gate
    where: {role: gate}
    gate: {ask: team/o, within: 10m}
    steps:
      - change: Renew
        id: renew
        run: [renew, 0644]
        still: own(readings.days) < 14
        undo: {run: [back]}
      - check: Renewed
        retake: days
        that: own(readings.days) > 14
        proves: renew
    on_error: undo
`, "\n"), string(text[strings.Index(string(text), "steps:"):]))
	src = strings.Replace(src, "    gate: {ask: team/o, within: 10m, refused: [{note: N, text: No.}]}\n", "", 1)
	b, f = Parse([]byte(src))
	require.False(t, f.Failed(), f.Format("x", []byte(src)))
	for _, id := range []string{"renew", "reload"} {
		text, err := b.Alone(b.ByID(id))
		require.NoError(t, err)
		only, f := Parse(text)
		require.False(t, f.Failed(), f.Format("x", text))
		require.NotNil(t, only.ByID(id).Gate, "%s", text)
		assert.Equal(t, "team/o", only.ByID(id).Gate.Ask)
	}
	_, err = b.Alone(b.ByID("days"))
	assert.ErrorContains(t, err, "a change can be tried alone")
}
