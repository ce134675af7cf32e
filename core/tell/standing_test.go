package tell

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"urgentis/core/expr"
	"urgentis/core/reading"
)

var eight = time.Date(2026, 11, 29, 8, 0, 0, 0, time.UTC)

func pointsOf(target string, every time.Duration, values ...float64) []Point {
	var out []Point
	for i, v := range values {
		out = append(out, Point{At: eight.Add(time.Duration(i) * every), Target: target, Value: v})
	}
	return out
}

func TestSlopes(t *testing.T) {
	wanted := &expr.Limit{Reading: "x", Op: "<", Value: 200}
	for _, c := range []struct {
		name   string
		points []Point
		good   reading.Good
		is     string
		says   string
	}{
		{"rises", pointsOf("a", time.Minute, 100, 110, 120, 130, 140), reading.Low, Worsens, "+10 s a minute"},
		{"one wild value", pointsOf("a", time.Minute, 100, 110, 9000, 130, 140), reading.Low, Worsens,
			"+10 s a minute"},
		{"jumps, and goes on", pointsOf("a", time.Minute, 0, 400, 460, 520, 580, 640, 700), reading.Low, Worsens,
			"+60 s a minute"},
		{"falls", pointsOf("a", time.Minute, 140, 130, 120, 110), reading.Low, Improves, "-10 s a minute"},
		{"falls, higher is better", pointsOf("a", time.Minute, 140, 130, 120, 110), reading.High, Worsens,
			"-10 s a minute"},
		{"scatters", pointsOf("a", time.Minute, 100, 90, 110, 95, 105, 100), reading.Low, Stays, "steady"},
		{"hardly moves", pointsOf("a", time.Minute, 100, 100.1, 100.2, 100.3), reading.Low, Stays, "steady"},
		{"nothing says which way is better", pointsOf("a", time.Minute, 1, 2, 3, 4), "", Rises, "+1 s a minute"},
		{"towards what is wanted", pointsOf("a", time.Minute, 100, 110, 120, 130), reading.Near, Improves,
			"+10 s a minute"},
		{"slowly", pointsOf("a", 10*time.Second, 1, 1.01, 1.02, 1.03, 1.04), reading.Low, Worsens,
			"+3.6 s an hour"},
	} {
		s := SlopeOf(c.points, time.Time{})
		require.NotNil(t, s, c.name)
		assert.Equal(t, c.is, s.Is(c.good, wanted, c.points[len(c.points)-1].Value), c.name)
		assert.Equal(t, c.says, s.Says("s"), c.name)
	}
	assert.Nil(t, SlopeOf(pointsOf("a", time.Minute, 1, 2, 3), time.Time{}), "three are too few")
	assert.Nil(t, SlopeOf(pointsOf("a", time.Minute, 1, 2, 3, 4, 5), eight.Add(3*time.Minute)), "since the last change")
}

// TestASlopeIsThatOfItsValues: values moved or stretched move their slope by as much.
func TestASlopeIsThatOfItsValues(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		values := rapid.SliceOfN(rapid.Float64Range(-1e6, 1e6), 4, 40).Draw(t, "values")
		up := rapid.Float64Range(-1e3, 1e3).Draw(t, "up")
		a := SlopeOf(pointsOf("a", 10*time.Second, values...), time.Time{})
		other := make([]float64, len(values))
		for i, v := range values {
			other[i] = 2*v + up*float64(i)/6
		}
		b := SlopeOf(pointsOf("a", 10*time.Second, other...), time.Time{})
		require.NotNil(t, a)
		assert.InDelta(t, 2*a.PerMinute+up, b.PerMinute, 1e-3)
	})
}

func TestHowItStands(t *testing.T) {
	lead := Leading{Reading: "offset", Unit: "ms", Good: reading.Low, Wanted: &expr.Limit{Reading: "offset", Op: "<", Value: 100}}
	lines := []Line{
		{"clock-1", pointsOf("clock-1", time.Minute, 5, 6, 5, 7, 6)},
		{"clock-2", pointsOf("clock-2", time.Minute, 50, 90, 130, 170, 210)},
		{"clock-3", nil},
	}
	s := StandingOf(lead, lines, eight.Add(80*time.Second), time.Time{})
	require.NotNil(t, s)
	assert.Equal(t, "offset 210 ms on clock-2 (target < 100)", s.Says())
	assert.Equal(t, 90.0, s.Then.Value, "as it was opened")
	assert.Equal(t, Worsens, s.Is())
	assert.Equal(t, eight.Add(2*time.Minute), s.Beyond)
	assert.Equal(t, []int{1, 2}, []int{s.Bad, s.Of})
	assert.False(t, s.Old(eight.Add(5*time.Minute)))
	assert.True(t, s.Old(eight.Add(7*time.Minute)))
	assert.Nil(t, StandingOf(lead, lines[2:], eight, time.Time{}), "what was not read is not zero")

	late := StandingOf(lead, lines, eight.Add(time.Hour), time.Time{})
	assert.Nil(t, late.Then, "what was read an hour before is not how it was then")
}

func TestGaps(t *testing.T) {
	points := pointsOf("a", time.Minute, 1, 2, 3, 4)
	later := pointsOf("a", time.Minute, 5, 6)
	for i := range later {
		later[i].At = later[i].At.Add(10 * time.Minute)
	}
	assert.Equal(t, []int{4}, Gaps(append(points, later...)))
	assert.Empty(t, Gaps(points[:1]))
}
