package library_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/estate"
	"urgentis/core/library"
	"urgentis/core/runbook"
)

// Every runbook of the library can be bound, has only looks that are safe, and is of the library in nothing any more.
func TestEveryRunbookCanBeBound(t *testing.T) {
	all, err := library.All()
	require.NoError(t, err)
	assert.GreaterOrEqual(t, len(all), 30)
	for _, r := range all {
		t.Run(r.Book.Name, func(t *testing.T) {
			for i := range len(r.Text) {
				require.Less(t, r.Text[i], byte(0x80), "places are counted in bytes")
			}
			b := library.Binding{Name: "ours", Library: r.Book.Name, Service: "berth-queue", Owner: "quayside",
				Title: "Ours: \"it\"", Roles: map[string]string{}, Inputs: map[string]any{}}
			for _, role := range r.Roles {
				b.Roles[role] = "consumer-of-" + role
			}
			text, err := library.Bind(b)
			require.NoError(t, err)
			book, found := runbook.Parse([]byte(text))
			require.NotNil(t, book, "%s\n%s", found, text)
			assert.Equal(t, "ours quayside berth-queue Ours: \"it\"",
				strings.Join([]string{book.Name, book.Owner, book.Service, book.Title}, " "))
			assert.NotContains(t, text, library.Unbound)
			docs, mistakes := estate.Parse([]estate.File{{Name: "beginning", Text: r.Beginning()}})
			require.Empty(t, mistakes, r.Beginning())
			assert.Len(t, docs, 2, "the binding, and the runbook that it makes")
			for _, role := range r.Roles {
				assert.NotContains(t, text, "role: "+role+"}", text)
			}
			assert.Equal(t, len(r.Book.All()), len(book.All()), "nothing else is altered")
			for _, s := range r.Book.All() {
				assert.Empty(t, s.OnlyReads, "a look of the library is one by its way of doing")
			}
		})
	}
}

func TestABindingSaysInputsAndStarts(t *testing.T) {
	text, err := library.Bind(library.Binding{
		Name: "disks", Library: "host-disk-full", Service: "berth-queue", Owner: "quayside",
		Harm:   "Ships wait.",
		Inputs: map[string]any{"mount": "/srv/data", "full": 80},
		Starts: "starts:\n  full:\n    alert: alert.labels.signal == \"disk\"\n    inputs: {folder: \"{{ alert.labels.folder }}\"}\n",
	})
	require.NoError(t, err)
	book, found := runbook.Parse([]byte(text))
	require.NotNil(t, book, "%s\n%s", found, text)
	inputs, err := book.AcceptAll(nil)
	require.NoError(t, err)
	assert.Equal(t, "/srv/data", inputs["mount"])
	assert.EqualValues(t, 80, inputs["full"])
	assert.Equal(t, "*.gz", inputs["kind"])
	require.Len(t, book.Starts, 1)
	assert.Equal(t, "full", book.Starts[0].Name)
	assert.Equal(t, "Ships wait.", book.Harm)
	_, err = book.AcceptAll(map[string]any{"full": 101})
	assert.Error(t, err, "its bounds stay")

	_, mistakes := estate.Parse(
		[]estate.File{{Text: "{urgentis: binding/1, name: a, library: host-disk-full, service: b, " +
			"owner: c, starts: {d: {alert: \"true\"}}}\n"}},
	)
	require.Len(t, mistakes, 1)
	assert.Contains(t, mistakes[0].Message, "starts must begin a line of its own")

	for says, b := range map[string]library.Binding{
		"the library has no runbook host-disk-ful; did you mean host-disk-full?": {Library: "host-disk-ful"},
		"host-disk-full has no role disk; it has host":                           {Library: "host-disk-full", Roles: map[string]string{"disk": "x"}},
		"host-disk-full has no input ful; it has mount, full":                    {Library: "host-disk-full", Inputs: map[string]any{"ful": 1}},
		"full: 101 is above 100":                                                 {Library: "host-disk-full", Inputs: map[string]any{"full": 101}},
	} {
		b.Name, b.Service, b.Owner = "x", "y", "z"
		_, err := library.Bind(b)
		assert.ErrorContains(t, err, says)
	}
}
