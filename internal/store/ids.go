package store

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"slices"
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
	// ErrUnknown says that the same was begun, and nobody knows what came of it.
	ErrUnknown = errors.New("this was begun before, and what came of it is not known")
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
	return tx.heardBefore(o)
}

// HearOnce is Hear of what is done in transactions of its own and never done again: where it was left without an answer
// for longer than it can take it gives ErrUnknown.
func (tx *Tx) HearOnce(o Once) (*string, error) {
	n, err := tx.exec("insert into heard_id (door, id, digest) values (?, ?, ?) on conflict do nothing", o.Door, o.ID,
		o.Digest)
	if err != nil || n == 1 {
		return nil, err
	}
	return tx.heardBefore(o)
}

func (tx *Tx) heardBefore(o Once) (*string, error) {
	row, err := only(scan[struct {
		Digest string
		Answer *string
		Left   bool
	}](tx, `select digest, answer, at < now() - interval '3 minutes' as "left" from heard_id
		where door = ? and id = ?`, o.Door, o.ID))
	switch {
	case err != nil:
		return nil, fmt.Errorf("read what was heard before: %w", err)
	case row.Digest != o.Digest && row.Digest != "":
		return nil, ErrOtherwise
	case row.Answer == nil && row.Left:
		return nil, ErrUnknown
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

// HeardBefore gives what was answered to what came before, of many.
func (tx *Tx) HeardBefore(list []Once) (map[Once]string, error) {
	out := map[Once]string{}
	if len(list) == 0 {
		return out, nil
	}
	doors, ids, digests := columns(list)
	found, err := scan[struct {
		Once
		Answer string
	}](tx, `select h.door, h.id, h.digest, coalesce(h.answer, '') as answer
		from unnest(?::text[], ?::text[], ?::text[]) as v(door, id, digest)
		join heard_id h on h.door = v.door and h.id = v.id and h.digest = v.digest`,
		array{doors}, array{ids}, array{digests})
	for _, f := range found {
		out[f.Once] = f.Answer
	}
	return out, err
}

// HeardNow notes what came, and what was answered, in the transaction of what it did, so that whoever comes with the
// same meanwhile waits for it: it reports false where somebody was faster.
func (tx *Tx) HeardNow(answers map[Once]string) (bool, error) {
	if len(answers) == 0 {
		return true, nil
	}
	list := slices.SortedFunc(maps.Keys(answers), func(a, b Once) int {
		return cmp.Or(cmp.Compare(a.Door, b.Door), cmp.Compare(a.ID, b.ID))
	})
	doors, ids, digests := columns(list)
	said := make([]string, len(list))
	for i, o := range list {
		said[i] = answers[o]
	}
	n, err := tx.exec(`insert into heard_id (door, id, digest, answer)
		select * from unnest(?::text[], ?::text[], ?::text[], ?::text[]) on conflict do nothing`,
		array{doors}, array{ids}, array{digests}, array{said})
	return n == int64(len(list)), err
}

func columns(list []Once) (doors, ids, digests []string) {
	for _, o := range list {
		doors, ids, digests = append(doors, o.Door), append(ids, o.ID), append(digests, o.Digest)
	}
	return doors, ids, digests
}

// Unheard forgets what came: it was refused, and may come again.
func (tx *Tx) Unheard(o Once) error {
	return tx.run("delete from heard_id where door = ? and id = ? and answer is null", o.Door, o.ID)
}
