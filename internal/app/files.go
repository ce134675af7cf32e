package app

import (
	"context"
	"io"

	"urgentis/core/access"
	"urgentis/core/runbook"
	"urgentis/internal/store"
)

// StoredFiles lists the files that runbooks can put on targets.
func (a *App) StoredFiles(ctx context.Context, who *access.Principal) ([]store.Attachment, error) {
	if _, err := see(who); err != nil {
		return nil, err
	}
	return a.store.In(ctx).StoredFiles()
}

// PutStored puts a file into the store, in the place of what was there under its name. A gate that was raised before
// shows what it was raised with, and stands again.
func (a *App) PutStored(
	ctx context.Context,
	who *access.Principal,
	name string,
	r io.Reader,
) (*store.Attachment, error) {
	if !runbook.FileName.MatchString(name) {
		return nil, invalid("name", "a file is named with letters, digits, . _ and -, at most 100 of them")
	}
	if err := access.Can(who, access.Write, access.Object{Kind: "file", Name: name}); err != nil {
		return nil, err
	}
	return a.keepFile(ctx, store.Attachment{Kind: store.StoredFile, Name: name, AddedBy: who.Behind()}, r,
		func(ctx context.Context, whole *store.Attachment) error {
			return a.tx(ctx, func(tx *store.Tx) error {
				if err := tx.SaveAttachment(whole); err != nil {
					return err
				}
				if err := tx.OnlyNewest(whole); err != nil {
					return err
				}
				return tx.Audit(who.Name, "file.put", name, whole.Digest)
			})
		})
}

// Stored gives a file of the store, and what reads it piece by piece.
func (a *App) Stored(ctx context.Context, who *access.Principal, name string) (*store.Attachment, io.Reader, error) {
	if _, err := see(who); err != nil {
		return nil, nil, err
	}
	tx := a.store.In(ctx)
	row, err := tx.StoredNamed(name)
	if err != nil {
		return nil, nil, named(err, "file %s", name)
	}
	return row, tx.Pieces(row.ID), nil
}

// RemoveStored takes a file out of the store.
func (a *App) RemoveStored(ctx context.Context, who *access.Principal, name string) error {
	if err := access.Can(who, access.Write, access.Object{Kind: "file", Name: name}); err != nil {
		return err
	}
	return a.tx(ctx, func(tx *store.Tx) error {
		if err := tx.RemoveStored(name); err != nil {
			return named(err, "file %s", name)
		}
		return tx.Audit(who.Name, "file.remove", name, "")
	})
}
