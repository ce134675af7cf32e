package store

// OpenIncident is an open incident as one shift leaves it to the next.
type OpenIncident struct {
	Incident
	// Promised is what was written last for others than those who work on it; "" for nothing.
	Promised string
}

// MostOpenOf bounds how many open incidents of a team are listed.
const MostOpenOf = 200

// OpenOf lists the open incidents of the services that a team answers for, the oldest first.
func (tx *Tx) OpenOf(team string) ([]OpenIncident, error) {
	return scan[OpenIncident](tx, `select i.*, coalesce((select e.content::jsonb ->> 'text' from entry e
			where e.incident = i.number and e.kind = 'note.outward' order by e.seq desc limit 1), '') as promised
		from incident i join service s on s.name = i.service
		where i.state = 'open' and s.owner = ? order by i.number limit ?`, team, MostOpenOf)
}

// NoticeKnown reports whether a notice of a key was noted.
func (tx *Tx) NoticeKnown(key string) (bool, error) {
	return one[bool](tx, "select exists (select from notice where key = ?)", key)
}
