package store

import (
	"fmt"
	"time"

	"urgentis/core/access"
)

// FollowUp is something that is left to do after an incident.
type FollowUp struct {
	ID       string `gorm:"primaryKey"`
	Incident int64
	Service  string
	Text     string
	Owner    string // a person or a team; "" for nobody
	Due      *time.Time
	State    string // incident.FollowUpOpen and the like
	By       string
	At       time.Time
	// SettledBy did it, or dropped it; "" while it is open.
	SettledBy string
	SettledAt *time.Time
}

// WhichFollowUps narrows a list of follow-ups; what is "" or 0 narrows nothing.
type WhichFollowUps struct {
	State, Owner string
	Incident     int64
}

// MostFollowUps bounds how many an incident may have, and a list.
const MostFollowUps = 200

// FollowUps lists follow-ups, those that are due first first.
func (tx *Tx) FollowUps(s access.Scope, which WhichFollowUps) ([]FollowUp, error) {
	where, args := "true", []any(nil)
	where, args = and(where, args, "state", which.State)
	where, args = and(where, args, "owner", which.Owner)
	if which.Incident != 0 {
		where, args = where+" and incident = ?", append(args, which.Incident)
	}
	where, args = within(s, where, args)
	return scan[FollowUp](tx, "select * from follow_up where "+where+" order by due nulls last, at, id limit ?",
		append(args, MostFollowUps)...)
}

// FollowUp reads one.
func (tx *Tx) FollowUp(id string) (*FollowUp, error) { return take[FollowUp](tx, "id = ?", id) }

// SaveFollowUp writes one down, or how it stands now.
func (tx *Tx) SaveFollowUp(f *FollowUp) error {
	if err := tx.Save(f); err != nil {
		return fmt.Errorf("save a follow-up: %w", err)
	}
	return nil
}
