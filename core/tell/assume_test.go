package tell

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/flow"
)

const renewing = `
steps:
  - {look: Days, id: days, where: {role: gate}, run: [days], read: {days: {json: .days, type: integer}}}
  - each: Every gate
    where: {role: gate}
    steps:
      - change: Renew
        id: renew
        run: [renew]
        still: own(readings.days) < 14
      - {check: Renewed, retake: days, that: own(readings.days) > 14, proves: renew}
  - {close: repaired, because: All are renewed.}
`

// What a change makes true is true of a target once the change was made there, and not of those whose turn is yet to
// come: so a change of many targets can be rehearsed to its good end, with one value for all or one for each.
func TestWhatAChangeMakesTrueIsTrueWhereItWasMade(t *testing.T) {
	for name, made := range map[string]any{
		"one for all":     float64(89),
		"one for each":    map[string]any{"g1": 89, "g2": 88, "g3": 87, "g4": 86, "g5": 85, "g6": 84},
		"one stays as is": map[string]any{"g1": 89, "g2": 88, "g3": 4, "g4": 86, "g5": 85, "g6": 84},
	} {
		t.Run(name, func(t *testing.T) {
			p := play(t, renewing)
			p.says = func(flow.Intent) string { return `{"days": 4}` }
			a, err := Assume(p.Book, p.Begun, map[string]map[string]any{"renew": {"days": made}})
			require.NoError(t, err)
			var log []flow.Event
			p.Watch = func(now []flow.Event) { log = now }
			p.Do = func(place flow.Place, in flow.Intent, now time.Time) flow.Outcome {
				o := p.do(in, now)
				if in.Touches() {
					step, _ := flow.Find(p.Book, place)
					a.Happened(step, place, in.Target, log)
					return o
				}
				look, _ := flow.Find(p.Book, in.Look)
				_, err := a.Put(&o, look, in.Target, now)
				require.NoError(t, err)
				return o
			}
			ended := p.run().Ended
			require.NotNil(t, ended)
			if name == "one stays as is" {
				assert.Equal(t, flow.HandedOver, ended.State)
				assert.Contains(t, ended.Because, "g3")
				return
			}
			assert.Equal(t, "repaired", ended.Outcome, ended.Because)
		})
	}
}
