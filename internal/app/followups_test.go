package app_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/access"
	"urgentis/core/alert"
	"urgentis/internal/app"
	"urgentis/internal/store"
)

// What is left to do is written down after an incident, found by whoever has it, and ends in the record; only whoever
// may respond touches it.
func TestFollowUps(t *testing.T) {
	a := open(t)
	_, n := raised(t, a, "north", "ramp", alert.Major)
	_, other := raised(t, a, "south", "lamp", alert.Minor)
	due := time.Now().Add(48 * time.Hour).Truncate(time.Second)
	text, owner := "  Replace the pump ", "iva"
	f, err := a.AddFollowUp(ctx, jonas, n, app.Following{Text: &text, Owner: &owner, Due: &due})
	require.NoError(t, err)
	assert.Equal(t, "Replace the pump", f.Text)

	empty := " "
	_, err = a.AddFollowUp(ctx, jonas, n, app.Following{Text: &empty})
	assert.ErrorContains(t, err, "say what is left to do")
	otto := &access.Principal{Name: "otto", Owner: "otto", Roles: []access.Role{access.Viewer}}
	_, err = a.AddFollowUp(ctx, otto, n, app.Following{Text: &text})
	assert.Error(t, err, "who only looks writes nothing")
	_, err = a.EditFollowUp(ctx, jonas, other, f.ID, app.Following{Text: &text})
	assert.ErrorContains(t, err, "no follow-up", "it is of another incident")

	told, err := a.Story(ctx, jonas, n, 0)
	require.NoError(t, err)
	assert.Equal(t, "Replace the pump: iva, due "+due.UTC().Format("2 Jan 2006"), told.Sum.Left[0].String())

	mine, err := a.FollowUps(ctx, otto, store.WhichFollowUps{Owner: "iva", State: "open"})
	require.NoError(t, err)
	require.Len(t, mine, 1)
	done := "done"
	f, err = a.EditFollowUp(ctx, mara, n, f.ID, app.Following{State: &done, Because: "on Thursday"})
	require.NoError(t, err)
	assert.Equal(t, "mara", f.SettledBy)
	mine, err = a.FollowUps(ctx, otto, store.WhichFollowUps{Owner: "iva", State: "open"})
	require.NoError(t, err)
	assert.Empty(t, mine)
	told, err = a.Story(ctx, jonas, n, 0)
	require.NoError(t, err)
	assert.Equal(t, "nothing known", told.Sum.Left[0].String(), "what is done is not left over")
	v, err := a.Verify(ctx, jonas, n)
	require.NoError(t, err)
	assert.True(t, v.Whole, v.Says)
}

// The cause and the harm in a person's words stand in the place of what was found, until they are removed.
func TestWhatAPersonStates(t *testing.T) {
	a := open(t)
	_, n := raised(t, a, "north", "ramp", alert.Major)
	cause := func() (string, bool) {
		told, err := a.Story(ctx, jonas, n, 0)
		require.NoError(t, err)
		return told.Sum.Cause.String(), told.Sum.Stated
	}
	says, stated := cause()
	assert.Equal(t, "not stated", says)
	assert.False(t, stated)
	_, err := a.State(ctx, jonas, n, "cause", "A pump that leaks.")
	require.NoError(t, err)
	says, stated = cause()
	assert.Equal(t, "A pump that leaks.", says)
	assert.True(t, stated)

	s, err := a.Standing(ctx, jonas, n)
	require.NoError(t, err)
	assert.Empty(t, s.Harm)
	assert.Nil(t, s.Reading, "nothing was read of it: that is not health")
	_, err = a.State(ctx, jonas, n, "harm", "Nobody gets on board.")
	require.NoError(t, err)
	s, err = a.Standing(ctx, jonas, n)
	require.NoError(t, err)
	assert.Equal(t, "Nobody gets on board.", s.Harm)

	_, err = a.State(ctx, jonas, n, "cause", "")
	require.NoError(t, err)
	_, stated = cause()
	assert.False(t, stated)
	_, err = a.State(ctx, jonas, n, "weather", "x")
	assert.ErrorContains(t, err, "only cause and harm")
	found, _, err := a.Incidents(ctx, jonas, store.WhichIncidents{Text: "leaks"}, 0, 10)
	require.NoError(t, err)
	assert.Len(t, found, 1, "what was stated is searched")
}
