package testpeers

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"urgentis/internal/localdb"
)

// Postgres is a server of PostgreSQL on loopback.
type Postgres struct {
	Port int
	// URL is that of its superuser.
	URL string
}

const superuser = "of-a-test"

// reachable is a folder that the account of the server can reach.
func reachable(t testing.TB) string {
	dir, err := os.MkdirTemp("", "pg")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) }) //nolint:errcheck // it lies in the temporary folder
	require.NoError(t, os.Chmod(dir, 0o755))
	return dir
}

// NewPostgres starts a server.
func NewPostgres(t testing.TB) *Postgres {
	port := FreePort(t)
	s, err := localdb.StartOn(context.Background(), reachable(t), "127.0.0.1", port, superuser)
	require.NoError(t, err)
	t.Cleanup(func() { s.Stop() }) //nolint:errcheck // its folder goes too
	return &Postgres{Port: port, URL: s.URL}
}

// Standby starts a replica.
func (p *Postgres) Standby(t testing.TB) *Postgres {
	found, err := filepath.Glob("/usr/lib/postgresql/*/bin/pg_basebackup")
	require.NoError(t, err)
	require.NotEmpty(t, found)
	bin := filepath.Dir(found[len(found)-1])
	dir := filepath.Join(reachable(t), "data")
	as := []string{}
	if os.Getuid() == 0 {
		as = []string{"setpriv", "--reuid=postgres", "--regid=postgres", "--clear-groups"}
		require.NoError(t, os.Chmod(filepath.Dir(dir), 0o777)) //nolint:gosec // of this test alone
	}
	backup := append(append([]string{}, as...), filepath.Join(bin, "pg_basebackup"), "-R", "-X", "stream", "-c", "fast",
		"-D", dir, "-d", p.URL)
	out, err := exec.Command(backup[0], backup[1:]...).CombinedOutput() //nolint:gosec // ours
	require.NoError(t, err, "%s", out)
	s := &Postgres{Port: FreePort(t)}
	s.URL = strings.Replace(p.URL, fmt.Sprint(":", p.Port, "/"), fmt.Sprint(":", s.Port, "/"), 1)
	run := append(
		append([]string{}, as...),
		filepath.Join(bin, "postgres"),
		"-D",
		dir,
		"-c",
		fmt.Sprint("port=", s.Port),
		"-c",
		"listen_addresses=127.0.0.1",
		"-c",
		"unix_socket_directories=",
		"-c",
		"max_connections=120",
		"-c",
		"fsync=off",
	)
	Start(t, func() error {
		c, err := pgx.Connect(context.Background(), s.URL)
		if err == nil {
			err = c.Close(context.Background())
		}
		return err
	}, run[0], run[1:]...)
	return s
}

// Session is a session of somebody; it ends with the test.
func (p *Postgres) Session(t testing.TB) *pgx.Conn {
	c, err := pgx.Connect(context.Background(), p.URL)
	require.NoError(t, err)
	t.Cleanup(func() { c.Close(context.Background()) }) //nolint:errcheck // it may have been ended
	return c
}

// Run runs statements as the superuser.
func (p *Postgres) Run(t testing.TB, statements ...string) {
	c := p.Session(t)
	for _, s := range statements {
		_, err := c.Exec(context.Background(), s)
		require.NoError(t, err, s)
	}
	require.NoError(t, c.Close(context.Background()))
}

// Asks gives the first value of a statement, as text.
func (p *Postgres) Asks(t testing.TB, statement string) string {
	c := p.Session(t)
	var v any
	require.NoError(t, c.QueryRow(context.Background(), statement).Scan(&v), statement)
	require.NoError(t, c.Close(context.Background()))
	return fmt.Sprint(v)
}
