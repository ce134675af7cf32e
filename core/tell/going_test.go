package tell_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/flow"
	"urgentis/core/runbook"
	"urgentis/core/tell"
)

// A look asks so many targets at once and no more, each once, and tells how far it is.
func TestALookAsksSoManyAtOnce(t *testing.T) {
	for atOnce, text := range map[int]string{50: "", 7: "    at_once: 7\n"} {
		book, found := runbook.Parse([]byte("urgentis: runbook/1\nname: wide\ntitle: Wide\nowner: o\nservice: s\nsteps:\n" +
			"  - look: All\n    where: {role: a}\n    run: [uptime]\n" + text + "  - {close: false-alarm, because: seen}\n"))
		require.False(t, found.Failed(), found)
		const targets = 200
		begun := flow.Begun{Rules: flow.Rules, Run: "r", Runbook: "wide"}
		for i := range targets {
			begun.Estate = append(begun.Estate, flow.Target{Name: fmt.Sprintf("t-%03d", i),
				Labels: map[string]string{"role": "a"}})
		}
		now := time.Now()
		m, err := flow.Open(book, []flow.Event{{Seq: 1, At: now, Body: begun}})
		require.NoError(t, err)
		asked := map[string]bool{}
		var open []flow.Intent
		for {
			plan, err := m.Plan(now)
			require.NoError(t, err)
			for _, in := range plan.Begin {
				assert.False(t, asked[in.Target], in.Target)
				asked[in.Target] = true
			}
			open = append(open, plan.Begin...)
			assert.LessOrEqual(t, len(open), atOnce)
			if len(open) == 0 {
				require.True(t, plan.Ended)
				break
			}
			if len(asked) == 137 {
				going := tell.GoingOf(m.State())
				require.Len(t, going, 1)
				done := strings.Split(going[0].Says(), " ")
				assert.Equal(t, fmt.Sprint(len(asked)-len(open)), done[0])
				assert.Equal(t, "200,", done[2])
				assert.Contains(t, going[0].Says(), "without an answer")
			}
			out := flow.Outcome{Attempt: open[0].Attempt, State: flow.OK}
			if len(asked)%10 == 0 {
				out.State = flow.Failed
			}
			_, err = m.Append(flow.Event{At: now, Place: m.State().PlaceOf(out.Attempt), Body: out})
			require.NoError(t, err)
			open = open[1:]
		}
		assert.Len(t, asked, targets)
		assert.Empty(t, tell.GoingOf(m.State()))
	}
}
