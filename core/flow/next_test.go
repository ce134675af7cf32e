package flow

import (
	"encoding/json"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"urgentis/core/expr"
	"urgentis/core/leave"
	"urgentis/core/reading"
	"urgentis/core/runbook"
	"urgentis/core/task"
)

func book(t require.TestingT, src string) *runbook.Book {
	b, f := runbook.Parse([]byte(src))
	require.False(t, f.Failed(), f.Format("x", []byte(src)))
	return b
}

func example(t require.TestingT) *runbook.Book {
	src, err := os.ReadFile("../../examples/ferry/runbooks/berth-queue-backlog.yaml")
	require.NoError(t, err)
	return book(t, string(src))
}

// world is a small fleet with a queue, and plays the part of the engine around Next.
type world struct {
	t      require.TestingT
	book   *runbook.Book
	log    []Event
	now    time.Time
	depth  int
	stuck  string
	parked int
	silent map[string]bool // targets that do not answer
	stance leave.Stance
	hostKy string
	// person answers gates and questions; nil leaves them unanswered.
	person func(w *world, b Body) Body
	// crash is asked after each commit whether the engine dies now, before it acts or reports.
	crash func(where string) bool
	// lostEnd makes the connection drop after a change was carried out.
	lostEnd bool
}

func newWorld(t require.TestingT, b *runbook.Book) *world {
	w := &world{t: t, book: b, now: time.Date(2031, 3, 1, 2, 0, 0, 0, time.UTC), depth: 812, stuck: "m-7",
		silent: map[string]bool{}, stance: leave.Ask, hostKy: "key", crash: func(string) bool { return false }}
	w.person = func(_ *world, b Body) Body {
		switch x := b.(type) {
		case GateRaised:
			return GateDecided{Gate: x.Gate, Approved: true, By: "mara", Digest: x.Digest}
		case QuestionRaised:
			choice := DidNot
			if w.parked > 0 {
				choice = Happened
			} else {
				choice = DoItAgain
			}
			return QuestionAnswered{Question: x.Question, Choice: choice, By: "mara"}
		}
		return nil
	}
	inputs, err := b.AcceptAll(map[string]any{"queue": "north"})
	require.NoError(t, err)
	w.append(
		Place{},
		Begun{
			Rules:     Rules,
			Run:       "r1",
			Runbook:   b.Name,
			Revision:  b.Revision,
			Inputs:    inputs,
			StartedBy: "trigger:backlog",
			Alert:     map[string]any{"summary": "deep", "labels": map[string]string{"queue": "north"}},
			Service:   map[string]any{"name": "berth-queue", "owner": "quayside"},
			Estate: []Target{
				{Name: "consumer-2", Address: "127.0.10.12", Labels: map[string]string{"role": "consumer"}},
				{Name: "consumer-1", Address: "127.0.10.11", Labels: map[string]string{"role": "consumer"}},
				{Name: "db-1", Address: "127.0.10.20", Labels: map[string]string{"role": "db"}},
			},
		},
	)
	return w
}

// append stores an event as the database would: through JSON.
func (w *world) append(place Place, b Body) {
	data, err := json.Marshal(b)
	require.NoError(w.t, err)
	back, err := Decode(b.Kind(), data)
	require.NoError(w.t, err)
	w.log = append(w.log, Event{Seq: int64(len(w.log)) + 1, At: w.now, Place: place, Body: back})
}

func (w *world) do(in Intent) Outcome {
	o := Outcome{Attempt: in.Attempt, State: OK}
	if w.silent[in.Target] {
		o.State, o.Error = Failed, "no answer within 30s"
		return o
	}
	out := ""
	switch {
	case in.Request.Kind == "http":
		out = `{"state":"stalled"}`
	case in.Request.Words[1] == "depth":
		out = fmt.Sprintf(`{"depth":%d,"stuck_message":%q}`, w.depth, w.stuck)
		if w.stuck == "" {
			w.depth = max(0, w.depth-400)
		} else {
			w.depth += 5
		}
	case in.Request.Words[1] == "park":
		if in.Request.Words[4] == w.stuck {
			w.stuck = ""
		}
		w.parked++
		if w.lostEnd {
			o.State, o.Error = Unknown, "the connection was lost"
		}
		return o
	}
	if look := w.book.Step(in.Look.Static()); look != nil {
		for _, spec := range look.Read {
			v, err := reading.Take(spec, []byte(out), nil)
			if err == nil {
				if o.Readings == nil {
					o.Readings = map[string]expr.Sample{}
				}
				o.Readings[spec.Name] = expr.Sample{Value: v, Target: in.Target, At: w.now}
			}
		}
	}
	return o
}

// play drives the run to its end, restarting after every crash.
func (w *world) play() Ended {
	for range 2000 {
		p, err := planNow(w.book, w.log, w.now)
		require.NoError(w.t, err)
		again, err := planNow(w.book, w.log, w.now)
		require.NoError(w.t, err)
		require.Equal(w.t, p, again, "the same log must give the same answer")
		if p.Ended && len(p.Events) == 0 {
			return w.log[len(w.log)-1].Body.(Ended)
		}
		if w.crash("before the commit") {
			w.recover()
			continue
		}
		for _, e := range p.Events {
			w.append(e.Place, e.Body)
		}
		for _, l := range p.WantLocks {
			w.append(l.Place, l.Taken(w.now).Body)
		}
		for _, ask := range p.AskLeave {
			var facts []task.Facts
			for _, t := range ask.Targets {
				facts = append(facts, task.Facts{Name: t, HostKey: w.hostKy})
			}
			a := leave.Decide(leave.Question{Stance: w.stance, HasGate: ask.HasGate})
			w.append(ask.Place, ask.Given(LeaveGiven{Verdict: a.Verdict, Reasons: a.Reasons, Facts: facts}, w.now).Body)
		}
		if len(p.WantLocks)+len(p.AskLeave) > 0 {
			continue
		}
		crashed := false
		for _, in := range p.Begin {
			if w.crash("before " + in.Attempt) {
				crashed = true
				break
			}
			o := w.do(in)
			if w.crash("after " + in.Attempt) {
				crashed = true
				break
			}
			s, err := Fold(w.book, w.log)
			require.NoError(w.t, err)
			w.append(s.PlaceOf(in.Attempt), o)
		}
		if crashed {
			w.recover()
			continue
		}
		if len(p.Begin) > 0 {
			continue
		}
		if w.answer() {
			continue
		}
		if !p.Wake.IsZero() {
			w.now = p.Wake
		} else {
			require.NotEmpty(w.t, p.Events, "the run is stuck: nothing to do, nothing to wait for")
		}
	}
	require.Fail(w.t, "the run does not end")
	return Ended{}
}

func (w *world) recover() {
	s, err := Fold(w.book, w.log)
	require.NoError(w.t, err)
	for _, in := range s.OpenAttempts() {
		w.append(s.PlaceOf(in.Attempt), Lost{Attempt: in.Attempt, Because: "the service stopped"})
	}
}

func (w *world) answer() bool {
	if w.person == nil {
		return false
	}
	s, err := Fold(w.book, w.log)
	require.NoError(w.t, err)
	for _, e := range w.log {
		open := false
		switch b := e.Body.(type) {
		case GateRaised:
			g, _, _ := s.OpenGate(b.Gate)
			open = g != nil
		case QuestionRaised:
			q, _ := s.OpenQuestion(b.Question)
			open = q != nil
		}
		if open {
			if a := w.person(w, e.Body); a != nil {
				if q, ok := e.Body.(QuestionRaised); ok && s.EffectOf(q.Attempt) != nil {
					w.append(e.Place, Rested{Attempt: q.Attempt})
				}
				w.append(e.Place, a)
				return true
			}
		}
	}
	return false
}

func (w *world) kinds() []string {
	var out []string
	for _, e := range w.log {
		out = append(out, e.Body.Kind())
	}
	return out
}

func all[T Body](w *world) []T {
	var out []T
	for _, e := range w.log {
		if b, ok := e.Body.(T); ok {
			out = append(out, b)
		}
	}
	return out
}

func TestTheExampleRepairs(t *testing.T) {
	w := newWorld(t, example(t))
	end := w.play()
	assert.Equal(t, []Line{{"Park the unreadable message", []string{"consumer-1"}, "done"}}, end.Changes)
	end.Changes = nil
	assert.Equal(
		t,
		Ended{State: Done, Outcome: "repaired", Because: "Parked one message; depth fell from 827 to 32."},
		end,
	)
	assert.Equal(t, 1, w.parked)
	g := all[GateRaised](w)[0]
	assert.Equal(t, []string{"berthq", "park", "--queue", "north", "m-7"}, g.Proposal.Requests[0].Words)
	assert.Equal(t, []string{"berthq", "unpark", "--queue", "north", "m-7"}, g.Proposal.Requests[0].Undo.Words)
	assert.Equal(t, "consumer-1", g.Proposal.Requests[0].Target.Name)
	for _, in := range all[Intent](w) {
		if in.Touches() {
			assert.Equal(t, g.Proposal.Requests[0], in.Request, "what was approved is what runs")
			assert.Equal(t, g.Digest, in.Digest)
		}
	}
	assert.Equal(t, Passes, all[StillJudged](w)[0].Result)
}

func TestFalseAlarm(t *testing.T) {
	w := newWorld(t, example(t))
	w.depth = 3
	end := w.play()
	assert.Equal(t, "false-alarm", end.Outcome)
	assert.Equal(t, "Depth is 8, that is not above 200.", end.Because)
	assert.Equal(t, "acknowledge", all[Told](w)[0].Source)
	assert.Zero(t, w.parked)
}

func TestASilentTargetIsUnsureAndHandedOver(t *testing.T) {
	w := newWorld(t, example(t))
	w.depth, w.silent["consumer-2"] = 3, true // the one that answers looks healthy
	end := w.play()
	assert.Equal(t, HandedOver, end.State)
	assert.Equal(t, "on-call/quayside", end.To)
	assert.Contains(t, end.Because, "no depth from consumer-2")
	assert.Empty(t, end.Outcome)
	assert.Equal(t, Unsure, all[Judged](w)[0].Result)
}

func TestGateEnds(t *testing.T) {
	for name, c := range map[string]struct {
		person func(*world, Body) Body
		want   string
	}{
		"refused": {func(_ *world, b Body) Body {
			return GateDecided{Gate: b.(GateRaised).Gate, By: "mara", Comment: "not tonight"}
		}, `mara refused the change "Park the unreadable message": not tonight.`},
		"unanswered": {nil, `Nobody answered the gate before "Park the unreadable message" in time.`},
		"reason gone": {func(w *world, b Body) Body {
			w.stuck = ""
			return GateDecided{Gate: b.(GateRaised).Gate, Approved: true, By: "mara"}
		}, `Nothing was changed.`},
		"reason unsure": {func(w *world, b Body) Body {
			w.silent["consumer-1"] = true
			return GateDecided{Gate: b.(GateRaised).Gate, Approved: true, By: "mara"}
		}, `is unsure: no stuck from consumer-1. Nothing was changed.`},
	} {
		t.Run(name, func(t *testing.T) {
			w := newWorld(t, example(t))
			w.person = c.person
			end := w.play()
			assert.Equal(t, HandedOver, end.State)
			assert.Contains(t, end.Because, c.want)
			assert.Zero(t, w.parked)
		})
	}
}

func TestTheGateStandsAgainWhenTheTargetIsNotTheSame(t *testing.T) {
	w := newWorld(t, example(t))
	approve := w.person
	w.person = func(w *world, b Body) Body { w.hostKy = "other"; return approve(w, b) }
	end := w.play()
	gates := all[GateRaised](w)
	require.Len(t, gates, 2)
	assert.Contains(t, gates[1].Reasons[0], "the host key of consumer-1 was key and is other")
	assert.NotEqual(t, gates[0].Digest, gates[1].Digest)
	assert.Equal(t, "repaired", end.Outcome)
	assert.Equal(t, 1, w.parked)
}

func TestStanceDecides(t *testing.T) {
	src := strings.Replace(
		string(example(t).Source),
		"    gate: {ask: team/quayside, within: 20m, unanswered: hand_over}\n",
		"",
		1,
	)
	for stance, want := range map[leave.Stance]string{leave.Act: "change.cleared", leave.Ask: "gate.raised",
		leave.Suggest: "run.ended"} {
		w := newWorld(t, book(t, src))
		w.stance = stance
		end := w.play()
		assert.Contains(t, w.kinds(), want, stance)
		if stance == leave.Suggest {
			assert.Equal(t, HandedOver, end.State)
			assert.Contains(t, end.Because, "only suggested on this service")
		}
	}
}

func TestAnUnknownOutcomeAsksAPerson(t *testing.T) {
	w := newWorld(t, example(t))
	w.lostEnd = true
	assert.Equal(t, "repaired", w.play().Outcome)
	assert.Equal(t, 1, w.parked)
	assert.Len(t, all[QuestionRaised](w), 1)

	w = newWorld(t, example(t))
	w.lostEnd = true
	approve := w.person
	w.person = func(w *world, b Body) Body {
		if _, ok := b.(GateRaised); ok {
			return approve(w, b)
		}
		return nil
	}
	end := w.play()
	assert.Equal(t, HandedOver, end.State)
	assert.Contains(t, end.Because, "is unknown, and nobody could say")
	assert.Equal(t, 1, w.parked)
}

func TestRunsThatNobodyProvidedForHandOver(t *testing.T) {
	base := "urgentis: runbook/1\nname: x\ntitle: X\nowner: quayside\nservice: s\nsteps:\n"
	for name, c := range map[string]struct{ steps, state, want string }{
		"no end":    {"  - note: N\n    text: n\n", Done, "came to its end without closing"},
		"no target": {"  - change: C\n    where: {role: none}\n    run: [a]\n", HandedOver, "no target is selected"},
		"empty look is unsure": {"  - look: L\n    where: {role: none}\n    run: [a, depth]\n    read: {depth: " +
			"{json: .depth, type: integer}}\n  - check: C\n    that: max(readings.depth) > 1\n",
			HandedOver, "nothing has set depth yet"},
		"broken text": {"  - look: L\n    where: {role: none}\n    run: [a, depth]\n    read: {depth: {json: " +
			".depth, type: integer}}\n  - note: C\n    text: '{{ max(readings.depth) }}'\n",
			HandedOver, "cannot be done"},
		"skipped with otherwise": {"  - note: N\n    text: n\n    when: alert.summary == 'x'\n    otherwise:\n      " +
			"- hand_over: team/quayside\n        because: other\n", HandedOver, "other"},
		"stop": {"  - check: C\n    that: alert.summary == 'x'\n    fails: " +
			"stop\n", StateFail, `The check "C" fails (alert.summary is deep).`},
	} {
		t.Run(name, func(t *testing.T) {
			b := book(t, base+c.steps)
			w := &world{
				t:      t,
				book:   b,
				now:    time.Unix(0, 0).UTC(),
				crash:  func(string) bool { return false },
				stance: leave.Act,
			}
			w.append(Place{}, Begun{Rules: Rules, Run: "r", Alert: map[string]any{"summary": "deep"}})
			end := w.play()
			assert.Equal(t, c.state, end.State)
			assert.Contains(t, end.Because, c.want)
		})
	}
}

func TestAgainWantsToHoldSteady(t *testing.T) {
	src := strings.Replace(
		string(example(t).Source),
		"again: {every: 2s, for: 5m}",
		"again: {every: 10s, for: 5m, steady: 30s}",
		1,
	)
	w := newWorld(t, book(t, src))
	begin := w.now
	assert.Equal(t, "repaired", w.play().Outcome)
	assert.GreaterOrEqual(t, w.now.Sub(begin), 30*time.Second)
	w = newWorld(t, book(t, src))
	w.person = func(w *world, b Body) Body {
		g := b.(GateRaised)
		return GateDecided{Gate: g.Gate, Approved: true, By: "mara"}
	}
	w.depth = 5000
	end := w.play()
	assert.Equal(t, "repaired", end.Outcome)
}

func TestDepthThatDoesNotFallIsHandedOver(t *testing.T) {
	w := newWorld(t, example(t))
	b := string(w.book.Source)
	w.book = book(t, strings.Replace(b, "that: max(readings.depth) < inputs.low", "that: max(readings.depth) < 0", 1))
	begin := w.now
	end := w.play()
	assert.Equal(t, HandedOver, end.State)
	assert.Equal(t, "on-call/quayside", end.To)
	assert.InDelta(t, 300, w.now.Sub(begin).Seconds(), 2.1)
}

// Whenever the engine dies, the change begins at most once, the run ends, and it ends right.
func TestCrashesAnywhere(t *testing.T) {
	b := example(t)
	rapid.Check(t, func(rt *rapid.T) {
		w := newWorld(rt, b)
		left := rapid.IntRange(0, 8).Draw(rt, "crashes")
		step, at := 0, rapid.SliceOfN(rapid.IntRange(0, 40), left, left).Draw(rt, "at")
		w.crash = func(where string) bool {
			step++
			for _, a := range at {
				if a == step {
					return true
				}
			}
			return false
		}
		end := w.play()
		if w.parked > 1 {
			rt.Fatalf("parked %d times: %v", w.parked, w.kinds())
		}
		if end.Outcome != "repaired" || w.parked != 1 {
			rt.Fatalf("ended %+v, parked %d", end, w.parked)
		}
	})
}

func TestBadLogsAreRefused(t *testing.T) {
	b := example(t)
	w := newWorld(t, b)
	w.play()
	gap := append([]Event{}, w.log...)
	_, err := Next(b, append(gap[:3:3], gap[4:]...), w.now)
	assert.ErrorContains(t, err, "gap")
	_, err = Next(b, nil, w.now)
	assert.ErrorContains(t, err, "empty")
	newer := w.log[0].Body.(Begun)
	newer.Rules = Rules + 1
	_, err = Next(b, []Event{{Seq: 1, Body: newer}}, w.now)
	assert.ErrorContains(t, err, "this program knows")
	_, err = Decode("run.danced", []byte("{}"))
	assert.ErrorIs(t, err, ErrNewer)
}

func BenchmarkNext(b *testing.B) {
	bk := example(b)
	w := newWorld(b, bk)
	w.play()
	log := w.log[:len(w.log)-1]
	b.ReportMetric(float64(len(log)), "events")
	for b.Loop() {
		if _, err := Next(bk, log, w.now); err != nil {
			b.Fatal(err)
		}
	}
}
