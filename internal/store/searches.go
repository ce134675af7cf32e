package store

import "fmt"

// Search is what somebody looks for again and again among incidents.
type Search struct {
	Who      string         `gorm:"primaryKey"`
	Name     string         `gorm:"primaryKey"`
	LooksFor WhichIncidents `gorm:"serializer:json"`
}

// MostSearches bounds how many one may keep.
const MostSearches = 100

// Searches lists those of somebody, by name.
func (tx *Tx) Searches(who string) ([]Search, error) { return list[Search](tx, "name", "who = ?", who) }

// KeepSearch keeps one, in the place of that of its name.
func (tx *Tx) KeepSearch(s *Search) error {
	if err := tx.Save(s); err != nil {
		return fmt.Errorf("keep a search: %w", err)
	}
	return nil
}

// ForgetSearch forgets one; ErrNotFound where there is none.
func (tx *Tx) ForgetSearch(who, name string) error {
	n, err := tx.exec("delete from search where who = ? and name = ?", who, name)
	if err == nil && n == 0 {
		return ErrNotFound
	}
	return err
}
