package demo

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/api"
)

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
