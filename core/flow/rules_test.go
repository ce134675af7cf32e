package flow

import (
	"encoding/json"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// recorded is a log as an earlier version of the program stored it.
type recorded struct {
	Book string          `json:"book"`
	Log  []recordedEvent `json:"log"`
}

type recordedEvent struct {
	Seq  int64           `json:"seq"`
	At   time.Time       `json:"at"`
	Path string          `json:"path,omitempty"`
	Kind string          `json:"kind"`
	Body json.RawMessage `json:"body"`
}

// A run that was begun under older rules begins nothing any more: what is unknown is asked about, and it is handed over
// with the list of what it changed. Its log is cut at every place.
func TestOlderLogsAreHandedOver(t *testing.T) {
	files, err := filepath.Glob("testdata/rules6/*.json")
	require.NoError(t, err)
	require.Len(t, files, 10)
	for _, file := range files {
		t.Run(filepath.Base(file), func(t *testing.T) {
			book, log := readRecorded(t, file)
			for cut := 1; cut < len(log); cut++ {
				m, err := Open(book, log[:cut])
				require.NoError(t, err, "cut at %d", cut)
				end := handedOver(t, m, log[cut].At)
				assert.Equal(t, HandedOver, end.State, "cut at %d", cut)
				assert.Contains(t, end.Because, "under version 6 of the rules")
				for _, l := range end.Changes {
					assert.Contains(t, end.Because, l.String())
				}
			}
		})
	}
}

// handedOver plays an older run to its end: what is under way is lost, and nobody answers.
func handedOver(t *testing.T, m *Machine, now time.Time) Ended {
	for range 50 {
		for _, in := range m.s.OpenAttempts() {
			_, err := m.Append(Event{At: now, Place: m.s.PlaceOf(in.Attempt), Body: Lost{Attempt: in.Attempt}})
			require.NoError(t, err)
		}
		plan, err := m.Plan(now)
		require.NoError(t, err)
		require.Empty(t, plan.Begin, "it begins something")
		if plan.Ended {
			return *m.s.Ended
		}
		if plan.Wake.After(now) {
			now = plan.Wake
		}
	}
	require.Fail(t, "it does not end")
	return Ended{}
}
