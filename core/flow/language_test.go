package flow

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/expr"
	"urgentis/core/leave"
	"urgentis/core/reading"
	"urgentis/core/runbook"
)

// theatre plays a runbook against a small fleet, whose hosts count what they carry out.
type theatre struct {
	t     testing.TB
	m     *Machine
	now   time.Time
	log   []Event
	done  []string               // commands that changed something, in their order
	says  func(in Intent) string // what a look prints
	bad   map[string]string      // commands that fail, or are unknown, by "target word"
	gates func(g GateRaised) *GateDecided
	asks  func(q QuestionRaised) *QuestionAnswered
	most  int // attempts under way at once, at most
	held  string
}

const header = "urgentis: runbook/1\nname: play\ntitle: Play\nowner: quayside\nservice: gates\n"

func play(t testing.TB, src string) *theatre {
	b, f := runbook.Parse([]byte(header + src))
	require.False(t, f.Failed(), f.Format("x", []byte(header+src)))
	return playBook(t, b)
}

func playBook(t testing.TB, b *runbook.Book) *theatre {
	p := &theatre{t: t, now: time.Date(2031, 3, 1, 2, 0, 0, 0, time.UTC), bad: map[string]string{}, says: func(Intent) string { return "{}" },
		gates: func(g GateRaised) *GateDecided {
			return &GateDecided{Gate: g.Gate, Approved: true, By: "mara", Digest: g.Digest}
		},
		asks: func(QuestionRaised) *QuestionAnswered { return nil }}
	begun := Begun{Rules: Rules, Run: "r1", Runbook: b.Name, Revision: b.Revision, StartedBy: "trigger:x", Inputs: map[string]any{},
		Alert: map[string]any{"summary": "s", "severity": "major", "state": "open"}, Service: map[string]any{"name": "gates", "owner": "quayside"}}
	for i := 1; i <= 6; i++ {
		begun.Estate = append(begun.Estate, Target{Name: fmt.Sprintf("g%d", i), Address: fmt.Sprintf("127.0.10.%d", i), Labels: map[string]string{"role": "gate"},
			Known: map[string]any{"zone": map[string]any{"tz": "UTC", "peers": []any{"a", "b"}}}})
	}
	p.m = &Machine{book: b, s: newState(b)}
	p.add("", begun)
	return p
}

func (p *theatre) add(path string, b Body) {
	if p.t == nil {
		e, _ := p.m.Append(Event{At: p.now, Path: path, Body: b})
		p.log = append(p.log, e)
		return
	}
	data, err := json.Marshal(b)
	require.NoError(p.t, err)
	back, err := Decode(b.Kind(), data)
	require.NoError(p.t, err)
	e, err := p.m.Append(Event{At: p.now, Path: path, Body: back})
	require.NoError(p.t, err)
	p.log = append(p.log, e)
}

// run plays to the end. The machine that reads each event as it comes and one that reads the whole log must agree.
func (p *theatre) run() Ended {
	for range 3000 {
		before := slices.Clone(p.log)
		plan, err := p.m.Plan(p.now)
		require.NoError(p.t, err)
		anew, err := Next(p.m.book, before, p.now)
		require.NoError(p.t, err)
		require.Equal(p.t, jsonOf(p.t, anew.Events), jsonOf(p.t, plan.Events), "a log that is read anew gives the same answer")
		p.log = append(p.log, plan.Events...)
		if plan.Ended {
			p.record()
			return p.log[len(p.log)-1].Body.(Ended)
		}
		open := p.m.s.OpenAttempts()
		p.most = max(p.most, len(open))
		switch {
		case plan.AskLeave != nil:
			given := LeaveGiven{Verdict: leave.Gate, Reasons: []string{"ask"}}
			for _, t := range plan.AskLeave.Targets {
				given.Facts = append(given.Facts, leave.Facts{Name: t, HostKey: "k"})
			}
			p.add(plan.AskLeave.Path, given)
		case plan.WantLocks != nil && p.held != "":
			p.add(plan.WantLocks.Path, LocksAwaited{Key: plan.WantLocks.Keys[0], Holder: p.held})
			p.held = ""
		case plan.WantLocks != nil:
			p.add(plan.WantLocks.Path, LocksTaken{Keys: append(plan.WantLocks.Keys, plan.WantLocks.Shared...)})
		case len(open) > 0:
			p.add(p.m.s.PathOf(open[0].Attempt), p.do(open[0]))
		case p.person():
		case !plan.Wake.IsZero() && plan.Wake.After(p.now):
			p.now = plan.Wake
		default:
			require.NotEmpty(p.t, plan.Events, "stuck: %v", p.kinds())
		}
	}
	require.Fail(p.t, "it does not end")
	return Ended{}
}

// record keeps the log for later versions of the program, where URGENTIS_RECORD says so; see TestOldLogsGoOn.
func (p *theatre) record() {
	if os.Getenv("URGENTIS_RECORD") == "" || len(p.m.book.Calls()) > 0 {
		return
	}
	out := recorded{Book: string(p.m.book.Source)}
	for _, e := range p.log {
		body, err := json.Marshal(e.Body)
		require.NoError(p.t, err)
		out.Log = append(out.Log, recordedEvent{e.Seq, e.At, e.Path, e.Body.Kind(), body})
	}
	text, err := json.Marshal(out)
	require.NoError(p.t, err)
	dir := fmt.Sprintf("testdata/rules%d", Rules)
	require.NoError(p.t, os.MkdirAll(dir, 0o755))
	require.NoError(p.t, os.WriteFile(filepath.Join(dir, strings.TrimPrefix(p.t.Name(), "Test")+".json"), append(text, '\n'), 0o644)) //nolint:gosec // test data are no secret
}

func jsonOf(t testing.TB, v any) string {
	b, err := json.Marshal(v)
	require.NoError(t, err)
	return string(b)
}

func (p *theatre) do(in Intent) Outcome {
	o := Outcome{Attempt: in.Attempt, State: OK}
	word := ""
	if len(in.Request.Words) > 0 {
		word = in.Request.Words[0]
	}
	if why, ok := p.bad[in.Target+" "+word]; ok {
		o.State, o.Error = why, "it went wrong"
		return o
	}
	if in.Change {
		p.done = append(p.done, in.Target+" "+strings.Join(in.Request.Words, " "))
		return o
	}
	look, _ := Find(p.m.book, in.Look)
	out := p.says(in)
	for _, spec := range look.Read {
		v, err := reading.Take(spec, []byte(out), nil)
		if err != nil {
			if o.Missing == nil {
				o.Missing = map[string]string{}
			}
			o.Missing[spec.Name] = err.Error()
			continue
		}
		if o.Readings == nil {
			o.Readings = map[string]expr.Taking{}
		}
		o.Readings[spec.Name] = expr.Taking{Value: v, Target: in.Target, At: p.now}
	}
	return o
}

func (p *theatre) person() bool {
	for path := range p.m.s.waits {
		st := p.m.s.steps[path]
		for _, g := range st.gates {
			if !g.open() {
				continue
			}
			if d := p.gates(g.raised); d != nil {
				p.add(path, *d)
				return true
			}
		}
		for _, q := range st.questions {
			if !q.open() {
				continue
			}
			if a := p.asks(q.raised); a != nil {
				p.add(path, *a)
				return true
			}
		}
	}
	return false
}

func (p *theatre) kinds() []string {
	var out []string
	for _, e := range p.log {
		out = append(out, e.Path+" "+e.Body.Kind())
	}
	return out
}

func find[T Body](p *theatre) []T {
	var out []T
	for _, e := range p.log {
		if b, ok := e.Body.(T); ok {
			out = append(out, b)
		}
	}
	return out
}

const closing = `
  - close: repaired
    because: done
`

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
    because: "{{ sum(readings.errors) }} in all, most on {{ takings(readings.errors)[5].target }}"
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
	assert.Contains(t, end.Because, `1 of 6 failed in "Restart". g3: The change "Restart it" failed on g3: it went wrong. The changes were taken back.`)
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
        run: [grow, "{{ max(readings.size) }}"]
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
	assert.Equal(t, []string{"g1 grow 5", "g1 grow 5"}, p.done)
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
		return &GateDecided{Gate: g.Gate, Approved: true, By: fmt.Sprintf("person-%d", n), Digest: g.Digest, StartAt: &later}
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

func TestTogetherAndCallAndParts(t *testing.T) {
	p := play(t, `
parts:
  count:
    inputs: {word: {type: text, default: errors}}
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
	other, f := runbook.Parse([]byte(strings.Replace(header, "name: play", "name: other", 1) + "inputs: {x: {type: integer}}\nfinally:\n  - note: N\n    text: \"{{ inputs.x }}\"\nsteps:\n  - hand_over: on-call/tide\n    because: \"x is {{ inputs.x }}\"\n"))
	require.False(t, f.Failed())
	_, f = b.Link(func(string) *runbook.Book { return nil })
	assert.Contains(t, f.Error(), "there is no part and no runbook other to call")
	_, f = b.Link(func(string) *runbook.Book { return b })
	assert.Contains(t, f.Error(), "play has no input x")
	linked, f := b.Link(func(string) *runbook.Book { return other })
	require.False(t, f.Failed())
	p := playBook(t, linked)
	assert.Equal(t, Ended{State: HandedOver, To: "on-call/tide", Because: "x is 7"}, p.run())
	assert.Equal(t, "7", find[Noted](p)[0].Text)
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
	assert.Contains(t, p.run().Because, `The wait "Until it is 3" came to its end, and max(readings.n) >= 3 does not hold.`)
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

	p = play(t, "steps:\n  - change: Restart\n    where: {name: g1}\n    run: [restart]\nfinally:\n  - change: Clean\n    where: {name: g1}\n    run: [clean]\n")
	p.bad["g1 clean"] = Failed
	assert.Contains(t, p.run().Because, "And then: ")
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
	assert.Contains(t, end.Because, "Nobody could say what became of the change")
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
	p.add("", AlertChanged{State: "open", Severity: "critical", Worse: true})
	p.add("", AlertChanged{State: "cleared", Severity: "critical", Cleared: true})
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
		case plan.AskLeave != nil:
			p.add(plan.AskLeave.Path, LeaveGiven{Verdict: leave.Yes, Facts: []leave.Facts{{Name: "g1"}}})
		case plan.WantLocks != nil:
			p.add(plan.WantLocks.Path, LocksTaken{Keys: append(plan.WantLocks.Keys, plan.WantLocks.Shared...)})
		case len(plan.Begin) > 0:
			p.add(p.m.s.PathOf(plan.Begin[0].Attempt), p.do(plan.Begin[0]))
		}
	}
	p.add("", CancelAsked{By: "mara", Because: "wrong quay", Undo: true})
	end := p.run()
	assert.Equal(t, Cancelled, end.State)
	assert.Equal(t, "Cancelled by mara: wrong quay.", end.Because)
	assert.Equal(t, []string{"g1 restart", "g1 start-old"}, p.done)
	assert.Len(t, find[Noted](p), 1)
}

func TestLimits(t *testing.T) {
	p := play(t, "limits: {one_at_a_time: alert.severity, give_up_after: 30m}\nsteps:\n  - wait: Long\n    for: 1h\n"+closing)
	p.held = "r0"
	end := p.run()
	assert.Equal(t, "The runbook gives up after 30m0s.", end.Because)
	assert.Equal(t, []string{"turn:play:major"}, find[LocksTaken](p)[0].Keys)
	assert.Equal(t, "r0", find[LocksAwaited](p)[0].Holder)
}

func TestAChangeWaitsForTheLockAndGivesUp(t *testing.T) {
	p := play(t, "steps:\n  - change: Restart\n    where: {name: g1}\n    run: [restart]\n"+closing)
	p.held = "r0"
	assert.Equal(t, Done, p.run().State)
	assert.Equal(t, []string{"target:g1", "service:gates"}, find[LocksTaken](p)[0].Keys)
	// The leave is from before the wait: it is asked for anew, in the transaction that begins the change.
	kinds := strings.Join(p.kinds(), " ")
	assert.Contains(t, kinds, "locks.taken 1 leave.given 1 attempt.intended")
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
	assert.Equal(t, `["g3"]`, find[Noted](p)[0].Text)
	assert.Equal(t, []reading.Difference{{Target: "g3", At: "/peers", Says: `lacks "a"`}, {Target: "g3", At: "/tz", Says: `is "CET", wanted is "UTC"`}}, find[Judged](p)[0].Differences)
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
    run: [set, "{{ own(readings.n) }}"]
    fresh: 1m
`+closing)
	n := 0
	p.says = func(Intent) string { n++; return fmt.Sprintf(`{"n": %d}`, n) }
	assert.Equal(t, Done, p.run().State)
	assert.Equal(t, []string{"g1 set 2"}, p.done)
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
		if in.Undo != "" {
			undos++
		}
	}
	assert.Equal(t, 1, undos)
}
