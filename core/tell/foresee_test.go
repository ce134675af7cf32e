package tell

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"urgentis/core/flow"
	"urgentis/core/runbook"
	"urgentis/internal/testbooks"
)

// TestWhatIsForeseenComes plays generated runbooks in which gates are told yes, no, or nothing, and holds what was
// foreseen at each gate against what came: what follows at once, and how the run ended.
func TestWhatIsForeseenComes(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		src := header + testbooks.Author{T: t, People: true}.Book()
		b, found := runbook.Parse([]byte(src))
		require.False(t, found.Failed(), found.Format("generated", []byte(src)))
		type said struct {
			gate string
			word runbook.Word
			way  Way
			at   int // where the log was
			// alone says that nothing else was under way, or waited for a word: what comes at once is no other's doing.
			alone bool
		}
		var all []said
		p := playBook(t, b)
		p.Patient = true
		p.Watch = func(log []flow.Event) { p.log = log }
		p.Do = func(_ flow.Place, in flow.Intent, now time.Time) flow.Outcome { return p.any(t, in, now) }
		p.Decide = func(_ flow.Place, g flow.GateRaised) *flow.GateDecided {
			i := slices.IndexFunc(all, func(s said) bool { return s.gate == g.Gate })
			if i < 0 {
				i = len(all)
				x := said{gate: g.Gate, at: len(p.log), alone: alone(t, b, p.log)}
				x.word = rapid.SampledFrom([]runbook.Word{runbook.Yes, runbook.Yes, runbook.No, runbook.Silence}).
					Draw(t, "word")
				seen, err := Foresee(b, p.log, g.Gate, p.log[len(p.log)-1].At)
				require.NoError(t, err)
				x.way = map[runbook.Word]Way{
					runbook.Yes: seen.Yes, runbook.No: seen.No, runbook.Silence: seen.Silence,
				}[x.word]
				all = append(all, x)
			}
			d := yes(g)
			d.Approved, d.By = all[i].word == runbook.Yes, fmt.Sprint("p", wordsOn(p.log, g.Gate))
			if all[i].word == runbook.Silence {
				return nil
			}
			return d
		}
		p.Answer = func(_ flow.Place, q flow.QuestionRaised) *flow.QuestionAnswered {
			if slices.ContainsFunc(all, func(s said) bool { return s.gate == q.Question }) {
				return nil
			}
			seen, err := ForeseeAnswers(b, p.log, q.Question, p.log[len(p.log)-1].At)
			require.NoError(t, err)
			choice := rapid.SampledFrom(append(slices.Clone(q.Choices), "")).Draw(t, "choice")
			all = append(all, said{q.Question, runbook.Answer(choice), seen[choice], len(p.log), alone(t, b, p.log)})
			if choice == "" && len(q.Choices) > 0 {
				return nil
			}
			return &flow.QuestionAnswered{Question: q.Question, Choice: choice, By: "ola"}
		}
		p.run()
		last, _ := p.log[len(p.log)-1].Body.(flow.Ended)
		for _, x := range all {
			if !x.alone {
				continue // what runs beside it may turn it
			}
			end := howItEnded(last)
			assert.Contains(t, x.way.Ends, end, "%s at %s\n%s\n%s", x.word, x.gate, src, told(p.log[x.at:]))
			if x.way.Ended != nil {
				assert.Equal(t, *x.way.Ended, end, "%s at %s\n%s", x.word, x.gate, src)
			}
			for _, move := range x.way.First {
				assert.True(
					t,
					came(p.log[x.at:], move),
					"%s at %s: %s did not come\n%s\n%s",
					x.word,
					x.gate,
					move.says(),
					src,
					told(p.log[x.at:]),
				)
			}
		}
	})
}

// wordsOn counts the words on a gate so far.
func wordsOn(log []flow.Event, gate string) int {
	return len(slices.DeleteFunc(find[flow.GateDecided](log), func(d flow.GateDecided) bool { return d.Gate != gate }))
}

// any ends an attempt in any way.
func (p *theatre) any(t *rapid.T, in flow.Intent, now time.Time) flow.Outcome {
	exit := 3
	if !in.Touches() {
		p.says = func(flow.Intent) string {
			return rapid.SampledFrom([]string{`{"n": 3, "done": 1}`, `{"n": 3, "done": 0}`, `{"n": 4, "done": 0}`, "x"}).
				Draw(t, "says")
		}
		return p.do(in, now)
	}
	return rapid.SampledFrom([]flow.Outcome{
		{Attempt: in.Attempt, State: flow.OK}, {Attempt: in.Attempt, State: flow.OK},
		{Attempt: in.Attempt, State: flow.Failed, Exit: &exit},
		{Attempt: in.Attempt, State: flow.Failed, Error: "connection refused"},
		{Attempt: in.Attempt, State: flow.Unknown, Error: "nobody saw its end"},
	}).Draw(t, "end")
}

// alone reports whether one thing waits for a word, and nothing else is under way.
func alone(t require.TestingT, b *runbook.Book, log []flow.Event) bool {
	s, err := flow.Fold(b, log)
	require.NoError(t, err)
	gates, _ := s.OpenGates()
	questions, _ := s.OpenQuestions()
	return len(gates)+len(questions) == 1 && len(s.OpenAttempts()) == 0
}

// told writes a log, a line for each event.
func told(log []flow.Event) (out string) {
	for _, e := range log {
		body, err := json.Marshal(e.Body)
		out += fmt.Sprintf("%d %s %s %s %.160s %v\n", e.Seq, e.At.Format("15:04:05"), e.Place, e.Body.Kind(), body, err)
	}
	return out
}

// came reports whether a log holds a move.
func came(log []flow.Event, m Move) bool {
	for _, e := range log {
		switch b := e.Body.(type) {
		case flow.Intent:
			if m.Undo && b.Undoes() || !m.Undo && e.Place == m.Place {
				return true
			}
		case flow.GateRaised, flow.QuestionRaised, flow.Told, flow.Noted:
			if e.Place == m.Place {
				return true
			}
		}
	}
	return false
}

func TestForesight(t *testing.T) {
	for _, c := range []struct{ gate, steps, no, silence string }{
		{"", "", "Handed over to on-call/quayside.", "Handed over to on-call/quayside."},
		{", refused: stop, unanswered: go on", "", "Ended as failed.",
			"Goes on with “after” on g1. Ends: closed as repaired, or handed over to on-call/quayside."},
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
		p.Decide = nil
		p.run()
		gate := find[flow.GateRaised](p.log)
		require.NotEmpty(t, gate)
		seen, err := Foresee(b, p.log, gate[0].Gate, p.Now)
		require.NoError(t, err)
		assert.Equal(t, c.no, strings.Join(seen.No.lines(nil), " "))
		assert.Equal(t, c.silence, strings.Join(seen.Silence.lines(nil), " "))
		require.Len(t, seen.Yes.First, 1)
		assert.Equal(t, "Goes on with “C” on g1.", seen.Yes.First[0].says())
		_, err = Foresee(b, p.log, "another", p.Now)
		assert.ErrorIs(t, err, errNotOpen)
	}
}

// Somebody is asked what became of an undo: the answers tell where the run ends.
func TestWhereItEndsIsForeseenWhileItIsUndone(t *testing.T) {
	for place, onError := range map[string]string{"1.on_error": "    on_error: undo\n", "on_error": ""} {
		src := header
		if onError == "" {
			src += "on_error: undo\n"
		}
		b, found := runbook.Parse([]byte(src + "steps:\n  - change: C\n    where: {role: gate}\n    run: [do]\n" +
			"    undo: {run: [undo]}\n" + onError + "  - close: repaired\n    because: done\n"))
		require.NotNil(t, b, "%s", found)
		assert.Equal(t, []runbook.End{{Kind: runbook.EndHandedOver, To: "on-call/quayside"}},
			b.EndsAfter([]string{place}, runbook.Answer(flow.DoItAgain)), place)
	}
}
