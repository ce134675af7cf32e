package suggest

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/runbook"
)

func book(t *testing.T, name, service, more string) *runbook.Book {
	b, found := runbook.Parse(
		[]byte("urgentis: runbook/1\nname: " + name + "\ntitle: About " + name + "\nowner: quayside\n" +
			"service: " + service + "\n" + more + "steps:\n  - close: false-alarm\n    because: b\n"),
	)
	require.NotNil(t, b, "%s", found)
	return b
}

func TestRunbooksAreRankedWithTheirReasons(t *testing.T) {
	now := time.Date(2026, 3, 2, 2, 40, 0, 0, time.UTC)
	books := []*runbook.Book{
		book(t, "fits", "berth-queue", "starts: {deep: {alert: alert.labels.signal == \"depth\", inputs: {queue: \"{{ "+
			"alert.labels.queue }}\"}}}\ninputs: {queue: {type: text}, low: {type: integer, default: 5}}\n"),
		book(t, "helped", "berth-queue", "tags: [consumer]\ninputs: {queue: {type: text}, why: {type: text}}\n"),
		book(t, "failed", "berth-queue", ""),
		book(t, "needed", "fares-db", ""),
		book(t, "stranger", "tides", "tags: [depth]\n"),
	}
	trouble := Trouble{Service: "berth-queue", DependsOn: []string{"fares-db"}, Alerts: []map[string]any{{
		"summary": "the consumer stands", "labels": map[string]string{"signal": "depth", "queue": "north"},
		"severity": "major", "service": "berth-queue",
	}}}
	past := []Past{
		{
			"helped",
			"repaired",
			now.Add(-50 * time.Hour),
			true,
		}, {"helped", "not-repaired", now.Add(-500 * time.Hour), true},
		{"failed", "not-repaired", now.Add(-30 * time.Hour), true}, {"fits", "repaired", now.Add(-time.Hour), false},
	}
	got := Runbooks(trouble, books, past, now)
	var names []string
	for _, s := range got {
		names = append(names, s.Book.Name)
	}
	assert.Equal(t, []string{"fits", "helped", "failed", "needed"}, names, "words alone are no reason")
	assert.Equal(t, []string{"its start deep fits the alert", "it is for berth-queue",
		"1 of 1 other alerts of the service for which it was begun ended well, the last one today"}, got[0].Reasons)
	assert.Equal(t, map[string]any{"queue": "north"}, got[0].Inputs)
	assert.Empty(t, got[0].Missing)
	assert.Equal(t, []string{"it is for berth-queue", "it speaks of consumer",
		"1 of 2 alerts like this one for which it was begun ended well, the last one 2 days ago"}, got[1].Reasons)
	assert.Equal(t, []string{"why"}, got[1].Missing)
	assert.Equal(t, []string{"it is for fares-db, which berth-queue needs"}, got[3].Reasons)
	assert.Empty(t, Runbooks(Trouble{}, books, nil, now), "nothing is known, nothing is suggested")
}

// What is looked at is a reason: a reading, or a target like those that a runbook acts on.
func TestOfAChartAndOfATarget(t *testing.T) {
	text := "urgentis: runbook/1\nname: %s\ntitle: T\nowner: o\nservice: queue\nsteps:\n  - look: L\n    where: {role: %s}\n" +
		"    run: [q, depth]\n    read:\n      %s: {json: .x, type: integer}\n  - hand_over: on-call/o\n    because: B\n"
	var books []*runbook.Book
	for _, x := range [][3]string{{"by-depth", "consumer", "depth"}, {"by-age", "sender", "age"}} {
		b, found := runbook.Parse(fmt.Appendf(nil, text, x[0], x[1], x[2]))
		require.NotNil(t, b, "%v", found)
		books = append(books, b)
	}
	now := time.Date(2031, 3, 1, 0, 0, 0, 0, time.UTC)
	got := Runbooks(Trouble{Service: "queue", Reading: "age"}, books, nil, now)
	assert.Equal(t, "by-age", got[0].Book.Name)
	assert.Contains(t, got[0].Reasons, "it reads age")
	got = Runbooks(Trouble{Service: "queue", Target: "c-1", Labels: map[string]string{"role": "consumer"}},
		books, nil, now)
	assert.Equal(t, "by-depth", got[0].Book.Name)
	assert.Contains(t, got[0].Reasons, "it acts on targets like c-1")
	got = Runbooks(Trouble{Service: "other", Reading: "age", Target: "c-1"}, books, nil, now)
	assert.Empty(t, got)
}
