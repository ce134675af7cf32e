package store

import (
	"sync"
	"time"
)

// Clock tells the database's time, by which everything is judged that several instances must agree on: due times,
// gates, the age of evidence. It goes on by this process's monotonic clock, so that a step of the machine's clock,
// either way, is no step of it.
type Clock struct {
	fixed func() time.Time // of tests; nil otherwise

	mu sync.Mutex
	// at and db are one moment, by this process and by the database; trip is how long it took to ask for it, and so
	// twice as much as they may be apart.
	at, db time.Time
	trip   time.Duration
}

// sampleTime is for how long the shortest trip counts, before a longer one takes its place.
const sampleTime = time.Minute

// Fix has the clock of a test say what it says.
func (c *Clock) Fix(now func() time.Time) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.fixed = now
}

// Hear takes in what the database said was its time, in answer to what was sent then.
func (c *Clock) Hear(sent, came, db time.Time) {
	c.mu.Lock()
	defer c.mu.Unlock()
	trip := came.Sub(sent)
	if c.at.IsZero() || trip <= c.trip || came.Sub(c.at) > sampleTime {
		c.at, c.db, c.trip = sent.Add(trip/2), db, trip
	}
}

// Now is the time of the database.
func (c *Clock) Now() time.Time {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.fixed != nil {
		return c.fixed()
	}
	if c.at.IsZero() {
		return time.Now()
	}
	return c.db.Add(time.Since(c.at))
}

// Skew is how far the clock of this machine is ahead of the database's; negative where it is behind.
func (c *Clock) Skew() time.Duration {
	return time.Now().Round(0).Sub(c.Now().Round(0)) // without their monotonic parts
}
