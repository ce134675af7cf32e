package incident

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func said1(kind Kind, title, content string) Entry {
	return Entry{Seq: 1, At: time.Date(2026, 3, 7, 2, 14, 6, 0, time.UTC), Kind: kind, Actor: "runbook:r", Title: title,
		Content: json.RawMessage(content)}
}

func TestWhatIsChosenOfEntries(t *testing.T) {
	lock, gate := said1(LockTaken, "", "{}"), said1(GateRaised, "", "{}")
	assert.True(t, lock.Among([]string{"lock", "note"}))
	assert.True(t, gate.Among([]string{"gate.raised"}))
	assert.False(t, gate.Among([]string{"gate.approved"}))
	for _, k := range Kinds {
		assert.Contains(t, Choices(), string(k.Kind))
	}
}
