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
