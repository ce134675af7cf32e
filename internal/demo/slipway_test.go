package demo

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/api"
	"urgentis/core/access"
)

// A trap begins a runbook that speaks with the switch in a dialogue: pages, a mode behind a word, and a proof.
func TestALinkOfTheSwitchIsRestarted(t *testing.T) {
	w, ctx := world(t)
	mara, err := w.As(ctx, "mara-by-script", access.Approver)
	require.NoError(t, err)
	time.Sleep(2500 * time.Millisecond) // until listeners know the keys of this installation
	_, err = breaks(t, w, "link").Break(ctx)
	require.NoError(t, err)
	g, err := w.Approve(ctx, mara, "the winch must stop from the quay")
	require.NoError(t, err)
	assert.Equal(t, "slipway-link-down", g.Runbook)
	one, err := w.Admin.GetGateWithResponse(ctx, g.Id)
	require.NoError(t, err)
	assert.Equal(t, "link winch-4\nrestart\n(typed on the device, in the mode settings)", one.JSON200.Brief.Parts[0].Shown)
	d := w.incident(t, ctx, g.Incident, func(d *api.IncidentDetail) bool { return d.Incident.Outcome == "repaired" })
	assert.NotContains(t, fmt.Sprint(d.Entries), switchWord)
	require.Eventually(t, func() bool {
		r, err := w.Admin.ListAlertsWithResponse(ctx, &api.ListAlertsParams{Source: "slipway-devices", State: "cleared"})
		return err == nil && r.JSON200 != nil && len(r.JSON200.Items) == 1
	}, time.Minute, 50*time.Millisecond, "the switch says that the link is up")
	assert.False(t, w.Fleet.Switch.Set(4, true), "it is up")
}

// breaks finds one of what can break by its name.
func breaks(t *testing.T, w *World, name string) Trouble {
	for _, x := range w.Senders.troubles() {
		if x.Name == name {
			return x
		}
	}
	require.Fail(t, "there is no such trouble", name)
	return Trouble{}
}
