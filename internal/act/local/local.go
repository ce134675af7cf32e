// Package local runs commands on the host of the service itself. It is off unless switched on.
package local

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"os/exec"
	"os/user"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"urgentis/core/task"
	"urgentis/internal/act"
)

// Hand runs local commands.
type Hand struct {
	// On must be set by the administrator: whoever writes runbooks could otherwise act as the service's own account.
	On bool
	// Account is whom they run as; nil for the service's own account, whose key file and environment they can read
	// then.
	Account *syscall.Credential
}

// As finds the account that local commands are to run as. Only root may give up its own.
func As(name string) (*syscall.Credential, error) {
	u, err := user.Lookup(name)
	if err != nil {
		return nil, fmt.Errorf("the account for local commands: %w", err)
	}
	uid, uerr := strconv.ParseUint(u.Uid, 10, 32)
	gid, gerr := strconv.ParseUint(u.Gid, 10, 32)
	if err := errors.Join(uerr, gerr); err != nil {
		return nil, fmt.Errorf("the account %s: %w", name, err)
	}
	switch os.Getuid() {
	case int(uid):
		return nil, fmt.Errorf(
			"the service itself runs as %s: local commands would read its key file and environment; give them "+
				"another account",
			name,
		)
	case 0:
		return &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}, nil
	}
	return nil, fmt.Errorf("only a service that runs as root can run local commands as %s", name)
}

// Do implements act.Hand.
func (h Hand) Do(ctx context.Context, job act.Job) act.Result {
	if !h.On {
		return act.NotBegun(
			"commands on this host are switched off; the administrator can switch them on with --allow-local",
		)
	}
	r := job.Request
	if r.File != nil {
		return act.NotBegun("files are sent to targets, not to this host")
	}
	if r.As != "" {
		r.Words = append([]string{"sudo", "-n", "-u", r.As, "--"}, r.Words...)
	}
	ctx, cancel := context.WithTimeout(ctx, time.Duration(r.Timeout)*time.Second)
	defer cancel()
	cmd := exec.CommandContext(ctx, r.Words[0], r.Words[1:]...)
	cmd.Env = []string{"PATH=/usr/local/bin:/usr/bin:/bin", "LANG=C.UTF-8", "URGENTIS_ATTEMPT=" + job.Attempt}
	for _, n := range slices.Sorted(maps.Keys(r.Env)) {
		cmd.Env = append(cmd.Env, n+"="+r.Env[n])
	}
	cmd.Stdin = strings.NewReader(r.Stdin)
	cmd.Dir = os.TempDir()
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGTERM, Credential: h.Account}
	// The whole group ends, not only its first process.
	cmd.Cancel = func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGTERM) }
	cmd.WaitDelay = 2 * time.Second
	stdout, stderr := act.Streams(job)
	cmd.Stdout, cmd.Stderr = stdout, stderr
	if err := job.MaySend(ctx); err != nil {
		return act.NotSent(err)
	}
	if err := cmd.Start(); err != nil {
		return act.NotBegun(err.Error())
	}
	err := cmd.Wait()
	return ended(ctx, r, err).Printed(stdout.Taken(), stderr.Taken()).Result()
}

// ended is how a command ended. A daemon that it left behind and that holds its output open does not hide its exit.
func ended(ctx context.Context, r task.Request, err error) act.Sent {
	var exit *exec.ExitError
	switch {
	case err == nil || errors.Is(err, exec.ErrWaitDelay) && ctx.Err() == nil:
		return act.Ended(0, task.GoodExit(0, r.Accept))
	case ctx.Err() != nil:
		return act.Unseen("the command did not end in time")
	case errors.As(err, &exit) && exit.ExitCode() >= 0:
		return act.Ended(exit.ExitCode(), task.GoodExit(exit.ExitCode(), r.Accept))
	}
	return act.Unseen(err.Error())
}
