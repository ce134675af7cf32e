package flow

import (
	"strings"
	"testing"
	"time"

	"urgentis/core/leave"
	"urgentis/core/runbook"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestTogetherAndCallAndParts(t *testing.T) {
	p := play(t, `
parts:
  count:
    inputs: {word: {type: text, default: errors, pattern: "^[a-z]+$"}}
    steps:
      - look: Count
        where: {role: gate}
        run: ["true", "{{ inputs.word }}"]
        read:
          n: {json: .n, type: integer}
      - close: false-alarm
        because: counted
    results:
      n: {value: "{{ sum(readings.n) }}", type: integer}
  lost:
    steps:
      - hand_over: on-call/tide
        because: lost
steps:
  - together: Both
    branches:
      left:
        - call: count
          id: left
          inputs: {word: refusals}
      right:
        - wait: A while
          for: 10m
        - call: lost
          on_error: go on
  - close: repaired
    because: "{{ calls.left.results.n }}, {{ calls.left.outcome }}"
`)
	p.says = func(Intent) string { return `{"n": 2}` }
	assert.Equal(t, Ended{State: Done, Outcome: "repaired", Because: "12, false-alarm"}, p.run())
	assert.Equal(t, 10*time.Minute, p.now.Sub(p.log[0].At))
}

func TestAHandedOverCallIsATroubleOfTheCaller(t *testing.T) {
	b, f := runbook.Parse([]byte(header + "steps:\n  - call: other\n    inputs: {x: \"7\"}" + closing))
	require.False(t, f.Failed())
	other, f := runbook.Parse(
		[]byte(
			strings.Replace(
				header,
				"name: play",
				"name: other",
				1,
			) + "inputs: {x: {type: integer}}\nfinally:\n  - note: N\n    text: \"{{ inputs.x }}\"\nsteps:\n  - " +
				"hand_over: on-call/tide\n    because: \"x is {{ inputs.x }}\"\n",
		),
	)
	require.False(t, f.Failed())
	_, f = b.Link(func(string) *runbook.Book { return nil })
	assert.Contains(t, f.Error(), "there is no part and no runbook other to call")
	_, f = b.Link(func(string) *runbook.Book { return b })
	assert.Contains(t, f.Error(), "play has no input x")
	linked, f := b.Link(func(string) *runbook.Book { return other })
	require.False(t, f.Failed())
	p := playBook(t, linked)
	assert.Equal(t, Ended{State: HandedOver, To: "on-call/tide", Because: "x is 7. Nothing was changed."}, p.run())
	assert.Equal(t, "7", find[Noted](p)[0].Text)
}

func TestOnErrorFinallyAndError(t *testing.T) {
	p := play(t, `
steps:
  - change: Restart
    where: {name: g1}
    run: [restart]
on_error:
  - note: Trouble
    text: "{{ error.step }} {{ error.title }}: {{ error.because }}"
finally:
  - change: Clean
    where: {name: g1}
    run: [clean]
`)
	p.bad["g1 restart"] = Failed
	end := p.run()
	assert.Equal(t, HandedOver, end.State)
	assert.Equal(t, `1 Restart: The change "Restart" failed on g1: it went wrong.`, find[Noted](p)[0].Text)
	assert.Equal(t, []string{"g1 clean"}, p.done)

	p = play(
		t,
		"steps:\n  - change: Restart\n    where: {name: g1}\n    run: [restart]\nfinally:\n  - change: Clean\n    "+
			"where: {name: g1}\n    run: [clean]\n",
	)
	p.bad["g1 clean"] = Failed
	assert.Contains(t, p.run().Because, "And then: ")
}

func TestTheAlertClearsMeanwhile(t *testing.T) {
	src := `
steps:
  - wait: Long
    for: 1h
` + closing + `
if_cleared:
  - close: cleared-itself
    because: "it is {{ alert_now.state }}"
if_worse: go on
`
	p := play(t, src)
	plan, err := p.m.Plan(p.now)
	require.NoError(t, err)
	p.log = append(p.log, plan.Events...)
	p.add(Place{}, AlertChanged{State: "open", Severity: "critical", Worse: true})
	p.add(Place{}, AlertChanged{State: "cleared", Severity: "critical", Cleared: true})
	assert.Equal(t, Ended{State: Done, Outcome: "cleared-itself", Because: "it is cleared"}, p.run())
}

func TestCancelTakesBackAndEnds(t *testing.T) {
	p := play(t, `
steps:
  - change: Restart
    where: {name: g1}
    run: [restart]
    undo: {run: [start-old]}
  - wait: Long
    for: 1h
`+closing+"finally:\n  - note: Over\n    text: over\n")
	for range 20 {
		plan, err := p.m.Plan(p.now)
		require.NoError(t, err)
		p.log = append(p.log, plan.Events...)
		if p.m.s.WaitsOn() == OnTime {
			break
		}
		switch {
		case p.grant(plan, leave.Yes):
		case len(plan.Begin) > 0:
			p.add(p.m.s.PlaceOf(plan.Begin[0].Attempt), p.do(plan.Begin[0]))
		}
	}
	p.add(Place{}, CancelAsked{By: "mara", Because: "wrong quay", Undo: true})
	end := p.run()
	assert.Equal(t, Cancelled, end.State)
	assert.Equal(t, "Cancelled by mara: wrong quay. \"Restart\" on g1: undone.", end.Because)
	assert.Equal(t, []string{"g1 restart", "g1 start-old"}, p.done)
	assert.Len(t, find[Noted](p), 1)
}

func TestLimits(t *testing.T) {
	p := play(
		t,
		"limits: {one_at_a_time: alert.severity, give_up_after: 30m}\nsteps:\n  - wait: Long\n    for: 1h\n"+closing,
	)
	p.held = "r0"
	end := p.run()
	assert.Equal(t, "The runbook gives up after 30m0s. Nothing was changed.", end.Because)
	assert.Equal(t, []string{"turn:play:major"}, find[LocksTaken](p)[0].Keys)
	assert.Equal(t, "r0", find[LocksAwaited](p)[0].Holder)
}

// What a call changed, its caller changed: before() means the samples before it.
func TestBeforeCountsTheChangesOfACall(t *testing.T) {
	p := play(t, `
parts:
  part:
    steps:
      - change: Inner
        where: {name: g1}
        run: [fix]
steps:
  - look: Depth
    id: depth
    where: {name: g1}
    run: [depth]
    read: {n: {json: .n, type: integer}}
  - check: Deep
    that: max(readings.n) == 7
  - call: part
  - check: Fell
    retake: depth
    that: max(before(readings.n)) == 7 && max(previous(readings.n)) == 7 && max(readings.n) == 1
  - check: Before is before the change, not the one before
    retake: depth
    that: max(before(readings.n)) == 7 && max(previous(readings.n)) == 1
`+closing)
	p.says = func(Intent) string {
		if len(p.done) > 0 {
			return `{"n": 1}`
		}
		return `{"n": 7}`
	}
	assert.Equal(t, Done, p.run().State, p.kinds())
}

// What a call cannot say, its caller does not take for a name that nothing has set.
func TestAResultThatCannotBeSaidSaysWhy(t *testing.T) {
	p := play(t, `
parts:
  count:
    steps:
      - look: Count
        where: {role: gate}
        run: [count]
        read:
          n: {json: .n, type: integer}
    results:
      n: {value: "{{ sum(readings.n) }}", type: integer}
      fixed: {value: "4", type: integer}
steps:
  - call: count
    id: count
  - check: Few?
    that: calls.count.results.fixed == 4 && calls.count.results.n < 10
`)
	p.says = func(in Intent) string {
		if in.Target == "g3" {
			return `{}`
		}
		return `{"n": 2}`
	}
	end := p.run()
	assert.Equal(t, HandedOver, end.State)
	assert.Contains(t, end.Because, "g3")
	assert.NotContains(t, end.Because, "nothing has set")
	ended := find[CallEnded](p)[0]
	assert.EqualValues(t, 4, ended.Results["fixed"])
	assert.Contains(t, ended.Unsaid["n"], "g3")
}

// What a called runbook provides for a changed alert holds for the call, if the news came while it was at work; the
// gate that it had raised is withdrawn.
func TestACalledRunbookFollowsItsAlert(t *testing.T) {
	mend, found := runbook.Parse([]byte(strings.Replace(header, "name: play", "name: mend", 1) + `
steps:
  - change: Restart
    where: {name: g1}
    run: [restart]
    gate: {ask: team/x, within: 30m}
if_cleared:
  - note: Cleared
    text: it cleared
  - close: cleared-itself
    because: "it is {{ alert_now.state }}"
finally:
  - note: After
    text: after
`))
	require.False(t, found.Failed(), found)
	caller, found := runbook.Parse([]byte(header + `
steps:
  - wait: Long
    for: 1m
  - call: mend
    id: mend
  - close: false-alarm
    because: "{{ calls.mend.outcome }}: {{ calls.mend.because }}"
`))
	require.False(t, found.Failed(), found)
	book, found := caller.Link(func(string) *runbook.Book { return mend })
	require.False(t, found.Failed(), found)
	cleared := AlertChanged{State: "cleared", Severity: "critical", Cleared: true}
	p := playBook(t, book)
	p.gates = func(GateRaised) *GateDecided {
		p.add(Place{}, cleared)
		return nil
	}
	assert.Equal(t, Ended{State: Done, Outcome: "false-alarm", Because: "cleared-itself: it is cleared"}, p.run())
	assert.Equal(t, []GateExpired{{Gate: find[GateRaised](p)[0].Gate, Because: "“Play”, which asked, is over"}},
		find[GateExpired](p))
	assert.Equal(t, []string{"it cleared", "after"}, []string{find[Noted](p)[0].Text, find[Noted](p)[1].Text})
	assert.Empty(t, p.m.s.waits)

	p = playBook(t, book)
	p.add(Place{}, cleared) // before the call: it was called all the same
	end := p.run()
	assert.Equal(t, []string{"g1 restart"}, p.done)
	assert.Equal(t, "false-alarm", end.Outcome)
}
