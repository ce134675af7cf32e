package demo

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/api"
	"urgentis/core/access"
)

// TestAnOpenGateKnowsHowItStandsNow mends the trouble by hand while a gate stands: the gate says so, and the run has
// taken no reading more.
func TestAnOpenGateKnowsHowItStandsNow(t *testing.T) {
	w, ctx := world(t)
	w.Fleet.Queue.Break()
	var g *api.Gate
	see := func(what string, is func(b *api.Brief) bool) {
		t.Helper()
		require.Eventually(t, func() bool {
			list, err := w.Admin.ListGatesWithResponse(ctx)
			if err != nil || list.JSON200 == nil || len(*list.JSON200) == 0 {
				return false
			}
			one, err := w.Admin.GetGateWithResponse(ctx, (*list.JSON200)[0].Id)
			if err != nil || one.JSON200 == nil {
				return false
			}
			g = one.JSON200
			return is(g.Brief)
		}, time.Minute, 100*time.Millisecond, what)
	}
	forGate := func(b *api.Brief) (n int) {
		for _, p := range b.Trends[0].Points {
			if p.ForGate {
				n++
			}
		}
		return n
	}
	see("a gate", func(b *api.Brief) bool { return true })
	named := func() (n int) {
		d := w.incident(t, ctx, g.Incident, func(*api.IncidentDetail) bool { return true })
		_, err := fmt.Sscan(d.Incident.Title, &n)
		require.NoError(t, err, d.Incident.Title)
		return n
	}
	first := named()
	b := g.Brief
	assert.Equal(t, "Ships wait off the quay, and some are sent to the wrong berth.", b.Harm)
	assert.Contains(
		t,
		b.Headline.Says,
		"Park the unreadable message on berth-consumer-1, 1 of 2 targets of berth-queue",
	)
	assert.Equal(t, "Never done on this service.", b.History.Says)
	who, _, _ := strings.Cut(onCall(t, w, "quayside"), ", ")
	assert.Equal(t, []string{"The change is not made.", "Handed over to " + who + "."}, b.Answers[1].Says)
	see("readings taken for the gate", func(b *api.Brief) bool { return forGate(b) >= 2 })
	assert.Contains(t, g.Brief.Trends[0].Says, "getting worse")
	assert.Greater(t, named(), first, "the incident is named by what waits now, not by what waited as it was asked")
	assert.Empty(t, g.Brief.Trends[0].Gone)
	run := g.Run

	_, err := w.Fleet.Queue.Park(w.Fleet.Hosts[0].Name, "by-hand", strings.Fields(g.Brief.Parts[0].Shown)[4])
	require.NoError(t, err)
	see("that its reason is gone", func(b *api.Brief) bool { return b.Trends[0].Gone != "" })
	// A jump among few samples may count as steady; it is never worse.
	assert.Regexp(t, "→ [0-9]+ messages .*(getting better|steady)", g.Brief.Trends[0].Says)
	d := w.incident(t, ctx, g.Incident, func(*api.IncidentDetail) bool { return true })
	looks := strings.Count(kinds(d), "look.taken")
	assert.LessOrEqual(t, looks, 4, "run %s has seen only what it took itself", run)
}

func TestItIsKnownHowAStepWentBefore(t *testing.T) {
	w, ctx := world(t)
	mara, err := w.As(ctx, "mara-by-script", access.Approver)
	require.NoError(t, err)
	w.Fleet.Queue.Break()
	first, err := w.Approve(ctx, mara, "seen")
	require.NoError(t, err)
	w.incident(t, ctx, first.Incident, func(d *api.IncidentDetail) bool { return d.Incident.Outcome == "repaired" })
	w.Fleet.Queue.Break()
	second, err := w.Approve(ctx, mara, "seen again")
	require.NoError(t, err)
	one, err := w.Admin.GetGateWithResponse(ctx, second.Id)
	require.NoError(t, err)
	require.NotNil(t, one.JSON200)
	h := one.JSON200.Brief.History
	assert.Equal(t, "On berth-queue: once, proved.", h.Says)
	require.NotNil(t, h.Last)
	assert.Equal(t, first.Incident, h.Last.Incident)
	assert.Equal(t, api.LastTimeFate("proven"), h.Last.Fate)
	assert.Empty(t, one.JSON200.Brief.Answers, "what is over is not foreseen")
	w.incident(t, ctx, second.Incident, func(d *api.IncidentDetail) bool { return d.Incident.Outcome == "repaired" })
}

// onCall is who a message names now for a team of the demo.
func onCall(t *testing.T, w *World, team string) string {
	r, err := w.Admin.ListOnCallWithResponse(t.Context(), &api.ListOnCallParams{Team: team})
	require.NoError(t, err)
	x := (*r.JSON200)[0]
	return x.Duties[0].Person + ", on call for " + x.Title
}
