package store

import (
	"context"
	"fmt"
)

// Others is what is known of the processes beside this one that pass output on.
type Others struct {
	There  bool // there are some
	Listen bool // somebody looks on at one of them
}

// Present says that a process passes output on, for the next seconds, and whether somebody looks on at it; and tells of
// the others. What nobody needs any more is removed.
func (s *Store) Present(ctx context.Context, name string, listens bool) (Others, error) {
	var rows []Others
	err := s.Tx(ctx, func(tx *Tx) (err error) {
		err = tx.run(`insert into teller (name, listens, until) values (?, ?, now() + interval '6 seconds')
			on conflict (name) do update set listens = excluded.listens, until = excluded.until`, name, listens)
		if err != nil {
			return err
		}
		rows, err = scan[Others](tx, `select count(*) > 0 as there, coalesce(bool_or(listens), false) as listen
			from teller where name <> ? and until > now()`, name)
		if err != nil {
			return err
		}
		if err := tx.run("delete from piece where at < now() - interval '30 seconds'"); err != nil {
			return err
		}
		return tx.run("delete from teller where until < now() - interval '1 minute'")
	})
	if err != nil || len(rows) == 0 {
		return Others{}, err
	}
	return rows[0], nil
}

// Piece is a part of what is printed, on its way to those who look on elsewhere.
type Piece struct {
	ID     int64
	Teller string
	Body   string
}

// AddPieces passes on what was printed here.
func (s *Store) AddPieces(ctx context.Context, teller string, bodies []string) error {
	err := s.In(ctx).run("insert into piece (teller, body) select ?, x from unnest(?::text[]) x", teller, array{bodies})
	if err != nil {
		return fmt.Errorf("pass output on: %w", err)
	}
	return nil
}

// PiecesOf reads what was printed elsewhere in the last seconds; of one teller they are in their order.
func (s *Store) PiecesOf(ctx context.Context, but string) ([]Piece, error) {
	return scan[Piece](s.In(ctx), `select id, teller, body from piece
		where at > now() - interval '5 seconds' and teller <> ? order by id limit 2000`, but)
}
