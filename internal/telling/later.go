package telling

import (
	"time"

	"urgentis/core/route"
	"urgentis/internal/store"
)

// Later tells of each of some notices who will be called after now, up to a time, if nobody takes it.
func (e *Teller) Later(tx *store.Tx, list []store.Notice, until time.Time) ([][]route.Later, error) {
	out := make([][]route.Later, len(list))
	if len(list) == 0 {
		return out, nil
	}
	s := &sheet{e.Sheet(tx), e}
	w, err := s.World()
	if err != nil {
		return nil, err
	}
	ids := make([]int64, len(list))
	for i, n := range list {
		ids[i] = n.ID
	}
	told, err := tx.ToldOf(ids)
	if err != nil {
		return nil, err
	}
	now := e.Now()
	for i := range list {
		g := &telling{sheet: s, world: w, now: now}
		row := &list[i]
		if row.Incident != nil {
			if g.inc, err = tx.Incident(*row.Incident); err != nil {
				return nil, err
			}
		}
		n, err := g.notice(row)
		if err != nil {
			return nil, err
		}
		stood := route.Stood{Rung: row.Rung}
		if row.RungSince != nil {
			stood.Since = *row.RungSince
		}
		out[i] = route.Foretell(n, stood, told[row.ID], w.World, now, until).Later(now)
	}
	return out, nil
}
