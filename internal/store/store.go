// Package store keeps everything in PostgreSQL: models, queries, migrations, and the queue's doorbells.
package store

import (
	"context"
	"crypto/rand"
	"database/sql"
	"embed"
	"encoding/base32"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"strings"
	"time"

	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/pressly/goose/v3"
	"github.com/pressly/goose/v3/lock"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverdatabasesql"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivermigrate"
	"gorm.io/driver/postgres"
	"gorm.io/gorm"
	"gorm.io/gorm/logger"
	"gorm.io/gorm/schema"
)

//go:embed migrations/*.sql
var migrations embed.FS

// ErrNotFound says that a row is not there.
var ErrNotFound = gorm.ErrRecordNotFound

// Store is the database.
type Store struct {
	DB   *gorm.DB
	Pool *pgxpool.Pool
	// inserts puts jobs into the queue inside a GORM transaction.
	inserts *river.Client[*sql.Tx]
	log     *slog.Logger
}

// The settings with which a job begins within milliseconds of its commit.
const (
	fetchCooldown = 2 * time.Millisecond
	fetchPoll     = 200 * time.Millisecond
)

// Open connects, brings the schema up to date under a lock, and makes the queue ready.
func Open(ctx context.Context, url string, log *slog.Logger) (*Store, error) {
	cfg, err := pgxpool.ParseConfig(url)
	if err != nil {
		return nil, fmt.Errorf("the database address cannot be read: %w", err)
	}
	if cfg.MaxConns < 24 {
		cfg.MaxConns = 24
	}
	cfg.ConnConfig.RuntimeParams["application_name"] = "urgentis"
	cfg.ConnConfig.RuntimeParams["timezone"] = "UTC"
	pool, err := pgxpool.NewWithConfig(ctx, cfg)
	if err != nil {
		return nil, fmt.Errorf("connect to the database: %w", err)
	}
	s := &Store{Pool: pool, log: log}
	if err := s.open(ctx); err != nil {
		pool.Close()
		return nil, err
	}
	return s, nil
}

func (s *Store) open(ctx context.Context) error {
	if err := s.Pool.Ping(ctx); err != nil {
		return fmt.Errorf("connect to the database: %w", err)
	}
	sqlDB := stdlib.OpenDBFromPool(s.Pool)
	if err := s.migrate(ctx, sqlDB); err != nil {
		return err
	}
	var err error
	s.DB, err = gorm.Open(postgres.New(postgres.Config{Conn: sqlDB}), &gorm.Config{
		NamingStrategy:         schema.NamingStrategy{SingularTable: true, NameReplacer: strings.NewReplacer("URL", "Url")},
		Logger:                 logger.Discard,
		SkipDefaultTransaction: true,
		TranslateError:         true,
	})
	if err != nil {
		return fmt.Errorf("open the database: %w", err)
	}
	s.inserts, err = river.NewClient(riverdatabasesql.New(nil), &river.Config{FetchCooldown: fetchCooldown, FetchPollInterval: fetchPoll, Logger: quiet()})
	if err != nil {
		return fmt.Errorf("open the queue: %w", err)
	}
	return nil
}

func quiet() *slog.Logger { return slog.New(slog.DiscardHandler) }

func (s *Store) migrate(ctx context.Context, db *sql.DB) error {
	locker, err := lock.NewPostgresSessionLocker()
	if err != nil {
		return err
	}
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	p, err := goose.NewProvider(goose.DialectPostgres, db, files, goose.WithSessionLocker(locker), goose.WithLogger(goose.NopLogger()))
	if err != nil {
		return fmt.Errorf("prepare migrations: %w", err)
	}
	known := int64(0)
	for _, m := range p.ListSources() {
		known = max(known, m.Version)
	}
	if has, err := p.GetDBVersion(ctx); err != nil {
		return fmt.Errorf("read the version of the schema: %w", err)
	} else if has > known {
		return fmt.Errorf("the database was brought to schema %d by a newer program; this one knows %d: run the newer program, or give another --database", has, known)
	}
	if _, err := p.Up(ctx); err != nil {
		return fmt.Errorf("bring the schema up to date: %w", err)
	}
	return s.migrateQueue(ctx)
}

// migrateQueue runs the queue's own migrations under a lock: two instances may start at once.
func (s *Store) migrateQueue(ctx context.Context) error {
	conn, err := s.Pool.Acquire(ctx)
	if err != nil {
		return err
	}
	defer conn.Release()
	const key = 7_261_904
	if _, err := conn.Exec(ctx, "select pg_advisory_lock($1)", key); err != nil {
		return fmt.Errorf("lock the queue's migrations: %w", err)
	}
	defer conn.Exec(context.WithoutCancel(ctx), "select pg_advisory_unlock($1)", key) //nolint:errcheck // the session's end unlocks too
	m, err := rivermigrate.New(riverpgxv5.New(s.Pool), &rivermigrate.Config{Logger: quiet()})
	if err != nil {
		return err
	}
	if _, err := m.Migrate(ctx, rivermigrate.DirectionUp, nil); err != nil {
		return fmt.Errorf("bring the queue's schema up to date: %w", err)
	}
	return nil
}

// Close ends all connections.
func (s *Store) Close() { s.Pool.Close() }

type inTx struct{}

// Tx runs f in one transaction. Its context carries the transaction for In.
func (s *Store) Tx(ctx context.Context, f func(tx *gorm.DB) error) (err error) {
	hooks := &after{}
	committed := false
	defer func() {
		for _, f := range hooks.list {
			f(committed)
		}
	}()
	err = s.DB.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		return f(tx.WithContext(context.WithValue(context.WithValue(ctx, inTx{}, tx), afterKey{}, hooks)))
	})
	committed = err == nil
	return err
}

// after is what follows a transaction.
type after struct{ list []func(committed bool) }

type afterKey struct{}

// After calls f once the transaction is over, whatever became of it. committed is false too where nobody knows whether
// the commit held.
func After(tx *gorm.DB, f func(committed bool)) {
	hooks := tx.Statement.Context.Value(afterKey{}).(*after)
	hooks.list = append(hooks.list, f)
}

// In is the database as a context has it: inside the transaction that the context carries, if there is one. Who holds
// a connection and asks for a second one stands still as soon as all of them do.
func (s *Store) In(ctx context.Context) *gorm.DB {
	if tx, ok := ctx.Value(inTx{}).(*gorm.DB); ok {
		return tx.WithContext(ctx)
	}
	return s.DB.WithContext(ctx)
}

// Now is the database's clock.
func (s *Store) Now(ctx context.Context) (time.Time, error) {
	var t time.Time
	err := s.Pool.QueryRow(ctx, "select clock_timestamp()").Scan(&t)
	return t.UTC(), err
}

// NewID makes an identity that cannot be guessed: a letter and 80 random bits.
func NewID(prefix string) string {
	b := make([]byte, 10)
	rand.Read(b) //nolint:errcheck // it never fails
	return prefix + strings.ToLower(base32.StdEncoding.WithPadding(base32.NoPadding).EncodeToString(b))
}

// Doorbell asks some instance to look at a run. It owns nothing.
type Doorbell struct {
	Run string `json:"run"`
}

// Kind implements river.JobArgs.
func (Doorbell) Kind() string { return "doorbell" }

// InsertOpts implements river.JobArgsWithInsertOpts: a bell that failed is rung anew by the janitor.
func (Doorbell) InsertOpts() river.InsertOpts { return river.InsertOpts{MaxAttempts: 1} }

// Deliver asks for one delivery.
type Deliver struct {
	ID int64 `json:"id"`
}

// Kind implements river.JobArgs.
func (Deliver) Kind() string { return "deliver" }

// InsertOpts implements river.JobArgsWithInsertOpts.
func (Deliver) InsertOpts() river.InsertOpts {
	return river.InsertOpts{MaxAttempts: 12, Queue: DeliverQueue}
}

// DeliverQueue has workers of its own: a room that hangs must not keep a bell from being answered.
const DeliverQueue = "deliver"

// Enqueue puts jobs into the queue with this transaction, and wakes whoever waits once it commits.
func (s *Store) Enqueue(ctx context.Context, tx *gorm.DB, jobs ...river.JobArgs) error {
	if len(jobs) == 0 {
		return nil
	}
	sqlTx, ok := tx.Statement.ConnPool.(*sql.Tx)
	if !ok {
		return errors.New("enqueue needs a transaction")
	}
	params := make([]river.InsertManyParams, len(jobs))
	queues := map[string]bool{}
	for i, j := range jobs {
		params[i] = river.InsertManyParams{Args: j}
		queue := river.QueueDefault
		if o, ok := j.(river.JobArgsWithInsertOpts); ok && o.InsertOpts().Queue != "" {
			queue = o.InsertOpts().Queue
		}
		queues[queue] = true
	}
	if _, err := s.inserts.InsertManyFastTx(ctx, sqlTx, params); err != nil {
		return fmt.Errorf("put into the queue: %w", err)
	}
	for q := range queues {
		if err := tx.Exec(`select pg_notify(current_schema() || '.river_insert', json_build_object('queue', ?::text)::text)`, q).Error; err != nil {
			return err
		}
	}
	return nil
}
