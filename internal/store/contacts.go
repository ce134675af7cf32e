package store

import (
	"time"
)

// Contact is how somebody can be reached: a connection, and an address there.
type Contact struct {
	ID         int64 `gorm:"primaryKey"`
	Person     string
	Place      int // in the order in which they want to be reached
	Connection string
	Address    string
	VerifiedAt *time.Time
	CodeHash   []byte
	CodeEndsAt *time.Time
	CodeTries  int
	AddedAt    time.Time
}

// MostContacts bounds how many ways somebody has.
const MostContacts = 10

// Contacts lists how people can be reached, in their order; person "" is everybody.
func (tx *Tx) Contacts(person string) ([]Contact, error) {
	return scan[Contact](tx, "select * from contact where ? = '' or person = ? order by person, place, id", person,
		person)
}

// ContactLocked reads a way of a person, which nobody else alters until the end of the transaction.
func (tx *Tx) ContactLocked(person string, id int64) (*Contact, error) {
	return takeLocked[Contact](tx, "person = ? and id = ?", person, id)
}

// AddContact keeps a way, as the last of the person's.
func (tx *Tx) AddContact(w *Contact) error {
	place, err := one[int](tx, "select coalesce(max(place), 0) + 1 from contact where person = ?", w.Person)
	if err != nil {
		return err
	}
	w.Place, w.AddedAt = place, tx.Time()
	return tx.db.Create(w).Error
}

// RemoveContact forgets a way; ErrNotFound where there is none.
func (tx *Tx) RemoveContact(person string, id int64) error {
	n, err := tx.exec("delete from contact where person = ? and id = ?", person, id)
	if err == nil && n == 0 {
		err = ErrNotFound
	}
	return err
}

// OrderContacts puts the ways of a person into an order of their ids.
func (tx *Tx) OrderContacts(person string, order []int64) error {
	return tx.run(`update contact set place = x.place from unnest(?::bigint[]) with ordinality as x(id, place)
		where contact.id = x.id and contact.person = ?`, array{order}, person)
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
	found, err := scan[Contact](tx,
		"select * from contact where connection = ? and address = ? and verified_at is not null",
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
