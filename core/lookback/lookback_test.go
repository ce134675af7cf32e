package lookback

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"urgentis/core/incident"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

var onset = time.Date(2031, 3, 1, 2, 0, 0, 0, time.UTC)

func seen() *incident.PastContent {
	return &incident.PastContent{From: onset.Add(-time.Hour), Until: onset.Add(time.Hour), Onset: onset}
}

func TestSeriesOfJSONAndOfOpenMetrics(t *testing.T) {
	at := func(m int) time.Time { return onset.Add(time.Duration(m) * time.Minute) }
	l := &LookBack{Series: []Series{
		{Name: "depth", Of: "depth", Unit: "messages"},
		{Name: "tank", Of: "metrics", Metric: "tank_percent", Target: "tank"},
	}}
	metrics := strings.Join([]string{"# TYPE tank_percent gauge",
		fmt.Sprintf(`tank_percent{tank="2 \"south\"",of="fuel"} 81 %d`, at(-10).Unix()),
		fmt.Sprintf(`tank_percent{tank="2 \"south\"",of="fuel"} 4.5 %d.250`, at(5).Unix()),
		fmt.Sprintf(`tank_percent{tank="1",of="fuel"} NaN %d`, at(5).Unix()),
		fmt.Sprintf(`tank_total{tank="1"} 9 %d # {x="y"} 1`, at(5).Unix()),
		fmt.Sprintf(`tank_percent{tank="1"} 74 %d`, at(-90).Unix()), "# EOF", ""}, "\n")
	s := seen()
	l.Take(s, map[string]map[string]any{
		"depth": {"": []any{
			map[string]any{"at": at(1).Format(time.RFC3339), "value": int64(900), "target": "a"},
			map[string]any{"at": at(-1).Unix(), "value": 12.5, "target": "a"},
			map[string]any{"at": at(2).UnixMilli(), "value": nil, "target": "a"},
		}},
		"metrics": {"": metrics},
	})
	require.Len(t, s.Series, 2)
	assert.Equal(t, points(at(-1), 12.5, at(1), 900.0), s.Series[0].Points, "by time, gaps left out")
	assert.Equal(t, `2 "south"`, s.Series[1].Target)
	assert.Equal(t, points(at(-10), 81.0, at(5).Add(250*time.Millisecond), 4.5), s.Series[1].Points)
	assert.Empty(t, s.Missing)
}

func TestWhatIsNoSeriesIsSaid(t *testing.T) {
	for says, answer := range map[string]any{
		"it is no list of {at, value, target}":         "text",
		"item 1 is no {at, value, target}":             []any{int64(1)},
		"item 1: at is no time":                        []any{map[string]any{"at": "noon", "value": int64(1)}},
		"there is nothing of this time":                []any{},
		"metrics: tank has a value that is no number":  "tank x 1",
		"metrics: tank has a time that is no number":   "tank 1 x",
		"metrics: 2 samples of tank have no time":      "tank 1\ntank{a=\"b\"} 2",
		"metrics: there is nothing of this time":       "other 1 1",
		"metrics: there is nothing of this time\u200b": "",
	} {
		says = strings.TrimRight(says, "\u200b")
		series := Series{Name: "depth", Of: "x"}
		if strings.HasPrefix(says, "metrics") {
			series = Series{Name: "metrics", Of: "x", Metric: "tank"}
		}
		s := seen()
		(&LookBack{Series: []Series{series}}).Take(s, map[string]map[string]any{"x": {"": answer}})
		require.Len(t, s.Missing, 1, says)
		assert.Contains(t, s.Missing[0], says)
	}
}

func TestShapes(t *testing.T) {
	for line, want := range map[string]string{
		`took 12 ms for m-4711`:                   `took ⟨n⟩ ms for m-⟨n⟩`,
		`GET "/a/b" from 10.0.0.7:443 0xdeadbeef`: `GET ⟨text⟩ from ⟨address⟩ ⟨id⟩`,
		`run 3f2a9c1b77de ended`:                  `run ⟨id⟩ ended`,
		`id 5e0c1a2b-0000-4000-8000-00000a00000b`: `id ⟨id⟩`,
		`facade decade`:                           `facade decade`,
	} {
		assert.Equal(t, want, ShapeOf(line))
	}
	s := seen()
	log := ""
	for i := range 50 {
		log += fmt.Sprintf("%s took %d ms\n", onset.Add(time.Duration(i-40)*time.Minute).Format(time.RFC3339), i)
	}
	log += onset.Add(time.Second).
		Format("2006-01-02 15:04:05Z07:00") +
		" cannot read message m-7\r\nno time on this one\n\n"
	(&LookBack{Lines: []string{"log"}}).Take(s, map[string]map[string]any{"log": {"a": log, "b": "took 3 ms"}})
	require.Len(t, s.Shapes, 3)
	assert.Equal(t, incident.LineShape{Text: "cannot read message m-⟨n⟩", Example: "cannot read message m-7", Count: 1, Since: 1,
		Targets: []string{"a"}}, s.Shapes[0], "what is new since the onset stands first")
	assert.Equal(t, 51, s.Shapes[1].Count)
	assert.Equal(t, []int{40, 10}, []int{s.Shapes[1].Before, s.Shapes[1].Since})
	assert.Equal(t, []string{"a", "b"}, s.Shapes[1].Targets)
}

// However many points there are, so many are kept, in their order, with the one that stands farthest out.
func TestThinningKeepsPeaks(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := rapid.IntRange(1, 3000).Draw(t, "n")
		peak := rapid.IntRange(0, n-1).Draw(t, "peak")
		points := make([]incident.PastPoint, n)
		for i := range points {
			points[i] = incident.PastPoint{At: onset.Add(time.Duration(i) * time.Second), Value: 10}
		}
		points[peak].Value = 1e6
		got := thin(points)
		assert.LessOrEqual(t, len(got), MaxPoints)
		found := false
		for i, p := range got {
			found = found || p.Value == 1e6
			assert.True(t, i == 0 || p.At.After(got[i-1].At))
		}
		assert.True(t, found)
	})
}

func TestSpan(t *testing.T) {
	l := &LookBack{Before: time.Hour, After: 30 * time.Minute}
	now := onset.Add(10 * time.Minute)
	from, until := l.Span(onset, time.Time{}, now)
	assert.Equal(t, []time.Time{onset.Add(-time.Hour), now}, []time.Time{from, until})
	_, until = l.Span(onset, onset.Add(2*time.Hour), onset.Add(9*time.Hour))
	assert.Equal(t, onset.Add(2*time.Hour), until, "to its end")
}

func FuzzShapes(f *testing.F) {
	f.Add("2031-03-01T02:00:00Z took 12 ms \"x\" 10.0.0.1")
	f.Fuzz(func(t *testing.T, text string) {
		g := newGrouper(onset)
		g.add(text, "a")
		list, _ := g.shapes()
		for _, s := range list {
			if s.Count < s.Before+s.Since || strings.ContainsAny(s.Text+s.Example, "\n\x1b") {
				t.Fatal(s)
			}
		}
	})
}

// points are times and numbers, in turns.
func points(of ...any) []incident.PastPoint {
	var out []incident.PastPoint
	for i := 0; i < len(of); i += 2 {
		out = append(out, incident.PastPoint{At: of[i].(time.Time), Value: of[i+1].(float64)})
	}
	return out
}
