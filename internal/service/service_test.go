package service

import (
	"context"
	"log/slog"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/internal/secret"
	"urgentis/internal/testdb"
)

func config(url, dir string) Config {
	return Config{
		Database: url,
		DataDir:  dir,
		Listen:   "127.0.0.1:0",
		Version:  "test",
		Log:      slog.New(slog.DiscardHandler),
	}
}

func starts(t *testing.T, c Config) error {
	i, err := Start(context.Background(), c)
	if err == nil {
		require.NoError(t, i.Stop())
	}
	return err
}

// Two instances with different keys, and one whose key file is gone, say so at once and make no key of their own.
func TestOneKeyForOneDatabase(t *testing.T) {
	url, one, two := testdb.URL(t), t.TempDir(), t.TempDir()
	i, err := Start(context.Background(), config(url, one))
	require.NoError(t, err)
	box, err := secret.Open(filepath.Join(one, "seal.key"), false)
	require.NoError(t, err)
	_, err = (&secret.Keeper{Store: i.Store, Box: box}).Set(
		i.Store.In(context.Background()),
		"hull",
		"password",
		[]byte("canary-1"),
		"iva",
	)
	require.NoError(t, err)

	err = starts(t, config(url, two))
	assert.ErrorContains(t, err, "put the key file of the other instance")
	assert.NoFileExists(t, filepath.Join(two, "seal.key"))
	_, err = secret.Open(filepath.Join(two, "seal.key"), true)
	require.NoError(t, err)
	assert.ErrorContains(t, starts(t, config(url, two)), "all instances on one database need the same key file")

	key, err := os.ReadFile(filepath.Join(one, "seal.key"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(two, "seal.key"), key, 0o600))
	assert.NoError(t, starts(t, config(url, two)))
	require.NoError(t, os.Chmod(filepath.Join(two, "seal.key"), 0o644))
	assert.ErrorContains(t, starts(t, config(url, two)), "chmod 600")

	// An installation from before keys had ids.
	require.NoError(t, testdb.SQL(i.Store).Exec("delete from setting where key = 'seal-key'").Error)
	require.NoError(t, os.Remove(filepath.Join(two, "seal.key")))
	_, err = secret.Open(filepath.Join(two, "seal.key"), true)
	require.NoError(t, err)
	assert.ErrorContains(t, starts(t, config(url, two)), "does not open the secrets")
	require.NoError(t, i.Stop())
	require.NoError(t, os.Remove(filepath.Join(one, "seal.key")))
	assert.ErrorContains(t, starts(t, config(url, one)), "put the key file")
}

func TestANewerSchemaIsRefused(t *testing.T) {
	url, dir := testdb.URL(t), t.TempDir()
	i, err := Start(context.Background(), config(url, dir))
	require.NoError(t, err)
	require.NoError(
		t,
		testdb.SQL(i.Store).Exec("insert into goose_db_version (version_id, is_applied) values (999, true)").Error,
	)
	require.NoError(t, i.Stop())
	assert.ErrorContains(t, starts(t, config(url, dir)), "newer program")
}
