// Package testpeers starts real servers on loopback for tests: MariaDB, Redis, nginx and sshd, of the packages that
// build/setup.sh installs. Each test has its own; they end with it.
package testpeers

import (
	"bytes"
	"context"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// FreePort is a port of loopback on which nothing listens.
func FreePort(t testing.TB) int {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close() //nolint:errcheck // only its number was wanted
	return l.Addr().(*net.TCPAddr).Port
}

// output collects what a server says, for whoever asks why it did not start.
type output struct {
	mu   sync.Mutex
	text bytes.Buffer
}

func (o *output) Write(p []byte) (int, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.text.Write(p)
}

func (o *output) String() string {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.text.String()
}

// Start starts a server, which ends with the test, and waits until ready no longer gives an error.
func Start(t testing.TB, ready func() error, name string, args ...string) *exec.Cmd {
	var said output
	cmd := exec.Command(name, args...)
	cmd.Stdout, cmd.Stderr = &said, &said
	cmd.WaitDelay = time.Second // what it began may hold its output open
	require.NoError(t, cmd.Start(), "build/setup.sh installs it")
	t.Cleanup(func() {
		cmd.Process.Kill() //nolint:errcheck // it may have ended
		cmd.Wait()         //nolint:errcheck // it was killed
	})
	require.Eventually(t, func() bool { return ready() == nil }, 60*time.Second, 50*time.Millisecond,
		"%s does not answer; it said: %s", name, &said)
	return cmd
}

// Answers reports whether something listens on a port of loopback.
func Answers(port int) func() error {
	return func() error {
		c, err := net.DialTimeout("tcp", fmt.Sprintf("127.0.0.1:%d", port), time.Second)
		if err == nil {
			c.Close() //nolint:errcheck // it answered
		}
		return err
	}
}

// Database is a server of MariaDB with its root, who has no password, and a socket.
type Database struct {
	Port   int
	Socket string
	Dir    string
}

// MariaDB starts a server with more options, such as --server-id=2.
func MariaDB(t testing.TB, options ...string) *Database {
	dir, err := os.MkdirTemp("", "mdb") // a socket's path must be short
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) }) //nolint:errcheck // it lies in the temporary folder
	d := &Database{Port: FreePort(t), Socket: filepath.Join(dir, "s"), Dir: filepath.Join(dir, "data")}
	as := []string{}
	if os.Getuid() == 0 {
		as = append(as, "--user=root")
	}
	install := exec.Command("mariadb-install-db", append([]string{"--no-defaults", "--datadir=" + d.Dir,
		"--auth-root-authentication-method=normal", "--skip-test-db"}, as...)...)
	// A server that starts clears away the temporary tables of others that have the same folder for them.
	install.Env = append(os.Environ(), "TMPDIR="+dir)
	out, err := install.CombinedOutput()
	require.NoError(t, err, "%s", out)
	args := append([]string{"--no-defaults", "--datadir=" + d.Dir, "--socket=" + d.Socket, "--bind-address=127.0.0.1",
		fmt.Sprintf("--port=%d", d.Port), "--pid-file=" + filepath.Join(dir, "pid"), "--skip-name-resolve",
		"--tmpdir=" + dir,
		"--innodb-buffer-pool-size=32M", "--performance-schema=off"}, as...)
	Start(t, Answers(d.Port), "mariadbd", append(args, options...)...)
	return d
}

// Run runs statements as root, and gives what they print.
func (d *Database) Run(t testing.TB, statements ...string) string {
	ctx, cancel := context.WithTimeout(context.Background(), 60*time.Second)
	defer cancel()
	cmd := exec.CommandContext(
		ctx,
		"mariadb",
		"--no-defaults",
		"--socket="+d.Socket,
		"--user=root",
		"--skip-column-names",
	)
	cmd.Stdin = strings.NewReader(strings.Join(statements, ";\n") + ";\n")
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
	return string(out)
}
