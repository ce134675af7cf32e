package store

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// The clock goes by the database's time and this process's own: what the machine's clock is set to is no step of it.
func TestTheClockIsTheDatabases(t *testing.T) {
	c := &Clock{}
	sent := time.Now()
	db := sent.Round(0).Add(-90 * time.Second) // this machine is 90 s ahead
	c.Hear(sent, sent, db)
	assert.InDelta(t, 0, c.Now().Sub(db).Seconds(), 1)
	assert.InDelta(t, 90, c.Skew().Seconds(), 1)

	// A longer trip says less, and is not taken before the shorter one is old.
	c.Hear(sent, sent.Add(4*time.Second), db.Add(time.Hour))
	assert.InDelta(t, 90, c.Skew().Seconds(), 1)
	c.at = c.at.Add(-2 * sampleTime)
	c.Hear(sent, sent.Add(time.Millisecond), db.Add(time.Hour))
	assert.InDelta(t, 90-3600, c.Skew().Seconds(), 1)
}
