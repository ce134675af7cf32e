// Package testdb gives each test a database of its own on a private PostgreSQL that all tests share.
package testdb

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

	"urgentis/internal/localdb"
	"urgentis/internal/store"
)

var shared struct {
	sync.Once
	url, template string
	err           error
}

// Dir is where the shared server lives; make test stops it there when all tests are over.
func Dir() string { return filepath.Join("/tmp", fmt.Sprintf("urgentis-test-%d", os.Getuid())) }

// URL makes an empty, migrated database that goes away with the test.
func URL(t testing.TB) string {
	shared.Do(func() { shared.err = begin() })
	require.NoError(t, shared.err)
	name := strings.ToLower(store.NewID("t"))
	require.NoError(t, admin(shared.url, fmt.Sprintf("create database %s template %s", name, shared.template)))
	t.Cleanup(func() {
		if err := admin(shared.url, fmt.Sprintf("drop database if exists %s with (force)", name)); err != nil {
			t.Log("drop the test's database:", err)
		}
	})
	return strings.Replace(shared.url, "/postgres?", "/"+name+"?", 1)
}

// Open is URL, opened.
func Open(t testing.TB) *store.Store {
	s, err := store.Open(context.Background(), URL(t), slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	t.Cleanup(s.Close)
	return s
}

// opened are what SQL opened, by the store's pool.
var opened sync.Map

// SQL runs statements of a test on a store's connections. The program itself has its statements in the store.
func SQL(s *store.Store) *gorm.DB {
	once, _ := opened.LoadOrStore(s.Pool, sync.OnceValue(func() *gorm.DB {
		db, err := store.Gorm(stdlib.OpenDBFromPool(s.Pool))
		if err != nil {
			panic(err)
		}
		return db
	}))
	return once.(func() *gorm.DB)()
}

func begin() error {
	if err := os.MkdirAll(Dir(), 0o755); err != nil {
		return err
	}
	// Several packages are tested at once; one of them starts the server.
	f, err := os.OpenFile(filepath.Join(Dir(), "lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return err
	}
	defer f.Close()
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX); err != nil {
		return err
	}
	ctx := context.Background()
	s, err := localdb.Start(ctx, Dir())
	if err != nil {
		return err
	}
	shared.url = s.URL
	shared.template = strings.ToLower(store.NewID("m"))
	if err := admin(s.URL, "create database "+shared.template); err != nil {
		return err
	}
	st, err := store.Open(
		ctx,
		strings.Replace(s.URL, "/postgres?", "/"+shared.template+"?", 1),
		slog.New(slog.DiscardHandler),
	)
	if err != nil {
		return err
	}
	st.Close()
	return nil
}

func admin(url, sql string) error {
	ctx := context.Background()
	c, err := pgx.Connect(ctx, url)
	if err != nil {
		return err
	}
	defer c.Close(ctx) //nolint:errcheck // the command was carried out or not
	_, err = c.Exec(ctx, sql)
	return err
}
