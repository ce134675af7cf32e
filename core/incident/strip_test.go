package incident

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestDraw(t *testing.T) {
	at := func(s int) time.Time { return time.Unix(int64(s), 0).UTC() }
	e := func(seq int64, s int, kind Kind, step, content string) Entry {
		return Entry{
			Seq:     seq,
			At:      at(s),
			Kind:    kind,
			Run:     "r",
			Step:    step,
			Title:   string(kind),
			Content: json.RawMessage(content),
		}
	}
	s := Draw([]Entry{
		e(1, 0, "alert.raised", "", `{}`),
		e(
			2,
			3,
			"look.taken",
			"1",
			`{"verb":"look","took_ms":2000,"target":"a","readings":{"depth":{"value":812,"unit":"messages","at":"1970-01-01T00:00:03Z"},"stuck":{"value":"m-7"}}}`,
		),
		e(3, 4, "check.passes", "2", `{}`),
		e(4, 5, "gate.raised", "3", `{"gate":"g"}`),
		e(5, 60, "gate.approved", "3", `{"gate":"g"}`),
		e(6, 61, "change.begun", "3", `{"attempt":"x"}`),
		e(7, 62, "change.ended", "3", `{"attempt":"x","state":"unknown"}`),
		e(8, 65, "look.incomplete", "4", `{"verb":"check","step_title":"Draining?","took_ms":1000}`),
		e(9, 70, "check.fails", "4", `{"proves":"park"}`),
		e(10, 71, "question.raised", "3", `{"question":"q"}`),
		e(11, 72, "note", "3", `not json`),
	}, at(0), time.Time{}, at(80))
	require.Len(t, s.Spans, 6)
	assert.Equal(t, Span{Evidence, "look.taken", Good, at(1), at(3), 2}, s.Spans[0])
	assert.Equal(t, Span{Decision, "check.passes", Good, at(4), at(4), 3}, s.Spans[1])
	assert.Equal(t, Span{Decision, "gate.raised", Good, at(5), at(60), 4}, s.Spans[2])
	assert.Equal(t, Span{Change, "change.begun", Unsure, at(61), at(62), 6}, s.Spans[3])
	assert.Equal(t, Span{Proof, "Draining?", Bad, at(64), at(70), 8}, s.Spans[4])
	assert.Equal(t, Span{Decision, "question.raised", Waiting, at(71), time.Time{}, 10}, s.Spans[5])
	assert.Equal(t, []Line{{"depth", "messages", []Point{{at(3), 812, "a"}}}}, s.Lines)
	assert.Equal(t, at(80), s.To)
}

// A strip of thousands of looks is as small as it can be seen, and hides no trouble, no peak and no newest value.
func TestALongStripIsThin(t *testing.T) {
	begin := time.Unix(0, 0).UTC()
	var entries []Entry
	add := func(s int, kind Kind, content any) {
		raw, err := json.Marshal(content)
		require.NoError(t, err)
		entries = append(entries, Entry{Seq: int64(len(entries)) + 1, At: begin.Add(time.Duration(s) * time.Second),
			Kind: kind, Run: "r", Step: "1", Title: "Depth", Content: raw})
	}
	look := func(s int, kind Kind, value float64) {
		add(s, kind, map[string]any{"verb": "look", "target": "a", "took_ms": 5, "readings": map[string]any{
			"depth": map[string]any{"value": value, "at": begin.Add(time.Duration(s) * time.Second)}}})
	}
	for s := range 5000 {
		value := 10.0
		if s == 2501 {
			value = 5000
		}
		if s == 4999 {
			value = 3
		}
		look(s, map[bool]Kind{true: LookIncomplete, false: LookTaken}[s == 1777], value)
		if s%2 == 0 {
			add(s, AlertWorse, map[string]any{})
		}
	}
	add(3000, GateRaised, map[string]any{"gate": "g"})
	s := Draw(entries, begin, time.Time{}, begin.Add(5000*time.Second))
	assert.LessOrEqual(t, len(s.Spans), cells+5)
	assert.LessOrEqual(t, len(s.Marks), cells+1)
	assert.LessOrEqual(t, len(s.Lines[0].Points), 2*cells+2)
	states := map[string]int{}
	for _, x := range s.Spans {
		states[x.State]++
	}
	assert.Equal(t, 1, states[Unsure])
	assert.Equal(t, 1, states[Waiting])
	high, newest := 0.0, s.Lines[0].Points[len(s.Lines[0].Points)-1].Value
	for _, p := range s.Lines[0].Points {
		high = max(high, p.Value)
	}
	assert.Equal(t, []float64{5000, 3}, []float64{high, newest})
	assert.Contains(t, s.Spans[0].Title, "Depth and ")
}
