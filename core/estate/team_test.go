package estate

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/calendar"
)

const quayside = `urgentis: team/1
name: quayside
title: Quay side
members: [mara, jonas, iva]
rota:
  zone: Europe/Lisbon
  first:
    - {from: 2026-01-05 09:00, every: FREQ=WEEKLY, people: [mara, jonas]}
  second:
    - {from: 2026-01-05 20:00, every: FREQ=DAILY, lasts: 12h, people: [iva]}
`

func TestTeams(t *testing.T) {
	list, found := Parse([]File{{"a", quayside}})
	require.Empty(t, found)
	team := list[0].Team
	assert.Equal(t, []string{"mara", "jonas", "iva"}, team.Members)
	duty := team.OnCall(time.Date(2026, 1, 13, 3, 0, 0, 0, time.UTC), nil)
	require.Len(t, duty, 2)
	assert.Equal(t, "jonas", duty[0].Person)
	assert.Equal(t, "iva", duty[1].Person)
	assert.Equal(t, 12*time.Hour, duty[1].Until.Sub(duty[1].From))
	duty = team.OnCall(time.Date(2026, 1, 13, 12, 0, 0, 0, time.UTC), []calendar.StandIn{})
	assert.Empty(t, duty[1].Person)
}

func TestMistakesInTeams(t *testing.T) {
	rota := func(text string) string {
		return "urgentis: team/1\nname: q\nmembers: [a]\nrota:\n  zone: UTC\n" + text
	}
	for text, says := range map[string]string{
		"urgentis: team/1\nname: q\n":                                                                    "the team has no members",
		"urgentis: team/1\nname: q\nmembers: [a, a]\n":                                                   "a stands twice among the members",
		"urgentis: team/1\nname: q\nmembers: [A b]\n":                                                    "is not how anybody signs in",
		"urgentis: team/1\nname: q\nmembers: []\n":                                                       "members is empty",
		"urgentis: team/1\nname: q\nmembers: [a]\nrota: {}\n":                                            "the rota has no zone",
		rota("  first:\n    - {from: 2026-01-05, every: FREQ=WEEKLY, people: [a]}\n"):                    "is no time such as",
		rota("  first:\n    - {from: 2026-01-05 09:00, every: weekly, people: [a]}\n"):                   "is no rule of RFC 5545",
		rota("  first:\n    - {from: 2026-01-05 09:00, every: FREQ=HOURLY, people: [a]}\n"):              "once a day at most",
		rota("  first:\n    - {from: 2026-01-05 09:00, every: FREQ=DAILY, people: [b]}\n"):               "b has a turn and is no member",
		rota("  first:\n    - {from: 2026-01-05 09:00, every: FREQ=DAILY, people: [a], lasts: a day}\n"): "is no length of a turn",
		rota("  first:\n    - {from: 2026-01-05 09:00, every: FREQ=DAILY}\n"):                            "the turn has no people",
		rota("  second:\n    - {from: 2026-01-05 09:00, every: FREQ=DAILY, people: [a]}\n"):              "the rota has no first",
	} {
		_, found := Parse([]File{{"a", text}})
		require.NotEmpty(t, found, text)
		assert.Contains(t, found[0].Message, says, text)
	}
}
