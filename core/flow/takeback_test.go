package flow_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/flow"
	"urgentis/core/leave"
	"urgentis/core/reading"
	"urgentis/core/runbook"
	"urgentis/core/task"
	"urgentis/core/tell"
)

const forANight = `urgentis: runbook/1
name: night
title: More for a night
owner: o
service: s
steps:
  - look: How many
    id: seen
    where: {role: a}
    run: [count]
    read: {used: {json: .used, type: integer}}
  - change: Let more in
    id: more
    where: {role: a}
    run: [limit, "200"]
    undo: {run: [limit, "100"]}
    gate: {ask: team/o}
  - wait: Until it is quiet
    until: max(readings.used) < 50
    retake: seen
    again: {every: 10m, for: 8h}
  - undo_change: Let no more in than before
    of: more
  - close: repaired
    because: It was for a night.
`

// played plays a runbook whose look reads a number that falls with time; it gives what was done, in order.
func played(t *testing.T, text string, fails bool) (did []string, log []flow.Event) {
	book, found := runbook.Parse([]byte(text))
	require.False(t, found.Failed(), found)
	begin := time.Date(2026, 12, 1, 22, 0, 0, 0, time.UTC)
	begun := flow.Begun{Rules: flow.Rules, Run: "r", Runbook: "night", Estate: []flow.Target{
		{Name: "t1", Labels: map[string]string{"role": "a"}}, {Name: "t2", Labels: map[string]string{"role": "a"}}}}
	stage := tell.Stage{Book: book, Begun: begun, Now: begin, Limit: 500,
		Leave: func(a flow.AskLeave) flow.LeaveGiven {
			var facts []task.Facts
			for _, n := range a.Targets {
				facts = append(facts, task.Facts{Name: n})
			}
			return flow.LeaveGiven{Verdict: leave.Gate, Facts: facts}
		},
		Decide: func(_ flow.Place, g flow.GateRaised) *flow.GateDecided {
			return &flow.GateDecided{Gate: g.Gate, Approved: true, By: "mara", Digest: g.Digest}
		},
		Do: func(place flow.Place, in flow.Intent, now time.Time) flow.Outcome {
			exit := 0
			o := flow.Outcome{Attempt: in.Attempt, State: flow.OK, Exit: &exit}
			if !in.Touches() {
				used := "180"
				if now.Sub(begin) > 3*time.Hour {
					used = "20"
				}
				look := book.ByID("seen")
				flow.TakeReadings(&o, look, in.Target, flow.Taker{At: now, Text: func(reading.Spec) string {
					return `{"used": ` + used + `}`
				}})
				return o
			}
			if fails && in.Undoes() {
				exit = 1
				o.State = flow.Failed
			}
			did = append(did, in.Target+" "+strings.Join(in.Request.Words, " ")+" after "+now.Sub(begin).String())
			return o
		}}
	log, stopped, err := stage.Play()
	require.NoError(t, err)
	require.Empty(t, stopped)
	return did, log
}

// A setting that is for a while is taken back when what it was for is over, newest first, on each target.
func TestASettingForAWhileIsUndone(t *testing.T) {
	did, log := played(t, forANight, false)
	assert.Equal(t, []string{"t1 limit 200 after 0s", "t2 limit 200 after 0s", "t2 limit 100 after 3h10m0s",
		"t1 limit 100 after 3h10m0s"}, did)
	end := log[len(log)-1].Body.(flow.Ended)
	assert.Equal(t, flow.Done, end.State)

	// At a time.
	did, _ = played(t, strings.Replace(forANight, `    until: max(readings.used) < 50
    retake: seen
    again: {every: 10m, for: 8h}
`, "    for: 2h\n", 1), false)
	assert.Equal(t, "t1 limit 100 after 2h0m0s", did[3])

	// What cannot be taken back is told, and the run does not end well.
	_, log = played(t, forANight, true)
	end = log[len(log)-1].Body.(flow.Ended)
	assert.Equal(t, flow.HandedOver, end.State)
	assert.Contains(t, end.Because, `"Let more in" on t1, t2: may be undone in part`)
}

// Whatever of it is cut off, and read again, goes on to the same.
func TestTakingBackGoesOnAfterACrash(t *testing.T) {
	_, log := played(t, forANight, false)
	book, _ := runbook.Parse([]byte(forANight))
	for n := 1; n < len(log); n++ {
		m, err := flow.Open(book, log[:n])
		require.NoError(t, err)
		plan, err := m.Plan(log[n].At)
		require.NoError(t, err)
		for _, in := range plan.Begin {
			for _, ev := range log[:n] {
				if was, ok := ev.Body.(flow.Intent); ok {
					assert.NotEqual(t, was.Attempt, in.Attempt, "nothing is begun twice")
				}
			}
		}
	}
}
