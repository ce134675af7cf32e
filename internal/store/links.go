package store

import "time"

// Link lets whom it was sent to act once without signing in.
type Link struct {
	Hash     []byte `gorm:"primaryKey"`
	Person   string
	Delivery int64
	Refers   string // gate/ID, question/ID or run/ID; "" for the incident alone
	Digest   string // what exactly the message showed
	EndsAt   time.Time
	UsedAt   *time.Time
	UsedFor  string
}

// AddLink makes a link in the place of those of the same message before. It tells whether there is still somebody whom
// it is for.
func (tx *Tx) AddLink(l *Link) (bool, error) {
	if err := tx.run("delete from link where delivery = ?", l.Delivery); err != nil {
		return false, err
	}
	n, err := tx.exec(`insert into link (hash, person, delivery, refers, digest, ends_at)
		select ?, name, ?, ?, ?, ? from person where name = ?`,
		l.Hash, l.Delivery, l.Refers, l.Digest, l.EndsAt, l.Person)
	return n > 0, err
}

// Link reads a link by what is kept of its key.
func (tx *Tx) Link(hash []byte) (*Link, error) { return take[Link](tx, "hash = ?", hash) }

// UseLink takes a link that was not used yet and has not ended; false where there is none such. Of two who use it at
// once one does.
func (tx *Tx) UseLink(hash []byte, what string) (bool, error) {
	n, err := tx.exec(`update link set used_at = now(), used_for = ? where hash = ? and used_at is null
		and ends_at > now()`, what, hash)
	return n == 1, err
}

// UnuseLink gives a link back whose use was refused.
func (tx *Tx) UnuseLink(hash []byte) error {
	return tx.run("update link set used_at = null, used_for = '' where hash = ?", hash)
}
