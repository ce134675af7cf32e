package store

import (
	"time"
)

// Way is how somebody can be reached: a connection, and an address there.
type Way struct {
	ID         int64 `gorm:"primaryKey"`
	Person     string
	Place      int // in the order in which they want to be reached
	Connection string
	Address    string
	ProvenAt   *time.Time
	CodeHash   []byte
	CodeEndsAt *time.Time
	CodeTries  int
	AddedAt    time.Time
}

// MostWays bounds how many ways somebody has.
const MostWays = 10

// Ways lists how people can be reached, in their order; person "" is everybody.
func (tx *Tx) Ways(person string) ([]Way, error) {
	return scan[Way](tx, "select * from way where ? = '' or person = ? order by person, place, id", person, person)
}

// WayLocked reads a way of a person, which nobody else alters until the end of the transaction.
func (tx *Tx) WayLocked(person string, id int64) (*Way, error) {
	return takeLocked[Way](tx, "person = ? and id = ?", person, id)
}

// AddWay keeps a way, as the last of the person's.
func (tx *Tx) AddWay(w *Way) error {
	place, err := one[int](tx, "select coalesce(max(place), 0) + 1 from way where person = ?", w.Person)
	if err != nil {
		return err
	}
	w.Place, w.AddedAt = place, tx.Time()
	return tx.db.Create(w).Error
}

// RemoveWay forgets a way; ErrNotFound where there is none.
func (tx *Tx) RemoveWay(person string, id int64) error {
	n, err := tx.exec("delete from way where person = ? and id = ?", person, id)
	if err == nil && n == 0 {
		err = ErrNotFound
	}
	return err
}

// PlaceWays puts the ways of a person into an order of their ids.
func (tx *Tx) PlaceWays(person string, order []int64) error {
	return tx.run(`update way set place = x.place from unnest(?::bigint[]) with ordinality as x(id, place)
		where way.id = x.id and way.person = ?`, array{order}, person)
}

// SetQuiet sets the hours in which somebody is not told of what can wait; "" for none.
func (tx *Tx) SetQuiet(person, hours, zone string) error {
	n, err := tx.exec("update person set quiet = ?, quiet_zone = ? where name = ?", hours, zone, person)
	if err == nil && n == 0 {
		err = ErrNotFound
	}
	return err
}

// PersonAt is who has a proven way by a connection with an address there; "" for nobody, or for several.
func (tx *Tx) PersonAt(connection, address string) (string, error) {
	found, err := scan[Way](tx, "select * from way where connection = ? and address = ? and proven_at is not null",
		connection, address)
	if err != nil || len(found) != 1 {
		return "", err
	}
	return found[0].Person, nil
}

// PersonQuiet is somebody who signs in, and when they are not told of what can wait.
type PersonQuiet struct{ Name, Quiet, QuietZone, Roles string }

// PeopleQuiet lists those who sign in, with their quiet hours.
func (tx *Tx) PeopleQuiet() ([]PersonQuiet, error) {
	return scan[PersonQuiet](tx, "select name, quiet, quiet_zone, roles from person order by name")
}
