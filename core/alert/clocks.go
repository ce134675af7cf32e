package alert

import (
	"database/sql/driver"
	"fmt"
	"time"
)

// Said is a time as the sender of a report wrote it; the zero Said is none. It is shown, and decides nothing: a
// sender's clock may be wrong, or its report say when the trouble began each time it comes.
type Said struct{ time.Time }

// SaidAt is a time that a sender wrote.
func SaidAt(t time.Time) Said { return Said{t} }

// Scan implements sql.Scanner.
func (s *Said) Scan(v any) (err error) { s.Time, err = moment(v); return err }

// Value implements driver.Valuer.
func (s Said) Value() (driver.Value, error) { return stored(s.Time) }

// Heard is when a report was heard, by the clock of the database, whoever sent it and whatever its clock says. What is
// over, joins, comes back, counts or is silent is decided by it.
type Heard struct{ time.Time }

// HeardAt is a moment of the database's clock.
func HeardAt(t time.Time) Heard { return Heard{t} }

// Scan implements sql.Scanner.
func (h *Heard) Scan(v any) (err error) { h.Time, err = moment(v); return err }

// Value implements driver.Valuer.
func (h Heard) Value() (driver.Value, error) { return stored(h.Time) }

func moment(v any) (time.Time, error) {
	switch t := v.(type) {
	case nil:
		return time.Time{}, nil
	case time.Time:
		return t, nil
	}
	return time.Time{}, fmt.Errorf("%T is no time", v)
}

func stored(t time.Time) (driver.Value, error) {
	if t.IsZero() {
		return nil, nil
	}
	return t, nil
}
