package service

import (
	"context"
	"errors"
	"fmt"
	"os"

	"urgentis/core/access"
	"urgentis/internal/localdb"
	"urgentis/internal/signin"
	"urgentis/internal/store"
)

// SetPerson makes a person, or sets the password and roles of one, in the database of an installation whose service may
// run or not. It asks nobody for leave: whoever can reach the database can do all.
func SetPerson(ctx context.Context, c Config, name, password string, roles []access.Role) (err error) {
	url := c.Database
	if url == "" {
		if err := os.MkdirAll(c.DataDir, 0o755); err != nil {
			return fmt.Errorf("make the data directory: %w", err)
		}
		db, failed := localdb.Start(ctx, c.DataDir)
		if failed != nil {
			return failed
		}
		if db.Launched() {
			defer func() { err = errors.Join(err, db.Stop()) }()
		}
		url = db.URL
	}
	s, err := store.Open(ctx, url, c.Log)
	if err != nil {
		return err
	}
	defer s.Close()
	p, err := signin.NewPerson(name, password, roles, s.Clock.Now())
	if err != nil {
		return err
	}
	return s.Tx(ctx, func(tx *store.Tx) error {
		if err := tx.SetPerson(p); err != nil {
			return err
		}
		return tx.Audit("on the machine", "person.set", name, p.Roles)
	})
}
