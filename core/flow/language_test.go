package flow

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/expr"
	"urgentis/core/reading"
	"urgentis/core/runbook"
)

func TestEachGoesOverTargetsABoundedNumberAtOnce(t *testing.T) {
	p := play(t, `
steps:
  - each: Look everywhere
    where: {role: gate}
    at_once: 50%
    steps:
      - look: Errors
        run: [errors]
        read:
          errors: {json: .n, type: integer}
      - note: What is there
        text: "{{ target.name }} has {{ own(readings.errors) }}, and of the others I see {{ max(readings.errors) }}"
  - close: repaired
    because: "{{ sum(readings.errors) }} in all, most on {{ samples(readings.errors)[5].target }}"
`)
	p.says = func(in Intent) string { return fmt.Sprintf(`{"n": %c}`, in.Target[1]) }
	assert.Equal(t, Ended{State: Done, Outcome: "repaired", Because: "21 in all, most on g6"}, p.run())
	assert.Equal(t, 3, p.most)
	assert.Equal(t, "g2 has 2, and of the others I see 2", find[Noted](p)[1].Text)
}

func TestRollingStopsAtTheFirstFailureAndTakesBackNewestFirst(t *testing.T) {
	p := play(t, `
steps:
  - each: Restart
    where: {role: gate}
    on_error: undo
    steps:
      - change: Restart it
        id: restart
        run: [restart]
        undo: {run: [start-old]}
`+closing)
	p.bad["g3 restart"] = Failed
	end := p.run()
	assert.Equal(t, HandedOver, end.State)
	assert.Contains(
		t,
		end.Because,
		`1 of 6 failed in "Restart". g3: The change "Restart it" failed on g3: it went wrong. "Restart it" on g1, g2: undone.`,
	)
	assert.Equal(t, []string{"g1 restart", "g2 restart", "g2 start-old", "g1 start-old"}, p.done)
}

func TestTolerateLetsSomeFail(t *testing.T) {
	p := play(t, `
steps:
  - each: Restart
    where: {role: gate}
    at_once: 2
    tolerate: 1
    between:
      - note: Between
        text: a share is done
    steps:
      - change: Restart it
        run: [restart]
        on_error: stop
`+closing)
	p.bad["g2 restart"] = Failed
	assert.Equal(t, Done, p.run().State)
	assert.Len(t, p.done, 5)
	assert.Len(t, find[Noted](p), 2)
	p.bad["g4 restart"] = Failed
}

func TestOneYesForABlockWithBounds(t *testing.T) {
	src := `
steps:
  - each: Restart
    where: {role: gate}
    gate: {ask: team/quayside, within: 10m}
    steps:
      - look: Process
        run: [pid]
        read:
          pid: {json: .pid, type: text}
      - change: Kill it
        run: [kill, "{{ within(own(readings.pid), '[0-9]{1,5}') }}"]
        still: own(readings.pid) != ""
` + closing
	p := play(t, src)
	p.says = func(in Intent) string { return `{"pid": "4711"}` }
	assert.Equal(t, Done, p.run().State)
	assert.Len(t, find[GateRaised](p), 1)
	assert.Equal(t, "g1 kill 4711", p.done[0])

	// Outside of the bound the value is an error, and nothing is done with it.
	p = play(t, src)
	p.says = func(in Intent) string {
		if in.Target == "g2" {
			return `{"pid": "1; reboot"}`
		}
		return `{"pid": "4711"}`
	}
	end := p.run()
	assert.Equal(t, HandedOver, end.State)
	assert.Contains(t, end.Because, "does not match [0-9]{1,5}")
	assert.Equal(t, []string{"g1 kill 4711"}, p.done)
}

func TestWhatABlockDidNotShowStandsAtAGateOfItsOwn(t *testing.T) {
	p := play(t, `
steps:
  - look: Size
    id: size
    where: {name: g1}
    run: [size]
    read:
      size: {json: .n, type: integer}
  - change: Two changes
    gate: {ask: team/quayside}
    steps:
      - change: First
        where: {name: g1}
        run: [grow, --, "{{ max(readings.size) }}"]
      - look: Size anew
        where: {name: g1}
        run: [size]
        read:
          later: {json: .n, type: integer}
      - change: Second
        where: {name: g1}
        run: [grow, "{{ within(max(readings.later), 1, 10) }}"]
`+closing)
	p.says = func(in Intent) string { return `{"n": 5}` }
	assert.Equal(t, Done, p.run().State)
	gates := find[GateRaised](p)
	require.Len(t, gates, 1)
	assert.Equal(t, "⟨from 1 to 10⟩", expr.ShowBounds(gates[0].Proposal.Requests[1].Words[1]))
	assert.Equal(t, []string{"g1 grow -- 5", "g1 grow 5"}, p.done)
}

func TestTwoPeopleAndAStartTime(t *testing.T) {
	p := play(t, `
steps:
  - change: Restart
    where: {name: g1}
    run: [restart]
    gate: {ask: team/quayside, people: 2, within: 30m}
`+closing)
	n := 0
	later := p.now.Add(2 * time.Hour)
	p.gates = func(g GateRaised) *GateDecided {
		n++
		return &GateDecided{
			Gate:     g.Gate,
			Approved: true,
			By:       fmt.Sprintf("person-%d", n),
			Digest:   g.Digest,
			StartAt:  &later,
		}
	}
	assert.Equal(t, Done, p.run().State)
	assert.Len(t, find[GateDecided](p), 2)
	assert.False(t, p.now.Before(later))
}

const asking = `
steps:
  - look: State
    id: state
    where: {role: gate}
    run: [state]
    read:
      state: {json: .s}
  - ask: What do you see?
    id: seen
    within: 10m
    ask_again: answers.seen.choice == "logs"
    rounds: 3
    choices:
      red: {label: A red light, itself: 'values(readings.state).all(s, s == "red")', steps: [{close: mitigated, because: it answered itself}]}
      logs:
        - note: The logs
          text: "{{ answers.seen.by }} wants them"
      inner:
        - ask: Which one?
          choices:
            first: go on
  - close: repaired
    because: "{{ answers.seen.choice }}"
`

func TestAskAnswersItself(t *testing.T) {
	p := play(t, asking)
	p.says = func(Intent) string { return `{"s": "red"}` }
	assert.Equal(t, "it answered itself", p.run().Because)
	assert.Equal(t, Itself, find[QuestionAnswered](p)[0].By)
}

func TestAskAgainNoneAndBack(t *testing.T) {
	p := play(t, asking)
	said := []string{"logs", "inner", runbook.Back, "logs"}
	p.asks = func(q QuestionRaised) *QuestionAnswered {
		a := said[0]
		if len(said) > 1 {
			said = said[1:]
		}
		return &QuestionAnswered{Question: q.Question, Choice: a, By: "jonas"}
	}
	end := p.run()
	assert.Equal(t, HandedOver, end.State)
	assert.Contains(t, end.Because, `The question "What do you see?" was asked 3 times.`)
	assert.Contains(t, find[QuestionRaised](p)[2].Choices, runbook.Back)
	assert.NotContains(t, find[QuestionRaised](p)[0].Choices, runbook.Back)

	p = play(t, asking)
	p.asks = func(q QuestionRaised) *QuestionAnswered {
		return &QuestionAnswered{Question: q.Question, Choice: runbook.NoneOfThese, By: "jonas"}
	}
	assert.Contains(t, p.run().Because, "none of these")

	p = play(t, asking)
	assert.Contains(t, p.run().Because, "Nobody answered")
}

func TestAnAnswerApprovesAChange(t *testing.T) {
	src := `
steps:
  - ask: Restart it?
    choices:
      restart: {approves: restart}
      leave: [{close: mitigated, because: left alone}]
  - change: Restart
    id: restart
    where: {name: g1}
    run: [restart]
  - close: repaired
    because: restarted
`
	p := play(t, src)
	p.asks = func(q QuestionRaised) *QuestionAnswered {
		require.Equal(t, []string{"restart"}, q.Approves["restart"].Proposal.Requests[0].Words)
		return &QuestionAnswered{Question: q.Question, Choice: "restart", By: "mara"}
	}
	assert.Equal(t, "restarted", p.run().Because)
	assert.Empty(t, find[GateRaised](p), "the answer was the approval")
	assert.Equal(t, []string{"g1 restart"}, p.done)
}

func TestWaitUntilRunsOut(t *testing.T) {
	src := `
steps:
  - look: State
    id: state
    where: {name: g1}
    run: [state]
    read:
      n: {json: .n, type: integer}
  - wait: Until it is 3
    until: max(readings.n) >= 3
    retake: state
    again: {every: 10s, for: 1m}
` + closing
	n := 0
	p := play(t, src)
	p.says = func(Intent) string { n++; return fmt.Sprintf(`{"n": %d}`, n) }
	assert.Equal(t, Done, p.run().State)
	p = play(t, src)
	p.says = func(Intent) string { return `{"n": 0}` }
	assert.Contains(
		t,
		p.run().Because,
		"“Until it is 3” timed out after 1m: max(readings.n) >= 3 does not hold.",
	)
}

func TestUnknownIsNoError(t *testing.T) {
	p := play(t, `
steps:
  - change: Restart
    where: {name: g1}
    run: [restart]
    on_error: go on
`+closing)
	p.bad["g1 restart"] = Unknown
	end := p.run()
	assert.Equal(t, HandedOver, end.State)
	assert.Contains(t, end.Because, "is unknown, and nobody could say")
}

func TestHappenedSettlesAnUnknownOutcome(t *testing.T) {
	src := `
steps:
  - look: State
    id: state
    where: {name: g1}
    run: [state]
    read:
      n: {json: .n, type: integer}
  - change: Restart
    where: {name: g1}
    run: [restart]
    happened: own(readings.n) == 2
` + closing
	n := 1
	p := play(t, src)
	p.bad["g1 restart"] = Unknown
	p.says = func(Intent) string { defer func() { n = 2 }(); return fmt.Sprintf(`{"n": %d}`, n) }
	assert.Equal(t, Done, p.run().State)
	assert.Empty(t, find[QuestionRaised](p))
	p = play(t, src)
	p.bad["g1 restart"] = Unknown
	p.says = func(Intent) string { return `{"n": 1}` }
	assert.Contains(t, p.run().Because, "did not happen on g1")
	p = play(t, src)
	p.bad["g1 restart"] = Unknown
	k := 0
	p.says = func(Intent) string {
		if k++; k > 1 {
			return "gone"
		}
		return `{"n": 1}`
	}
	p.run()
	assert.Len(t, find[QuestionRaised](p), 1, "unsure: a person is asked")
}

func TestAChangeWaitsForTheLockAndGivesUp(t *testing.T) {
	p := play(t, "steps:\n  - change: Restart\n    where: {name: g1}\n    run: [restart]\n"+closing)
	p.held = "r0"
	assert.Equal(t, Done, p.run().State)
	assert.Equal(t, []string{"host:127.0.10.1"}, find[LocksTaken](p)[0].Keys)
	// The leave is from before the wait: it is asked for anew, in the transaction that begins the change.
	kinds := strings.Join(p.kinds(), " ")
	assert.Contains(t, kinds, "locks.awaited 1 locks.taken 1 leave.given 1 attempt.intended")
}

func TestAgreesAndFits(t *testing.T) {
	src := `
steps:
  - look: Zone
    where: {role: gate}
    run: [zone]
    read:
      zone: {json: ., type: json}
  - check: As known?
    id: zone
    agrees: {reading: zone, known: zone, subset: true, any_order: true}
    fails:
      - note: Differing
        text: "{{ checks.zone.differing }}"
  - check: Of that shape?
    fits: {reading: zone, schema: {type: object, required: [tz], properties: {tz: {enum: [UTC]}}}}
` + closing
	p := play(t, src)
	p.says = func(in Intent) string {
		if in.Target == "g3" {
			return `{"tz": "CET", "peers": ["b"]}`
		}
		return `{"tz": "UTC", "peers": ["b", "a"], "more": 1}`
	}
	end := p.run()
	assert.Equal(t, "g3", find[Noted](p)[0].Text)
	assert.Equal(
		t,
		[]reading.Difference{
			{Target: "g3", At: "/peers", Says: `lacks "a"`},
			{Target: "g3", At: "/tz", Says: `is "CET", expected "UTC"`},
		},
		find[Judged](p)[0].Differences,
	)
	assert.Contains(t, end.Because, `The check "Of that shape?" fails`)
}

func TestFreshTakesOldEvidenceAnew(t *testing.T) {
	p := play(t, `
steps:
  - look: State
    where: {name: g1}
    run: [state]
    read:
      n: {json: .n, type: integer}
  - wait: A while
    for: 5m
  - change: Set
    where: {name: g1}
    run: [set, --, "{{ own(readings.n) }}"]
    fresh: 1m
`+closing)
	n := 0
	p.says = func(Intent) string { n++; return fmt.Sprintf(`{"n": %d}`, n) }
	assert.Equal(t, Done, p.run().State)
	assert.Equal(t, []string{"g1 set -- 2"}, p.done)
}

func TestSilentItemsAreMissingNotForgotten(t *testing.T) {
	p := play(t, `
steps:
  - each: Look
    where: {role: gate}
    at_once: 6
    tolerate: 6
    steps:
      - change: Wake it
        run: [wake]
      - look: State
        run: [state]
        read:
          n: {json: .n, type: integer}
  - check: All well?
    that: max(readings.n) < 5
`+closing)
	p.says = func(Intent) string { return `{"n": 1}` }
	p.bad["g4 wake"] = Failed
	end := p.run()
	assert.Equal(t, HandedOver, end.State)
	assert.Contains(t, end.Because, "no n from g4")
}

func TestAnUndoThatAPersonSawIsNotDoneAgain(t *testing.T) {
	p := play(t, `
steps:
  - together: Both
    on_error: undo
    branches:
      left:
        - change: Restart
          where: {role: gate}
          run: [restart]
          undo: {run: [start-old]}
          on_error: undo
      right:
        - note: N
          text: noted
`+closing)
	p.bad["g2 restart"], p.bad["g1 start-old"] = Failed, Unknown
	p.asks = func(q QuestionRaised) *QuestionAnswered {
		return &QuestionAnswered{Question: q.Question, Choice: Happened, By: "mara"}
	}
	assert.Equal(t, HandedOver, p.run().State)
	undos := 0
	for _, in := range find[Intent](p) {
		if in.Undoes() {
			undos++
		}
	}
	assert.Equal(t, 1, undos)
}

// Two runs that touch the same targets in another order must not wait for one another: what is known to come is
// locked at once.
func TestTheFirstLockTakesWhatIsKnownToCome(t *testing.T) {
	p := play(t, `
parts:
  part:
    steps:
      - look: Which
        where: {name: g6}
        run: [which]
        read: {name: {json: .name}}
      - change: In a part
        where: {name: g6}
        run: [a]
steps:
  - change: First
    where: {name: g3}
    run: [a]
  - change: Not now
    when: 1 == 2
    where: {name: g2}
    run: [a]
  - each: One after the other
    over: '["g4", "g5"]'
    steps:
      - change: Inner
        run: [b]
  - check: Good
    that: 1 == 1
    fails:
      - change: Not on this way
        where: {name: g2}
        run: [c]
    passes:
      - change: On this way
        where: {name: g1}
        run: [d]
  - call: part
`+closing)
	p.says = func(Intent) string { return `{"name": "g2"}` }
	assert.Equal(t, Done, p.run().State)
	var taken [][]string
	for _, l := range find[LocksTaken](p) {
		taken = append(taken, l.Keys)
	}
	assert.Equal(
		t,
		[][]string{{"host:127.0.10.1", "host:127.0.10.3", "host:127.0.10.4", "host:127.0.10.5"}, {"host:127.0.10.6"}},
		taken,
	)
}
