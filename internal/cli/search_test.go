package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/access"
	"urgentis/internal/store"
)

// A search is kept under a name, used again with more beside it, and is nobody else's.
func TestSearchesThatAreKept(t *testing.T) {
	i := signedIn(t)
	assert.Contains(t, ok(t, "search", "list"), "You kept no search.")
	for _, service := range []string{"deck", "ramp"} {
		for _, severity := range []string{"major", "minor"} {
			ok(
				t,
				"incident",
				"open",
				fmt.Sprint(service, " is ", severity),
				"--service",
				service,
				"--severity",
				severity,
			)
		}
	}
	assert.Contains(t, ok(t, "incident", "list", "--service", "ramp", "--save", "the-ramp"), "ramp is major")
	assert.Regexp(t, "the-ramp +service ramp", ok(t, "search", "list"))
	out := ok(t, "incident", "list", "--saved", "the-ramp", "--severity", "minor")
	assert.Contains(t, out, "ramp is minor")
	assert.NotContains(t, out, "ramp is major")
	assert.NotContains(t, out, "deck")
	ok(t, "incident", "list", "--saved", "the-ramp", "--severity", "minor", "--save", "the-ramp")
	assert.Regexp(t, "the-ramp +service ramp, severity minor", ok(t, "search", "list"))

	code, _, errOut := run(t, "", "incident", "list", "--saved", "nothing")
	assert.Equal(t, 2, code)
	assert.Contains(t, errOut, "you kept no search nothing; urgentis search list lists them")
	code, _, errOut = run(t, "", "incident", "list", "--save", "all-of-them")
	assert.Equal(t, 2, code)
	assert.Contains(t, errOut, "a search that narrows nothing need not be kept")
	code, _, _ = run(t, "", "incident", "list", "--text", "x\x00y", "--save", "odd")
	assert.Equal(t, 2, code)

	ctx := context.Background()
	others, err := i.App.Searches(ctx, access.OnTheMachine("mara"))
	require.NoError(t, err)
	assert.Empty(t, others)
	for n := 1; n < store.MostSearches; n++ {
		require.NoError(t, i.App.KeepSearch(ctx, access.OnTheMachine("iva"), fmt.Sprint("s", n),
			store.WhichIncidents{Service: "deck"}))
	}
	assert.ErrorContains(t, i.App.KeepSearch(ctx, access.OnTheMachine("iva"), "more",
		store.WhichIncidents{Service: "deck"}), "100 searches are kept already")

	assert.Contains(t, ok(t, "search", "remove", "the-ramp"), "Forgotten.")
	assert.NotContains(t, ok(t, "search", "list"), "the-ramp")
	code, _, _ = run(t, "", "search", "remove", "the-ramp")
	assert.Equal(t, 4, code)
}

// Runs are found by who began them, with what, and in which words; runbooks by their tags and purpose.
func TestRunsAndRunbooksAreFound(t *testing.T) {
	signedIn(t)
	folder := t.TempDir()
	for name, purpose := range map[string]string{"ramp-lamps": "The lamps of a ramp are dark",
		"deck-pumps": "A pump of a deck stands"} {
		file := filepath.Join(folder, name+".yaml")
		require.NoError(t, os.WriteFile(file, []byte("urgentis: runbook/1\nname: "+name+"\ntitle: "+purpose+
			"\nowner: quay\nservice: "+name+"\ntags: ["+strings.Split(name, "-")[1]+"]\ninputs:\n  berth: {type: text}\n  low: {type: number, default: 7}\n"+
			"steps:\n  - note: Seen\n    text: Seen at {{ inputs.berth }}.\n"), 0o600))
		ok(t, "runbook", "push", file)
	}
	for _, berth := range []string{"north-3", "south-1"} {
		ok(t, "run", "start", "ramp-lamps", "--input", "berth="+berth, "--follow")
	}
	ok(t, "run", "start", "deck-pumps", "--input", "berth=north-3", "--input", "low=12", "--follow")

	type list struct {
		Items []struct{ Runbook, Name string }
	}
	for _, c := range []struct {
		want int
		args []string
	}{
		{3, []string{"run", "list"}},
		{2, []string{"run", "list", "--input", "berth=north-3"}},
		{1, []string{"run", "list", "--input", "low=12"}},
		{2, []string{"run", "list", "--input", "low=7", "--since", "1h"}},
		{0, []string{"run", "list", "--input", "low=seven"}},
		{0, []string{"run", "list", "--input", `berth=no"rth`}},
		{1, []string{"run", "list", "--text", "south"}},
		{3, []string{"run", "list", "--text", "north or lamps"}},
		{1, []string{"run", "list", "--text", "north -lamps"}},
		{3, []string{"run", "list", "--by", "iva", "--state", "done"}},
		{0, []string{"run", "list", "--by", "mara"}},
		{0, []string{"run", "list", "--before", "1h"}},
		{2, []string{"runbook", "list"}},
		{1, []string{"runbook", "list", "--tag", "lamps"}},
		{1, []string{"runbook", "list", "--text", "PUMP stands"}},
		{0, []string{"runbook", "list", "--text", "pump lamp"}},
	} {
		var got list
		require.NoError(t, json.Unmarshal([]byte(ok(t, append(c.args, "-o", "json")...)), &got))
		assert.Len(t, got.Items, c.want, "%v", c.args)
	}
	assert.Contains(t, ok(t, "run", "list", "--by", "mara"), "No run is like that.")
	for _, wrong := range [][]string{{"--input", "north"}, {"--state", "lost"}, {"--since", "soon"}} {
		code, _, said := run(t, "", append([]string{"run", "list"}, wrong...)...)
		assert.Equal(t, 2, code, "%v: %s", wrong, said)
	}
}
