package cli

import (
	"context"
	"fmt"
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
