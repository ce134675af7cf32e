package incident

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestWholeNumbersAreKeptExactly(t *testing.T) {
	e := Entry{Incident: "1", Seq: 1, At: time.Unix(1, 0), Kind: "look.taken", Title: "t"}
	content := map[string]any{
		"small": int64(1 << 53),
		"big":   int64(1<<53 + 1),
		"list":  []any{int64(-1<<53 - 1), 1.5, uint64(1<<64 - 1)},
	}
	require.NoError(t, Seal(&e, "", content))
	assert.JSONEq(
		t,
		`{"small":9007199254740992,"big":"9007199254740993","list":["-9007199254740993",1.5,"18446744073709551615"]}`,
		string(e.Content),
	)
	assert.NoError(t, Verify([]Entry{e}, 1, e.Hash))
}

// What is sealed is what reading every number again would make of it.
func TestExactlyIsCanonicalOfExact(t *testing.T) {
	value := rapid.Custom(func(t *rapid.T) any {
		return rapid.OneOf(
			rapid.Int64().AsAny(), rapid.Uint64().AsAny(), rapid.Float64Range(-1e300, 1e300).AsAny(),
			rapid.SampledFrom([]any{int64(1<<53 - 1), int64(1 << 53), int64(1<<53 + 1), int64(-1 << 53), 1e15, 1e16,
				1e20, 1e21, 0.1, 1e-7, nil, true, "1234567890123456789", "é\u2028<&>"}),
			rapid.String().AsAny(), rapid.SliceOfN(rapid.Int64(), 0, 3).AsAny(),
			rapid.MapOfN(rapid.String(), rapid.Int64(), 0, 3).AsAny(),
		).Draw(t, "value")
	})
	rapid.Check(t, func(t *rapid.T) {
		content := rapid.MapOfN(rapid.String(), value, 0, 6).Draw(t, "content")
		exact, err := Exact(content)
		require.NoError(t, err)
		want, err := Canonical(exact)
		require.NoError(t, err)
		got, err := exactly(content)
		require.NoError(t, err)
		require.Equal(t, string(want), string(got))
	})
}
