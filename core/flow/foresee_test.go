package flow

import (
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"urgentis/core/leave"
	"urgentis/core/runbook"
)

// TestWhatIsForeseenComes plays generated runbooks in which gates are told yes, no, or nothing, and holds what was
// foreseen at each gate against what came: what follows at once, and how the run ended.
func TestWhatIsForeseenComes(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		src := header + (&author{t: t, people: true}).book()
		b, found := runbook.Parse([]byte(src))
		require.False(t, found.Failed(), found.Format("generated", []byte(src)))
		begun := playBook(nil, b).log[0]
		type said struct {
			gate string
			word runbook.Word
			way  Way
			at   int // where the log was
		}
		var all []said
		p := &stagehand{
			t: t, book: b, seed: rapid.IntRange(0, 1000).Draw(t, "seed"), crash: func() bool { return false },
			now: begun.At, turn: begun.At.Add(1000 * time.Hour), did: map[string]int{}, tried: map[string]int{},
		}
		p.word = func(gate string, m *Machine) runbook.Word {
			if i := slices.IndexFunc(all, func(s said) bool { return s.gate == gate }); i >= 0 {
				return all[i].word
			}
			x := said{gate: gate, at: len(p.log)}
			x.word = rapid.SampledFrom([]runbook.Word{runbook.Yes, runbook.Yes, runbook.No, runbook.Silence}).
				Draw(t, "word")
			seen, err := Foresee(b, p.log, gate, p.now)
			require.NoError(t, err)
			x.way = map[runbook.Word]Way{
				runbook.Yes: seen.Yes, runbook.No: seen.No, runbook.Silence: seen.Silence,
			}[x.word]
			all = append(all, x)
			return x.word
		}
		p.reply = func(q QuestionRaised, m *Machine) string {
			if i := slices.IndexFunc(all, func(s said) bool { return s.gate == q.Question }); i >= 0 {
				return ""
			}
			seen, err := ForeseeAnswers(b, p.log, q.Question, p.now)
			require.NoError(t, err)
			choice := rapid.SampledFrom(append(slices.Clone(q.Choices), "")).Draw(t, "choice")
			all = append(all, said{gate: q.Question, word: runbook.Answer(choice), way: seen[choice], at: len(p.log)})
			return choice
		}
		p.commit([]Event{begun})
		p.stored = 1
		p.play()
		last, _ := p.log[len(p.log)-1].Body.(Ended)
		for _, x := range all {
			end := howItEnded(last)
			assert.Contains(t, x.way.Ends, end, "%s at %s\n%s", x.word, x.gate, src)
			if x.way.Ended != nil {
				assert.Equal(t, *x.way.Ended, end, "%s at %s\n%s", x.word, x.gate, src)
			}
			for _, move := range x.way.First {
				assert.True(
					t,
					came(p.log[x.at:], move),
					"%s at %s: %s did not come\n%s",
					x.word,
					x.gate,
					move.says(),
					src,
				)
			}
		}
	})
}

// came reports whether a log holds a move.
func came(log []Event, m Move) bool {
	for _, e := range log {
		switch b := e.Body.(type) {
		case Intent:
			if m.Undo && b.Undoes() || !m.Undo && e.Path == m.Path {
				return true
			}
		case GateRaised, QuestionRaised, Told, Noted:
			if e.Path == m.Path {
				return true
			}
		}
	}
	return false
}

func TestForesight(t *testing.T) {
	for _, c := range []struct{ gate, steps, no, silence string }{
		{"", "", "handed over to on-call/quayside", "handed over to on-call/quayside"},
		{", refused: stop, unanswered: go on", "", "ended as failed",
			"goes on with “after” on g1; it can end so: closed as repaired, or handed over to on-call/quayside"},
	} {
		src := header + `steps:
  - change: C
    where: {name: g1}
    run: [x]
    gate: {ask: team/x, within: 10m` + c.gate + `}
  - look: after
    where: {name: g1}
    run: [look]
    read: {n: {json: .n, type: integer}}
  - close: repaired
    because: done
`
		b, found := runbook.Parse([]byte(src))
		require.False(t, found.Failed(), found.Format("test", []byte(src)))
		p := playBook(t, b)
		p.gates = func(GateRaised) *GateDecided { return nil }
		for range 20 {
			plan, err := p.m.Plan(p.now)
			require.NoError(t, err)
			p.log = append(p.log, plan.Events...)
			p.grant(plan, leave.Gate)
		}
		gate := find[GateRaised](p)
		require.NotEmpty(t, gate)
		seen, err := Foresee(b, p.log, gate[0].Gate, p.now)
		require.NoError(t, err)
		assert.Equal(t, c.no, seen.No.Says(nil))
		assert.Equal(t, c.silence, seen.Silence.Says(nil))
		require.Len(t, seen.Yes.First, 1)
		assert.Equal(t, "goes on with “C” on g1", seen.Yes.First[0].says())
		_, err = Foresee(b, p.log, "another", p.now)
		assert.ErrorIs(t, err, errNotOpen)
	}
}

// Somebody is asked what became of an undo: the answers tell where the run ends.
func TestWhereItEndsIsForeseenWhileItIsTakenBack(t *testing.T) {
	for place, onError := range map[string]string{"1.on_error": "    on_error: undo\n", "on_error": ""} {
		src := header
		if onError == "" {
			src += "on_error: undo\n"
		}
		b, found := runbook.Parse([]byte(src + "steps:\n  - change: C\n    where: {role: gate}\n    run: [do]\n" +
			"    undo: {run: [undo]}\n" + onError + "  - close: repaired\n    because: done\n"))
		require.NotNil(t, b, "%s", found)
		assert.Equal(t, []runbook.End{{Kind: runbook.EndHandedOver, To: "on-call/quayside"}},
			b.EndsAfter(place, runbook.Answer(DoItAgain)), place)
	}
}
