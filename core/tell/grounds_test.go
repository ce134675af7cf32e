package tell

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/expr"
	"urgentis/core/flow"
	"urgentis/core/reading"
)

func TestWhatAGateRestsOn(t *testing.T) {
	p := play(t, `inputs:
  low: {type: integer, default: 200}
steps:
  - look: Depth
    id: depth
    where: {role: gate}
    run: [depth]
    read:
      depth: {json: .n, type: integer, unit: messages}
      name: {json: .name}
  - check: Real?
    that: max(readings.depth) > 300
    fails: stop
  - change: C
    id: c
    where: {name: g1}
    run: [x]
    gate: {ask: team/x, within: 10m}
  - check: Helped?
    proves: c
    that: max(readings.depth) < inputs.low
  - close: repaired
    because: done
`)
	p.Decide = nil
	p.says = func(in flow.Intent) string { return `{"n": 31` + in.Target[1:] + `, "name": "x"}` }
	s := p.run()
	require.Len(t, find[flow.GateRaised](p.log), 1)
	list := Grounds(s, flow.PlaceOf("3"))
	require.Len(t, list, 1, "a text is no trend")
	g := list[0]
	assert.Equal(t, &expr.Limit{Reading: "depth", Op: "<", Value: 200}, g.Wanted)
	assert.Equal(t, &expr.Limit{Reading: "depth", Op: ">", Value: 300}, g.Held)
	assert.Equal(t, reading.Low, g.Good, "what is wanted says which way is better")
	assert.Equal(t, "depth 316 messages (target < 200), taken once", g.Says())
	assert.Empty(t, g.Gone())
	g.Add(Point{At: p.Now.Add(time.Minute), Target: "g2", Value: 500, ForGate: true})
	assert.Equal(t, "depth 316 → 500 messages (target < 200), getting worse", g.Says())
	for _, x := range []string{"g1", "g2", "g3", "g4", "g5", "g6"} {
		g.Add(Point{At: p.Now.Add(2 * time.Minute), Target: x, Value: 12, ForGate: true})
	}
	assert.Equal(t, "depth 316 → 12 messages (target < 200), getting better", g.Says())
	assert.Equal(t, "depth is 12 now; it was above 300 when this was asked, and is so no longer", g.Gone())
}
