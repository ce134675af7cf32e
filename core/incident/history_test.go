package incident

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestHowItWentBefore(t *testing.T) {
	for _, c := range []struct {
		says string
		h    History
	}{
		{"Never done on this service.", History{}},
		{"On berth-queue: once, proved.", History{Here: map[Fate]int{Proven: 1}}},
		{"On berth-queue: 3 times, each proved.", History{Here: map[Fate]int{Proven: 3}}},
		{"On berth-queue: 14 times: 12 proved, 1 did not help, 1 undone.",
			History{Here: map[Fate]int{Undone: 1, Proven: 12, NotHelped: 1}}},
		{"Never done on berth-queue; on other services 2 times: 1 failed, 1 of unknown outcome.",
			History{Elsewhere: map[Fate]int{Unknown: 1, Failed: 1}}},
		{"On berth-queue: once, done, not proved; on other services once, failed.",
			History{Here: map[Fate]int{Done: 1}, Elsewhere: map[Fate]int{Failed: 1}}},
	} {
		assert.Equal(t, c.says, c.h.Says("berth-queue"))
	}
}
