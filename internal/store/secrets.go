package store

import "fmt"

// Secrets lists the secrets by name, each with its newest version, without their values.
func (tx *Tx) Secrets() ([]Secret, error) {
	return scan[Secret](tx, `select distinct on (name) name, version, kind, set_by, set_at from secret
		where removed_at is null order by name, version desc`)
}

// Secret reads one version of a secret; nil where there is none.
func (tx *Tx) Secret(name, version string) (*Secret, error) {
	found, err := list[Secret](tx, "name", "name = ? and version = ?::text::int and removed_at is null", name,
		version)
	if err != nil || len(found) == 0 {
		return nil, err
	}
	return &found[0], nil
}

// SecretsNamed reads every version of secrets.
func (tx *Tx) SecretsNamed(names []string) ([]Secret, error) {
	if len(names) == 0 {
		return nil, nil
	}
	return list[Secret](tx, "name, version", "name in ? and removed_at is null", names)
}

// RemoveSecret takes the values of a secret away, all versions; ErrNotFound where there is none.
func (tx *Tx) RemoveSecret(name string) error {
	done := tx.db.Exec("update secret set sealed = '', removed_at = now() where name = ? and removed_at is null", name)
	if done.Error == nil && done.RowsAffected == 0 {
		return ErrNotFound
	}
	return done.Error
}

// TargetsWith lists the targets that are signed in to with a secret.
func (tx *Tx) TargetsWith(secret string) ([]string, error) {
	return scan[string](tx, "select name from target where ? in (secret, look_secret) order by name", secret)
}

// AddSecret adds the next version of a name, and sets its number.
func (tx *Tx) AddSecret(s *Secret) error {
	var err error
	s.Version, err = one[int](tx, "select coalesce(max(version), 0) + 1 from secret where name = ?", s.Name)
	if err != nil {
		return fmt.Errorf("number a secret: %w", err)
	}
	return tx.db.Create(s).Error
}
