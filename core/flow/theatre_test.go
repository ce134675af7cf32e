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

	"urgentis/core/expr"
	"urgentis/core/leave"
	"urgentis/core/reading"
	"urgentis/core/runbook"
	"urgentis/core/task"

	"github.com/stretchr/testify/require"
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
	// cancelAt is a command while which a person cancels, and wants the changes undone.
	cancelAt string
	suggests bool // changes are only suggested on this service
}

// badEnd is a command that ran and ended badly; Failed is one that was not begun.
const badEnd = "bad-end"

const header = "urgentis: runbook/1\nname: play\ntitle: Play\nowner: quayside\nservice: gates\n"

func play(t testing.TB, src string) *theatre {
	b, f := runbook.Parse([]byte(header + src))
	require.False(t, f.Failed(), f.Format("x", []byte(header+src)))
	return playBook(t, b)
}

func playBook(t testing.TB, b *runbook.Book) *theatre {
	p := &theatre{
		t:    t,
		now:  time.Date(2031, 3, 1, 2, 0, 0, 0, time.UTC),
		bad:  map[string]string{},
		says: func(Intent) string { return "{}" },
		gates: func(g GateRaised) *GateDecided {
			return &GateDecided{Gate: g.Gate, Approved: true, By: "mara", Digest: g.Digest}
		},
		asks: func(QuestionRaised) *QuestionAnswered { return nil },
	}
	begun := Begun{
		Rules:     Rules,
		Run:       "r1",
		Runbook:   b.Name,
		Revision:  b.Revision,
		StartedBy: "trigger:x",
		Inputs:    map[string]any{},
		Alert: map[string]any{
			"summary":  "s",
			"severity": "major",
			"state":    "open",
		},
		Service: map[string]any{"name": "gates", "owner": "quayside"},
	}
	for i := 1; i <= 6; i++ {
		begun.Estate = append(
			begun.Estate,
			Target{
				Name:    fmt.Sprintf("g%d", i),
				Address: fmt.Sprintf("127.0.10.%d", i),
				Labels:  map[string]string{"role": "gate"},
				Known:   map[string]any{"zone": map[string]any{"tz": "UTC", "peers": []any{"a", "b"}}},
			},
		)
	}
	p.m = &Machine{book: b, s: newState(b)}
	p.add(Place{}, begun)
	return p
}

func (p *theatre) add(place Place, b Body) {
	if p.t == nil {
		e, _ := p.m.Append(Event{At: p.now, Place: place, Body: b})
		p.log = append(p.log, e)
		return
	}
	data, err := json.Marshal(b)
	require.NoError(p.t, err)
	back, err := Decode(b.Kind(), data)
	require.NoError(p.t, err)
	e, err := p.m.Append(Event{At: p.now, Place: place, Body: back})
	require.NoError(p.t, err)
	p.log = append(p.log, e)
}

// run plays to the end. The machine that reads each event as it comes and one that reads the whole log must agree.
func (p *theatre) run() Ended {
	for range 3000 {
		before := slices.Clone(p.log)
		plan, err := p.m.Plan(p.now)
		require.NoError(p.t, err)
		again, err := openUnstored(p.m.book, before)
		require.NoError(p.t, err)
		anew, err := again.Plan(p.now)
		require.NoError(p.t, err)
		require.Equal(
			p.t,
			jsonOf(p.t, anew.Events),
			jsonOf(p.t, plan.Events),
			"a log that is read anew gives the same answer",
		)
		p.log = append(p.log, plan.Events...)
		if plan.Ended {
			p.record()
			return p.log[len(p.log)-1].Body.(Ended)
		}
		open := p.m.s.OpenAttempts()
		p.most = max(p.most, len(open))
		switch {
		case len(plan.AskLeave) > 0:
			for _, ask := range plan.AskLeave {
				given := LeaveGiven{Verdict: leave.Gate, Reasons: []string{"ask"}}
				if ask.Look && !p.suggests || ask.Undo {
					given.Verdict = leave.Yes
				}
				for _, t := range ask.Targets {
					given.Facts = append(given.Facts, task.Facts{Name: t, HostKey: "k"})
				}
				e := ask.Given(given, p.now)
				p.add(e.Place, e.Body)
			}
		case len(plan.WantLocks) > 0 && p.held != "":
			want := plan.WantLocks[0]
			p.add(want.Place, LocksAwaited{Key: want.Keys[0], Of: want.Of, Holder: p.held})
			p.held = ""
		case len(plan.WantLocks) > 0:
			for _, want := range plan.WantLocks {
				e := want.Taken(p.now)
				p.add(e.Place, e.Body)
			}
		case len(plan.AskRest) > 0:
			for _, id := range plan.AskRest {
				p.add(p.m.s.PlaceOf(id), Rested{Attempt: id})
			}
		case len(open) > 0:
			p.add(p.m.s.PlaceOf(open[0].Attempt), p.do(open[0]))
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
		out.Log = append(out.Log, recordedEvent{e.Seq, e.At, e.Place.String(), e.Body.Kind(), body})
	}
	text, err := json.Marshal(out)
	require.NoError(p.t, err)
	if len(text) > 1<<20 {
		return // a log that is large on purpose teaches nothing more
	}
	dir := fmt.Sprintf("testdata/rules%d", Rules)
	require.NoError(p.t, os.MkdirAll(dir, 0o755))
	require.NoError(
		p.t,
		os.WriteFile(filepath.Join(dir, strings.TrimPrefix(p.t.Name(), "Test")+".json"), append(text, '\n'), 0o644),
	) //nolint:gosec // test data are no secret
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
	if p.cancelAt == in.Target+" "+word {
		p.cancelAt = ""
		p.add(Place{}, CancelAsked{By: "mara", Undo: true})
	}
	if why, ok := p.bad[in.Target+" "+word]; ok {
		o.State, o.Error = why, "it went wrong"
		if why == badEnd {
			exit := 3
			o.State, o.Error, o.Exit = Failed, "", &exit
			p.done = append(p.done, in.Target+" "+strings.Join(in.Request.Words, " ")+" (in part)")
		}
		return o
	}
	if in.Touches() {
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
			o.Readings = map[string]expr.Sample{}
		}
		o.Readings[spec.Name] = expr.Sample{Value: v, Target: in.Target, At: p.now}
	}
	return o
}

func (p *theatre) person() bool {
	for place := range p.m.s.waits {
		st := p.m.s.steps[place]
		for _, g := range st.allGates() {
			if !g.open() {
				continue
			}
			if d := p.gates(g.raised); d != nil {
				p.add(place, *d)
				return true
			}
		}
		for _, q := range st.questions {
			if !q.open() {
				continue
			}
			if a := p.asks(q.raised); a != nil {
				if SaysNotBegun(a.Choice) && p.m.s.EffectOf(q.raised.Attempt) != nil {
					p.add(place, Rested{Attempt: q.raised.Attempt})
				}
				p.add(place, *a)
				return true
			}
		}
	}
	return false
}

func (p *theatre) kinds() []string {
	var out []string
	for _, e := range p.log {
		out = append(out, e.Place.String()+" "+e.Body.Kind())
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

// planNow plans on a log whose end is not on disk yet.
func planNow(book *runbook.Book, log []Event, now time.Time) (Plan, error) {
	m, err := openUnstored(book, log)
	if err != nil {
		return Plan{}, err
	}
	return m.Plan(now)
}

// grant gives all that a plan asks for: leave with one verdict, and locks.
func (p *theatre) grant(plan Plan, v leave.Verdict) (granted bool) {
	for _, ask := range plan.AskLeave {
		given := LeaveGiven{Verdict: v}
		for _, t := range ask.Targets {
			given.Facts = append(given.Facts, task.Facts{Name: t})
		}
		e := ask.Given(given, p.now)
		p.add(e.Place, e.Body)
		granted = true
	}
	for _, want := range plan.WantLocks {
		p.add(want.Place, want.Taken(p.now).Body)
		granted = true
	}
	return granted
}
