package secret

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"gorm.io/gorm"

	"urgentis/core/leave"
	"urgentis/internal/store"
)

// Keeper keeps sealed secrets in the store.
type Keeper struct {
	Store *store.Store
	Box   *Box
}

// Set seals a value as the next version of a name.
func (k *Keeper) Set(ctx context.Context, name, kind string, value []byte, by string) (*store.Secret, error) {
	sealed, err := k.Box.Seal(value)
	if err != nil {
		return nil, err
	}
	s := &store.Secret{Name: name, Kind: kind, Sealed: sealed, SetBy: by, SetAt: time.Now().UTC()}
	err = k.Store.Tx(ctx, func(tx *gorm.DB) error {
		if err := tx.Raw("select coalesce(max(version), 0) + 1 from secret where name = ?", name).Scan(&s.Version).Error; err != nil {
			return err
		}
		if err := tx.Create(s).Error; err != nil {
			return err
		}
		return store.Audit(tx, by, "secret.set", name, "version "+strconv.Itoa(s.Version))
	})
	return s, err
}

// Credential opens what a target is signed in to with.
func (k *Keeper) Credential(ctx context.Context, f leave.Facts) (kind string, value []byte, err error) {
	name, version, ok := strings.Cut(f.Secret, "@")
	if !ok {
		return "", nil, errors.New("no secret is set for it")
	}
	var rows []store.Secret
	if err := k.Store.DB.WithContext(ctx).Where("name = ? and version = ?", name, version).Find(&rows).Error; err != nil {
		return "", nil, fmt.Errorf("read its secret: %w", err)
	}
	if len(rows) == 0 {
		return "", nil, fmt.Errorf("there is no secret %s", name)
	}
	value, err = k.Box.Unseal(rows[0].Sealed)
	return rows[0].Kind, value, err
}

// Values gives what must be masked in what a target prints.
func (k *Keeper) Values(ctx context.Context, f leave.Facts) []string {
	if f.Secret == "" {
		return nil
	}
	_, v, err := k.Credential(ctx, f)
	if err != nil {
		return nil
	}
	return []string{string(v)}
}
