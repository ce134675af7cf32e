package tell

import (
	"testing"
	"time"

	"urgentis/core/flow"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// ends lists the nodes of a run's picture at which it arrived, and those that failed.
func ends(s *flow.State) (reached, failed []string) {
	for _, n := range s.Book().Graph(Been(s, time.Now())).Nodes {
		switch n.State {
		case "reached":
			reached = append(reached, n.ID)
		case "failed":
			failed = append(failed, n.ID)
		}
	}
	return reached, failed
}

const ending = `
steps:
  - look: Count
    id: count
    where: {role: gate}
    run: [count]
    read: {n: {json: .n, type: integer}}
  - check: High?
    that: max(readings.n) > 5
    fails:
      - close: false-alarm
        because: few
  - change: Restart
    id: restart
    where: {name: g1}
    run: [restart]
    gate: {ask: team/quayside, within: 5m, refused: stop}
  - each: Every gate
    where: {role: gate}
    on_error: stop
    steps:
      - change: Drain
        where: {name: "{{ target.name }}"}
        run: [drain]
        gate: {ask: team/quayside}
`

func TestAtWhichEndARunArrived(t *testing.T) {
	for name, c := range map[string]struct {
		set     func(p *theatre)
		reached string
		failed  []string
	}{
		"its steps are over":           {func(*theatre) {}, "end", nil},
		"a step that closes":           {says("1"), "2.fails.1", nil},
		"a way that nobody wrote":      {says("x"), "2.unsure", []string{"2"}},
		"a gate that was refused":      {refuses("restart"), "3.refused", []string{"3.gate"}},
		"a gate nobody answered":       {silent("restart"), "3.unanswered", []string{"3.gate"}},
		"the on_error of a block":      {bad("g3 drain"), "4.on_error", []string{"4.do.1"}},
		"a trouble of a lonely change": {bad("g1 restart"), "on_error.end", []string{"3"}},
	} {
		p := play(t, ending)
		p.says = func(flow.Intent) string { return `{"n": 7}` }
		c.set(p)
		reached, failed := ends(p.run())
		assert.Equal(t, []string{c.reached}, reached, name)
		assert.Equal(t, c.failed, failed, name)
	}
}

func TestAtWhichEndARunArrivedThatHasALastWord(t *testing.T) {
	for n, want := range map[string]string{"1": "2.fails.1", "7": "end"} {
		p := play(t, ending+"finally:\n  - tell: Over\n")
		says(n)(p)
		reached, _ := ends(p.run())
		assert.Equal(t, []string{want}, reached, n)
	}
}

func says(n string) func(*theatre) {
	return func(p *theatre) { p.says = func(flow.Intent) string { return `{"n": ` + n + `}` } }
}

func bad(what string) func(*theatre) { return func(p *theatre) { p.bad[what] = true } }

func refuses(word string) func(*theatre) {
	return func(p *theatre) {
		p.Decide = func(_ flow.Place, g flow.GateRaised) *flow.GateDecided {
			d := yes(g)
			d.Approved = g.Proposal.Requests[0].Words[0] != word
			return d
		}
	}
}

func silent(word string) func(*theatre) {
	return func(p *theatre) {
		p.Patient = true
		p.Decide = func(_ flow.Place, g flow.GateRaised) *flow.GateDecided {
			if g.Proposal.Requests[0].Words[0] == word {
				return nil
			}
			return yes(g)
		}
	}
}

func TestWhereARunWaitsIsDrawn(t *testing.T) {
	p := play(t, ending)
	p.says = func(flow.Intent) string { return `{"n": 7}` }
	var gate, step string
	p.Watch = func(log []flow.Event) { p.log = log }
	p.Decide = func(_ flow.Place, g flow.GateRaised) *flow.GateDecided {
		s, err := flow.Fold(p.Book, p.log)
		require.NoError(t, err)
		for _, n := range p.Book.Graph(Been(s, p.Now)).Nodes {
			switch n.ID {
			case "3.gate":
				gate = n.State
			case "3":
				step = n.State
			}
		}
		return &flow.GateDecided{Gate: g.Gate, By: "mara", Digest: g.Digest}
	}
	p.run()
	assert.Equal(t, "waiting", gate)
	assert.Empty(t, step, "what waits for its approval was not begun")
}
