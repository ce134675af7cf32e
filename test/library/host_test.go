package library

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/internal/testpeers"
)

// tmpfs is a small file system that the test may fill, break and mend.
func tmpfs(t *testing.T, options string) string {
	if os.Getuid() != 0 {
		t.Skip("only root mounts file systems")
	}
	dir, err := os.MkdirTemp("/tmp", "lib")
	require.NoError(t, err)
	if out, err := exec.Command("mount", "-t", "tmpfs", "-o", options, "none", dir).CombinedOutput(); err != nil {
		os.Remove(dir) //nolint:errcheck // it is empty
		t.Skipf("no file system can be mounted here: %s", out)
	}
	t.Cleanup(func() {
		exec.Command("umount", "-l", dir).Run() //nolint:errcheck // it is of this test alone
		os.Remove(dir)                          //nolint:errcheck // see above
	})
	return dir
}

func TestHostDiskFull(t *testing.T) {
	t.Parallel()
	dir := tmpfs(t, "size=8m")
	sh(t, `for i in 1 2 3 4 5 6 7; do head -c 1M /dev/zero >"$1/$i.gz"; touch -d "10 days ago" "$1/$i.gz"; done
		head -c 100k /dev/zero >"$1/young.gz"; head -c 500k /dev/zero >"$1/other.db"; touch -d "10 days ago" "$1/other.db"`, dir)
	at(t, "host").repairs("host-disk-full", map[string]any{"mount": dir, "folder": dir, "days": 7})
	left, err := filepath.Glob(dir + "/*")
	require.NoError(t, err)
	assert.Equal(t, []string{dir + "/other.db", dir + "/young.gz"}, left, "nothing else was removed")
}

func TestHostInodesFull(t *testing.T) {
	t.Parallel()
	dir := tmpfs(t, "size=8m,nr_inodes=300")
	sh(t, `for i in $(seq 1 280); do : >"$1/sess_$i"; done; touch -d "2 days ago" "$1"/sess_*; : >"$1/sess_young"`, dir)
	at(t, "host").repairs("host-inodes-full", map[string]any{"mount": dir, "folder": dir})
	assert.FileExists(t, dir+"/sess_young")
}

func TestHostReadOnly(t *testing.T) {
	t.Parallel()
	dir := tmpfs(t, "size=1m,ro")
	at(t, "host").repairs("host-read-only", map[string]any{"mount": dir})
	require.NoError(t, os.WriteFile(dir+"/x", nil, 0o600))
}

// program starts one of its own name, so that nothing else is meant by that.
func program(t *testing.T, name, of string, args ...string) *exec.Cmd {
	dir := t.TempDir()
	real, err := exec.LookPath(of)
	require.NoError(t, err)
	path := filepath.Join(dir, name)
	sh(t, `cp -L "$1" "$2"`, real, path)
	cmd := exec.Command(path, args...)
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { cmd.Process.Kill(); cmd.Wait() }) //nolint:errcheck // it is killed
	return cmd
}

func TestHostWorkerHung(t *testing.T) {
	t.Parallel()
	p := at(t, "host")
	name := fmt.Sprintf("hung%d", os.Getpid()%100000)
	first := program(t, name, "sleep", "600")
	sh(t, `kill -STOP "$1"`, fmt.Sprint(first.Process.Pid))
	p.repairs("host-worker-hung", map[string]any{"program": name})
	assert.Contains(t, sh(t, `ps -o stat= -p "$1"`, fmt.Sprint(first.Process.Pid)), "S")
}

func TestHostZombies(t *testing.T) {
	t.Parallel()
	// A parent that missed the word of its children, and listens by now.
	program(t, "inattentive", "perl", "-e", `for (1..60) { my $p = fork; exit 0 unless $p } sleep 1;
		use POSIX ":sys_wait_h"; $SIG{CHLD} = sub { 1 while waitpid(-1, WNOHANG) > 0 }; sleep 10 while 1`)
	zombies := func() string { return sh(t, `ps -eo stat=,comm= | grep -c "^Z.*inattentive" || true`) }
	require.Eventually(t, func() bool { return zombies() == "60" }, time.Minute, 50*time.Millisecond)
	time.Sleep(1200 * time.Millisecond) // until it listens
	// Where process 1 is no init, as in a container, what other tests leave behind stays with it.
	all, err := strconv.Atoi(sh(t, `ps -eo stat= | grep -c "^Z"`))
	require.NoError(t, err)
	at(t, "host").repairs("host-zombies", map[string]any{"most": all - 60 + 40})
	assert.Equal(t, "0", zombies())
}

func TestHostDescriptorsShort(t *testing.T) {
	t.Parallel()
	name := fmt.Sprintf("hog%d", os.Getpid()%100000)
	cmd := program(t, name, "perl", "-e", `my @f; while (@f < 900) { open(my $h, "<", "/dev/null") or die; push @f, $h }
		sleep 10 while 1`)
	sh(t, `prlimit --pid "$1" --nofile=1000:8192`, fmt.Sprint(cmd.Process.Pid))
	require.Eventually(t, func() bool {
		list, err := os.ReadDir(fmt.Sprintf("/proc/%d/fd", cmd.Process.Pid))
		return err == nil && len(list) > 890
	}, time.Minute, 50*time.Millisecond)
	at(t, "host").repairs("host-descriptors-short", map[string]any{"program": name, "limit": 4096})
}

func TestHostLoadHigh(t *testing.T) {
	t.Parallel()
	// How much this machine has to do is not the test's to say: what is too much is, and it does not get better.
	name := fmt.Sprintf("busy%d", os.Getpid()%100000)
	cmd := program(t, name, "sleep", "600")
	nice := func() string { return sh(t, `ps -o nice= -p "$1"`, fmt.Sprint(cmd.Process.Pid)) }
	was := nice() // of whoever runs the tests
	p := at(t, "host")
	p.finds("host-load-high", map[string]any{"program": name, "most": 100.0}, "false-alarm")
	assert.Equal(t, was, nice())
}

// initScript is a script of a service in the old manner, which the test takes away again.
func initScript(t *testing.T, body string) string {
	if os.Getuid() != 0 {
		t.Skip("only root has services")
	}
	name := fmt.Sprintf("urgentis-test-%d-%d", os.Getpid(), testpeers.FreePort(t))
	path := "/etc/init.d/" + name
	require.NoError(t, os.WriteFile(path, []byte("#!/bin/sh\n"+body), 0o755)) //nolint:gosec // it is run
	t.Cleanup(func() { os.Remove(path) })                                     //nolint:errcheck // it is ours
	return name
}

func TestHostServiceDown(t *testing.T) {
	t.Parallel()
	mark := filepath.Join(t.TempDir(), "up")
	unit := initScript(
		t,
		`case $1 in start) : >'`+mark+`' ;; stop) rm -f '`+mark+`' ;; status) [ -e '`+mark+`' ] || exit 3 ;; esac`,
	)
	p := at(t, "host")
	p.repairs("host-service-down", map[string]any{"unit": unit})
	assert.FileExists(t, mark)
}

func TestHostServiceThatDoesNotStart(t *testing.T) {
	t.Parallel()
	stopped := filepath.Join(t.TempDir(), "stopped")
	unit := initScript(t, `case $1 in start) exit 1 ;; stop) : >'`+stopped+`' ;; status) exit 3 ;; esac`)
	at(t, "host").finds("host-service-down", map[string]any{"unit": unit}, "handed-over")
	assert.FileExists(t, stopped, "what had begun is undone")
}

// What finds nothing on this machine is right to find nothing; what is asked for wrongly is found.
func TestLooksOfAHost(t *testing.T) {
	t.Parallel()
	p := at(t, "host")
	p.finds("host-memory-short", map[string]any{"short": 1, "unit": "nothing"}, "false-alarm")
	leads := sh(t, `getent ahosts localhost | awk '$2 == "STREAM" {print $1; exit}'`)
	p.finds("name-wrong", map[string]any{"name": "localhost", "address": leads}, "false-alarm")
	p.finds("name-wrong", map[string]any{"name": "localhost", "address": "192.0.2.7"}, "handed-over")
	p.finds("name-wrong", map[string]any{"name": "no-such-name.invalid", "address": leads}, "handed-over")
}

// A job is held as long as another program is at work, and let go on by itself.
func TestHostJobHeld(t *testing.T) {
	t.Parallel()
	job, other := fmt.Sprintf("job%d", os.Getpid()%100000), fmt.Sprintf("other%d", os.Getpid()%100000)
	held := program(t, job, "sleep", "600")
	disturbed := program(t, other, "sleep", "600")
	state := func() string { return sh(t, `ps -o stat= -p "$1"`, fmt.Sprint(held.Process.Pid))[:1] }
	p := at(t, "host")
	ended := make(chan end, 1)
	inputs := map[string]any{"job": job, "other": other}
	go func() { ended <- p.plays("host-job-held", inputs) }()
	require.Eventually(t, func() bool { return state() == "T" }, time.Minute, 100*time.Millisecond, "it is held")
	time.Sleep(2 * time.Second)
	assert.Equal(t, "T", state(), "and stays so")
	require.NoError(t, disturbed.Process.Kill())
	disturbed.Wait() //nolint:errcheck // it was killed
	r := <-ended
	assert.Equal(t, "mitigated", r.outcome, r.because)
	assert.Equal(t, "S", state(), "it goes on")
	p.finds("host-job-held", inputs, "false-alarm")
}
