package tell

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"urgentis/core/expr"
	"urgentis/core/flow"
	"urgentis/core/reading"
	"urgentis/core/runbook"
)

func TestThenAndNow(t *testing.T) {
	for _, x := range []struct {
		good      reading.Good
		then, now any
		says      string
	}{
		{reading.Low, int64(300), int64(12), Better},
		{reading.Low, 12.5, int64(13), Worse},
		{reading.High, int64(3), int64(60), Better},
		{reading.High, int64(60), int64(3), Worse},
		{reading.Low, int64(3), 3.0, Alike},
		{"", int64(3), int64(4), Other},
		{reading.Near, int64(3), int64(4), Other},
		{"", "m-7", "", Other},
		{reading.Low, "m-7", "m-7", Alike},
		{reading.Low, map[string]any{"a": int64(1)}, map[string]any{"a": int64(2)}, Other},
	} {
		assert.Equal(t, x.says, compare(x.good, x.then, x.now), "%s %v %v", x.good, x.then, x.now)
	}
}

// What cannot be had now, and what was not had then, are said, and what is sealed is told to nobody.
func TestComparedWithWhatIsMissing(t *testing.T) {
	l := LookTaken{
		Step: &runbook.Step{Read: []reading.Spec{{Name: "depth", Good: reading.Low, Unit: "messages"}, {Name: "key",
			Sealed: true}}},
		Again: []flow.Intent{{Target: "a"}, {Target: "b"}, {Target: "c"}},
		First: map[string]map[string]expr.Sample{
			"a": {"depth": {Value: int64(9)}, "key": {Value: "x"}}, "b": {"depth": {Value: int64(9)}}},
	}
	got := l.Compare(map[string]flow.Outcome{
		"a": {State: flow.OK, Readings: map[string]expr.Sample{"depth": {Value: int64(7)}, "key": {Value: "y"}}},
		"b": {State: flow.Failed, Error: "no route to it"},
		"c": {State: flow.OK, Readings: map[string]expr.Sample{"depth": {Value: int64(1)}}},
	})
	says := map[string]string{}
	for _, c := range got {
		says[c.Target] += c.Name + " " + c.Says + " " + c.Missing
	}
	assert.Equal(t, map[string]string{"a": "depth better ", "b": "depth not to be had no route to it",
		"c": "depth other "}, says)
}
