package engine

import (
	"sync"
	"time"
)

// clock tells the database's time, by which everything is judged that several instances must agree on: due times,
// gates, the age of evidence. It goes on by this process's monotonic clock, so that a step of the machine's clock,
// either way, is no step of it.
type clock struct {
	fixed func() time.Time // of tests; nil otherwise

	mu sync.Mutex
	// at and db are one moment, by this process and by the database; trip is how long it took to ask for it, and so
	// twice as much as they may be apart.
	at, db time.Time
	trip   time.Duration
}

// sampleTime is for how long the shortest trip counts, before a longer one takes its place.
const sampleTime = time.Minute

// heard takes in what the database said was its time, in answer to what was sent then.
func (c *clock) heard(sent, came, db time.Time) {
	c.mu.Lock()
	defer c.mu.Unlock()
	trip := came.Sub(sent)
	if c.at.IsZero() || trip <= c.trip || came.Sub(c.at) > sampleTime {
		c.at, c.db, c.trip = sent.Add(trip/2), db, trip
	}
}

func (c *clock) now() time.Time {
	if c.fixed != nil {
		return c.fixed()
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.at.IsZero() {
		return time.Now()
	}
	return c.db.Add(time.Since(c.at))
}

// skew is how far the clock of this machine is ahead of the database's; negative where it is behind.
func (c *clock) skew() time.Duration {
	return time.Now().Round(0).Sub(c.now().Round(0)) // without their monotonic parts
}

// maxSkew is how far a machine's clock may be off before that is told.
const maxSkew = time.Second

// began is when this process began; no step of any clock moves what is counted from it.
var began = time.Now()

// elapsed is for how long this process has run, by its monotonic clock, in nanoseconds.
func elapsed() int64 { return int64(time.Since(began)) }
