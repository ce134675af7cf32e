package flow

import "errors"

// journal keeps how to take back what was done to a State since its log was last known to be on disk, newest last. A
// plan that cannot be written down is taken back with it, however long the log is.
type journal struct {
	on   bool
	back []func()
}

// note keeps how to take something back.
func (j *journal) note(back func()) { j.back = append(j.back, back) }

// set gives a field another value.
func set[T any](s *State, field *T, v T) {
	if s.journal.on {
		old := *field
		s.journal.note(func() { *field = old })
	}
	*field = v
}

// push appends to a field.
func push[T any](s *State, field *[]T, v T) {
	if s.journal.on {
		old := *field
		s.journal.note(func() { *field = old })
	}
	*field = append(*field, v)
}

// put gives a key of a map another value.
func put[K comparable, V any](s *State, m map[K]V, k K, v V) {
	if s.journal.on {
		old, had := m[k]
		s.journal.note(func() {
			if had {
				m[k] = old
			} else {
				delete(m, k)
			}
		})
	}
	m[k] = v
}

// drop takes a key out of a map.
func drop[K comparable, V any](s *State, m map[K]V, k K) {
	if old, had := m[k]; had {
		if s.journal.on {
			s.journal.note(func() { m[k] = old })
		}
		delete(m, k)
	}
}

// Stored says that all that was appended and planned is on disk: it cannot be discarded any more, and what comes next
// rests on a leave of its own.
func (m *Machine) Stored() {
	m.s.journal.back = nil
	clear(m.s.openLeaves)
}

// Discard takes back all that was appended and planned since the log was last known to be on disk. It costs what that
// was, not what the whole log is.
func (m *Machine) Discard() {
	s := m.s
	for i := len(s.journal.back) - 1; i >= 0; i-- {
		s.journal.back[i]()
	}
	s.journal.back, s.err = nil, nil
	for _, d := range s.data {
		clear(d.views) // they were computed, and are again
	}
}

// Read adds an event that is on disk. Nothing may be appended or planned that is not.
func (m *Machine) Read(e Event) error {
	if len(m.s.journal.back) > 0 {
		return errors.New("read a stored event while events wait to be stored or discarded")
	}
	m.s.journal.on = false
	defer func() { m.s.journal.on = true }()
	return m.append(&e)
}
