package watch_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/expr"
	"urgentis/core/flow"
	"urgentis/core/watch"
)

// two looks, of which the second uses what the first one read.
const two = `looks:
  - look: Which is in the way
    where: {role: a}
    run: [queue, stuck]
    read: {stuck: {json: .stuck, type: text, matches: 'm-[0-9]+'}}
  - look: How old is it
    where: {role: a}
    run: [queue, age, "{{ own(readings.stuck) }}"]
    read: {age: {json: .age, type: integer}}
`

// A taking asks as many targets at once as a look does, goes on as outcomes come, and its later looks see what its
// earlier ones read.
func TestATaking(t *testing.T) {
	book, found := watch.ReadLooks("w", "s", two, 1)
	require.Empty(t, found)
	w := &watch.Watch{Name: "w", Service: "s", Every: time.Minute, Looks: book}
	begun := flow.Begun{Rules: flow.Rules, Run: "w1"}
	const targets = 120
	for i := range targets {
		begun.Estate = append(
			begun.Estate,
			flow.Target{Name: fmt.Sprintf("t-%03d", i), Labels: map[string]string{"role": "a"}},
		)
	}
	now := time.Now()
	taking, err := w.Begin(begun, now)
	require.NoError(t, err)
	open, err := taking.Next(now)
	require.NoError(t, err)
	assert.Len(t, open, 50)
	asked := map[string]string{}
	for len(open) > 0 {
		in := open[0]
		open = open[1:]
		asked[in.Target+in.Look.String()] = in.Request.Words[1]
		o := flow.Outcome{Attempt: in.Attempt, State: flow.OK}
		if in.Look.String() == "1" {
			o.Readings = map[string]expr.Sample{"stuck": {Value: "m-7", Target: in.Target, At: now}}
		} else {
			assert.Equal(t, []string{"queue", "age", "m-7"}, in.Request.Words)
		}
		require.NoError(t, taking.Took(o, now))
		next, err := taking.Next(now)
		require.NoError(t, err)
		open = append(open, next...)
		assert.LessOrEqual(t, len(open), 50)
	}
	assert.Len(t, asked, 2*targets)
	assert.Empty(t, taking.Trouble())
}

// What a later look needs and an earlier one did not read ends the taking, with why.
func TestATakingThatCannotGoOn(t *testing.T) {
	book, found := watch.ReadLooks("w", "s", two, 1)
	require.Empty(t, found)
	now := time.Now()
	taking, err := (&watch.Watch{Looks: book}).Begin(flow.Begun{Rules: flow.Rules, Run: "w1",
		Estate: []flow.Target{{Name: "t", Labels: map[string]string{"role": "a"}}}}, now)
	require.NoError(t, err)
	open, err := taking.Next(now)
	require.NoError(t, err)
	require.NoError(t, taking.Took(flow.Outcome{Attempt: open[0].Attempt, State: flow.Failed, Error: "no"}, now))
	next, err := taking.Next(now)
	require.NoError(t, err)
	assert.Empty(t, next)
	assert.Contains(t, taking.Trouble(), "no stuck from t")
}
