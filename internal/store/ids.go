package store

import (
	"errors"
	"fmt"
)

// Once is what came to a door under an identity that its sender gave, so that it counts once however often it is sent.
type Once struct {
	// Door is where it came in, such as in/NAME of a source; ID is what its sender calls it.
	Door, ID string
	// Digest is of what came: another one under the same identity is something else.
	Digest string
}

var (
	// ErrOtherwise says that something else came under the same identity.
	ErrOtherwise = errors.New("something else was sent under this identity before")
	// ErrUnderWay says that the same is being done at the moment.
	ErrUnderWay = errors.New("this is being done at the moment")
)

// Hear notes what came, in the transaction of what it does, and gives what was answered where it came before; nil where
// it is new. Whoever comes with the same meanwhile waits for the transaction. What is done in others, and was left
// without an answer for a minute, is done again. Nothing is noted of what has no identity.
func (tx *Tx) Hear(o Once) (*string, error) {
	if o.ID == "" {
		return nil, nil
	}
	n, err := tx.exec(`insert into heard_id (door, id, digest) values (?, ?, ?)
		on conflict (door, id) do update set at = now()
			where heard_id.answer is null and heard_id.at < now() - interval '1 minute'
			and heard_id.digest = excluded.digest`,
		o.Door, o.ID, o.Digest)
	if err != nil || n == 1 {
		return nil, err
	}
	row, err := only(scan[struct {
		Digest string
		Answer *string
	}](tx, "select digest, answer from heard_id where door = ? and id = ?", o.Door, o.ID))
	switch {
	case err != nil:
		return nil, fmt.Errorf("read what was heard before: %w", err)
	case row.Digest != o.Digest && row.Digest != "":
		return nil, ErrOtherwise
	case row.Answer == nil:
		return nil, ErrUnderWay
	}
	return row.Answer, nil
}

// Answered notes what was said to what came.
func (tx *Tx) Answered(o Once, answer string) error {
	if o.ID == "" {
		return nil
	}
	return tx.run("update heard_id set answer = ? where door = ? and id = ?", answer, o.Door, o.ID)
}

// Unheard forgets what came: it was refused, and may come again.
func (tx *Tx) Unheard(o Once) error {
	return tx.run("delete from heard_id where door = ? and id = ? and answer is null", o.Door, o.ID)
}
