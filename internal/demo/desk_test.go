package demo

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/api"
	"urgentis/core/access"
	"urgentis/core/alert"
)

// An incident's ticket is opened, follows the record and is resolved; what comes back as an echo makes no loop and no
// second incident, and what somebody writes at the desk stands in the record.
func TestTheTicketFollowsTheRecord(t *testing.T) {
	w, ctx := world(t)
	mara, err := w.As(ctx, "mara-by-script", access.Approver)
	require.NoError(t, err)
	w.Fleet.Queue.Break()
	require.Eventually(t, func() bool { return len(w.Desk.Tickets()) == 1 }, 30*time.Second, 50*time.Millisecond)
	number := w.Desk.Tickets()[0].Number
	require.True(t, w.Desk.Note(number, "otto", "The pilot asks how long.", false, ""))
	d := w.incident(t, ctx, 1, func(d *api.IncidentDetail) bool {
		return strings.Contains(kinds(d), "ticket.made") && strings.Contains(kinds(d), "ticket.news")
	})
	assert.Contains(t, d.Entries[len(d.Entries)-1].Title, "The pilot asks how long.")
	_, err = w.Approve(ctx, mara, "seen")
	require.NoError(t, err)
	w.incident(t, ctx, 1, func(d *api.IncidentDetail) bool { return d.Incident.State == "resolved" })
	require.Eventually(
		t,
		func() bool { return w.Desk.Tickets()[0].State == "closed" },
		20*time.Second,
		50*time.Millisecond,
	)
	tickets := w.Desk.Tickets()
	require.Len(t, tickets, 1, "one incident is one ticket")
	var said strings.Builder
	for _, n := range tickets[0].Notes {
		said.WriteString(n.Text + "\n")
	}
	assert.Contains(t, said.String(), "Approved: ")
	assert.Contains(t, said.String(), "seen", "words of people go along")
	assert.Contains(t, said.String(), "Closed: repaired")
	assert.Equal(t, 1, strings.Count(said.String(), "The pilot asks"), "what was said there is not said back")
	list, err := w.Admin.ListIncidentsWithResponse(ctx, &api.ListIncidentsParams{})
	require.NoError(t, err)
	assert.Len(t, list.JSON200.Items, 1, "no echo makes an incident")
	assert.Empty(t, w.Requests.Tickets(), "the other desk wants none of it")
}

// The second desk has quite another interface, and only its document knows.
func TestAnotherDeskNeedsNoCode(t *testing.T) {
	w, ctx := world(t)
	w.Fleet.Gates.Break()
	require.Eventually(t, func() bool { return len(w.Requests.Tickets()) == 1 }, 30*time.Second, 50*time.Millisecond)
	ticket := w.Requests.Tickets()[0]
	assert.Equal(t, "REQ0001", ticket.Number)
	d := w.incident(t, ctx, 1, func(d *api.IncidentDetail) bool { return strings.Contains(kinds(d), "ticket.made") })
	assert.NotEmpty(t, d.Incident.Title)
	require.Eventually(t, func() bool { return len(w.Requests.Tickets()[0].Notes) > 1 }, 20*time.Second,
		50*time.Millisecond, "the record follows as remarks")
}

// What an alert that turns out to be false leads to: nobody hears of it, and no ticket is opened.
func TestAFalseAlarmDisturbsNobody(t *testing.T) {
	w, ctx := world(t)
	_, err := w.App.TakeSample(ctx, access.OnTheMachine("test"), "harbour-watch", alert.Payload{
		ContentType: "application/json", Body: []byte(`{"key": "quay-north/depth", "severity": "major",
			"service": "berth-queue", "summary": "deep, they say",
			"labels": {"signal": "queue_depth", "queue": "quay-north"}}`)})
	require.NoError(t, err)
	d := w.incident(t, ctx, 1, func(d *api.IncidentDetail) bool { return d.Incident.State == "resolved" })
	assert.Equal(t, "false-alarm", d.Incident.Outcome)
	time.Sleep(2 * time.Second)
	assert.Empty(t, w.Room.Messages())
	assert.Empty(t, w.Desk.Tickets())
	messages, err := w.Admin.ListMessagesWithResponse(ctx, &api.ListMessagesParams{Incident: 1})
	require.NoError(t, err)
	for _, m := range messages.JSON200.Items {
		assert.True(t, strings.HasPrefix(m.To, "source/"), m.To)
	}
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
	}, 30*time.Second, 50*time.Millisecond)
	press := func(who, what string) string {
		said, err := w.Room.Press(who, what, asked.Refers, asked.Digest)
		require.NoError(t, err)
		return said
	}
	assert.Contains(t, press("@otto", "take"), "nobody has proven that @otto")
	assert.Contains(t, press("@jonas", "approve"), "approver", "jonas may not approve")
	assert.Contains(t, press("@mara", "take"), `"said"`)
	assert.Contains(t, press("@mara", "approve"), `"said"`)
	d := w.incident(t, ctx, 1, func(d *api.IncidentDetail) bool { return strings.Contains(kinds(d), "gate.approved") })
	assert.Equal(t, "mara", d.Incident.Holder)
	assert.NotContains(t, press("@mara", "approve"), `"said"`, "it is decided")
}
