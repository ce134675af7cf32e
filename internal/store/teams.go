package store

import (
	"fmt"
	"time"

	"urgentis/core/calendar"
)

// StandIn is somebody who is on call instead of whoever a rota says.
type StandIn struct {
	ID        int64
	Team      string
	Line      int // from 0
	FromAt    time.Time
	UntilAt   time.Time
	Person    string
	InsteadOf string // "" for whoever it is
	Why       string
	EnteredBy string
	EnteredAt time.Time `gorm:"default:now()"`
	Swap      string    // what two that were entered together have in common; "" for one alone
}

// MostStandIns bounds how many stand-ins of a team that are not over are kept.
const MostStandIns = 200

// StandIns lists the stand-ins of a team that are not over at a moment, in the order in which they were entered.
func (tx *Tx) StandIns(team string, at time.Time) ([]StandIn, error) {
	list, err := scan[StandIn](tx, "select * from stand_in where team = ? and until_at > ? order by id", team, at)
	if err != nil {
		return nil, fmt.Errorf("read who stands in: %w", err)
	}
	return list, nil
}

// InRota gives stand-ins as a rota reads them.
func InRota(list []StandIn) []calendar.StandIn {
	out := make([]calendar.StandIn, len(list))
	for i, s := range list {
		out[i] = calendar.StandIn{
			ID: s.ID, Line: s.Line, From: s.FromAt, Until: s.UntilAt, Person: s.Person, For: s.InsteadOf,
		}
	}
	return out
}

// AddStandIn keeps a stand-in.
func (tx *Tx) AddStandIn(s *StandIn) error { return tx.db.Create(s).Error }

// RemoveStandIn takes a stand-in of a team back, and the other one of its swap; ErrNotFound where there is none.
func (tx *Tx) RemoveStandIn(team string, id int64) error {
	n, err := tx.exec(`delete from stand_in where team = @team and (id = @id or swap <> '' and
		swap = (select s.swap from stand_in s where s.team = @team and s.id = @id))`,
		map[string]any{"team": team, "id": id})
	if err == nil && n == 0 {
		err = ErrNotFound
	}
	return err
}
