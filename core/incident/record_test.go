package incident

import (
	"encoding/json"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func record(t require.TestingT, n int) []Entry {
	var out []Entry
	prev := ""
	for i := 1; i <= n; i++ {
		e := Entry{
			Incident: "i1",
			Seq:      int64(i),
			At:       time.Unix(int64(i), 123456789),
			Kind:     "note",
			Actor:    "mara",
			Title:    fmt.Sprint("n", i),
		}
		require.NoError(t, Seal(&e, prev, map[string]any{"text": fmt.Sprint("<é> ", i), "n": i}))
		prev = e.Hash
		out = append(out, e)
	}
	return out
}

func TestVerify(t *testing.T) {
	r := record(t, 5)
	last := r[4].Hash
	require.NoError(t, Verify(r, 5, last))
	require.NoError(t, Verify(nil, 0, ""))

	r[2].Content = nil // taken out: the chain is still whole
	require.NoError(t, Verify(r, 5, last))
	assert.ErrorContains(t, Verify(r[:4], 5, last), "the end is missing")
}

// Any single change of any entry shows.
func TestEveryChangeShows(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		n := rapid.IntRange(1, 6).Draw(rt, "n")
		r := record(rt, n)
		last := r[n-1].Hash
		i := rapid.IntRange(0, n-1).Draw(rt, "i")
		e := &r[i]
		switch rapid.IntRange(0, 8).Draw(rt, "what") {
		case 0:
			e.Actor += "x"
		case 1:
			e.At = e.At.Add(time.Microsecond)
		case 2:
			e.Title = ""
		case 3:
			e.Content = json.RawMessage(`{"text":"other"}`)
		case 4:
			e.Kind = "gate.approved"
		case 5:
			e.Digest = digest([]byte("x"))
		case 6:
			e.Run = "r"
		case 7:
			r = append(r[:i], r[i+1:]...)
		case 8:
			e.Prev = "x"
		}
		if Verify(r, int64(n), last) == nil {
			rt.Fatal("the change does not show")
		}
	})
}

// A head is written as canonical JSON has it, whatever stands in it.
func TestHeadsAgainstASlowReference(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		odd := rapid.OneOf(rapid.String(), rapid.StringMatching("[a-z<>&\"\\\\\u2028\u007f\x00-\x1f é]*"),
			rapid.Map(rapid.SliceOf(rapid.Byte()), func(b []byte) string { return string(b) }))
		h := head{Actor: odd.Draw(rt, "actor"), Title: odd.Draw(rt, "title"), Run: odd.Draw(rt, "run"), Seq: "1"}
		want, wrong := Canonical(h)
		got, err := h.canonical()
		require.Equal(rt, wrong, err)
		assert.Equal(rt, string(want), string(got))
	})
}
