package expr

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A value from outside is one piece of a path, and none leaves its folder, in URLs neither.
func TestValuesDoNotClimbInPaths(t *testing.T) {
	c, err := NewCompiler(Schema{Inputs: map[string]Type{"v": Text}})
	require.NoError(t, err)
	at := func(text, v string) (path, url string, errs [2]error) {
		tpl, err := c.CompileTemplate(text, InTarget)
		require.NoError(t, err)
		s := &Scope{
			Inputs: map[string]any{"v": v},
			Target: map[string]any{"name": "g1", "known": map[string]any{"logs": "/srv/logs"}},
		}
		path, errs[0] = tpl.Path(s)
		url, errs[1] = tpl.URL(s)
		return path, url, errs
	}
	for _, v := range []string{"..", ".", "../../etc/passwd", "/etc/passwd", "a/../b", "a/b", "..\x00"} {
		_, _, errs := at("/var/log/{{ inputs.v }}", v)
		assert.Error(t, errs[0], v)
	}
	for _, v := range []string{"..", ".", "../../admin", "a/../b", `..\admin`} {
		_, _, errs := at("http://h/x/{{ inputs.v }}", v)
		assert.Error(t, errs[1], v)
	}
	_, _, errs := at("/var/log/.{{ inputs.v }}/x", ".")
	assert.Error(t, errs[0], "pieces that are joined climb no less")
	path, url, errs := at("/var/log/{{ inputs.v }}.log", "a b..c")
	assert.NoError(t, errs[0])
	assert.NoError(t, errs[1])
	assert.Equal(t, "/var/log/a b..c.log", path)
	assert.Equal(t, "/var/log/a%20b%2E%2Ec.log", url)
	path, _, errs = at("{{ target.known.logs }}/{{ inputs.v }}", "x")
	assert.NoError(t, errs[0])
	assert.Equal(t, "/srv/logs/x", path)
}

func TestASealedReadingStandsAlone(t *testing.T) {
	c, err := NewCompiler(Schema{Readings: map[string]Type{"tok": Text}, Sealed: map[string]bool{"tok": true}})
	require.NoError(t, err)
	for _, joined := range []string{`own(readings.tok) + alert.summary`, `true ? own(readings.tok) : alert.summary`,
		`"%s%s".format([own(readings.tok), alert.summary])`, `[own(readings.tok), alert.summary].join()`,
		`within(own(readings.tok), ".*")`, `values(readings.tok)`} {
		_, err := c.CompileTemplate("{{ "+joined+" }}", InTarget.Secrets())
		assert.ErrorContains(t, err, "it stands alone", joined)
	}
	// Whatever stands in the reading's place at last, only a sealed value does.
	for value, ok := range map[string]bool{SealedMark("c2VhbGVk"): true, SecretMark("fleet-key"): false,
		SealedMark("c2VhbGVk") + SecretMark("fleet-key"): false, "plain": false} {
		tpl, err := c.CompileTemplate("Bearer {{ first(readings.tok) }}", InTarget.Secrets())
		require.NoError(t, err)
		s := &Scope{
			Readings: map[string]*Series{
				"tok": {
					Name: "tok",
					Own:  "a",
					Rounds: []Round{
						{Seq: 1, Asked: []string{"a"}, Samples: map[string]Sample{"a": {Value: value, Target: "a"}}},
					},
				},
			},
		}
		_, err = tpl.Text(s)
		assert.Equal(t, ok, err == nil, "%s: %v", value, err)
	}
}
