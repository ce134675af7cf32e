package ssh

import (
	"context"
	"net"
	"os"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/flow"
	"urgentis/internal/act"
)

// halfOpen is a way to a host on which, once it is told so, nothing comes through any more and nothing ends.
type halfOpen struct {
	port int
	dead atomic.Bool
}

func newHalfOpen(t *testing.T, to int) *halfOpen {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() }) //nolint:errcheck // it ends either way
	w := &halfOpen{port: l.Addr().(*net.TCPAddr).Port}
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go w.carry(c, to)
		}
	}()
	return w
}

func (w *halfOpen) carry(c net.Conn, to int) {
	far, err := net.Dial("tcp", net.JoinHostPort("127.0.0.1", strconv.Itoa(to)))
	if err != nil {
		c.Close() //nolint:errcheck // see above
		return
	}
	pass := func(from, to net.Conn) {
		b := make([]byte, 32<<10)
		for {
			n, err := from.Read(b)
			if err != nil {
				return
			}
			if w.dead.Load() {
				continue // swallowed
			}
			if _, err := to.Write(b[:n]); err != nil {
				return
			}
		}
	}
	go pass(c, far)
	pass(far, c)
}

// resident is how much memory of this process is in use, in bytes.
func resident(t *testing.T) int64 {
	b, err := os.ReadFile("/proc/self/statm")
	require.NoError(t, err)
	pages, err := strconv.ParseInt(strings.Fields(string(b))[1], 10, 64)
	require.NoError(t, err)
	return pages * int64(os.Getpagesize())
}

// A host that prints a gigabyte is read to its end in little memory: what is not kept is counted.
func TestAGigabyteTakesLittleMemory(t *testing.T) {
	h := sshd(t)
	hand := h.hand(t)
	require.Equal(t, flow.OK, hand.Do(context.Background(), h.job(10, "true")).State)
	before := resident(t)
	var most atomic.Int64
	over := make(chan struct{})
	go func() {
		for {
			select {
			case <-over:
				return
			case <-time.After(20 * time.Millisecond):
				most.Store(max(most.Load(), resident(t)))
			}
		}
	}()
	const size = 1 << 30
	job := h.job(240, "sh", "-c", "head -c 1073741824 /dev/zero | tr '\\0' x")
	live := 0
	job.Live = func(_ int, p string) { live += len(p) }
	r := hand.Do(context.Background(), job)
	close(over)
	assert.Equal(t, flow.OK, r.State, r.Error)
	assert.EqualValues(t, size, r.Stdout.Size)
	assert.Equal(t, act.KeptOutput, r.Stdout.Len())
	grown := most.Load() - before
	t.Logf("memory grew by %d MB", grown>>20)
	assert.Less(t, grown, int64(64<<20))
}

// Whatever goes wrong on the way is told in a sentence, within the time that the step has and a little more.
func TestFaultsEndInTimeAndAreTold(t *testing.T) {
	t.Parallel()
	h := sshd(t)
	silent, err := net.Listen("tcp", "127.0.0.1:0") // it takes connections, and says nothing on them
	require.NoError(t, err)
	t.Cleanup(func() { silent.Close() }) //nolint:errcheck // it ends either way
	way := newHalfOpen(t, h.facts.Port)
	for name, c := range map[string]struct {
		job    func() act.Job
		during func()
		state  string
		says   string
	}{
		"a host that says nothing": {job: func() act.Job {
			j := h.job(3, "true")
			j.Request.Target.Port = silent.Addr().(*net.TCPAddr).Port
			return j
		}, state: flow.Failed, says: "did not end in time: it took the connection, and went no further"},
		"a connection that is half open": {job: func() act.Job {
			j := h.job(10, "sh", "-c", "echo begun; sleep 60")
			j.Request.Target.Port = way.port
			return j
		}, during: func() { way.dead.Store(true) }, state: flow.Unknown, says: "did not end within 10 s"},
		"a command that hangs": {job: func() act.Job { return h.job(5, "sleep", "60") },
			state: flow.Unknown, says: "did not end within 5 s"},
		"a question that nobody answers": {job: func() act.Job {
			return h.job(10, "sh", "-c", "printf 'Are you sure? '; read answer || { echo nobody said >&2; exit 4; }")
		}, state: flow.Failed, says: "4"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			hand := h.hand(t)
			job := c.job()
			begun := make(chan struct{}, 100)
			job.Live = func(int, string) { begun <- struct{}{} }
			if c.during != nil {
				go func() { <-begun; c.during() }()
			}
			began := time.Now()
			r := hand.Do(context.Background(), job)
			assert.Equal(t, c.state, r.State, r.Error)
			says := r.Error
			if r.Exit != nil {
				says += " " + strconv.Itoa(*r.Exit)
			}
			assert.Contains(t, says, c.says)
			assert.Less(t, time.Since(began), time.Duration(job.Request.Timeout)*time.Second+20*time.Second)
		})
	}
}

// What a host prints in another character set is told as such, and breaks nothing.
func TestAnAnswerInLatin1(t *testing.T) {
	h := sshd(t)
	r := h.hand(t).Do(context.Background(), h.job(10, "printf", `quai caf\351 n\260 2`))
	assert.Equal(t, flow.OK, r.State, r.Error)
	t.Logf("%q", r.Stdout.Text())
	assert.Equal(t, "quai café n° 2", r.Stdout.Text())
}
