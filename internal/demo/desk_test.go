package demo

import (
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/api"
	"urgentis/core/access"
)

// The second desk has quite another interface, and only its document knows.
func TestAnotherDeskNeedsNoCode(t *testing.T) {
	w, ctx := world(t)
	w.Fleet.Gates.Break()
	require.Eventually(t, func() bool { return len(w.Requests.Tickets()) == 1 }, time.Minute, 50*time.Millisecond)
	ticket := w.Requests.Tickets()[0]
	assert.Equal(t, "REQ0001", ticket.Number)
	d := w.incident(t, ctx, 1, func(d *api.IncidentDetail) bool { return strings.Contains(kinds(d), "ticket.made") })
	assert.NotEmpty(t, d.Incident.Title)
	require.Eventually(t, func() bool { return len(w.Requests.Tickets()[0].Notes) > 1 }, 20*time.Second,
		50*time.Millisecond, "the record follows as remarks")
}

// What is closed as mitigated is filed at the desk once, with what it rests on.
func TestWhatIsMitigatedIsFollowedUp(t *testing.T) {
	w, ctx := world(t)
	w.Fleet.Queue.Break()
	w.incident(t, ctx, 1, func(d *api.IncidentDetail) bool { return strings.Contains(kinds(d), "gate.raised") })
	require.Eventually(t, func() bool { return len(w.Desk.Tickets()) == 1 }, time.Minute, 50*time.Millisecond)
	require.Eventually(t, func() bool {
		r, err := w.Admin.ListRunsWithResponse(ctx, &api.ListRunsParams{Active: true})
		require.NoError(t, err)
		for _, run := range r.JSON200.Items {
			_, err := w.Admin.CancelRunWithResponse(ctx, run.Id, api.Cancel{Because: "by hand"})
			require.NoError(t, err)
		}
		return len(r.JSON200.Items) == 0
	}, time.Minute, 200*time.Millisecond, "a run is still at work")
	c, err := w.Admin.CloseIncidentWithResponse(ctx, 1, api.Closing{Outcome: "mitigated",
		Because: "the message was dropped"})
	require.NoError(t, err)
	require.Less(t, c.StatusCode(), 300, string(c.Body))
	require.Eventually(t, func() bool { return len(w.Desk.Tickets()) == 2 }, time.Minute, 50*time.Millisecond)
	time.Sleep(3 * time.Second) // what it writes down must not file it again
	list := w.Desk.Tickets()
	require.Len(t, list, 2)
	assert.Contains(t, list[0].Short, "To cure: ")
	assert.Contains(t, fmt.Sprint(list[0].Notes), "Mitigated, not cured: the message was dropped")
	d := w.incident(t, ctx, 1, func(d *api.IncidentDetail) bool { return true })
	told := ""
	for _, e := range d.Entries {
		told += e.Title + "\n"
	}
	assert.Contains(t, told, "Follow-up "+list[0].Number+" at harbour-desk, filed")
}

// A room calls back: what somebody presses there is done with their own rights, and no more.
func TestARoomThatCallsBack(t *testing.T) {
	w, ctx := world(t)
	w.Fleet.Clocks.Break()
	var asked RoomMessage
	require.Eventually(t, func() bool {
		for _, m := range w.Room.Messages() {
			if m.Digest != "" {
				asked = m
			}
		}
		return asked.Digest != ""
	}, time.Minute, 50*time.Millisecond)
	press := func(who, what string) string {
		said, err := w.Room.Press(who, what, asked.Refers, asked.Digest)
		require.NoError(t, err)
		return said
	}
	assert.Contains(t, press("@otto", "take"), "nobody has verified that @otto")
	assert.Contains(t, press("@jonas", "approve"), "approver", "jonas may not approve")
	assert.Contains(t, press("@mara", "take"), `"said"`)
	assert.Contains(t, press("@mara", "approve"), `"said"`)
	d := w.incident(t, ctx, 1, func(d *api.IncidentDetail) bool { return strings.Contains(kinds(d), "gate.approved") })
	assert.Equal(t, "mara", d.Incident.Holder)
	assert.NotContains(t, press("@mara", "approve"), `"said"`, "it is decided")
}

// slow is for how long the desk and the room answer nothing: URGENTIS_OUTAGE, such as 60s.
func slow(t *testing.T) time.Duration {
	text := os.Getenv("URGENTIS_OUTAGE")
	if text == "" {
		return 12 * time.Second // longer than anybody waits for an answer
	}
	d, err := time.ParseDuration(text)
	require.NoError(t, err)
	return d
}

// The desk and the room take what comes, and answer late; what the desk tells comes late, twice and in the wrong order.
// No run waits for them, and in the end there is one ticket, everything on it once, and no second incident.
func TestADeskAndARoomThatAreSlow(t *testing.T) {
	t.Parallel()
	w, ctx := world(t)
	long := slow(t)
	w.Desk.mu.Lock()
	w.Desk.late = true
	w.Desk.mu.Unlock()
	over := time.Now().Add(long)
	w.Desk.Slowly.Until(over)
	w.Room.Slowly.Until(over)
	mara, err := w.As(ctx, "mara-by-script", access.Approver)
	require.NoError(t, err)
	w.Fleet.Queue.Break()
	require.Eventually(t, func() bool { return len(w.Desk.Tickets()) == 1 }, time.Minute, 20*time.Millisecond)
	number := w.Desk.Tickets()[0].Number
	require.True(t, w.Desk.Note(number, "otto", "The pilot asks how long.", false, ""))
	_, err = w.Approve(ctx, mara, "seen")
	require.NoError(t, err)
	d := w.incident(t, ctx, 1, func(d *api.IncidentDetail) bool { return d.Incident.State == "closed" })
	assert.Equal(t, "repaired", d.Incident.Outcome)
	assert.True(t, time.Now().Before(over), "the run waited for nobody")
	require.Eventually(t, func() bool { return w.Desk.Tickets()[0].State == "closed" }, long+time.Minute,
		50*time.Millisecond)
	d = w.incident(t, ctx, 1, func(d *api.IncidentDetail) bool { return strings.Contains(kinds(d), "ticket.news") })
	time.Sleep(2 * time.Second) // what comes late
	assert.Len(t, w.Desk.Tickets(), 1)
	news, notes := 0, map[string]int{}
	for _, e := range w.incident(t, ctx, 1, func(*api.IncidentDetail) bool { return true }).Entries {
		if e.Kind == "ticket.news" && strings.Contains(e.Title, "The pilot asks") {
			news++
		}
	}
	assert.Equal(t, 1, news, "told twice, it stands in the record once")
	for _, n := range w.Desk.Tickets()[0].Notes {
		notes[n.Text]++
	}
	assert.Equal(t, 1, notes["The pilot asks how long."], "it is not said back")
	list, err := w.Admin.ListIncidentsWithResponse(ctx, &api.ListIncidentsParams{})
	require.NoError(t, err)
	assert.Len(t, list.JSON200.Items, 1, "no echo makes an incident")
	said := map[string]int{}
	for _, m := range w.Room.Messages() {
		said[m.Text]++
	}
	for text, times := range said {
		assert.Equal(t, 1, times, text)
	}
	t.Log(kinds(d), notes)
}
