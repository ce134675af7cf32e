package tell

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"urgentis/core/expr"
	"urgentis/core/flow"
	"urgentis/core/leave"
	"urgentis/core/reading"
	"urgentis/core/runbook"
	"urgentis/core/task"
)

const header = "urgentis: runbook/1\nname: play\ntitle: Play\nowner: quayside\nservice: gates\n"

// theatre plays a runbook against six hosts, to its end or to where somebody would be asked who says nothing.
type theatre struct {
	Stage
	t    require.TestingT
	says func(in flow.Intent) string // what a look prints
	bad  map[string]bool             // commands that end badly, by "target word"
	log  []flow.Event
}

func play(t testing.TB, src string) *theatre {
	b, f := runbook.Parse([]byte(header + src))
	require.False(t, f.Failed(), f.Format("x", []byte(header+src)))
	return playBook(t, b)
}

func playBook(t require.TestingT, b *runbook.Book) *theatre {
	p := &theatre{t: t, bad: map[string]bool{}, says: func(flow.Intent) string { return "{}" }}
	inputs, err := b.AcceptAll(nil)
	require.NoError(t, err)
	begun := flow.Begun{Rules: flow.Rules, Run: "r1", Runbook: b.Name, Revision: b.Revision, Inputs: inputs,
		Alert:   map[string]any{"summary": "s", "severity": "major", "state": "open"},
		Service: map[string]any{"name": "gates", "owner": "quayside"}}
	for i := 1; i <= 6; i++ {
		begun.Estate = append(begun.Estate, flow.Target{Name: fmt.Sprintf("g%d", i),
			Address: fmt.Sprintf("127.0.10.%d", i), Labels: map[string]string{"role": "gate"}})
	}
	p.Stage = Stage{Book: b, Begun: begun, Now: time.Date(2031, 3, 1, 2, 0, 0, 0, time.UTC), Limit: 3000,
		Do: func(_ flow.Place, in flow.Intent, now time.Time) flow.Outcome { return p.do(in, now) },
		Leave: func(a flow.AskLeave) flow.LeaveGiven {
			given := flow.LeaveGiven{Verdict: leave.Gate, Reasons: []string{"ask"}}
			if a.Look || a.Undo {
				given.Verdict = leave.Yes
			}
			for _, t := range a.Targets {
				given.Facts = append(given.Facts, task.Facts{Name: t, HostKey: "k"})
			}
			return given
		},
		Decide: func(_ flow.Place, g flow.GateRaised) *flow.GateDecided { return yes(g) },
	}
	return p
}

func yes(g flow.GateRaised) *flow.GateDecided {
	return &flow.GateDecided{Gate: g.Gate, Approved: true, By: "mara", Digest: g.Digest}
}

// run plays, and gives the run as it is read anew.
func (p *theatre) run() *flow.State {
	var err error
	p.log, _, err = p.Play()
	require.NoError(p.t, err)
	s, err := flow.Fold(p.Book, p.log)
	require.NoError(p.t, err)
	return s
}

func (p *theatre) do(in flow.Intent, now time.Time) flow.Outcome {
	o := flow.Outcome{Attempt: in.Attempt, State: flow.OK}
	if in.Touches() {
		if p.bad[in.Target+" "+in.Request.Words[0]] {
			exit := 3
			o.State, o.Exit = flow.Failed, &exit
		}
		return o
	}
	look, _ := flow.Find(p.Book, in.Look)
	for _, spec := range look.Read {
		v, err := reading.Take(spec, []byte(p.says(in)), nil)
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
		o.Readings[spec.Name] = expr.Sample{Value: v, Target: in.Target, At: now}
	}
	return o
}

func find[B flow.Body](log []flow.Event) (out []B) {
	for _, e := range log {
		if b, ok := e.Body.(B); ok {
			out = append(out, b)
		}
	}
	return out
}
