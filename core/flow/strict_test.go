package flow

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/reading"
	"urgentis/core/runbook"
)

// The strictest of all gates around a change, and in it, holds however the yes is given.
func TestTheStrictestGateHolds(t *testing.T) {
	for name, src := range map[string]string{
		"in the block": `
steps:
  - change: Block
    gate: {}
    steps:
      - change: Inner
        where: {name: g1}
        run: [a]
        gate: {people: 2, comment: true}
`,
		"around it, where the block's yes does not cover it": `
steps:
  - change: Block
    gate: {people: 2, comment: true}
    steps:
      - look: Which
        where: {name: g1}
        run: [which]
        read: {word: {json: .word}}
      - change: Inner
        where: {name: g1}
        run: [a, '{{ within(own(readings.word), "[a-z]+") }}']
        gate: {}
`,
		"around a call": `
parts:
  inner:
    steps:
      - change: Inner
        where: {name: g1}
        run: [a]
        gate: {}
steps:
  - change: Other
    where: {name: g2}
    run: [b]
    gate: {people: 2, comment: true}
  - change: Block
    gate: {people: 2, comment: true}
    steps:
      - change: Third
        where: {name: g3}
        run: [c]
      - call: inner
`,
	} {
		p := play(t, src+closing)
		p.says = func(Intent) string { return `{"word": "UPPER"}` }
		p.gates = func(g GateRaised) *GateDecided {
			assert.Equal(t, 2, g.People, "%s: %s", name, g.Gate)
			assert.True(t, g.Comment, "%s: %s", name, g.Gate)
			for _, by := range []string{"mara", "iva"} {
				for place := range p.m.s.waits {
					p.add(place, GateDecided{Gate: g.Gate, Approved: true, By: by, Comment: "yes", Digest: g.Digest})
				}
			}
			return &GateDecided{Gate: g.Gate, Approved: true, By: "third", Comment: "yes", Digest: g.Digest}
		}
		p.run()
		assert.NotEmpty(t, find[GateRaised](p), name)
	}
}

const answered = `
steps:
  - ask: What now?
    id: what
    choices:
      park:
        label: Park it
        approves: park
        steps:
          - change: Park it
            id: park
            where: {name: g1}
            run: [park]
            gate: {%s}
` + closing

func TestAnAnswerThatApprovesIsAsStrictAsTheGate(t *testing.T) {
	for gate, c := range map[string]struct {
		approves, comment bool
		people            int
	}{"": {true, false, 0}, "comment: true": {true, true, 0}, "people: 2": {false, false, 2}} {
		p := play(t, strings.Replace(answered, "%s", gate, 1))
		p.asks = func(q QuestionRaised) *QuestionAnswered {
			a, ok := q.Approves["park"]
			assert.Equal(t, c.approves, ok, gate)
			assert.Equal(t, c.comment, a.Comment, gate)
			return &QuestionAnswered{Question: q.Question, Choice: "park", By: "mara", Comment: "yes"}
		}
		raised := 0
		p.gates = func(g GateRaised) *GateDecided {
			raised++
			assert.Equal(t, c.people, g.People)
			by := "mara"
			for place := range p.m.s.waits {
				p.add(place, GateDecided{Gate: g.Gate, Approved: true, By: "iva", Digest: g.Digest})
			}
			return &GateDecided{Gate: g.Gate, Approved: true, By: by, Digest: g.Digest}
		}
		require.Equal(t, Done, p.run().State, gate)
		assert.Equal(t, []string{"g1 park"}, p.done)
		assert.Equal(t, c.people > 1, raised > 0, "%s: one person's answer is not two", gate)
	}
}

// A change that waited for another run looks again: what it is for may be done by now.
func TestStillIsJudgedAgainAfterAWaitForALock(t *testing.T) {
	for _, gate := range []string{"gate: {}", ""} {
		p := play(t, `
steps:
  - look: Stuck
    where: {name: g1}
    run: [stuck]
    read: {stuck: {json: .stuck}}
  - change: Park it
    where: {name: g1}
    run: [park]
    still: own(readings.stuck) != ""
    fresh: 1s
    `+gate+"\n"+closing)
		p.held = "r0"
		p.says = func(Intent) string {
			if p.held == "" {
				return `{"stuck": ""}` // the other run has parked it
			}
			return `{"stuck": "m-7"}`
		}
		end := p.run()
		assert.Equal(t, HandedOver, end.State)
		assert.Contains(t, end.Because, "The reason for the change \"Park it\" is gone")
		assert.Empty(t, p.done)
	}
}

func TestALookByTheRunbooksWordAsksWhereRunbooksOnlySuggest(t *testing.T) {
	const src = `steps:
  - look: Files
    where: {role: gate}
    pick: one
    run: [tool, list]
    only_reads: it lists
    read: {n: {json: .n, type: integer}}
  - close: false-alarm
    because: none
`
	text := strings.Replace(src, "    pick: one\n", "", 1)
	for _, c := range []struct {
		suggests, approve bool
		want              []string
	}{{false, false, nil}, {true, true, []string{"1 gate.raised", "1 gate.decided"}}, {true, false,
		[]string{"1 gate.raised", "1 gate.decided", "1 step.troubled"}}} {
		p := play(t, text)
		p.says = func(Intent) string { return `{"n": 1}` }
		p.suggests = c.suggests
		p.gates = func(g GateRaised) *GateDecided {
			assert.Equal(t, []string{"tool", "list"}, g.Proposal.Requests[0].Words)
			return &GateDecided{Gate: g.Gate, Approved: c.approve, By: "mara", Digest: g.Digest}
		}
		end := p.run()
		for _, k := range c.want {
			assert.Contains(t, p.kinds(), k)
		}
		if c.suggests && !c.approve {
			assert.Equal(t, HandedOver, end.State, end.Because)
			assert.Contains(t, end.Because, `mara refused the look "Files"`)
			continue
		}
		assert.Equal(t, Done, end.State, end.Because)
	}
}

func TestLocksAreGivenBackWhileAPersonIsAsked(t *testing.T) {
	const src = `steps:
  - change: First
    id: first
    where: {name: g1}
    run: [tool, one]
    undo: {run: [tool, back]}
  - look: After
    where: {name: g1}
    run: [tool, state]
    read: {n: {json: .n, type: integer}}
  - check: It helped
    that: max(readings.n) == 1
    proves: first
  - change: Unproven
    where: {name: g2}
    run: [tool, two]
    undo: {run: [tool, back]}
  - ask: And now?
    id: now
    choices:
      proceed: {steps: [{note: On, text: goes on}]}
      more: {steps: [{change: Once more, where: {name: g1}, run: [tool, one]}]}
  - change: Last
    where: {name: g3}
    run: [tool, three]
  - close: repaired
    because: it works
`
	for _, c := range []struct {
		before string
		choice string
		freed  []string
		taken  int // times that g1 was locked
	}{
		{"", "proceed", []string{"host:127.0.10.1"}, 1},
		{"on_error: undo\n", "proceed", nil, 1}, // what may undo it is not past
		{"", "more", []string{"host:127.0.10.1"}, 2},
	} {
		p := play(t, c.before+src)
		p.says = func(Intent) string { return `{"n": 1}` }
		p.asks = func(q QuestionRaised) *QuestionAnswered {
			return &QuestionAnswered{Question: q.Question, Choice: c.choice, By: "mara"}
		}
		p.run()
		var freed []string
		taken := 0
		for _, e := range p.log {
			switch b := e.Body.(type) {
			case LocksGivenBack:
				freed = append(freed, b.Keys...)
			case LocksTaken:
				if slices.Contains(b.Keys, "host:127.0.10.1") {
					taken++
				}
			}
		}
		assert.Equal(t, c.freed, freed, "what is not proven stays locked, and what comes")
		assert.Equal(t, c.taken, taken, "taking it back takes the lock again: %v", p.kinds())
	}
}

func TestEachChoiceThatApprovesShowsItsOwnTarget(t *testing.T) {
	p := play(t, `steps:
  - ask: Which one?
    id: which
    choices:
      first: {label: First, approves: one, steps: [{change: One, id: one, where: {name: g1}, run: [restart, one]}]}
      second: {label: Second, approves: two, steps: [{change: Two, id: two, where: {name: g2}, run: [restart, two]}]}
  - close: repaired
    because: it works
`)
	p.asks = func(q QuestionRaised) *QuestionAnswered {
		for choice, name := range map[string]string{"first": "g1", "second": "g2"} {
			target := q.Approves[choice].Proposal.Requests[0].Target
			assert.Equal(t, name, target.Name)
			assert.Equal(t, "k", target.HostKey, "what is known of it is part of what is approved")
		}
		return &QuestionAnswered{Question: q.Question, Choice: "second", By: "mara"}
	}
	assert.Equal(t, Done, p.run().State)
	assert.NotContains(t, p.kinds(), "1.choices.second#0.1 gate.raised", "the answer was the approval")
}

// What is cut speaks of a part alone, and is missing for a form that speaks of the whole; what is sealed is never
// quoted.
func TestWhatIsCutOrSealedIsNotGuessed(t *testing.T) {
	b, found := runbook.Parse([]byte(header + `steps:
  - look: Log
    id: log
    where: {name: g1}
    run: [tail, log]
    read:
      bad: {lines: '^FAIL', type: integer}
      all: {whole: true}
      seen: {pattern: 'seen (\d+)', type: integer}
      token: {pattern: 'token=(\w{4})$', sealed: true}
  - check: None fails
    that: max(readings.bad) == 0
    unsure: hand_over
  - close: false-alarm
    because: none
`))
	require.False(t, found.Failed(), found)
	look := b.ByID("log")
	take := func(text string, cut bool) Outcome {
		o := Outcome{State: OK}
		TakeReadings(&o, look, "g1", Taker{Text: func(reading.Spec) string { return text }, Cut: cut,
			Seal: func(v any) (any, error) { return "⟨sealed⟩", nil }})
		return o
	}
	o := take("seen 7\nfine\n", true)
	assert.Contains(t, o.Missing["bad"], "more was printed than is kept")
	assert.Contains(t, o.Missing["all"], "more was printed than is kept")
	assert.EqualValues(t, 7, o.Readings["seen"].Value, "what was found is there")
	assert.False(t, o.SealedWhole(look))
	o = take("token=hunter22\n", false)
	assert.NotContains(t, o.Missing["token"], "hunter22", "what does not match is not quoted")
	assert.EqualValues(t, 0, o.Readings["bad"].Value, "the whole was seen")
	o = take("token=abcd", false)
	assert.True(t, o.SealedWhole(look))
}
