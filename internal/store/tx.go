package store

import (
	"context"
	"fmt"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// Tx runs statements: all in one transaction where Store.Tx gave it, each by itself where Store.In did outside of one.
// It is used by one goroutine, and not after the function that it was given to.
type Tx struct {
	db    *gorm.DB
	store *Store
	hooks *hooks // nil outside of a transaction
}

// hooks are what follows a transaction.
type hooks struct{ follow []func(committed bool) }

type inTx struct{}

// Tx runs f in one transaction. The context of what it gives carries the transaction for In.
func (s *Store) Tx(ctx context.Context, f func(tx *Tx) error) error {
	h := &hooks{}
	committed := false
	defer func() {
		for _, f := range h.follow {
			f(committed)
		}
	}()
	err := s.gorm.WithContext(ctx).Transaction(func(db *gorm.DB) error {
		tx := &Tx{store: s, hooks: h}
		tx.db = db.WithContext(context.WithValue(ctx, inTx{}, tx))
		return f(tx)
	})
	committed = err == nil
	return err
}

// In is the database as a context has it: inside the transaction that the context carries, if there is one. Who holds
// a connection and asks for a second one stands still as soon as all of them do.
func (s *Store) In(ctx context.Context) *Tx {
	if tx, ok := ctx.Value(inTx{}).(*Tx); ok {
		return &Tx{db: tx.db.WithContext(ctx), store: s, hooks: tx.hooks}
	}
	return &Tx{db: s.gorm.WithContext(ctx), store: s}
}

// Context is the context of the statements; inside a transaction it carries that for In.
func (tx *Tx) Context() context.Context { return tx.db.Statement.Context }

// With is the same under another context, which does not end the transaction.
func (tx *Tx) With(ctx context.Context) *Tx {
	return &Tx{db: tx.db.WithContext(ctx), store: tx.store, hooks: tx.hooks}
}

// After calls f once the transaction is over, whatever became of it. committed is false too where nobody knows whether
// the commit held. Outside of a transaction it panics: nothing would follow.
func (tx *Tx) After(f func(committed bool)) { tx.hooks.follow = append(tx.hooks.follow, f) }

// alone keeps everybody else who asks for the same name of a kind waiting until the end of the transaction.
func (tx *Tx) alone(kind int, name string) error {
	if err := tx.db.Exec("select pg_advisory_xact_lock(hashtextextended(?, ?))", name, kind).Error; err != nil {
		return fmt.Errorf("lock %s: %w", name, err)
	}
	return nil
}

// The kinds of names that alone locks. Their numbers are part of the hash, so that they cannot be mistaken for one
// another; programs of another version on the same database count on them.
const (
	aloneLock      = 4 // a lock of runs
	aloneStarts    = 5 // the starts that are counted together
	aloneSetting   = 6 // a service or a target that is changed
	alonePrincipal = 7 // the name of a person or a token
	aloneDocuments = 8 // all documents, while they are compared and altered
	aloneJoin      = 9 // what alerts of one incident have in common
)

// take reads the one row that a condition names; ErrNotFound where there is none.
func take[T any](tx *Tx, where string, args ...any) (*T, error) {
	var row T
	if err := tx.db.Where(where, args...).Take(&row).Error; err != nil {
		return nil, err
	}
	return &row, nil
}

// takeLocked is take for a row that nobody else alters until the end of the transaction.
func takeLocked[T any](tx *Tx, where string, args ...any) (*T, error) {
	var row T
	if err := tx.db.Clauses(clause.Locking{Strength: "UPDATE"}).Where(where, args...).Take(&row).Error; err != nil {
		return nil, err
	}
	return &row, nil
}

// list reads what a condition names, in an order.
func list[T any](tx *Tx, order, where string, args ...any) ([]T, error) {
	var out []T
	err := tx.db.Order(order).Where(where, args...).Find(&out).Error
	return out, err
}

// scan reads the rows of a statement.
func scan[T any](tx *Tx, statement string, args ...any) ([]T, error) {
	var out []T
	err := tx.db.Raw(statement, args...).Scan(&out).Error
	return out, err
}

// one reads the one value of a statement.
func one[T any](tx *Tx, statement string, args ...any) (T, error) {
	var out T
	err := tx.db.Raw(statement, args...).Scan(&out).Error
	return out, err
}

// exec runs a statement and gives how many rows it touched.
func (tx *Tx) exec(statement string, args ...any) (int64, error) {
	res := tx.db.Exec(statement, args...)
	return res.RowsAffected, res.Error
}

// run is exec where it does not matter how many rows there were.
func (tx *Tx) run(statement string, args ...any) error { return tx.db.Exec(statement, args...).Error }

// Time is the time of the database.
func (tx *Tx) Time() time.Time { return tx.store.Clock.Now().UTC() }

// Audit writes one line of the audit log.
func (tx *Tx) Audit(actor, act, subject, detail string) error {
	return tx.db.Create(&Act{At: tx.Time(), Actor: actor, Act: act, Subject: subject, Detail: detail}).Error
}
