// Package store keeps everything in PostgreSQL: models, queries, migrations, and the queue's doorbells.
package store

import (
	"context"
	"crypto/rand"
	"database/sql"
	"embed"
	"encoding/base32"
	"fmt"
	"io/fs"
	"log/slog"
	"strings"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/pressly/goose/v3"
	"github.com/pressly/goose/v3/lock"
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

// ErrExists says that a row with that key is there already.
var ErrExists = gorm.ErrDuplicatedKey

// Store is the database. All SQL of the program stands in this package.
type Store struct {
	Pool *pgxpool.Pool
	gorm *gorm.DB
	// Clock is the time of the database, by which whatever is kept is dated.
	Clock  *Clock
	log    *slog.Logger
	series *lru.Cache[SeriesKey, Series] // as they are known
}

// maxKnownSeries bounds how many series of readings are known without asking the database.
const maxKnownSeries = 100_000

// The settings with which a job begins within milliseconds of its commit.
const (
	fetchCooldown = 2 * time.Millisecond
	fetchPoll     = 200 * time.Millisecond
)

// usualConns is how many connections an instance takes unless its address says pool_max_conns, leastConns how many it
// cannot do without. Its beats and its queue's notifications have one each beside them.
const (
	usualConns = 24
	leastConns = 12
)

// Open connects, brings the schema up to date under a lock, and makes the queue ready.
func Open(ctx context.Context, url string, log *slog.Logger) (*Store, error) {
	cfg, err := pgxpool.ParseConfig(url)
	if err != nil {
		return nil, fmt.Errorf("the database address cannot be read: %w", err)
	}
	switch said := strings.Contains(url, "pool_max_conns"); {
	case !said:
		cfg.MaxConns = usualConns
	case cfg.MaxConns < leastConns:
		return nil, fmt.Errorf("pool_max_conns is %d in the database address, and an instance needs %d at least",
			cfg.MaxConns, leastConns)
	}
	cfg.ConnConfig.RuntimeParams["application_name"] = "urgentis"
	cfg.ConnConfig.RuntimeParams["timezone"] = "UTC"
	cfg.AfterConnect = func(ctx context.Context, c *pgx.Conn) error {
		// A statement that is planned while a table is small must look things up in an index all the same: it is
		// planned once, and the table grows. What is read often is in memory, or on a disk that does not turn. Said by
		// itself, not as the connection begins, where a pooler between may refuse what it does not know.
		// No statement here runs so long that compiling it would pay: it took a part of what a chart took.
		_, err := c.Exec(ctx, "set random_page_cost = 1.1; set jit = off")
		return err
	}
	pool, err := pgxpool.NewWithConfig(ctx, cfg)
	if err != nil {
		return nil, fmt.Errorf("connect to the database: %w", err)
	}
	series, err := lru.New[SeriesKey, Series](maxKnownSeries)
	if err != nil {
		pool.Close()
		return nil, err
	}
	s := &Store{Pool: pool, Clock: &Clock{}, log: log, series: series}
	if err := s.open(ctx); err != nil {
		pool.Close()
		return nil, err
	}
	return s, nil
}

func (s *Store) open(ctx context.Context) error {
	sent := time.Now()
	now, err := s.Now(ctx)
	if err != nil {
		return fmt.Errorf("connect to the database: %w", err)
	}
	s.Clock.Hear(sent, time.Now(), now)
	sqlDB := stdlib.OpenDBFromPool(s.Pool)
	if err := s.migrate(ctx, sqlDB); err != nil {
		return err
	}
	if s.gorm, err = Gorm(sqlDB); err != nil {
		return fmt.Errorf("open the database: %w", err)
	}
	return nil
}

// Gorm opens the models of this package on connections that are open already.
func Gorm(db *sql.DB) (*gorm.DB, error) {
	return gorm.Open(postgres.New(postgres.Config{Conn: db}), &gorm.Config{
		NamingStrategy: schema.NamingStrategy{
			SingularTable: true, NameReplacer: strings.NewReplacer("URL", "Url"),
		},
		DisableAutomaticPing:   true, // it connects to nothing by itself
		Logger:                 logger.Discard,
		SkipDefaultTransaction: true,
		TranslateError:         true,
	})
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
	p, err := goose.NewProvider(
		goose.DialectPostgres,
		db,
		files,
		goose.WithSessionLocker(locker),
		goose.WithLogger(goose.NopLogger()),
	)
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
		return fmt.Errorf("the database was brought to schema %d by a newer program; this one knows %d: run the "+
			"newer program, or give another --database", has, known)
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
	defer conn.Exec(
		context.WithoutCancel(ctx),
		"select pg_advisory_unlock($1)",
		key,
	) //nolint:errcheck // the session's end unlocks too
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
