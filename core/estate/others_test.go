package estate_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/alert"
	"urgentis/core/estate"
)

func document(t require.TestingT, text string) *estate.Document {
	docs, found := estate.Parse([]estate.File{{Name: "a.yaml", Text: text}})
	require.Empty(t, found, text)
	require.Len(t, docs, 1)
	return docs[0]
}

func TestTriggers(t *testing.T) {
	d := document(t, `urgentis: trigger/1
name: backlog-at-night
runbook: berth-queue-backlog
alert: alert.labels.signal == "queue_depth"
on: [new, repeat]
hours: {outside: quayside-staffed}
steady: 30s
count: 5 in 1d
at_most: 3 per 1h
inputs: {queue: "{{ alert.labels.queue }}"}
`).Trigger
	assert.Equal(t, "berth-queue-backlog", d.Runbook)
	s := d.Start
	assert.True(t, s.JudgedOn(alert.Repeat))
	assert.False(t, s.JudgedOn(alert.Worse))
	assert.Equal(t, "outside the hours of quayside-staffed", s.Hours.Only())
	assert.Equal(t, []any{5, 24 * time.Hour, 3, time.Hour, 30 * time.Second},
		[]any{s.Count, s.Within, s.AtMost, s.Per, s.Steady})
	assert.Equal(t, []string{`alert.labels.signal == "queue_depth"`, "as the alert is new or repeat",
		"still so after 30s", "each 5 times within 24h", "only outside the hours of quayside-staffed", "3 per 1h at most"},
		s.Says())
	s = document(t, "urgentis: trigger/1\nname: nightly\nrunbook: r\nschedule: 30 2 * * *\nzone: Europe/Lisbon\n"+
		"missed: skip\ninputs: {day: \"{{ at }}\"}\n").Trigger.Start
	assert.Equal(t, "at 30 2 * * * in Europe/Lisbon", s.Says()[0])
	s = document(t, "urgentis: trigger/1\nname: web\nrunbook: r\naddress: true\n"+
		"inputs: {what: \"{{ request.body.what }}\"}\n").Trigger.Start
	assert.True(t, s.Address)
	s = document(
		t,
		"urgentis: trigger/1\nname: big\nrunbook: r\nincident: incident.severity == \"critical\"\n",
	).Trigger.Start
	assert.NotNil(t, s.Incident)
	s = document(
		t,
		"urgentis: trigger/1\nname: out\nrunbook: r\ndeployment: deployment.environment == \"quay\"\n",
	).Trigger.Start
	assert.NotNil(t, s.Deployment)
}

func TestCalendarsMutesAndJoins(t *testing.T) {
	c := document(t, `urgentis: calendar/1
name: quayside-staffed
zone: Europe/Lisbon
weekly: [mon-fri 07:00-19:00, sat 08:00-12:00]
days: {2026-12-25: closed, 2026-12-24: "07:00-12:00, 13:00-14:00"}
`).Calendar
	assert.True(t, c.Inside(time.Date(2026, 12, 24, 13, 30, 0, 0, time.UTC)))
	assert.False(t, c.Inside(time.Date(2026, 12, 25, 13, 30, 0, 0, time.UTC)))
	m := document(t, `urgentis: mute/1
name: works-on-ramp-2
when: alert.labels.point == "ramp-2"
from: 2026-12-01T22:00:00Z
until: 2026-12-02T04:00:00Z
because: "planned works"
`).Mute
	ramp := map[string]any{"labels": map[string]string{"point": "ramp-2"}}
	assert.True(t, m.Covers(ramp, m.From))
	assert.False(t, m.Covers(ramp, m.Until))
	assert.False(
		t,
		m.Covers(map[string]any{"labels": map[string]string{}}, m.From),
		"what cannot be judged is not muted",
	)
	j := document(t, `urgentis: join/1
name: by-quay
when: alert.source == "quay-panel"
by: [alert.labels.quay]
within: 30m
`).Join
	north := map[string]any{"source": "quay-panel", "labels": map[string]string{"quay": "north"}}
	assert.NotEmpty(t, j.Key(north))
	assert.Equal(
		t,
		j.Key(north),
		j.Key(map[string]any{"source": "quay-panel", "labels": map[string]string{"quay": "north"}}),
	)
	assert.Empty(t, j.Key(map[string]any{"source": "quay-panel", "labels": map[string]string{}}))
	assert.Empty(t, j.Key(map[string]any{"source": "x", "labels": map[string]string{"quay": "north"}}))
}

func TestMistakesOfOtherDocuments(t *testing.T) {
	trigger := "urgentis: trigger/1\nname: a\nrunbook: r\n"
	for text, want := range map[string]string{
		trigger: "start a does not say on which alert; give alert: CONDITION, or one of schedule, address, incident, " +
			"deployment",
		"urgentis: trigger/1\nname: a\nalert: alert.service == \"x\"": "the trigger has no runbook",
		trigger + "alert: alert.service == \"x\"\naddress: true":      "start a has several occasions; give each a start of its own",
		trigger + "address: true\nsteady: 5m":                         "steady is about an alert; this start has another occasion",
		trigger + "address: true\nzone: UTC":                          "zone is about a schedule; this start has none",
		trigger + "alert: alert.service == \"x\"\non: [newish]":       "on must be one of new, worse, better, cleared, repeat, not newish; did you mean new?",
		trigger + "alert: alert.service == \"x\"\ncount: 5 per 1d":    "count must be a number in a time, as in 3 in 1h",
		trigger + "alert: alert.service == \"x\"\nhours: {inside: a, outside: b}": "hours are either inside: CALENDAR or " +
			"outside: CALENDAR",
		trigger + "schedule: 30 25 * * *": "this is no schedule: end of range (25) above maximum (23): 25; it is five " +
			"fields: minute, hour, day of the month, month, day of the week, such as 30 2 * * *",
		trigger + "schedule: 30 2 * * *\nzone: Lisbon":                  "there is no zone Lisbon; write it like Europe/Lisbon or UTC",
		trigger + "schedule: 30 2 * * *\nmissed: all":                   "missed must be one of once, skip, each, not all",
		trigger + "address: true\ninputs: {a: \"{{ alert.service }}\"}": "there is no alert here",
		"urgentis: source/1\nname: a\nreports: deployments\nover_after: 5m": "over_after is about alerts; this source reports " +
			"deployments",
		"urgentis: source/1\nname: a\nreports: deployment": "reports must be one of alerts, deployments, tickets, not deployment; did you " +
			"mean deployments?",
		trigger + "alert: alert.count > 3":                            "a start is judged when its alert comes in, where alert.count is 1",
		"urgentis: calendar/1\nname: a\nzone: UTC\nweekly: [mon 7-8]": "\"7-8\" is not like 07:00-19:00",
		"urgentis: calendar/1\nname: a\nzone: UTC\nweekly: []\ndays: {soon: closed}": "soon is no day; write it like " +
			"2026-12-24",
		"urgentis: mute/1\nname: a\nwhen: alert.service == \"x\"\nfrom: now\nuntil: 2026-12-02T04:00:00Z\nbecause: b": "from " +
			"must be a time such as 2026-12-01T22:00:00Z",
		"urgentis: mute/1\nname: a\nwhen: alert.service == \"x\"\nfrom: 2026-12-02T04:00:00Z\nuntil: 2026-12-02T04:00:00Z\n" +
			"because: b": "until is not after from",
		"urgentis: join/1\nname: a\nby: []\nwithin: 5m":               "by is empty: then all alerts would be one incident",
		"urgentis: join/1\nname: a\nby: [alrt.service]\nwithin: 5m":   "there is no alrt here; did you mean alert?",
		"urgentis: join/1\nname: a\nby: [alert.service]\nwithin: 10d": "within may be 7d at most",
		"urgentis: join/1\nname: a\nby: [alert.service]":              "the join has no within",
	} {
		_, found := estate.Parse([]estate.File{{Name: "x.yaml", Text: text}})
		var said []string
		for _, f := range found {
			said = append(said, f.Sentence())
		}
		require.Len(t, said, 1, "%s: %v", text, said)
		assert.True(t, strings.HasPrefix(said[0], want), "%s\n%s", said[0], fmt.Sprint(want))
	}
}
