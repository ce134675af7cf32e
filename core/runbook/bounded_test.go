package runbook

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

const withWords = `urgentis: runbook/1
name: play
title: Play
owner: quayside
service: gates
inputs:
  free: {type: text}
  bounded: {type: text, pattern: '^[a-z0-9]+$'}
  dashed: {type: text, pattern: '^[a-z-]+$'}
  loose: {type: text, pattern: '[a-z]+'}
  choice: {type: text, choices: [north, south]}
  n: {type: integer}
  pid: {type: integer, min: 1}
steps:
  - look: L
    id: l
    where: {role: gate}
    run: [state]
    read:
      said: {whole: true}
      id: {json: .id, matches: '[a-z0-9]+'}
      depth: {json: .depth, type: integer}
      lines: {lines: '^x'}
  - ask: A
    id: a
    fields: {why: {type: text}, code: {type: text, pattern: '^[a-z]+$'}}
  - change: C
    where: {role: gate}
    run: %s
    %s
  - check: Good
    that: 1 == 1
    passes:
      - close: repaired
        because: done
`

// A value from outside stands in a word only if it is known beforehand to hold nothing but harmless characters,
// whatever the program is.
func TestValuesFromOutsideAreBoundedInWords(t *testing.T) {
	const outside = "comes from outside and could be any text"
	for run, says := range map[string]string{
		`[find, /srv, -name, "*.log", -exec, sh, -c, "{{ inputs.free }}", ";"]`:                           outside,
		`[systemd-run, "{{ inputs.free }}"]`:                                                              outside,
		`[git, -c, "core.pager={{ inputs.free }}", log]`:                                                  outside,
		`[watch, "{{ alert.labels.queue }}"]`:                                                             outside,
		`[tool, "{{ alert.summary }}"]`:                                                                   outside,
		`[tool, "{{ inputs.loose }}"]`:                                                                    outside,
		`[tool, "{{ own(readings.said) }}"]`:                                                              outside,
		`[tool, "{{ answers.a.why }}"]`:                                                                   outside,
		`[tool, "{{ answers.a.by }}"]`:                                                                    outside,
		`[tool, "{{ true ? inputs.bounded : inputs.free }}"]`:                                             outside,
		`[tool, "{{ inputs.bounded + inputs.free }}"]`:                                                    outside,
		`[tool, "{{ within(inputs.free, '.*') }}"]`:                                                       outside,
		`[tool, "{{ incident.title }}"]`:                                                                  outside,
		`[tool, "{{ inputs.dashed }}"]`:                                                                   "may begin with a hyphen",
		`[tool, --, "{{ inputs.dashed }}"]`:                                                               "",
		`[tool, "--queue={{ inputs.dashed }}"]`:                                                           "",
		`[tool, "{{ inputs.bounded }}", "{{ inputs.choice }}", "{{ inputs.pid }}"]`:                       "",
		`[tool, "{{ own(readings.id) }}", "{{ own(readings.lines) }}", "{{ own(before(readings.id)) }}"]`: "",
		`[kill, "-9", "{{ inputs.n }}"]`:                                                                  "give the input n a min of 0 or more",
		`[kill, "{{ own(readings.depth) }}"]`:                                                             "bound it, as in within(own(readings.depth), 0, 100)",
		`[kill, "{{ inputs.pid - 9 }}"]`:                                                                  "may begin with a hyphen",
		`[kill, "{{ within(inputs.n, -1, 9) }}"]`:                                                         "may begin with a hyphen",
		`[kill, "{{ true ? inputs.pid : inputs.n }}"]`:                                                    "may begin with a hyphen",
		`[kill, "{{ duration('-5s') }}"]`:                                                                 "may begin with a hyphen",
		`[kill, --, "{{ inputs.n }}", "a{{ inputs.n }}"]`:                                                 "",
		`[kill, "{{ within(own(readings.depth), 1, 9) }}", "{{ inputs.pid + 9 }}", "{{ size(inputs.free) }}"]`: "",
		`[tool, "{{ answers.a.code }}", "{{ alert.count }}", "{{ target.name }}", "{{ target.labels.role }}"]`: "",
		`[tool, "{{ within(inputs.free, '[a-z0-9]+') }}", "{{ 'x-' + inputs.bounded }}"]`:                      "",
	} {
		_, f := Parse([]byte(strings.Replace(strings.Replace(withWords, "%s", run, 1), "%s", "timeout: 5s", 1)))
		assert.Equal(t, says != "", f.Failed(), "%s: %s", run, f)
		if says != "" {
			assert.Contains(t, f.Error(), says, run)
		}
		said := strings.Replace(
			strings.Replace(withWords, "%s", run, 1),
			"%s",
			"as_data: the tool hands its words on to nobody",
			1,
		)
		_, f = Parse([]byte(said))
		if !strings.Contains(run, "sh, -c") {
			assert.False(t, f.Failed(), "%s: %s", run, f)
		}
		undone := strings.Replace(strings.Replace(withWords, "%s", "[tool]", 1), "%s", "undo: {run: "+run+"}", 1)
		_, f = Parse([]byte(undone))
		assert.Equal(t, says != "", f.Failed(), "undo: %s: %s", run, f)
	}
	src := strings.Replace(strings.Replace(withWords, "%s", `[tool, "{{ inputs.free }}"]`, 1), "%s", "timeout: 5s", 1)
	_, f := ParseOld([]byte(src))
	assert.False(t, f.Failed(), "a run that was begun before goes on")
	_, f = Parse([]byte(strings.Replace(src, "timeout: 5s", "as_data: ok", 1)))
	assert.ErrorContains(t, f, "says in words why")
}
