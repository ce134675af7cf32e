package app_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/alert"
	"urgentis/core/tell"
	"urgentis/internal/app"
)

// A service stands as its open incidents and objectives do, and names pages outside with the time filled in.
func TestHowAServiceStands(t *testing.T) {
	a := open(t)
	set := func(patch string) error {
		_, err := a.SetService(ctx, iva, app.Change{Name: "north", Patch: []byte(patch)})
		return err
	}
	require.NoError(t, set(`{"owner": "quayside", "links": [{"title": "Charts",
		"address": "https://charts.example/{{ service }}?at={{ from }}"}]}`))
	for patch, wrong := range map[string]string{
		`{"links": [{"title": "x", "address": "javascript:alert(1)"}]}`:           "begins with https://",
		`{"links": [{"title": "x", "address": "https://{{ service }}.example"}]}`: "host of its own",
		`{"links": [{"title": "", "address": "https://a.example"}]}`:              "needs a title",
	} {
		assert.ErrorContains(t, set(patch), wrong)
	}
	until := time.Date(2026, 11, 29, 4, 0, 0, 0, time.UTC)
	s, err := a.ServiceStanding(ctx, jonas, "north", until.Add(-time.Hour), until)
	require.NoError(t, err)
	assert.Equal(t, tell.ServiceUnknown, s.State, "nothing measures it: that is not health")
	require.Len(t, s.Links, 1)
	assert.Equal(t, "https://charts.example/north?at=2026-11-29T02%3A45%3A00Z", s.Links[0].Address)

	_, n := raised(t, a, "north", "ramp", alert.Major)
	s, err = a.ServiceStanding(ctx, jonas, "north", until.Add(-time.Hour), until)
	require.NoError(t, err)
	assert.Equal(t, tell.ServiceBad, s.State)
	assert.Contains(t, s.Says, "Bad now: ")
	i, err := a.Standing(ctx, jonas, n)
	require.NoError(t, err)
	assert.Len(t, i.Links, 1, "and so does its incident")

	require.NoError(t, set(`{"links": null}`))
	s, err = a.ServiceStanding(ctx, jonas, "north", until.Add(-time.Hour), until)
	require.NoError(t, err)
	assert.Empty(t, s.Links)
	_, err = a.ServiceStanding(ctx, jonas, "nowhere", until, until)
	assert.ErrorContains(t, err, "nowhere")
}
