package store

import "time"

// RotaFeed is what the calendar said from which a line of a rota is read.
type RotaFeed struct {
	Team    string
	Line    int
	Address string
	Text    string     // what was read last; "" for nothing yet
	ReadAt  *time.Time // when that was so last
	TriedAt time.Time
	Trouble string // what went wrong at the last try, and what counts for nobody; "" for nothing
}

// RotaFeeds lists what the calendars of a team's rota said.
func (tx *Tx) RotaFeeds(team string) ([]RotaFeed, error) {
	return scan[RotaFeed](tx, "select * from rota_feed where team = ? order by line", team)
}

// FeedDue takes it in hand to read a calendar, for all instances, if it was not tried since; another address is read at
// once.
func (tx *Tx) FeedDue(team string, line int, address string, since time.Time) (bool, error) {
	// Nothing is written where it is not due: it is asked every few seconds.
	n, err := tx.exec(`insert into rota_feed (team, line, address)
		select @team, @line, @address where not exists (select from rota_feed
			where team = @team and line = @line and address = @address and tried_at >= @since)
		on conflict (team, line) do update set address = excluded.address, tried_at = now()
		where rota_feed.tried_at < @since or rota_feed.address <> excluded.address`,
		map[string]any{"team": team, "line": line, "address": address, "since": since})
	return n == 1, err
}

// FeedRead keeps what a calendar said at an address; a text of another address is not kept.
func (tx *Tx) FeedRead(team string, line int, address, text, trouble string) error {
	_, err := tx.exec(`update rota_feed set read_at = now(), trouble = ? where team = ? and line = ? and address = ?`,
		trouble, team, line, address)
	if err == nil {
		// A statement of its own: it makes everybody read the rota anew.
		_, err = tx.exec(
			"update rota_feed set text = ? where team = ? and line = ? and address = ? and text <> ?",
			text,
			team,
			line,
			address,
			text,
		)
	}
	return err
}

// FeedNotRead notes why a calendar could not be read; what it said before still holds.
func (tx *Tx) FeedNotRead(team string, line int, trouble string) error {
	_, err := tx.exec("update rota_feed set trouble = ? where team = ? and line = ?", trouble, team, line)
	return err
}
