package store

import (
	"fmt"
	"time"
)

// GateReading is a number that was taken only to keep an open gate informed; the run has not seen it.
type GateReading struct {
	Gate    string
	At      time.Time
	Reading string
	Target  string
	Value   float64
}

// GateReadings lists what was taken for a gate, oldest first.
func (tx *Tx) GateReadings(gate string) ([]GateReading, error) {
	list, err := scan[GateReading](tx, "select * from gate_reading where gate = ? order by at, target, reading", gate)
	if err != nil {
		return nil, fmt.Errorf("read what was taken for a gate: %w", err)
	}
	return list, nil
}

// LookAgain takes up to so many open gates whose readings are due to be taken anew, so that no other instance does, and
// sets when that is due again.
func (tx *Tx) LookAgain(most int, every func(looks int) time.Duration) ([]Gate, error) {
	due, err := scan[Gate](tx, `select * from gate where state = 'open' and look_at <= now()
		order by look_at limit ? for update skip locked`, most)
	if err != nil {
		return nil, fmt.Errorf("find gates whose readings are due: %w", err)
	}
	for i := range due {
		g := &due[i]
		g.Looks++
		var next *float64
		if d := every(g.Looks); d > 0 {
			seconds := d.Seconds()
			next = &seconds
		}
		if err := tx.run("update gate set looks = ?, look_at = now() + ?::float8 * interval '1 second' where id = ?",
			g.Looks, next, g.ID); err != nil {
			return nil, fmt.Errorf("set when a gate is due again: %w", err)
		}
	}
	return due, nil
}

// NoMoreLooks says that nothing is to be taken anew for a gate.
func (tx *Tx) NoMoreLooks(gate string) error {
	return tx.run("update gate set look_at = null where id = ?", gate)
}

// AddGateReadings keeps what was taken for a gate, if that is still open.
func (tx *Tx) AddGateReadings(gate string, list []GateReading) error {
	open, err := one[bool](tx, "select exists (select from gate where id = ? and state = 'open')", gate)
	if err != nil || !open || len(list) == 0 {
		return err
	}
	return tx.db.Create(&list).Error
}
