package estate_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/estate"
)

const depthWatch = `urgentis: watch/1
name: queue
# how deep it is
service: berth-queue
every: 10s
looks:
  - look: Depth
    where: {role: consumer}
    run: [berthq, depth]
    read: {depth: {json: .depth, type: integer}}
`

const depthObjective = `urgentis: objective/1
name: queue
service: berth-queue
title: In time
good_when: max(readings.depth) < 200
target: 99.5
window: 28d
`

// says gives the first mistake in a text, with its line.
func says(t *testing.T, text string) string {
	docs, found := estate.Parse([]estate.File{{Name: "x.yaml", Text: text}})
	if len(found) == 0 {
		return ""
	}
	assert.Empty(t, docs, text)
	return found[0].Sentence()
}

func TestWatchesAreRead(t *testing.T) {
	docs, found := estate.Parse([]estate.File{{Name: "x.yaml", Text: "# two\n---\n" + depthWatch}})
	require.Empty(t, found)
	w := docs[0].Watch
	assert.Equal(t, 10*time.Second, w.Every)
	assert.Equal(t, []string{"depth"}, w.Looks.ReadingNames())
	assert.Equal(t, "berth-queue", w.Looks.Service)
}

// A mistake is told at its line, whether it is the document's or a look's.
func TestMistakesOfWatches(t *testing.T) {
	for name, c := range map[string]struct {
		old, new string
		line     int
		says     string
	}{
		"too often":       {"every: 10s", "every: 10ms", 5, "every is"},
		"no service":      {"service: berth-queue\n", "", 1, "the watch has no service"},
		"a change":        {"look: Depth", "change: Depth", 0, ""},
		"a note":          {"    run: [berthq, depth]\n    read: {depth: {json: .depth, type: integer}}\n", "    run: [a]\n", 7, "the look reads nothing"},
		"unknown key":     {"    read:", "    reed:", 10, "reed"},
		"wrong reading":   {"type: integer", "type: intger", 10, "intger"},
		"of an alert":     {"[berthq, depth]", `[berthq, "{{ alert.key }}"]`, 0, ""},
		"by its word":     {"    read:", "    only_reads: it only prints\n    read:", 7, "only by its author's word"},
		"again":           {"    read:", "    again: {every: 1s, times: 3}\n    read:", 7, "again is not needed"},
		"looks in a line": {"looks:\n  - look: Depth\n    where: {role: consumer}\n    run: [berthq, depth]\n    read: {depth: {json: .depth, type: integer}}", "looks: []", 0, ""},
	} {
		text := replaced(t, depthWatch, c.old, c.new)
		docs, found := estate.Parse([]estate.File{{Name: "x.yaml", Text: text}})
		require.NotEmpty(t, found, name)
		assert.Empty(t, docs, name)
		assert.Contains(t, found[0].Sentence(), c.says, name)
		if c.line > 0 {
			assert.Equal(t, c.line, found[0].Line, name+": "+found[0].Sentence())
		}
	}
}

func replaced(t *testing.T, text, old, new string) string {
	require.Contains(t, text, old)
	return strings.Replace(text, old, new, 1)
}

func TestObjectivesAreRead(t *testing.T) {
	docs, found := estate.Parse([]estate.File{{Name: "x.yaml", Text: depthObjective}})
	require.Empty(t, found)
	o := docs[0].Objective
	assert.Equal(t, []string{"depth"}, o.Readings)
	assert.InDelta(t, 0.995, o.Target, 1e-9)
	assert.Len(t, o.Burns, 3)
	assert.Equal(t, "99.5 % of the time in 28 days", o.Says())
	docs, found = estate.Parse([]estate.File{{Name: "x.yaml", Text: replaced(t, depthObjective, "28d", "1d")}})
	require.Empty(t, found)
	assert.Len(t, docs[0].Objective.Burns, 2, "three days do not fit into one")
}

func TestMistakesOfObjectives(t *testing.T) {
	for name, c := range map[string]struct{ old, new, says string }{
		"no target":         {"target: 99.5\n", "", "the objective has no target"},
		"all":               {"99.5", "100", "target is a percentage"},
		"nothing to judge":  {"good_when: max(readings.depth) < 200\n", "", "either good_when"},
		"both":              {"target:", "events: {good: a, all: b}\ntarget:", "either good_when"},
		"a number":          {"max(readings.depth) < 200", "max(readings.depth)", "good_when must be true or false"},
		"no reading":        {"max(readings.depth) < 200", "1 < 2", "speaks of no reading"},
		"of an alert":       {"max(readings.depth) < 200", "max(readings.depth) < 200 && alert.key == 'a'", "not of alert"},
		"what was before":   {"max(readings.depth)", "max(before(readings.depth))", "no meaning here"},
		"a window":          {"28d", "10m", "window is a time"},
		"a zone":            {"window: 28d", "window: 28d\nzone: Europe/Oslo", "by the calendar"},
		"severity":          {"window: 28d", "window: 28d\nburns: [{spends: 2, in: 1h, severity: bad}]", "severity is one of"},
		"a burn too long":   {"window: 28d", "window: 1d\nburns: [{spends: 2, in: 2d}]", "less time than the window"},
		"half a burn":       {"window: 28d", "window: 28d\nburns: [{spends: 2}]", "a burn has spends"},
		"missing":           {"window: 28d", "window: 28d\nmissing: good", "missing is bad or unknown"},
		"counters unnamed":  {"good_when: max(readings.depth) < 200", "events: {good: a}", "events has good and all"},
		"a strange counter": {"good_when: max(readings.depth) < 200", "events: {good: 'a b', all: b}", "name of a reading"},
	} {
		assert.Contains(t, says(t, replaced(t, depthObjective, c.old, c.new)), c.says, name)
	}
}
