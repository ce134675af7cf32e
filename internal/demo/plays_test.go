package demo

import (
	"context"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/api"
)

// Every play shows what it is there to show, and leaves a record that is whole.
func TestPlays(t *testing.T) {
	for _, play := range Plays {
		t.Run(play.Name, func(t *testing.T) {
			t.Parallel()
			w, ctx := world(t)
			n, err := play.Run(ctx, w, func(s string) { t.Log(s) })
			require.NoError(t, err)
			v, err := w.Admin.VerifyIncidentWithResponse(ctx, n)
			require.NoError(t, err)
			require.NotNil(t, v.JSON200, string(v.Body))
			assert.True(t, v.JSON200.Whole, v.JSON200.Says)
			r, err := w.Admin.GetIncidentWithResponse(ctx, n, nil)
			require.NoError(t, err)
			messages, err := w.Admin.ListMessagesWithResponse(ctx, &api.ListMessagesParams{Incident: n})
			require.NoError(t, err)
			shows[play.Name](t, w, r.JSON200, messages.JSON200.Items)
		})
	}
}

// suggested wants what helped before to be suggested to whoever opens an incident of the same service by hand.
func suggested(t *testing.T, w *World) {
	ctx := context.Background()
	opened, err := w.Admin.OpenIncidentWithResponse(ctx, api.NewIncident{Title: "Ships wait off quay north",
		Service: "berth-queue", Severity: "major"})
	require.NoError(t, err)
	require.NotNil(t, opened.JSON201, string(opened.Body))
	r, err := w.Admin.SuggestRunbooksWithResponse(ctx, opened.JSON201.Number)
	require.NoError(t, err)
	require.NotNil(t, r.JSON200, string(r.Body))
	require.NotEmpty(t, r.JSON200.Runbooks)
	s := r.JSON200.Runbooks[0]
	assert.Equal(t, "berth-queue-backlog", s.Runbook)
	assert.Equal(t, []string{"it is for berth-queue",
		"1 of 1 other alerts of the service for which it was begun ended well, the last one today"}, s.Reasons)
	assert.Equal(t, []string{"queue"}, s.Missing, "no alert says which")
	assert.Equal(t, 1, s.Changes)
}

// lookedAgain takes the look of an incident that is over again: it says that it is better, in the record too.
func lookedAgain(t *testing.T, w *World, n int64) {
	ctx := context.Background()
	looks, err := w.Admin.ListLooksWithResponse(ctx, n)
	require.NoError(t, err)
	require.Len(t, *looks.JSON200, 2)
	l := (*looks.JSON200)[0]
	assert.Equal(
		t,
		"depth on berth-consumer-1 and berth-consumer-2",
		l.Id+" on "+strings.Join(sortedNames(l.Targets), " and "),
	)
	r, err := w.Admin.LookAgainWithResponse(ctx, n, api.NewLook{Step: "depth"})
	require.NoError(t, err)
	require.NotNil(t, r.JSON200, string(r.Body))
	says := map[string]string{}
	for _, c := range r.JSON200.Compared {
		says[c.Target+" "+c.Reading] = string(c.Says)
	}
	assert.Equal(t, map[string]string{"berth-consumer-1 depth": "better", "berth-consumer-2 depth": "better",
		"berth-consumer-1 stuck": "other", "berth-consumer-2 stuck": "other"}, says)
	d, err := w.Admin.GetIncidentWithResponse(ctx, n, nil)
	require.NoError(t, err)
	last := d.JSON200.Entries[len(d.JSON200.Entries)-1]
	assert.Equal(t, "readings.compared: Depth and the oldest message: 2 better, 2 other", last.Kind+": "+last.Title)
	assert.Contains(t, string(last.Content), " messages (better)")
	v, err := w.Admin.VerifyIncidentWithResponse(ctx, n)
	require.NoError(t, err)
	assert.True(t, v.JSON200.Whole, v.JSON200.Says)
	for step, status := range map[string]int{"deep": 404, "3": 404, "1": 200} {
		r, err := w.Admin.LookAgainWithResponse(ctx, n, api.NewLook{Step: step})
		require.NoError(t, err)
		assert.Equal(t, status, r.StatusCode(), step)
	}
	// One of two does not answer any more: that is said, and is no health.
	for _, h := range w.Fleet.Hosts {
		h.SetDown(h.Name == "berth-consumer-2")
	}
	if r, err = w.Admin.LookAgainWithResponse(ctx, n, api.NewLook{Step: "depth"}); assert.NoError(t, err) {
		require.NotNil(t, r.JSON200, string(r.Body))
		for _, c := range r.JSON200.Compared {
			if c.Target == "berth-consumer-2" {
				assert.Equal(t, "not to be had", string(c.Says))
				assert.NotEmpty(t, c.Missing)
			}
		}
	}
	for _, h := range w.Fleet.Hosts {
		h.SetDown(false)
	}
}

func sortedNames(list []string) []string {
	out := slices.Clone(list)
	slices.Sort(out)
	return out
}

// shows are what else is to be seen of plays.
var shows = map[string]func(t *testing.T, w *World, d *api.IncidentDetail, messages []api.Message){
	"two-troubles": func(t *testing.T, w *World, d *api.IncidentDetail, _ []api.Message) {
		assert.Len(t, w.Fleet.Queue.Changes(), 1)
		kinds := kindsOf(d)
		assert.Less(t, slices.Index(kinds, "incident.kept-open"), slices.Index(kinds, "incident.closed"))
	},
	"worse-at-night": func(t *testing.T, _ *World, d *api.IncidentDetail, _ []api.Message) {
		var called []string
		for _, e := range d.Entries {
			if e.Kind == "people.called" {
				called = append(called, e.Title)
			}
		}
		require.GreaterOrEqual(t, len(called), 2)
		assert.Contains(t, called[0], "mara")
		assert.Contains(t, strings.Join(called[1:], " "), "iva")
	},
	"repaired": func(t *testing.T, w *World, d *api.IncidentDetail, _ []api.Message) {
		ctx := context.Background()
		now, err := w.Admin.ListReadingsWithResponse(
			ctx,
			&api.ListReadingsParams{Service: "berth-queue", Name: "depth"},
		)
		require.NoError(t, err)
		require.Len(t, *now.JSON200, 2, "of two consumers")
		lookedAgain(t, w, d.Incident.Number)
		suggested(t, w)
		for _, r := range *now.JSON200 {
			assert.Less(t, *r.Value, 200.0, "it drained")
			assert.Equal(t, "low messages", r.Good+" "+r.Unit)
		}
		over, err := w.Admin.ReadingCoursesWithResponse(ctx, &api.ReadingCoursesParams{Service: "berth-queue",
			Name: "depth", Target: "berth-consumer-1", Points: 1})
		require.NoError(t, err)
		require.Len(t, *over.JSON200, 1)
		points := (*over.JSON200)[0].Points
		require.NotEmpty(t, points)
		assert.Greater(t, *points[0].High, 300.0, "the run is over, and what it read is kept")
		for what, p := range map[string]api.ReadingCoursesParams{
			"is after from": {Service: "berth-queue", Name: "depth", From: time.Now(), Until: time.Now().Add(-time.Hour),
				Points: 9},
			"there is no": {Service: "berth-queue", Name: "depths", Points: 9},
		} {
			r, err := w.Admin.ReadingCoursesWithResponse(ctx, &p)
			require.NoError(t, err)
			assert.Contains(t, string(r.Body), what)
		}
	},
	"false-alarm": func(t *testing.T, _ *World, _ *api.IncidentDetail, messages []api.Message) {
		for _, m := range messages {
			assert.True(t, strings.HasPrefix(m.To, "source/"), m.To)
		}
	},
	"by-day": func(t *testing.T, w *World, d *api.IncidentDetail, _ []api.Message) {
		var said strings.Builder
		for _, n := range w.Desk.Tickets()[0].Notes {
			said.WriteString(n.Text + "\n")
		}
		assert.Contains(t, said.String(), "approved  Park the unreadable message: mara")
		assert.Contains(t, said.String(), "closed  repaired: ")
		assert.Empty(t, w.Requests.Tickets(), "the other desk wants none of it")
		assert.NotContains(t, kindsOf(d), "people.called", "by day the room is enough")
	},
	"by-night": func(t *testing.T, _ *World, d *api.IncidentDetail, _ []api.Message) {
		var called []string
		for _, e := range d.Entries {
			if e.Kind == "people.called" {
				called = append(called, e.Title)
			}
		}
		assert.Equal(t, []string{"Calls mara by harbour-texts", "Calls iva by harbour-mail"}, called)
	},
	"storm": func(t *testing.T, _ *World, _ *api.IncidentDetail, messages []api.Message) {
		var to []string
		for _, m := range messages {
			to = append(to, m.To)
		}
		assert.Equal(t, []string{"room/quayside-room", "room/quayside-room", "room/quayside-room"}, to)
	},
	"held": func(t *testing.T, _ *World, d *api.IncidentDetail, _ []api.Message) {
		called := slices.IndexFunc(d.Entries, func(e api.Entry) bool { return e.Kind == "people.called" })
		require.Positive(t, called)
		assert.GreaterOrEqual(t, d.Entries[called].At.Sub(d.Entries[0].At), 9*time.Second)
	},
}
