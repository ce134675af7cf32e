package flow

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const twoSteps = `
on_error: undo
steps:
  - change: Drain it
    where: {name: g1}
    run: [drain]
    undo: {run: [fill]}
  - change: Step the clock
    where: {role: gate}
    run: [step]
    undo: {run: [unstep]%s}
` + closing

func answers(choice string) func(QuestionRaised) *QuestionAnswered {
	return func(q QuestionRaised) *QuestionAnswered {
		return &QuestionAnswered{Question: q.Question, Choice: choice, By: "mara"}
	}
}

func withUndo(more string) string { return strings.Replace(twoSteps, "%s", more, 1) }

func TestWhatFailedHalfWayIsUndone(t *testing.T) {
	p := play(t, withUndo(""))
	p.bad["g3 step"] = badEnd
	end := p.run()
	assert.Equal(t, HandedOver, end.State)
	assert.Equal(
		t,
		[]string{
			"g1 drain",
			"g1 step",
			"g2 step",
			"g3 step (in part)",
			"g3 unstep",
			"g2 unstep",
			"g1 unstep",
			"g1 fill",
		},
		p.done,
	)
	assert.Contains(t, end.Because, `it ended with 3. "Drain it" on g1: undone. "Step the clock" on g1, g2, g3: undone.`)
	assert.NotContains(t, end.Because, "not undone")
}

func TestWhatWasNotBegunIsNotUndone(t *testing.T) {
	p := play(t, withUndo(""))
	p.bad["g3 step"] = Failed
	end := p.run()
	assert.NotContains(t, p.done, "g3 unstep")
	assert.Contains(t, end.Because, `"Drain it" on g1: undone. "Step the clock" on g1, g2: undone. "Step the clock" on g3: not begun, it went wrong.`)
}

func TestAnUndoOnlyForWhatWasDone(t *testing.T) {
	p := play(t, withUndo(", only_if: done"))
	p.bad["g3 step"] = badEnd
	end := p.run()
	assert.Equal(
		t,
		[]string{"g1 drain", "g1 step", "g2 step", "g3 step (in part)", "g2 unstep", "g1 unstep", "g1 fill"},
		p.done,
	)
	assert.Contains(
		t,
		end.Because,
		`"Step the clock" on g3: failed after it had begun, it ended with 3; not undone, its undo is only for what was done whole.`,
	)
}

func TestNothingToTakeBackIsSaid(t *testing.T) {
	p := play(t, withUndo(""))
	p.bad["g1 drain"] = Failed
	end := p.run()
	assert.Empty(t, p.done)
	assert.Contains(t, end.Because, `"Drain it" on g1: not begun, it went wrong.`)
}

func TestAFailedUndoTellsWhatIsLeft(t *testing.T) {
	p := play(t, withUndo(""))
	p.bad["g3 step"], p.bad["g2 unstep"] = badEnd, badEnd
	end := p.run()
	assert.Contains(
		t,
		end.Because,
		`"Drain it" on g1: undone. "Step the clock" on g1, g3: undone. "Step the clock" on g2: may be undone in part`,
	)
}

func TestAnAnswerInPartIsUndone(t *testing.T) {
	for choice, undone := range map[string]bool{InPart: true, DidNot: false} {
		p := play(t, withUndo(""))
		p.bad["g3 step"] = Unknown
		p.asks = answers(choice)
		end := p.run()
		assert.Equal(t, HandedOver, end.State)
		assert.Equal(t, undone, slices.Contains(p.done, "g3 unstep"), choice)
		assert.Contains(t, p.done, "g2 unstep")
		q := find[QuestionRaised](p)
		require.Len(t, q, 1)
		assert.Equal(t, []string{Happened, InPart, DidNot, DoItAgain}, q[0].Choices)
	}
}

// A change that is unknown when a run is cancelled with its undo is asked about first.
func TestACancelAsksAboutTheUnknownFirst(t *testing.T) {
	for _, c := range []struct {
		choice string
		undone bool
		says   string
	}{
		{Happened, true, `"Drain it" on g1: undone. "Step the clock" on g1, g2, g3: undone.`},
		{InPart, true, `"Drain it" on g1: undone. "Step the clock" on g1, g2, g3: undone.`},
		{DidNot, false, `"Drain it" on g1: undone. "Step the clock" on g1, g2: undone. "Step the clock" on g3: not begun, says mara.`},
		{"", false, `"Step the clock" on g3: outcome unknown, nobody could say; not undone, its outcome is unknown.`},
	} {
		p := play(t, strings.Replace(withUndo(""), "on_error: undo", "", 1))
		p.cancelAt, p.bad["g3 step"] = "g3 step", Unknown
		if c.choice != "" {
			p.asks = answers(c.choice)
		}
		end := p.run()
		assert.Equal(t, Cancelled, end.State)
		assert.Equal(t, c.undone, slices.Contains(p.done, "g3 unstep"), c.choice)
		assert.Contains(t, p.done, "g1 fill")
		assert.Contains(t, end.Because, c.says)
		q := find[QuestionRaised](p)
		require.Len(t, q, 1)
		assert.Equal(t, []string{Happened, InPart, DidNot}, q[0].Choices)
	}
}

const inABlock = `
on_error: undo
steps:
  - look: Stuck
    where: {name: g1}
    run: [stuck]
    read: {stuck: {json: .stuck}}
  - change: Drain it
    where: {name: g2}
    run: [drain]
    undo: {run: [fill]}
  - change: Park it
    where: {name: g1}
    run: [park]
    still: own(readings.stuck) != ""
    gate: {within: 5m%s}
` + closing

// A decision against a later change says what was changed before, and an on_error takes it back, unless the gate itself
// provides for it.
func TestADecisionAgainstALaterChangeTellsOfTheEarlier(t *testing.T) {
	refuse := func(g GateRaised) *GateDecided {
		return &GateDecided{Gate: g.Gate, Approved: !strings.HasSuffix(g.Gate, ":3:1"), By: "mara", Digest: g.Digest}
	}
	for name, c := range map[string]struct {
		gate     string
		says     string
		stuck    string
		decide   func(g GateRaised) *GateDecided
		takeBack bool
	}{
		"refused": {"",
			`mara refused the change "Park it". "Drain it" on g2: undone.`, "m-7", refuse, true},
		"refused, provided": {", refused: hand_over",
			`mara refused the change "Park it". "Drain it" on g2: done.`, "m-7", refuse, false},
		"unanswered": {
			"", `Nobody answered the gate before "Park it" in time. "Drain it" on g2: undone.`, "m-7", func(g GateRaised) *GateDecided {
				if strings.HasSuffix(g.Gate, ":3:1") {
					return nil
				}
				return &GateDecided{Gate: g.Gate, Approved: true, By: "mara", Digest: g.Digest}
			}, true},
		"no longer wanted": {"",
			`no longer holds on g1. "Drain it" on g2: undone.`, "", nil,
			true},
	} {
		p := play(t, strings.Replace(inABlock, "%s", c.gate, 1))
		p.says = func(Intent) string {
			if slices.Contains(p.done, "g2 drain") && c.stuck == "" {
				return `{"stuck": ""}`
			}
			return `{"stuck": "m-7"}`
		}
		if c.decide != nil {
			p.gates = c.decide
		}
		end := p.run()
		assert.Equal(t, HandedOver, end.State, name)
		assert.Contains(t, end.Because, c.says, name)
		assert.Equal(t, c.takeBack, slices.Contains(p.done, "g2 fill"), name)
		assert.NotContains(t, end.Because, "Nothing was changed", name)
	}
}
