// Package localdb runs a private PostgreSQL for an installation that brings none of its own.
package localdb

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"sort"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/cenkalti/backoff/v5"

	"github.com/jackc/pgx/v5"
)

// Server is a running private PostgreSQL.
type Server struct {
	// URL is its address, on a socket that only this account can reach.
	URL string

	bin, data, sockets string
	cred               *syscall.Credential
	started            bool
	opts               string
}

// connections is how many the database of an installation takes: a few instances of the service, or the tests of
// several packages at once, each of which takes 24.
const connections = 400

// Start makes a cluster under dir the first time, and starts it, or finds it still running after the
// service was killed. The server listens on a socket only.
func Start(ctx context.Context, dir string) (*Server, error) {
	s, err := cluster(dir)
	if err != nil {
		return nil, err
	}
	// A socket's path may have 107 bytes.
	if len(s.sockets) > 80 {
		return nil, fmt.Errorf(
			"the path of the data directory is too long for a socket: %s; choose a shorter --data-dir",
			dir,
		)
	}
	if _, err := os.Stat(filepath.Join(s.data, "PG_VERSION")); errors.Is(err, os.ErrNotExist) {
		if err := s.run(ctx, "initdb", "-D", s.data, "-U", "urgentis", "--auth=trust", "--encoding=UTF8",
			"--locale=C.UTF-8"); err != nil {
			return nil, fmt.Errorf("make the private database: %w", err)
		}
	}
	s.URL = fmt.Sprintf("postgres:///postgres?host=%s&port=5432&user=urgentis&sslmode=disable", s.sockets)
	s.opts = fmt.Sprintf(
		"-c listen_addresses= -c unix_socket_directories='%s' -c unix_socket_permissions=0700 -c port=5432 -c "+
			"max_connections=%d -c shared_buffers=128MB",
		s.sockets, connections,
	)
	if s.running(ctx) {
		return s, nil
	}
	if err := s.launch(ctx); err != nil {
		return nil, err
	}
	return s, nil
}

// cluster finds the programs and makes the directories of a cluster.
func cluster(dir string) (*Server, error) {
	bin, err := binaries()
	if err != nil {
		return nil, err
	}
	if dir, err = filepath.Abs(dir); err != nil {
		return nil, err
	}
	s := &Server{bin: bin, data: filepath.Join(dir, "postgres"), sockets: filepath.Join(dir, "sockets")}
	return s, s.prepare(dir)
}

// launch starts the server with its options.
func (s *Server) launch(ctx context.Context) error {
	log := filepath.Join(s.data, "server.log")
	if err := s.run(ctx, "pg_ctl", "-D", s.data, "-l", log, "-w", "-t", "60", "-o", s.opts, "start"); err != nil {
		return fmt.Errorf("start the database (its log is %s): %w", log, err)
	}
	s.started = true
	return nil
}

// Launched reports whether this program started the server; else it was running already, for somebody else.
func (s *Server) Launched() bool { return s.started }

// StartOn is Start for a server that listens on an address and a port, and on no socket. Whoever signs in needs
// the password, which is that of the account urgentis.
func StartOn(ctx context.Context, dir, address string, port int, password string) (*Server, error) {
	s, err := cluster(dir)
	if err != nil {
		return nil, err
	}
	if _, err := os.Stat(filepath.Join(s.data, "PG_VERSION")); errors.Is(err, os.ErrNotExist) {
		file := filepath.Join(s.sockets, "password")
		if err := os.WriteFile(file, []byte(password+"\n"),
			0o644); err != nil { //nolint:gosec // the directory is closed to others
			return nil, err
		}
		defer os.Remove(file)
		if err := s.run(ctx, "initdb", "-D", s.data, "-U", "urgentis", "--auth=scram-sha-256", "--pwfile="+file,
			"--encoding=UTF8", "--locale=C.UTF-8"); err != nil {
			return nil, fmt.Errorf("make the database: %w", err)
		}
	}
	s.URL = fmt.Sprintf("postgres://urgentis:%s@%s:%d/postgres?sslmode=disable", password, address, port)
	if s.running(ctx) {
		return s, nil
	}
	s.opts = fmt.Sprintf(
		"-c listen_addresses=%s -c unix_socket_directories='' -c port=%d -c max_connections=120 -c "+
			"shared_buffers=32MB -c fsync=off",
		address,
		port,
	)
	if err := s.launch(ctx); err != nil {
		return nil, err
	}
	return s, nil
}

// running reports whether a server of this cluster answers already.
func (s *Server) running(ctx context.Context) bool {
	ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	for {
		c, err := pgx.Connect(ctx, s.URL)
		if err == nil {
			// Another one may have been left behind on the same address.
			var at string
			err = c.QueryRow(ctx, "show data_directory").Scan(&at)
			c.Close(ctx) //nolint:errcheck // it was only asked
			return err == nil && at == s.data
		}
		// A server that is starting, stopping or recovering says so; wait for it.
		if !strings.Contains(err.Error(), "57P03") || ctx.Err() != nil {
			return false
		}
		time.Sleep(50 * time.Millisecond)
	}
}

// Keep starts the server again whenever it is gone, until the context ends.
func (s *Server) Keep(ctx context.Context, log *slog.Logger) {
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	pause := backoff.NewExponentialBackOff()
	pause.InitialInterval, pause.Multiplier, pause.MaxInterval = time.Second, 2, time.Minute
	pause.Reset()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		if s.alive() {
			pause.Reset()
			continue
		}
		log.Error("the private database server is gone; it is started again", "data", s.data)
		s.forget()
		if err := s.launch(ctx); err != nil && ctx.Err() == nil {
			log.Error("start the private database again", "error", err)
			select {
			case <-ctx.Done():
				return
			case <-time.After(pause.NextBackOff()):
			}
		}
	}
}

// alive reports whether the server's first process is there.
func (s *Server) alive() bool {
	b, err := os.ReadFile(filepath.Join(s.data, "postmaster.pid"))
	if err != nil {
		return false
	}
	pid, err := strconv.Atoi(strings.SplitN(string(b), "\n", 2)[0])
	if err != nil || pid <= 0 {
		return false
	}
	// The number may be another program's by now.
	comm, err := os.ReadFile(fmt.Sprintf("/proc/%d/comm", pid))
	return err == nil && strings.TrimSpace(string(comm)) == "postgres" && !ended(pid)
}

// ended reports whether a process has ended and only waits to be taken note of, which in a container may be for ever.
func ended(pid int) bool {
	stat, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return true
	}
	_, rest, _ := strings.Cut(string(stat[strings.LastIndexByte(string(stat), ')'):]), " ")
	return strings.HasPrefix(rest, "Z") || strings.HasPrefix(rest, "X")
}

// forget takes the lock files of a dead server away, for whose number there is still an entry: a new server would
// take it for running. They stay as long as any process of the old one works in its directory.
func (s *Server) forget() {
	lock := filepath.Join(s.data, "postmaster.pid")
	b, err := os.ReadFile(lock)
	if err != nil {
		return
	}
	pid, err := strconv.Atoi(strings.SplitN(string(b), "\n", 2)[0])
	if err != nil || pid <= 0 || !ended(pid) {
		return
	}
	if _, err := os.Stat(fmt.Sprintf("/proc/%d", pid)); err != nil {
		return // it is gone for good: the new server sees that itself
	}
	places, _ := filepath.Glob("/proc/[0-9]*/cwd")
	for _, p := range places {
		if at, err := os.Readlink(p); err == nil && at == s.data {
			return // tried again soon
		}
	}
	locks, _ := filepath.Glob(filepath.Join(s.sockets, ".s.PGSQL.*.lock"))
	for _, l := range append(locks, lock) {
		os.Remove(l) //nolint:errcheck // the start says what is wrong
	}
}

// Stop ends the server; what is committed stays.
func (s *Server) Stop() error {
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	return s.run(ctx, "pg_ctl", "-D", s.data, "-m", "fast", "-w", "stop")
}

// Crash ends the server at once, as if it had died, and starts it again when it is told the time: it recovers from its
// log. For tests.
func (s *Server) Crash(ctx context.Context, again <-chan time.Time) error {
	if err := s.run(ctx, "pg_ctl", "-D", s.data, "-m", "immediate", "-w", "stop"); err != nil {
		return err
	}
	<-again
	return s.launch(ctx)
}

// PutBack crashes the server, and crashes it again once more was written, to go on with what it had before: as where a
// backup takes its place. For tests.
func (s *Server) PutBack(ctx context.Context, more func() error) error {
	backup := s.data + ".backup"
	stop := func() error { return s.run(ctx, "pg_ctl", "-D", s.data, "-m", "immediate", "-w", "stop") }
	if err := errors.Join(stop(), os.RemoveAll(backup)); err != nil {
		return err
	}
	if err := exec.CommandContext(ctx, "cp", "-a", s.data, backup).Run(); err != nil {
		return fmt.Errorf("back up the database: %w", err)
	}
	if err := s.launch(ctx); err != nil {
		return err
	}
	if err := more(); err != nil {
		return err
	}
	if err := errors.Join(stop(), os.RemoveAll(s.data), os.Rename(backup, s.data)); err != nil {
		return err
	}
	return s.launch(ctx)
}

// binaries finds initdb and pg_ctl: on the path, or where Debian puts them, the newest first.
func binaries() (string, error) {
	if p, err := exec.LookPath("initdb"); err == nil {
		return filepath.Dir(p), nil
	}
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/initdb")
	if len(found) == 0 {
		return "", errors.New(
			"PostgreSQL is not installed here: install the Debian package postgresql, or give --database URL",
		)
	}
	sort.Slice(found, func(i, j int) bool { return version(found[i]) > version(found[j]) })
	return filepath.Dir(found[0]), nil
}

func version(path string) int {
	n, _ := strconv.Atoi(filepath.Base(filepath.Dir(filepath.Dir(path))))
	return n
}

// prepare makes the directories. initdb and postgres refuse to run as root, so that root lends them
// the account that the Debian package made.
func (s *Server) prepare(dir string) error {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return fmt.Errorf("make the data directory: %w", err)
	}
	for _, d := range []string{s.data, s.sockets} {
		if err := os.MkdirAll(d, 0o700); err != nil {
			return fmt.Errorf("make the data directory: %w", err)
		}
	}
	if os.Getuid() != 0 {
		return nil
	}
	u, err := user.Lookup("postgres")
	if err != nil {
		return errors.New(
			"as root, the private database needs the account postgres, which the Debian package postgresql makes",
		)
	}
	uid, _ := strconv.Atoi(u.Uid)
	gid, _ := strconv.Atoi(u.Gid)
	s.cred = &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}
	for _, d := range []string{s.data, s.sockets} {
		if err := os.Chown(d, uid, gid); err != nil {
			return fmt.Errorf("give %s to the account postgres: %w", d, err)
		}
	}
	for d := dir; d != "/"; d = filepath.Dir(d) {
		if i, err := os.Stat(d); err == nil && i.Mode().Perm()&0o001 == 0 {
			return fmt.Errorf("the account postgres cannot reach %s through %s; choose another --data-dir", dir, d)
		}
	}
	return nil
}

func (s *Server) run(ctx context.Context, name string, args ...string) error {
	cmd := exec.CommandContext(ctx, filepath.Join(s.bin, name), args...)
	cmd.Dir = "/"
	cmd.Env = []string{"PATH=" + os.Getenv("PATH"), "LC_ALL=C.UTF-8", "TZ=UTC"}
	// A group of its own: Ctrl-C in the terminal is for the service, which stops the server in order.
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Credential: s.cred}
	// Files, not pipes: the server inherits them and would keep a pipe open for ever.
	out, err := os.CreateTemp("", "urgentis-db-*")
	if err != nil {
		return err
	}
	defer os.Remove(out.Name())
	defer out.Close()
	cmd.Stdout, cmd.Stderr = out, out
	if err := cmd.Run(); err != nil {
		said, _ := os.ReadFile(out.Name())
		return fmt.Errorf("%s: %w: %s", name, err, strings.TrimSpace(string(said)))
	}
	return nil
}

// StopAt ends the server under dir, if one runs there.
func StopAt(dir string) error {
	if _, err := os.Stat(filepath.Join(dir, "postgres", "postmaster.pid")); errors.Is(err, os.ErrNotExist) {
		return nil
	}
	bin, err := binaries()
	if err != nil {
		return err
	}
	s := &Server{bin: bin, data: filepath.Join(dir, "postgres"), sockets: filepath.Join(dir, "sockets")}
	if err := s.prepare(dir); err != nil {
		return err
	}
	return s.Stop()
}
