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

// world events come from outside; every other event follows from the log before it.
var worldEvents = map[string]bool{
	"run.begun":         true,
	"attempt.ended":     true,
	"attempt.lost":      true,
	"leave.given":       true,
	"gate.decided":      true,
	"question.answered": true,
	"locks.taken":       true,
	"locks.awaited":     true,
	"alert.changed":     true,
	"cancel.asked":      true,
	"halt.lifted":       true,
}

// TestOldLogsGoOn takes every log that an earlier version recorded, cuts it at every place, and wants this
// program to go on from there exactly as the log does.
func TestOldLogsGoOn(t *testing.T) {
	files, err := filepath.Glob("testdata/rules*/*.json")
	require.NoError(t, err)
	require.NotEmpty(t, files)
	for _, file := range files {
		t.Run(filepath.Base(filepath.Dir(file))+"/"+filepath.Base(file), func(t *testing.T) {
			b, log := readRecorded(t, file)
			for cut := 1; cut < len(log); cut++ {
				if worldEvents[log[cut].Body.Kind()] {
					continue
				}
				p, err := Next(b, log[:cut], log[cut].At)
				require.NoError(t, err, "cut at %d", cut)
				require.NotEmpty(t, p.Events, "cut at %d: the log goes on with %s", cut, log[cut].Body.Kind())
				assert.Equal(t, log[cut].Path, p.Events[0].Path, "cut at %d", cut)
				want, err := json.Marshal(log[cut].Body)
				require.NoError(t, err)
				got, err := json.Marshal(p.Events[0].Body)
				require.NoError(t, err)
				assert.JSONEq(t, string(want), string(got), "cut at %d: %s", cut, log[cut].Body.Kind())
			}
		})
	}
}
