package reads

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// alters are the calls to the system by which a program alters something that stays: of what it opens to write only
// what leads to nothing is left out (see kept).
const alters = "trace=open,openat,openat2,creat,unlink,unlinkat,rename,renameat,renameat2,mkdir,mkdirat,rmdir,link," +
	"linkat,symlink,symlinkat,mknod,mknodat,chmod,fchmod,fchmodat,chown,fchown,lchown,fchownat,truncate,ftruncate," +
	"utimensat,setxattr,removexattr,kill,tkill,tgkill,settimeofday,clock_settime,adjtimex,sethostname,mount,umount2," +
	"swapon,swapoff,reboot,init_module,delete_module,syslog"

var (
	longOption  = regexp.MustCompile(`--[a-z][a-z0-9-]+`)
	shortOption = regexp.MustCompile(`(?:^|[\s,])(-[A-Za-z0-9])\b`)
	// asIs are lines of calls that alter nothing: of files that are read, of devices that keep nothing, of processes
	// that are asked whether they are there, of the ring of the kernel's messages that is read, and of files by which
	// sort sorts what is large, which are gone when it is.
	asIs = regexp.MustCompile(`O_RDONLY|O_PATH|"/tmp/sort\w+"|"/dev/(null|tty|pts)|"/proc/self/|kill\(\d+, 0\)|ENOENT|EACCES|EPERM|` +
		`EROFS|syslog\((SYSLOG_ACTION_READ_ALL|0x3|SYSLOG_ACTION_SIZE_BUFFER|0xa)|tgkill\([^)]*SIGABRT|adjtimex\(\{modes=0`)
)

// kept lists the calls of a trace that alter something that stays.
func kept(trace string) []string {
	var out []string
	for line := range strings.Lines(trace) {
		line = strings.TrimSpace(line)
		if !strings.Contains(line, "(") || strings.Contains(line, "exited with") || strings.Contains(line, "--- SIG") ||
			strings.Contains(line, "resumed>") || asIs.MatchString(line) {
			continue
		}
		out = append(out, line)
	}
	return out
}

// words gives what a program says of its own options, each by itself, and with a value that is a file.
func wordsOf(t *testing.T, program string) [][]string {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	cmd := exec.CommandContext(ctx, program, "--help")
	cmd.Env = []string{"PATH=" + os.Getenv("PATH"), "LC_ALL=C"}
	help, _ := cmd.CombinedOutput() // some say it with an exit of their own
	options := longOption.FindAllString(string(help), -1)
	for _, m := range shortOption.FindAllStringSubmatch(string(help), -1) {
		options = append(options, m[1])
	}
	slices.Sort(options)
	options = slices.Compact(options)
	out := [][]string{{}, {"a.txt"}, {"a.txt", "b.txt"}, {"status"}, {"show"}, {"list-units"}, {"."}, {"+%s"}}
	for _, o := range options {
		out = append(out, []string{o, "a.txt", "b.txt"})
		if os.Getenv("URGENTIS_LOOKS") == "all" { // make explore
			out = append(out, []string{o}, []string{o, "a.txt"}, []string{o + "=a.txt", "b.txt"})
		}
	}
	return out
}

// What the table takes for reading alters nothing: each program of it that is here is called with each of its own
// options, as far as the table knows those words to read, in a folder of files, while its calls to the system are seen.
func TestWhatIsKnownToReadAltersNothing(t *testing.T) {
	strace := tracer(t)
	s := Builtin()
	dir := t.TempDir()
	for _, f := range []string{"a.txt", "b.txt"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, f), []byte("one 1\ntwo 2\n"), 0o644))
	}
	// Of these each call waits for a network, a server or for ever; what they are asked is looked at in the table.
	waits := []string{"ping", "curl", "psql", "pg_isready", "redis-cli", "mysqladmin", "docker", "kubectl", "dig", "host"}
	var names []string
	for n := range s.forms {
		names = append(names, n)
	}
	slices.Sort(names)
	tried, programs := 0, 0
	for _, n := range names {
		path, err := exec.LookPath(n)
		if err != nil || slices.Contains(waits, n) {
			continue
		}
		programs++
		for _, words := range wordsOf(t, path) {
			if v, _ := s.Command(append([]string{n}, words...), nil); v != Reads {
				continue
			}
			tried++
			text := traced(t, strace, dir, path, words)
			assert.Empty(t, kept(text), "%s %v", n, words)
		}
	}
	assert.Greater(t, programs, 25)
	assert.Greater(t, tried, 300)
	left, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Len(t, left, 2)
}

// traced gives the calls to the system that a program made which may alter something. Most end at once; one that waits
// for what never comes is ended. A busy machine may not even have begun it by then: it is begun anew with more time.
func traced(t *testing.T, strace, dir, path string, words []string) string {
	for within := 300 * time.Millisecond; ; within *= 4 {
		trace := filepath.Join(t.TempDir(), "trace")
		ctx, cancel := context.WithTimeout(context.Background(), within)
		cmd := exec.CommandContext(ctx, strace, append([]string{"-f", "-qq", "-o", trace, "-e", alters, path}, words...)...)
		cmd.Dir, cmd.Env = dir, []string{"PATH=" + os.Getenv("PATH"), "LC_ALL=C", "HOME=" + dir}
		cmd.WaitDelay = 100 * time.Millisecond
		_ = cmd.Run() // how it ends does not matter
		cancel()
		text, err := os.ReadFile(trace)
		if err == nil || within > time.Minute {
			require.NoError(t, err)
			return string(text)
		}
	}
}

// tracer is the program that sees calls to the system; where nobody may look at others' calls, nothing is tried.
func tracer(t *testing.T) string {
	strace, err := exec.LookPath("strace")
	require.NoError(t, err, "make test installs it")
	if out, err := exec.Command(strace, "-f", "-qq", "-e", alters, "true").CombinedOutput(); err != nil {
		t.Skipf("no process may be traced here: %s", out)
	}
	return strace
}

// The sandbox itself sees what alters.
func TestTheSandboxSeesWrites(t *testing.T) {
	tracer(t)
	for _, line := range []string{"touch new.txt", "sort -o b.txt a.txt", "rm a.txt", "find . -name b.txt -delete",
		"uniq a.txt c.txt", "chmod 600 b.txt", "mkdir d", "ln -s a.txt e"} {
		dir := t.TempDir()
		for _, f := range []string{"a.txt", "b.txt"} {
			require.NoError(t, os.WriteFile(filepath.Join(dir, f), []byte("one\n"), 0o644))
		}
		trace := filepath.Join(t.TempDir(), "trace")
		cmd := exec.Command("strace", append([]string{"-f", "-qq", "-o", trace, "-e", alters}, strings.Fields(line)...)...)
		cmd.Dir = dir
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s: %s", line, out)
		text, err := os.ReadFile(trace)
		require.NoError(t, err)
		assert.NotEmpty(t, kept(string(text)), line)
	}
}

// Some three hundred lines that alter are known by no form.
func TestWhatAltersIsNeverKnown(t *testing.T) {
	s := Builtin()
	var lines []string
	for program, list := range map[string]string{
		"systemctl": "start stop restart reload try-restart reload-or-restart kill clean freeze thaw set-property bind " +
			"mount-image enable disable reenable preset preset-all mask unmask link revert add-wants add-requires edit " +
			"set-default import-environment set-environment unset-environment daemon-reload daemon-reexec isolate " +
			"reset-failed default rescue emergency halt poweroff reboot kexec exit switch-root suspend hibernate cancel",
		"docker": "run exec rm rmi kill stop start restart pause unpause cp commit build push pull tag load import " +
			"rename update create attach login logout swarm service",
		"kubectl": "apply create delete edit patch replace scale rollout set label annotate drain cordon uncordon taint " +
			"exec cp run expose autoscale attach debug",
		"ip":        "link address route rule neigh tunnel netns",
		"redis-cli": "SET DEL FLUSHALL FLUSHDB CONFIG SHUTDOWN EVAL RENAME EXPIRE LPUSH DEBUG SLAVEOF REPLICAOF SAVE",
		"mysqladmin": "create drop shutdown kill reload refresh flush-hosts flush-logs flush-privileges password start-slave " +
			"stop-slave",
		"openssl":     "genrsa req ca pkcs12 rand enc dgst genpkey rehash",
		"timedatectl": "set-time set-timezone set-local-rtc set-ntp",
		"chronyc":     "makestep burst online offline add delete settime shutdown",
		"service":     "",
	} {
		for _, verb := range strings.Fields(list) {
			lines = append(lines, program+" "+verb, program+" "+verb+" x", program+" -n "+verb+" x")
		}
	}
	for _, o := range []string{"-delete", "-exec rm {} ;", "-execdir rm {} ;", "-ok rm {} ;", "-okdir rm {} ;", "-fprint x",
		"-fprint0 x", "-fprintf x y", "-fls x"} {
		lines = append(lines, "find . "+o, "find / -name x "+o, "find "+o)
	}
	for _, o := range []string{"-o x", "-ox", "-no x", "--output x", "--output=x", "--outp=x", "--o x", "-T /tmp", "-nT/tmp",
		"--compress-program=rm", "--compress rm", "--temporary-directory=/x"} {
		lines = append(lines, "sort "+o+" y", "sort y "+o)
	}
	for _, o := range []string{"-X POST", "-XPOST", "-d x", "--data x", "-T x", "-o x", "-O", "-K x", "-F a=b", "--request PUT",
		"-sSo x", "-fsSd x", "--output x", "-c x", "-D x"} {
		lines = append(lines, "curl "+o+" http://a", "curl http://a "+o)
	}
	lines = append(lines, []string{"ss -K", "ss -tK", "ss --kill", "ss --k", "ss -D x", "ss --diag=x", "dig -f x", "hostname x",
		"hostname -F x", "hostname -b x", "date -s x", "date --set=x", "date 0101", "dmesg -c", "dmesg -C", "dmesg --clear",
		"dmesg -n 1", "dmesg -D", "dmesg -E", "journalctl --rotate", "journalctl --flush", "journalctl --vacuum-time=1s",
		"journalctl --sync", "journalctl --relinquish-var", "journalctl --setup-keys", "uniq a b", "uniq -c a b",
		"psql -c x", "psql x", "psql -f x", "ping -f a", "service nginx restart", "service --status-all x",
		"rm x", "mv a b", "cp a b", "dd if=a of=b", "tee x", "sed -i s/a/b/ x", "awk x", "sh -c ls", "bash x", "env rm x",
		"xargs rm", "sudo ls", "nice rm x", "nohup rm", "timeout 1 rm x", "python3 -c x", "perl -e x", "vi x", "apt update",
		"dpkg -i x", "kill 1", "pkill x", "mount x y", "sysctl -w a=b", "iptables -F", "crontab -r", "tar xf a", "ln a b",
		"chmod 0 x", "useradd x", "passwd x", "truncate -s 0 x", "shred x", "mkfs x", "reboot", "findmnt --poll", "stdbuf -o0 rm"}...)
	assert.Greater(t, len(lines), 300)
	for _, l := range lines {
		v, _ := s.Command(strings.Fields(l), nil)
		assert.NotEqual(t, Reads, v, l)
	}
}
