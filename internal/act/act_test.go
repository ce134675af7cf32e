package act

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"urgentis/core/task"
)

func TestShowMakesTheInvisibleVisible(t *testing.T) {
	for want, words := range map[string][]string{
		"berthq park --queue north m-7": {"berthq", "park", "--queue", "north", "m-7"},
		"a '' 'b c'":                    {"a", "", "b c"},
		`echo 'it'\''s'`:                {"echo", "it's"},
		"rm '⟨U+202E⟩x⟨U+200B⟩'":        {"rm", "\u202ex\u200b"},
		"a 'b⟨U+000A⟩c'":                {"a", "b\nc"},
		"a 'b⟨U+00A0⟩c'":                {"a", "b\u00a0c"},
		"'pаrk'":                        {"pаrk"}, // a Cyrillic letter stands in quotes
	} {
		assert.Equal(t, want, Show(task.Request{Kind: "ssh", Words: words}))
	}
	assert.Equal(
		t,
		"POST http://a/\nX-A: 1\n\n{}",
		Show(
			task.Request{
				Kind:    "http",
				Method:  "POST",
				URL:     "http://a/",
				Headers: map[string]string{"X-A": "1"},
				Body:    "{}",
			},
		),
	)
	assert.Equal(t, "a   (as root)", Show(task.Request{Words: []string{"a"}, As: "root"}))
}

func TestCapturedIsAlwaysText(t *testing.T) {
	for kept, want := range map[string]string{
		"a\xffb\x00":    "a\ufffdb\ufffd", // no text at all
		"caf\xe9 n\xb0": "café n°",        // ISO 8859-1
		"caf\xe9 café":  "caf\ufffd café", // what is of two kinds is not guessed at
		"café":          "café",
	} {
		assert.Equal(t, want, Captured{Kept: []byte(kept), Size: int64(len(kept))}.Text(), kept)
	}
	assert.Equal(t, "caf", Captured{Kept: []byte("caf\xc3"), Size: 5}.Text(), "what was cut off is no other character")
}
