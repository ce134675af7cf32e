package cli

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"urgentis/api"
	"urgentis/core/incident"
)

func TestARecordTellsWhatCouldNotBeHad(t *testing.T) {
	look := api.Entry{Kind: string(incident.LookIncomplete), Content: map[string]any{
		"target": "berth-1", "state": "ok", "shown": "cat depth",
		"missing": map[string]any{"lag": "no match", "depth": "no such column"},
	}}
	assert.Equal(t, []string{
		"berth-1: cat depth   (ok, 0 ms)", "depth is missing: no such column", "lag is missing: no match",
	}, tell(look, readContent(look)))

	back := api.Entry{Kind: string(incident.LookedBack), Actor: "ida", Content: map[string]any{
		"missing": []any{"load: the store did not answer"}, "title": "The past",
	}}
	assert.Equal(t, []string{"by ida", "load: the store did not answer"}, tell(back, readContent(back)))
}

// Values come as JSON has them: numbers without a type of their own, mappings and lists.
func TestARecordWritesValuesAsPeopleReadThem(t *testing.T) {
	look := api.Entry{Kind: string(incident.LookTaken), Content: map[string]any{
		"target": "clock-1", "state": "ok", "readings": map[string]any{
			"free":     map[string]any{"value": 12884901888, "unit": "bytes"},
			"settings": map[string]any{"value": map[string]any{"servers": []any{"tide-1", "tide-2"}, "limit": 500}},
			"stuck":    map[string]any{"value": ""},
		},
	}}
	assert.Equal(t, []string{
		`clock-1: free 12884901888 bytes, settings {"limit":500,"servers":["tide-1","tide-2"]}, stuck (empty)   (ok, 0 ms)`,
	}, tell(look, readContent(look)))
	assert.Equal(t, ` with bytes=5000000 hosts=["a"]`, inputs(map[string]any{"bytes": 5e6, "hosts": []any{"a"}}))
}
