package demo

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/api"
)

// of waits for an open incident about a service.
func (w *World) of(t *testing.T, ctx context.Context, service string) *api.Incident {
	var found *api.Incident
	require.Eventually(t, func() bool {
		r, err := w.Admin.ListIncidentsWithResponse(ctx, &api.ListIncidentsParams{Service: service})
		require.NoError(t, err)
		if r.JSON200 != nil && len(r.JSON200.Items) > 0 {
			found = &r.JSON200.Items[0]
		}
		return found != nil
	}, time.Minute, 50*time.Millisecond, service)
	return found
}

// Every thing that speaks no HTTP is heard, and what it reports is the incident that its source's document makes of it.
func TestTheOlderThingsAreHeard(t *testing.T) {
	w, ctx := world(t)
	time.Sleep(2500 * time.Millisecond) // until listeners know the keys of this installation
	for _, trouble := range w.Senders.troubles() {
		if trouble.Name == "mast" || trouble.Name == "storm" {
			continue
		}
		_, err := trouble.Break(ctx)
		require.NoError(t, err, trouble.Name)
	}
	assert.Equal(t, "tide gauge 2 gave no reading for 40 s", w.of(t, ctx, "tide-gauges").Title)
	assert.Equal(t, "Tank 2 holds 4 percent.", w.of(t, ctx, "fuel").Title)
	require.Eventually(t, func() bool {
		r, err := w.Admin.ListIncidentsWithResponse(ctx, &api.ListIncidentsParams{Text: "winch-4"})
		return err == nil && r.JSON200 != nil && len(r.JSON200.Items) == 1
	}, time.Minute, 50*time.Millisecond)
	require.NoError(t, w.Senders.Log(5, "pier-2", "gaugecast", "STALL", "tide gauge 2 reads again"))
	require.Eventually(t, func() bool {
		r, err := w.Admin.ListAlertsWithResponse(ctx, &api.ListAlertsParams{Source: "pier-hosts", State: "cleared"})
		return err == nil && r.JSON200 != nil && len(r.JSON200.Items) == 1
	}, time.Minute, 50*time.Millisecond)
}
