package store

import (
	"context"
	"fmt"
)

// SealKey is the id of the key with which secrets are sealed; "" where none is known yet.
func (s *Store) SealKey(ctx context.Context) (string, error) {
	var id string
	if err := s.gorm.WithContext(ctx).Raw(
		"select value from setting where key = 'seal-key'").Scan(&id).Error; err != nil {
		return "", fmt.Errorf("read which key seals the secrets: %w", err)
	}
	return id, nil
}

// SetSealKey notes the id of the key, if none is noted yet, and gives the one that is.
func (s *Store) SetSealKey(ctx context.Context, id string) (string, error) {
	err := s.gorm.WithContext(ctx).
		Exec("insert into setting (key, value, by) values ('seal-key', ?, 'urgentis') on conflict (key) do "+
			"nothing", id).
		Error
	if err != nil {
		return "", fmt.Errorf("note which key seals the secrets: %w", err)
	}
	return s.SealKey(ctx)
}

// OneSealed is any sealed value; nil where there is none.
func (s *Store) OneSealed(ctx context.Context) ([]byte, error) {
	var rows []Secret
	if err := s.gorm.WithContext(ctx).Limit(1).Find(&rows).Error; err != nil || len(rows) == 0 {
		return nil, err
	}
	return rows[0].Sealed, nil
}
