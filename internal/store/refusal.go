package store

import (
	"context"
	"errors"
	"io"
	"net"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
)

// Raced reports whether an error says that somebody else was in the way: what was done is undone, and may be begun anew
// at once.
func Raced(err error) bool {
	var pg *pgconn.PgError
	return errors.Is(err, ErrExists) ||
		errors.As(err, &pg) && slices.Contains([]string{"40P01", "40001", "55P03"}, pg.Code)
}

// Transient reports whether an error says that the database could not be asked, or not now: it is away, it stops, its
// connections are used up, somebody else was first. What is not transient is refused for what it is: asking again will
// not help.
func Transient(err error) bool {
	var pg *pgconn.PgError
	if errors.As(err, &pg) {
		// Classes of SQLSTATE (PostgreSQL manual, appendix A).
		switch pg.Code[:min(2, len(pg.Code))] {
		case "08", "40", "53", "55", "57", "58":
			return true // connection, rollback by the server, resources, locks, operator, system
		}
		return false
	}
	var conn *pgconn.ConnectError
	var network net.Error
	var op *net.OpError
	switch {
	case errors.As(err, &conn), errors.As(err, &network), errors.As(err, &op):
		return true
	case errors.Is(err, context.DeadlineExceeded),
		errors.Is(err, context.Canceled),
		errors.Is(err, io.EOF),
		errors.Is(err, io.ErrUnexpectedEOF),
		errors.Is(err, net.ErrClosed),
		errors.Is(err, pgx.ErrTxClosed):
		return true
	}
	// The driver has no types for these.
	text := err.Error()
	for _, s := range []string{"conn closed", "closed pool", "bad connection", "connection reset", "broken pipe",
		"unexpected EOF", "conn busy", "commit unexpectedly resulted in rollback"} {
		if strings.Contains(text, s) {
			return true
		}
	}
	return false
}
