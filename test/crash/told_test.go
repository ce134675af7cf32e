package crash

import (
	"context"
	"fmt"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/api"
	"urgentis/internal/demo"
)

// The service is killed after the room, or the desk, has taken a message and before it has heard so. Nobody is told
// twice, there is one ticket, and all is noted in the end.
func TestKillBetweenSendingAndNoting(t *testing.T) {
	for _, whom := range []string{"room", "desk"} {
		t.Run(whom, func(t *testing.T) {
			t.Parallel()
			s := set(t)
			at := func(n int) string { return fmt.Sprintf("%s.%d:%d", s.fleet.Net, n, demo.HTTPPort) }
			room, err := demo.StartRoom(at(3))
			require.NoError(t, err)
			t.Cleanup(room.Stop)
			desk, err := demo.StartHarbourDesk(at(7))
			require.NoError(t, err)
			t.Cleanup(desk.Stop)
			var once sync.Once
			killed, reported := make(chan struct{}), make(chan struct{})
			// Not before whoever reports has its answer: it would report to nobody.
			die := func() { once.Do(func() { <-reported; s.kill(); close(killed) }) }
			if whom == "room" {
				room.Slowly.Taken(die)
			} else {
				desk.Slowly.Taken(die)
			}
			s.alert()
			close(reported)
			s.until("the message", killed)
			s.up()
			s.ends()
			require.Eventually(t, func() bool {
				r, err := s.admin.ListMessagesWithResponse(
					context.Background(),
					&api.ListMessagesParams{State: "queued"},
				)
				tickets := desk.Tickets()
				return err == nil && r.JSON200 != nil && len(r.JSON200.Items) == 0 && len(tickets) == 1 &&
					tickets[0].State == "closed"
			}, 60*time.Second, 100*time.Millisecond)
			assert.Equal(t, 1, s.kills)
			said := map[string]int{}
			for _, m := range room.Messages() {
				said[m.Text]++
			}
			assert.NotEmpty(t, said)
			for text, times := range said {
				assert.Equal(t, 1, times, text)
			}
			notes := map[string]int{}
			for _, n := range desk.Tickets()[0].Notes {
				notes[n.Text]++
			}
			for text, times := range notes {
				assert.Equal(t, 1, times, text)
			}
			tickets := 0
			r, err := s.admin.GetIncidentWithResponse(context.Background(), 1, nil)
			require.NoError(t, err)
			for _, e := range r.JSON200.Entries {
				if e.Kind == "ticket.made" {
					tickets++
				}
			}
			assert.Equal(t, 1, tickets)
		})
	}
}
