package store

import "time"

// Listener is what a listener of an instance heard since that began.
type Listener struct {
	Host    string `gorm:"primaryKey"`
	Name    string `gorm:"primaryKey"`
	Address string
	BegunAt time.Time
	NotedAt time.Time
	Heard   int64
	Kept    int64
	// Strange came of no source, or did not prove itself; Stranger is the address of the last of those.
	Strange  int64
	Stranger string
	Lost     int64 // there was no room for it
	Waiting  int64 // bytes in spools
}

// NoteListener keeps what a listener heard.
func (tx *Tx) NoteListener(l *Listener) error {
	return tx.run(`insert into listener (host, name, address, begun_at, heard, kept, strange, stranger, lost, waiting)
		values (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)
		on conflict (host, name) do update set address = excluded.address, begun_at = excluded.begun_at,
			noted_at = now(), heard = excluded.heard, kept = excluded.kept, strange = excluded.strange,
			stranger = excluded.stranger, lost = excluded.lost, waiting = excluded.waiting`,
		l.Host, l.Name, l.Address, l.BegunAt, l.Heard, l.Kept, l.Strange, l.Stranger, l.Lost, l.Waiting)
}

// Listeners lists the listeners of all instances that noted something within a day.
func (tx *Tx) Listeners() ([]Listener, error) {
	return list[Listener](tx, "host, name", "noted_at > now() - interval '1 day'")
}
