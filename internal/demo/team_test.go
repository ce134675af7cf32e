package demo

import (
	"bytes"
	"testing"
	"time"

	ical "github.com/emersion/go-ical"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/api"
	"urgentis/core/access"
)

// TestWhoeverIsOnCallIsNamed enters a stand-in: gate, record and message name that person, and the feed of the rota,
// read by a library that did not write it, has the same.
func TestWhoeverIsOnCallIsNamed(t *testing.T) {
	w, ctx := world(t)
	now := time.Now().Truncate(time.Second)
	for says, b := range map[string]api.NewStandIn{
		"is no member":     {Person: "zoe", From: now, Until: now.Add(time.Hour)},
		"not over yet":     {Person: "iva", From: now, Until: now.Add(-time.Hour)},
		"has no line 5":    {Person: "iva", From: now, Until: now.Add(time.Hour), Line: 5},
		"has no turn":      {Person: "iva", From: now, Until: now.Add(time.Hour), InsteadOf: "zoe"},
		"there is no team": {Person: "iva", From: now, Until: now.Add(time.Hour), Why: "elsewhere"},
	} {
		team := "quayside"
		if b.Why != "" {
			team = "nowhere"
		}
		r, err := w.Admin.AddStandInWithResponse(ctx, team, b)
		require.NoError(t, err)
		assert.Contains(t, string(r.Body), says)
	}
	viewer, err := w.As(ctx, "looks-on", access.Viewer)
	require.NoError(t, err)
	in := api.NewStandIn{Person: "iva", From: now.Add(-time.Minute), Until: now.Add(6 * time.Hour), Why: "Mara is ill."}
	refused, err := viewer.AddStandInWithResponse(ctx, "quayside", in)
	require.NoError(t, err)
	assert.Equal(t, 403, refused.StatusCode())
	entered, err := w.Admin.AddStandInWithResponse(ctx, "quayside", in)
	require.NoError(t, err)
	require.NotNil(t, entered.JSON201, string(entered.Body))

	on, err := viewer.ListOnCallWithResponse(ctx, &api.ListOnCallParams{Team: "quayside"})
	require.NoError(t, err)
	require.Len(t, *on.JSON200, 1)
	assert.Equal(t, "iva", (*on.JSON200)[0].Duties[0].Person)
	assert.NotEmpty(t, (*on.JSON200)[0].Duties[0].InsteadOf)
	assert.Empty(t, (*on.JSON200)[0].Holes)
	feed, err := viewer.FeedRotaWithResponse(ctx, "quayside")
	require.NoError(t, err)
	assert.Equal(t, in.Until.UTC(), coveredUntil(t, feed.Body, "iva is on call for quayside", now), string(feed.Body))

	w.Fleet.Queue.Break()
	mara, err := w.As(ctx, "mara-by-script", access.Approver)
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		list, err := w.Admin.ListGatesWithResponse(ctx)
		if err != nil || list.JSON200 == nil || len(*list.JSON200) == 0 {
			return false
		}
		g, err := w.Admin.GetGateWithResponse(ctx, (*list.JSON200)[0].Id)
		require.NoError(t, err)
		assert.Equal(t, []string{"The change is not made.", "Handed over to iva."},
			g.JSON200.Brief.Answers[1].Says)
		d, err := mara.DecideGateWithResponse(ctx, g.JSON200.Id, api.Decision{Digest: g.JSON200.Digest, Comment: "No."})
		require.NoError(t, err)
		return d.StatusCode() == 200
	}, time.Minute, 100*time.Millisecond)
	d := w.incident(t, ctx, 1, func(d *api.IncidentDetail) bool { return d.Incident.WaitingOn == "person" })
	said := ""
	for _, e := range d.Entries {
		said += e.Title + "\n"
	}
	assert.Contains(t, said, "Handed over to iva, on call for Quayside")
	back, err := w.Admin.RemoveStandInWithResponse(ctx, "quayside", entered.JSON201.Id)
	require.NoError(t, err)
	assert.Equal(t, 204, back.StatusCode())
	on, err = viewer.ListOnCallWithResponse(ctx, &api.ListOnCallParams{Team: "quayside"})
	require.NoError(t, err)
	assert.NotEqual(t, "iva", (*on.JSON200)[0].Duties[0].Person)
}

// coveredUntil is until when one person is on call first without a hole, from a time on: a handover within a stand-in
// makes two events of it.
func coveredUntil(t *testing.T, feed []byte, summary string, at time.Time) time.Time {
	read, err := ical.NewDecoder(bytes.NewReader(feed)).Decode()
	require.NoError(t, err)
	for _, e := range read.Events() {
		from, err := e.DateTimeStart(time.UTC)
		require.NoError(t, err)
		until, err := e.DateTimeEnd(time.UTC)
		require.NoError(t, err)
		says, err := e.Props.Text(ical.PropSummary)
		require.NoError(t, err)
		if says == summary && e.Props.Get(ical.PropDescription) == nil && !from.After(at) && until.After(at) {
			at = until
		}
	}
	return at
}

// The fares desk's rota is read from the office's calendar, and two of its duties change hands together.
func TestARotaFromACalendarAndASwap(t *testing.T) {
	w, ctx := world(t)
	onCall := func(at time.Time) api.OnCall {
		r, err := w.Admin.ListOnCallWithResponse(ctx, &api.ListOnCallParams{Team: "fares", At: at})
		require.NoError(t, err)
		require.Len(t, *r.JSON200, 1, string(r.Body))
		return (*r.JSON200)[0]
	}
	read, err := w.Admin.ReadCalendarsWithResponse(ctx, "fares")
	require.NoError(t, err)
	require.NotNil(t, read.JSON200, string(read.Body))
	require.Len(t, read.JSON200.Calendars, 1)
	assert.Empty(t, read.JSON200.Calendars[0].Trouble)
	assert.Empty(t, read.JSON200.Holes)
	none, err := w.Admin.ReadCalendarsWithResponse(ctx, "quayside")
	require.NoError(t, err)
	assert.Contains(t, string(none.Body), "is read from no calendar")

	now := onCall(time.Now()).Duties[0]
	next := onCall(now.Until.Add(time.Hour)).Duties[0]
	require.NotEqual(t, now.Person, next.Person)
	for says, b := range map[string]api.NewSwap{
		"nothing to swap":    {At: time.Now(), For: now.Until.Add(-time.Second)},
		"is over":            {At: now.From.Add(-time.Hour), For: next.From},
		"has no line 2":      {At: time.Now(), For: next.From, Line: 2},
		"nobody is on call ": {At: time.Date(2025, 1, 1, 0, 0, 0, 0, time.UTC), For: next.From},
	} {
		r, err := w.Admin.SwapDutiesWithResponse(ctx, "fares", b)
		require.NoError(t, err)
		assert.Contains(t, string(r.Body), says)
	}
	swapped, err := w.Admin.SwapDutiesWithResponse(ctx, "fares", api.NewSwap{At: time.Now(), For: next.From,
		Why: "A wedding."})
	require.NoError(t, err)
	require.NotNil(t, swapped.JSON201, string(swapped.Body))
	require.Len(t, *swapped.JSON201, 2)
	assert.Equal(t, next.Person, onCall(time.Now().Add(time.Second)).Duties[0].Person)
	assert.Equal(t, now.Person, onCall(next.From).Duties[0].Person)
	after := onCall(next.Until).Duties[0]
	assert.Equal(t, now.Person, after.Person)
	assert.Empty(t, after.InsteadOf, "what comes after the two is as it was")
	back, err := w.Admin.RemoveStandInWithResponse(ctx, "fares", (*swapped.JSON201)[1].Id)
	require.NoError(t, err)
	assert.Equal(t, 204, back.StatusCode())
	assert.Equal(t, now.Person, onCall(time.Now()).Duties[0].Person, "both are taken back")
	assert.Equal(t, next.Person, onCall(next.From).Duties[0].Person)
}
