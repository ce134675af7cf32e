package ssh

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"
	"testing/iotest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/flow"
	"urgentis/core/task"
	"urgentis/internal/act"
	"urgentis/internal/testpeers"
)

// sshHost is a real sshd on loopback.
type sshHost struct {
	facts task.Facts
	key   []byte
	cmd   *exec.Cmd
	file  io.Reader // what the store of files gives
}

func sshd(t *testing.T, more ...string) *sshHost {
	h := testpeers.SSHD(t, more...)
	return &sshHost{key: h.Key, cmd: h.Cmd, facts: task.Facts{
		Name: "real", Address: "127.0.0.1", Port: h.Port, Account: h.Account, HostKey: h.HostKey, Secret: "k@1",
	}}
}

func (h *sshHost) hand(t *testing.T) *Hand {
	hand := New(Config{Credential: func(context.Context, task.Facts) (string, []byte, error) {
		return "ssh-key", h.key, nil
	}, Files: func(context.Context, string) (io.Reader, error) { return h.file, nil }})
	t.Cleanup(hand.Close)
	return hand
}

func (h *sshHost) job(timeout int, words ...string) act.Job {
	return act.Job{
		Attempt: "r1:5:0:real:1",
		Request: task.Request{Kind: "ssh", Target: h.facts, Words: words, Timeout: timeout},
	}
}

func TestOnARealHost(t *testing.T) {
	h := sshd(t)
	hand := h.hand(t)
	ctx := context.Background()

	// Each word arrives as it is, through a real shell.
	hostile := []string{`x; rm -rf / #{{ "$(reboot)" }}`, "", "it's", "`id`", "$HOME", "a\nb", "*", `\`, "\u202eé"}
	r := hand.Do(ctx, h.job(10, append([]string{"printf", `%s|`}, hostile...)...))
	assert.Equal(t, flow.OK, r.State, r.Error)
	assert.Equal(t, strings.Join(hostile, "|")+"|", r.Stdout.Text())

	r = hand.Do(ctx, h.job(10, "sh", "-c", "echo $URGENTIS_ATTEMPT; echo bad >&2; exit 3"))
	assert.Equal(t, flow.Failed, r.State)
	assert.Equal(t, 3, *r.Exit)
	assert.Equal(t, "r1:5:0:real:1\n", r.Stdout.Text())
	assert.Equal(t, "bad\n", r.Stderr.Text())

	job := h.job(10, "sh", "-c", "exit 3")
	job.Request.Accept = []int{0, 3}
	assert.Equal(t, flow.OK, hand.Do(ctx, job).State)

	// Output comes while the command runs.
	pieces := make(chan string, 10)
	job = h.job(10, "sh", "-c", "echo one; sleep 0.3; echo two")
	job.Live = func(_ int, p string) { pieces <- p }
	done := make(chan act.Result, 1)
	go func() { done <- hand.Do(ctx, job) }()
	assert.Equal(t, "one\n", <-pieces)
	select {
	case <-done:
		assert.Fail(t, "the first piece came only at the end")
	default:
	}
	assert.Equal(t, "one\ntwo\n", (<-done).Stdout.Text())

	// A flood is cut and counted, and does not block.
	r = hand.Do(ctx, h.job(20, "sh", "-c", "head -c 3000000 /dev/zero | tr '\\0' x"))
	assert.Equal(t, flow.OK, r.State, r.Error)
	assert.Equal(t, act.KeptOutput, r.Stdout.Len())
	assert.EqualValues(t, 3000000, r.Stdout.Size)
}

func TestWhatIsNotSeenIsUnknown(t *testing.T) {
	h := sshd(t)
	hand := h.hand(t)
	r := hand.Do(context.Background(), h.job(5, "sleep", "30"))
	assert.Equal(t, flow.Unknown, r.State, "it was begun, and nobody saw its end")
	assert.Contains(t, r.Error, "did not end within 5 s")

	// The connection breaks while the command runs.
	done := make(chan act.Result, 1)
	started := make(chan string, 1)
	job := h.job(30, "sh", "-c", "echo $PPID; sleep 30")
	job.Live = func(_ int, p string) { started <- p }
	go func() { done <- hand.Do(context.Background(), job) }()
	pid := strings.TrimSpace(<-started)
	require.NoError(t, exec.Command("kill", "-9", pid).Run())
	select {
	case r = <-done:
		assert.Equal(t, flow.Unknown, r.State, r.Error)
	case <-time.After(10 * time.Second):
		assert.Fail(t, "the broken connection was not noticed")
	}
}

func TestNothingBegunIsFailed(t *testing.T) {
	h := sshd(t)
	ctx := context.Background()
	for want, f := range map[string]func(j *act.Job, hand **Hand){
		"not the pinned one":    func(j *act.Job, _ **Hand) { _, j.Request.Target.HostKey = testpeers.Keys(t) },
		"host key is not known": func(j *act.Job, _ **Hand) { j.Request.Target.HostKey = "" },
		"connection refused":    func(j *act.Job, _ **Hand) { j.Request.Target.Port = 1 },
		"unable to authenticate": func(_ *act.Job, hand **Hand) {
			k, _ := testpeers.Keys(t)
			*hand = New(Config{Credential: fixed("ssh-key", k, nil)})
		},
		"no SSH key": func(_ *act.Job, hand **Hand) { *hand = New(Config{Credential: fixed("ssh-key", []byte("x"), nil)}) },
		"there is no secret": func(_ *act.Job, hand **Hand) {
			*hand = New(Config{Credential: fixed("", nil, errors.New("there is no secret k"))})
		},
	} {
		hand := h.hand(t)
		job := h.job(5, "true")
		f(&job, &hand)
		r := hand.Do(ctx, job)
		assert.Equal(t, flow.Failed, r.State, want)
		assert.Contains(t, r.Error, want)
		hand.Close()
	}
}

func fixed(kind string, v []byte, err error) Credential {
	return func(context.Context, task.Facts) (string, []byte, error) { return kind, v, err }
}

func TestAKeptConnectionThatDiedIsReplaced(t *testing.T) {
	h := sshd(t)
	hand := h.hand(t)
	require.Equal(t, flow.OK, hand.Do(context.Background(), h.job(30, "true")).State)
	hand.host(h.facts).conns[0].client.Close()
	r := hand.Do(context.Background(), h.job(30, "true"))
	assert.Equal(t, flow.OK, r.State, r.Error)
}

func TestFilesEnvironmentAndSecretsOnARealHost(t *testing.T) {
	h := sshd(t)
	hand := h.hand(t)
	ctx := context.Background()
	to := filepath.Join(t.TempDir(), "a tool")

	job := h.job(10)
	job.Request.File = &task.File{To: to, Text: "#!/bin/sh\necho it works\n", Mode: "0755"}
	r := hand.Do(ctx, job)
	require.Equal(t, flow.OK, r.State, r.Error+r.Stderr.Text())
	r = hand.Do(ctx, h.job(10, to))
	assert.Equal(t, "it works\n", r.Stdout.Text())
	left, err := os.ReadDir(filepath.Dir(to))
	require.NoError(t, err)
	assert.Len(t, left, 1, "no part of it is left behind")

	job = h.job(
		10,
		"sh",
		"-c",
		`printf '%s|%s|' "$PLAIN" "$TOKEN"; cat; tr '\0' ' ' </proc/$PPID/cmdline; tr '\0' ' ' </proc/$$/cmdline`,
	)
	job.Request.Env = map[string]string{"PLAIN": "it's; $(id)", "TOKEN": `s3cr3t "x" \n`}
	job.Request.Hidden = []string{"TOKEN"}
	job.Request.Stdin = "from standard input\n"
	r = hand.Do(ctx, job)
	require.Equal(t, flow.OK, r.State, r.Error+r.Stderr.Text())
	assert.True(t, strings.HasPrefix(r.Stdout.Text(), `it's; $(id)|s3cr3t "x" \n|from standard input`), r.Stdout.Text())
	assert.Equal(t, 1, strings.Count(r.Stdout.Text(), "s3cr3t"), "a secret stands on no command line")
}

// What is cancelled ends on the target, and all that it began.
func TestCancelEndsTheProcessGroup(t *testing.T) {
	h := sshd(t)
	hand := h.hand(t)
	ctx, cancel := context.WithCancel(context.Background())
	mark := filepath.Join(t.TempDir(), "alive")
	done := make(chan act.Result, 1)
	go func() {
		done <- hand.Do(ctx, h.job(60, "sh", "-c", `(while :; do date +%s%N >"$0"; sleep 0.05; done) & wait`, mark))
	}()
	require.Eventually(
		t,
		func() bool { _, err := os.Stat(mark); return err == nil },
		time.Minute,
		20*time.Millisecond,
	)
	cancel()
	r := <-done
	assert.Equal(t, flow.Unknown, r.State)
	assert.Contains(t, r.Error, "told to stop")
	require.Eventually(t, func() bool {
		a, err := os.ReadFile(mark)
		require.NoError(t, err)
		time.Sleep(300 * time.Millisecond)
		b, err := os.ReadFile(mark)
		require.NoError(t, err)
		return string(a) == string(b)
	}, time.Minute, 10*time.Millisecond, "the loop in the background has ended too")
}

// connections counts those that the host has open from us.
func (h *sshHost) connections(hand *Hand) int {
	x := hand.host(h.facts)
	x.mu.Lock()
	defer x.mu.Unlock()
	return len(x.conns)
}

// Many at once at a host to which nobody is connected yet, and beyond its session limit: all are carried out, none
// loses its connection to another, and one dials at a time.
func TestManyAtOneColdHostWithASessionLimit(t *testing.T) {
	h := sshd(t, "MaxSessions 3", "MaxStartups 2:100:3")
	hand := h.hand(t)
	var wg sync.WaitGroup
	for i := range 30 {
		wg.Go(func() {
			job := h.job(60, "sh", "-c", "sleep 0.2; echo "+strconv.Itoa(i))
			job.Attempt = fmt.Sprint("a", i)
			r := hand.Do(context.Background(), job)
			assert.Equal(t, flow.OK, r.State, r.Error)
			assert.Equal(t, fmt.Sprintln(i), r.Stdout.Text())
		})
	}
	wg.Wait()
	assert.LessOrEqual(t, h.connections(hand), maxPerHost)
	assert.GreaterOrEqual(t, h.connections(hand), 2)
	hand.sweep(0)
	assert.Empty(t, hand.hosts, "what nobody uses is closed and forgotten")
}

// A connection that fails somebody is not closed while somebody else uses it.
func TestAConnectionIsNotClosedWhileItIsUsed(t *testing.T) {
	h := sshd(t)
	hand := h.hand(t)
	done := make(chan act.Result, 1)
	started := make(chan string, 1)
	job := h.job(30, "sh", "-c", "echo on; sleep 1; echo over")
	job.Live = func(_ int, p string) {
		select {
		case started <- p:
		default:
		}
	}
	go func() { done <- hand.Do(context.Background(), job) }()
	<-started
	x := hand.host(h.facts)
	c, _, _ := x.pick()
	assert.False(t, x.give(c, true, false), "somebody else uses it")
	require.Equal(t, flow.OK, hand.Do(context.Background(), h.job(30, "true")).State, "over another connection")
	r := <-done
	assert.Equal(t, flow.OK, r.State, r.Error)
	assert.Equal(t, "on\nover\n", r.Stdout.Text())
	require.Eventually(t, func() bool { return h.connections(hand) == 1 }, time.Minute, 10*time.Millisecond)
}

// A command whose exit has come is done, although what it left behind holds its output open; and that goes on.
func TestADaemonThatHoldsTheOutputIsNotWaitedFor(t *testing.T) {
	h := sshd(t)
	hand := h.hand(t)
	mark := filepath.Join(t.TempDir(), "alive")
	began := time.Now()
	r := hand.Do(
		context.Background(),
		h.job(
			20,
			"sh",
			"-c",
			`echo begun; (trap "" PIPE; i=0; while [ $i -lt 40 ]; do date +%s%N >"$0"; sleep 0.1; i=$((i+1)); done) & exit 0`,
			mark,
		),
	)
	assert.Equal(t, flow.OK, r.State, r.Error)
	assert.Equal(t, "begun\n", r.Stdout.Text())
	assert.Less(t, time.Since(began), 10*time.Second)
	a, err := os.ReadFile(mark)
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		b, err := os.ReadFile(mark)
		require.NoError(t, err)
		return string(a) != string(b)
	}, time.Minute, 50*time.Millisecond, "nobody ended the daemon")
}

// Looks that hang end with a signal each; nobody walks through the processes of the host for every one of them.
func TestManyThatHangAreEndedWithoutAStorm(t *testing.T) {
	h := sshd(t)
	hand := h.hand(t)
	var wg sync.WaitGroup
	for i := range 20 {
		wg.Go(func() {
			job := h.job(10, "sh", "-c", "sleep 300 & wait")
			job.Attempt = fmt.Sprint("hang", i)
			r := hand.Do(context.Background(), job)
			assert.Equal(t, flow.Unknown, r.State)
			assert.Contains(t, r.Error, "did not end within 10 s")
		})
	}
	wg.Wait()
	out, _ := exec.Command("pgrep", "-fc", "sleep 300").Output()
	assert.Equal(t, "0", strings.TrimSpace(string(out)))
}

// What leads no process group that the server can signal is found by its attempt.
func TestWhatIgnoresTheSignalIsFoundByItsAttempt(t *testing.T) {
	h := sshd(t)
	hand := h.hand(t)
	mark := filepath.Join(t.TempDir(), "alive")
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan act.Result, 1)
	go func() {
		done <- hand.Do(ctx, h.job(60, "setsid", "-w", "sh", "-c", `while :; do date +%s%N >"$0"; sleep 0.05; done`,
			mark))
	}()
	require.Eventually(
		t,
		func() bool { _, err := os.Stat(mark); return err == nil },
		time.Minute,
		20*time.Millisecond,
	)
	cancel()
	assert.Equal(t, flow.Unknown, (<-done).State)
	hand.signalAttempt(h.job(60), "KILL")
	a, err := os.ReadFile(mark)
	require.NoError(t, err)
	time.Sleep(300 * time.Millisecond)
	b, err := os.ReadFile(mark)
	require.NoError(t, err)
	assert.Equal(t, string(a), string(b))
}

// Secrets of many lines arrive whole, each under its own name, and nothing of them in standard input.
func TestSecretsOfManyLinesArriveWhole(t *testing.T) {
	h := sshd(t)
	hand := h.hand(t)
	job := h.job(10, "sh", "-c", `printf '[%s][%s][%s]' "$A" "$B" "$C"; cat; env | grep -c '^U_'`)
	job.Request.Env = map[string]string{"A": "one\ntwo \\ \n\n three", "B": "", "C": "last\n"}
	job.Request.Hidden = []string{"A", "B", "C"}
	job.Request.Stdin = "input\n"
	job.Request.Accept = []int{0, 1}
	r := hand.Do(context.Background(), job)
	assert.Equal(t, "[one\ntwo \\ \n\n three][][last\n]input\n0\n", r.Stdout.Text(), r.Error+r.Stderr.Text())
	job.Request.Env["B"] = "a\x00b"
	r = hand.Do(context.Background(), job)
	assert.Equal(t, flow.Failed, r.State)
	assert.Contains(t, r.Error, "NUL")
}

func TestWhatStillRunsIsSeen(t *testing.T) {
	h := sshd(t)
	hand := h.hand(t)
	ctx := context.Background()
	job := h.job(60, "sleep", "60")
	job.Attempt = "r1:1:1"
	running := func() bool {
		for {
			is, err := hand.Running(ctx, job)
			if errors.Is(err, context.DeadlineExceeded) {
				continue // a slow machine is asked again
			}
			assert.NoError(t, err)
			return is
		}
	}
	assert.False(t, running())
	inner, cancel := context.WithCancel(ctx)
	done := make(chan act.Result, 1)
	go func() { done <- hand.Do(inner, job) }()
	require.Eventually(t, running, time.Minute, 50*time.Millisecond)
	cancel()
	<-done
	assert.False(t, running())
	job.Request.Plain = true
	_, err := hand.Running(ctx, job)
	assert.Error(t, err, "nobody can see")
}

// A file of the store arrives whole, by its size and its hash, or not at all.
func TestAFileOfTheStore(t *testing.T) {
	h := sshd(t)
	hand := h.hand(t)
	text := strings.Repeat("a tool that is not small\n", 200_000)
	sum := sha256.Sum256([]byte(text))
	to := filepath.Join(t.TempDir(), "tool")
	job := h.job(30)
	job.Request.File = &task.File{To: to, Mode: "0750", Name: "tool", Digest: hex.EncodeToString(sum[:]),
		Size: int64(len(text))}
	for name, c := range map[string]struct {
		comes io.Reader
		exit  int
	}{
		"whole":             {strings.NewReader(text), 0},
		"cut off":           {strings.NewReader(text[:len(text)-1]), 65},
		"another":           {strings.NewReader("A" + text[1:]), 65},
		"breaks off at us":  {io.MultiReader(strings.NewReader(text[:9000]), iotest.ErrReader(io.ErrUnexpectedEOF)), 65},
		"nothing of it all": {strings.NewReader(""), 65},
	} {
		require.NoError(t, os.WriteFile(to, []byte("old"), 0o600))
		h.file = c.comes
		r := hand.Do(context.Background(), job)
		require.NotNil(t, r.Exit, "%s: %s", name, r.Error)
		assert.Equal(t, c.exit, *r.Exit, "%s: %s %s", name, r.Error, r.Stderr.Text())
		got, err := os.ReadFile(to)
		require.NoError(t, err)
		want := "old"
		if c.exit == 0 {
			want = text
		}
		assert.True(t, want == string(got), name)
		_, err = os.Stat(to + ".part")
		assert.ErrorIs(t, err, os.ErrNotExist, name)
	}
}
