package secret

import (
	"context"
	"errors"
	"fmt"

	"urgentis/internal/store"
)

// OpenFor opens the key with which the secrets of a database are sealed. The database knows the key by its id, so that
// an instance with another key, or with none although secrets exist, says so at its start and does nothing.
func OpenFor(ctx context.Context, s *store.Store, path string) (*Box, error) {
	known, err := s.SealKey(ctx)
	if err != nil {
		return nil, err
	}
	sealed, err := s.OneSealed(ctx)
	if err != nil {
		return nil, err
	}
	box, err := Open(path, known == "" && sealed == nil)
	if errors.Is(err, ErrNoKey) {
		return nil, fmt.Errorf(
			"secrets of this installation are sealed with a key that is not at %s: put the key file of the other "+
				"instance, or of a backup, there, or give its place with --key-file",
			path,
		)
	}
	if err != nil {
		return nil, err
	}
	if known == "" && sealed != nil {
		// Sealed before keys had ids.
		if _, err := box.Unseal(sealed); err != nil {
			return nil, fmt.Errorf(
				"the key in %s does not open the secrets of this installation: put the right key file there",
				path,
			)
		}
	}
	if known == "" {
		if known, err = s.SetSealKey(ctx, box.ID()); err != nil {
			return nil, err
		}
	}
	if known != box.ID() {
		return nil, fmt.Errorf(
			"the secrets of this installation are sealed with key %s, and %s holds key %s: all instances on one "+
				"database need the same key file",
			known,
			path,
			box.ID(),
		)
	}
	return box, nil
}
