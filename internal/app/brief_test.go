package app

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/leave"
	"urgentis/core/task"
	"urgentis/core/tell"
)

func TestPartsReadWell(t *testing.T) {
	light := func(lamp, word string) task.Request {
		return task.Request{Kind: "ssh", Target: task.Facts{Name: lamp, Address: "127.0.10." + lamp[5:]}, Timeout: 30,
			Words: []string{"lamp", "light", word, "--now"},
			Undo: &task.Request{
				Kind:    "ssh",
				Target:  task.Facts{Name: lamp, Address: "127.0.10." + lamp[5:]},
				Timeout: 30,
				Words:   []string{"lamp", "dim", word},
			}}
	}
	parts, err := task.Table([]task.Request{light("lamp-1", "red"), light("lamp-2", "blue\u202e")},
		func(task.Request) string { return "" })
	require.NoError(t, err)
	p, err := partOf(parts[0])
	require.NoError(t, err)
	assert.Equal(t, "lamp light ⟨A⟩ --now", p.Shown)
	assert.Equal(t, "lamp dim ⟨B⟩", p.Undo)
	assert.Equal(t, []string{"⟨A⟩ word 3", "⟨B⟩ undo: word 3"}, p.Columns)
	assert.Equal(t, []string{"lamp-1", "lamp-2"}, p.Targets)
	assert.Equal(t, []string{"red", "red"}, p.Rows[0])
	assert.Contains(t, p.Rows[1][0], "U+202E", "what cannot be seen is shown")
	assert.Equal(t, []string{"address"}, p.WhereColumns)
	assert.Equal(t, [][]string{{"127.0.10.1"}, {"127.0.10.2"}}, p.Where)
	assert.Equal(
		t,
		[]Bound{{"kind", "ssh"}, {"timeout seconds", "30"}},
		p.Bound,
		"what is the same for the undo is said once",
	)

	// A value that looks like a mark is none.
	parts, err = task.Table([]task.Request{light("lamp-1", "⟨A⟩"), light("lamp-2", "⟨A⟩")},
		func(task.Request) string { return "" })
	require.NoError(t, err)
	p, err = partOf(parts[0])
	require.NoError(t, err)
	assert.Equal(t, "lamp light '⟨A⟩' --now", p.Shown)
	assert.Empty(t, p.Columns)
	for n, want := range map[int]string{1: "A", 26: "Z", 27: "AA", 53: "BA"} {
		assert.Equal(t, want, letters(n))
	}
}

func TestEqualEvidenceIsSaidOnce(t *testing.T) {
	now := time.Now()
	facts := together([]Evidence{
		{
			Reading: "depth",
			Target:  "a",
			Value:   "3",
			At:      now,
		}, {Reading: "depth", Target: "b", Value: "3", At: now.Add(-time.Hour)},
		{Reading: "depth", Target: "c", Value: "4", At: now},
	}, now)
	require.Len(t, facts, 2)
	assert.Equal(t, []string{"a", "b"}, facts[0].Targets)
	assert.True(t, facts[0].Stale, "as old as the oldest of them")
	assert.False(t, facts[1].Stale)
}

func TestWhatIsBoundIsReachable(t *testing.T) {
	p := leave.Proposal{Requests: []task.Request{{Kind: "http", Method: "POST", URL: "http://u/x", Timeout: 9,
		Headers: map[string]string{"X-Key": "k"}, Accept: []int{202}, Target: task.Facts{Name: "t", HostKey: "key"}}}}
	parts, err := task.Table(p.Requests, func(task.Request) string { return "" })
	require.NoError(t, err)
	got, err := partOf(parts[0])
	require.NoError(t, err)
	assert.Equal(t, "POST http://u/x\nX-Key: k", got.Shown)
	assert.Equal(
		t,
		[]Bound{{"accept 1", "202"}, {"host key", "key"}, {"kind", "http"}, {"timeout seconds", "9"}},
		got.Bound,
	)
}

// A cell is the newest value that the target gave, to the run or to the gate alone, and its column says of when.
func TestACellIsTheNewestValueAndSaysOfWhen(t *testing.T) {
	at := time.Date(2026, 11, 29, 3, 9, 34, 0, time.UTC)
	evidence := []Evidence{{Reading: "offset", Target: "clock-1", Value: "303.7", Unit: "ms", At: at}}
	grounds := []tell.Ground{{Reading: "offset", Unit: "ms", Points: []tell.Point{
		{At: at, Target: "clock-1", Value: 303.7}, {At: at.Add(time.Minute), Target: "clock-1", Value: 516, ForGate: true},
		{At: at.Add(time.Hour), Target: "clock-2", Value: 1},
	}}}
	value, when := newestOf("offset", "clock-1", evidence, grounds)
	assert.Equal(t, "516 ms", value)
	assert.Equal(t, at.Add(time.Minute), when)
	value, _ = newestOf("offset", "clock-1", evidence, nil)
	assert.Equal(t, "303.7 ms", value)
	_, when = newestOf("offset", "clock-3", evidence, grounds)
	assert.True(t, when.IsZero(), "what was not read has no time")
}
