package store

import "errors"

// ErrElsewhere says that a spool is taken further than whoever takes it on thinks, or less far.
var ErrElsewhere = errors.New("the spool is taken to another place")

// SpoolPlace is how far a spool is taken: a file of it, and an offset in bytes.
type SpoolPlace struct{ File, Offset int64 }

// SpoolPlace tells how far a spool is taken; nil where nothing is known of it.
func (tx *Tx) SpoolPlace(spool string) (*SpoolPlace, error) {
	rows, err := scan[SpoolPlace](tx, `select file, "offset" from spool_place where spool = ?`, spool)
	if err != nil || len(rows) == 0 {
		return nil, err
	}
	return &rows[0], nil
}

// SetSpool says how far a spool of a source is taken, whatever was said before.
func (tx *Tx) SetSpool(source, spool string, at SpoolPlace) error {
	return tx.run(`insert into spool_place (spool, source, file, "offset") values (?, ?, ?, ?)
		on conflict (spool) do update set source = excluded.source, file = excluded.file, "offset" = excluded."offset",
			at = now()`, spool, source, at.File, at.Offset)
}

// MoveSpool says that a spool is taken from one place to another, in the transaction of what was taken: ErrElsewhere
// where it is not taken to the first.
func (tx *Tx) MoveSpool(spool string, from, to SpoolPlace) error {
	n, err := tx.exec(`update spool_place set file = ?, "offset" = ?, at = now()
		where spool = ? and file = ? and "offset" = ?`, to.File, to.Offset, spool, from.File, from.Offset)
	if err == nil && n == 0 {
		return ErrElsewhere
	}
	return err
}
