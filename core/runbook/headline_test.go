package runbook

import (
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func ferry(t *testing.T, name string) *Book {
	t.Helper()
	src, err := os.ReadFile("../../examples/ferry/runbooks/" + name + ".yaml")
	require.NoError(t, err)
	b, found := Parse(src)
	require.NotNil(t, b, found)
	return b
}

func TestHeadlines(t *testing.T) {
	four := []string{"c1", "c2", "c3", "c4"}
	for _, c := range []struct {
		book, step string
		extent     Extent
		says       string
	}{
		{"berth-queue-backlog", "park", Extent{Targets: []string{"berth-1"}, Of: 2},
			"Park the unreadable message on berth-1, 1 of 2 targets of berth-queue, proved by “Is the queue draining?” " +
				"within 5m; it can be undone."},
		{"boarding-gate-errors", "out", Extent{Targets: []string{"gate-3"}, Of: 4},
			"Take it out of rotation on gate-3, 1 of 4 targets of boarding-gates, proved by “Is it out?”; what was " +
				"done is undone if it fails."},
		{"crossing-clocks-drift", "repair", Extent{Targets: four, Of: 12, AtOnce: 2},
			"Name the right time servers and step the clock on c1, c2, c3 and c4, 4 of 12 targets of crossing-clocks, 2 at a time, each " +
				"proved before the next; stops at the first failure; what was done is undone if it fails; “Step " +
				"the clock” cannot be undone."},
		{"crossing-clocks-drift", "repair", Extent{Targets: four, Of: 4, AtOnce: 1},
			"Name the right time servers and step the clock on c1, c2, c3 and c4, all 4 targets of crossing-clocks, one after the other, " +
				"each proved before the next; stops at the first failure; what was done is undone if it fails; " +
				"“Step the clock” cannot be undone."},
		{"crossing-clocks-drift", "repair", Extent{Targets: four[:1]},
			"Name the right time servers and step the clock on c1, each proved before the next; what was done is undone " +
				"if it fails; “Step the clock” cannot be undone."},
		{"fares-sessions-idle", "end", Extent{Targets: []string{"fares-1"}, Of: 1},
			"End these sessions on fares-1, proved by “Are they gone?” within 1m; it cannot be undone."},
		{"boarding-passes-refused", "refresh", Extent{Targets: four, Of: 4},
			"Fetch the newest key on c1, c2, c3 and c4, all 4 targets of boarding-gates, one after the other, proved by “Are the keys " +
				"new?”; stops at the first failure; it cannot be undone."},
	} {
		b := ferry(t, c.book)
		s := b.ByID(c.step)
		if part := b.Parts[c.step]; part != nil {
			b, s = part, part.Steps[1]
		}
		assert.Equal(t, c.says, b.Headline(s, c.extent).Says(), c.book)
	}
}

func TestAfterYes(t *testing.T) {
	onCall := func(who string) string {
		return map[string]string{"on-call/quayside": "Mara Lindt, on call for quayside"}[who]
	}
	for _, c := range []struct {
		book, step string
		name       func(string) string
		says       []string
	}{
		{"berth-queue-backlog", "park", onCall, []string{
			"Rechecks first, skips targets that no longer need it.",
			"“Is the queue draining?” passes within 5m: closed as repaired.",
			"It fails: handed over to Mara Lindt, on call for quayside."}},
		{"boarding-gate-errors", "out", nil, []string{
			"Rechecks first, skips targets that no longer need it.",
			"“Is it out?” passes: goes on with “Roll its release back?”.",
			"It fails: undone, then handed over to on-call/terminals."}},
		{"crossing-clocks-drift", "repair", nil, []string{
			"Rechecks before each change, skips what no longer needs it.",
			"Each proved by “Is this clock right now?” within 30s; one that fails: undone, then handed over to " +
				"on-call/signals.",
			"“Are the settings right everywhere?” passes: goes on with “Do all clocks agree, and go on agreeing?”.",
			"It fails: handed over to on-call/signals."}},
		{"fares-sessions-idle", "end", nil, []string{
			"Rechecks first, skips targets that no longer need it.",
			"“Are they gone?” passes within 1m: closed as repaired.",
			"It fails: handed over to on-call/fares."}},
	} {
		b := ferry(t, c.book)
		assert.Equal(t, c.says, b.AfterYes(b.ByID(c.step), c.name), c.book)
	}
}
