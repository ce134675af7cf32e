package demo

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/api"
)

// What the harbour's store has of the time around an incident is asked, drawn, grouped and kept in the record.
func TestLookingBack(t *testing.T) {
	w, ctx := world(t)
	w.Fleet.Queue.Break()
	n := w.of(t, ctx, "berth-queue").Number
	r, err := w.Admin.LookBackWithResponse(ctx, n, api.NewBack{})
	require.NoError(t, err)
	require.NotNil(t, r.JSON200, string(r.Body))
	b := (*r.JSON200)[0]
	assert.Empty(t, b.Missing)
	require.Len(t, b.Series, 1)
	assert.Equal(t, "quay-north", b.Series[0].Target)
	assert.Greater(t, len(b.Series[0].Points), 50, "an hour before it")
	assert.True(t, b.Series[0].Points[0].At.Before(b.Onset))
	require.NotEmpty(t, b.Shapes)
	for _, s := range b.Shapes {
		assert.NotContains(t, s.Text, "m-47", "numbers are masked")
	}

	kept, err := w.Admin.ListBacksWithResponse(ctx, n)
	require.NoError(t, err)
	require.Len(t, kept.JSON200.Taken, 1)
	assert.Equal(t, b.Series, kept.JSON200.Taken[0].Series)
	d := w.incident(t, ctx, n, func(d *api.IncidentDetail) bool { return true })
	assert.Contains(t, kinds(d), "past.seen")
	whole, err := w.Admin.VerifyIncidentWithResponse(ctx, n)
	require.NoError(t, err)
	assert.True(t, whole.JSON200.Whole, whole.JSON200.Says)

	// A store that is away is no store that has nothing.
	w.Past.Stop()
	r, err = w.Admin.LookBackWithResponse(ctx, n, api.NewBack{Lookback: "berth-queue-past"})
	require.NoError(t, err)
	require.NotNil(t, r.JSON200, string(r.Body))
	assert.Len(t, (*r.JSON200)[0].Missing, 2)
	assert.Contains(t, (*r.JSON200)[0].Missing[0], "Depth of the queue: ")
	r, err = w.Admin.LookBackWithResponse(ctx, n, api.NewBack{Lookback: "nothing"})
	require.NoError(t, err)
	assert.Equal(t, 404, r.StatusCode())
}

// An alert that started nothing is told of what may help all the same.
func TestWhatMayHelpWithAnAlert(t *testing.T) {
	w, ctx := world(t)
	w.Fleet.Queue.Break()
	n := w.of(t, ctx, "berth-queue").Number
	d := w.incident(t, ctx, n, func(d *api.IncidentDetail) bool { return len(d.Alerts) > 0 })
	r, err := w.Admin.SuggestForAlertWithResponse(ctx, d.Alerts[0].Id)
	require.NoError(t, err)
	require.NotNil(t, r.JSON200, string(r.Body))
	require.NotEmpty(t, r.JSON200.Runbooks)
	assert.Equal(t, "berth-queue-backlog", r.JSON200.Runbooks[0].Runbook)
	missing, err := w.Admin.SuggestForAlertWithResponse(ctx, "nothing")
	require.NoError(t, err)
	assert.Equal(t, 404, missing.StatusCode())
}
