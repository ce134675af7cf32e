package flow

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestPlacesAreMadeOfOneAnother(t *testing.T) {
	var run Place
	for text, p := range map[string]Place{
		"":                        run.Call(),
		"3":                       run.Step(3),
		"on_error":                run.List("on_error"),
		"on_error.1":              run.List("on_error").Step(1),
		"3.do@2.1":                run.Step(3).Item(2).Step(1),
		"4.branches.left~.1":      run.Step(4).Branch("left").Step(1),
		"5.choices.collect#1.2":   run.Step(5).Round("choices.collect", 1).Step(2),
		"6/2":                     run.Step(6).Call().Step(2),
		"6/finally.1":             run.Step(6).Call().List("finally").Step(1),
		"3.do@2.1/4.otherwise.10": run.Step(3).Item(2).Step(1).Call().Step(4).List("otherwise").Step(10),
	} {
		assert.Equal(t, PlaceOf(text), p, text)
		data, err := json.Marshal(map[Place]Place{p: p})
		require.NoError(t, err)
		var back map[Place]Place
		require.NoError(t, json.Unmarshal(data, &back))
		assert.Equal(t, map[Place]Place{p: p}, back)
	}
}

func TestPlacesAreTakenApart(t *testing.T) {
	for _, c := range []struct{ place, static, whole, caller, frame, around string }{
		{"", "", "", "", "", ""},
		{"3", "3", "", "", "", ""},
		{"3.do@2.1", "3.do.1", "", "", "3.do@2", "3.do"},
		{"3.do@2.1.passes.2", "3.do.1.passes.2", "", "", "3.do@2", "3.do.1.passes"},
		{"4.branches.left~.1", "4.branches.left.1", "", "", "4.branches.left~", "4.branches.left"},
		{"5.choices.collect#1.2", "5.choices.collect.2", "", "", "", "5.choices.collect"},
		{"6/2", "6/2", "6/", "6", "6/", ""},
		{"6/", "6/", "6/", "6", "6/", ""},
		{"3.do@2.1/4.do@0.2", "3.do.1/4.do.2", "3.do@2.1/", "3.do@2.1", "3.do@2.1/4.do@0", "4.do"},
		{"6/2/on_error.1", "6/2/on_error.1", "6/2/", "6/2", "6/2/", "on_error"},
	} {
		p := PlaceOf(c.place)
		assert.Equal(t, c.static, p.Static(), c.place)
		assert.Equal(t, c.whole, p.Whole().String(), c.place)
		assert.Equal(t, c.caller, p.Caller().String(), c.place)
		assert.Equal(t, c.frame, p.Frame().String(), c.place)
		assert.Equal(t, c.around, p.Around(), c.place)
	}
	each, i, is := PlaceOf("3.do@12").ItemOf()
	assert.Equal(t, []any{PlaceOf("3"), 12, true}, []any{each, i, is})
	_, _, is = PlaceOf("3.do@12/").ItemOf()
	assert.False(t, is, "a call in an item is no item")
	assert.Equal(t, []string{"3.do.1", "4.do.2"}, PlaceOf("3.do@2.1/4.do@0.2").Paths())
	assert.Equal(t, 3, PlaceOf("3.do@2.1/4.do@0.2").Depth())
}

func TestWhatIsSeenFromAPlace(t *testing.T) {
	for _, c := range []struct {
		from, at string
		sees     bool
	}{
		{"3", "2", true},
		{"3.do@1.2", "3.do@1.1", true},
		{"3.do@1.2", "3.do@0.1", false},
		{"4", "3.do@0.1", true},
		{"3.do@1.2", "2", true},
		{"4.branches.left~.1", "4.branches.right~.1", false},
		{"4.branches.left~.2", "4.branches.left~.1", true},
		{"5.choices.a#1.1", "5.choices.a#0.1", true},
		{"6/2", "2", false},
		{"7", "6/2", false},
	} {
		assert.Equal(t, c.sees, PlaceOf(c.from).Sees(PlaceOf(c.at)), "%s from %s", c.at, c.from)
	}
	for _, c := range []struct {
		place, block string
		in           bool
	}{
		{"3.do@1.2", "", true},
		{"3.do@1.2", "3", true},
		{"3.do@1.2", "3.do@1", true},
		{"3.do@12.2", "3.do@1", false},
		{"31", "3", false},
		{"3", "3", true},
		{"6/2", "6", true},
		{"6/2", "6/", true},
		{"6/", "6/2", false},
		{"finally.1", "finally", true},
		{"finally.1", "final", false},
	} {
		assert.Equal(t, c.in, PlaceOf(c.place).In(PlaceOf(c.block)), "%s in %s", c.place, c.block)
	}
	assert.Equal(t, PlaceOf("6/4"), PlaceOf("6/4/2.do@1.1").asCaller(PlaceOf("6/9")))
	assert.Equal(t, PlaceOf("3"), PlaceOf("3").asCaller(PlaceOf("6/9")))
}
