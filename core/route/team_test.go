package route

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/calendar"
)

func TestNames(t *testing.T) {
	weekly, err := calendar.ParseTurn(time.UTC, "2026-01-05 09:00", "FREQ=WEEKLY")
	require.NoError(t, err)
	day := calendar.Turn{Rule: weekly, Days: 1, People: []string{"mara"}}
	always := calendar.Turn{Rule: weekly, People: []string{"jonas"}}
	rota := func(lines ...[]calendar.Turn) *calendar.Rota { return &calendar.Rota{Zone: time.UTC, Lines: lines} }
	both := rota([]calendar.Turn{day}, []calendar.Turn{always})
	monday, tuesday := time.Date(2026, 1, 5, 12, 0, 0, 0, time.UTC), time.Date(2026, 1, 6, 12, 0, 0, 0, time.UTC)
	for _, c := range []struct {
		word string
		team *Team
		at   time.Time
		says string
	}{
		{"on-call/quayside", nil, monday, "on-call/quayside"},
		{"team/quayside", &Team{Name: "quayside", Title: "Quay side"}, monday, "the team Quay side"},
		{"on-call/quayside", &Team{Name: "quayside"}, monday, "whoever is on call for quayside (it has no rota)"},
		{"on-call/quayside", &Team{Name: "quayside", Rota: both}, monday, "mara, on call for quayside"},
		{"on-call/quayside", &Team{Name: "quayside", Rota: both}, tuesday,
			"jonas, on call for quayside in line 2 (nobody is in the first)"},
		{"on-call/quayside", &Team{Name: "quayside", Rota: rota([]calendar.Turn{day})}, tuesday,
			"on-call/quayside (nobody of quayside is on call now)"},
	} {
		assert.Equal(t, c.says, Name(c.word, c.team, c.at, nil))
	}
	for word, team := range map[string]string{"on-call/a": "a", "team/b": "b", "mara": "", "": ""} {
		name, _ := TeamOf(word)
		assert.Equal(t, team, name)
	}
}
