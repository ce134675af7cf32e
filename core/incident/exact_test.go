package incident

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
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
