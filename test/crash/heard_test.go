package crash

import (
	"context"
	"encoding/binary"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/api"
	"urgentis/core/access"
	"urgentis/internal/demo"
	"urgentis/internal/localdb"
	"urgentis/internal/store"
	"urgentis/internal/testapi"
	"urgentis/internal/testdb"
)

// ear is a service process that hears syslog, and a database that can be away.
type ear struct {
	*storm
	udp   string
	spool string // megabytes
}

func newEar(t *testing.T, spool string) *ear {
	dir, err := os.MkdirTemp("", "urgentis-ear-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(dir, 0o755)) //nolint:gosec // the account postgres must reach it
	t.Cleanup(func() { os.RemoveAll(dir) })
	s := &storm{t: t, dir: dir, taken: map[string]string{}}
	e := &ear{storm: s, spool: spool}
	ctx := context.Background()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	port := l.Addr().(*net.TCPAddr).Port
	require.NoError(t, l.Close())
	s.db, err = localdb.StartOn(ctx, filepath.Join(dir, "db"), "127.0.0.1", port, "ear")
	require.NoError(t, err)
	t.Cleanup(func() { s.db.Stop() }) //nolint:errcheck // the test is over
	l, err = net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	s.nodes = []*node{{listen: l.Addr().String()}}
	require.NoError(t, l.Close())
	u, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	e.udp = u.LocalAddr().String()
	require.NoError(t, u.Close())
	t.Cleanup(func() { s.kill(s.nodes[0]) })
	e.up()
	s.ready(s.nodes[0])
	st, err := store.Open(ctx, s.db.URL, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	defer st.Close()
	n := s.nodes[0]
	n.admin, err = demo.Client("http://"+n.listen, testapi.Token(t, st, "admin", "test", access.Admin))
	require.NoError(t, err)
	r, err := n.admin.PushWithResponse(ctx, api.NewPush{Files: []api.PushFile{{Name: "s.yaml",
		Text: "urgentis: source/1\nname: hosts\ntakes: syslog\nfrom: [127.0.0.0/8]\n---\nurgentis: source/1\nname: watch\n"}}})
	require.NoError(t, err)
	require.Equal(t, http.StatusOK, r.StatusCode(), string(r.Body))
	k, err := n.admin.AddSourceWithResponse(ctx, api.NewSource{Name: "watch"})
	require.NoError(t, err)
	s.source = k.JSON201.Token
	time.Sleep(2500 * time.Millisecond) // until the listener knows its source
	return e
}

func (e *ear) up() {
	n := e.nodes[0]
	n.begin(e.t, e.dir, exec.Command(program, "serve", "--database", e.db.URL, "--data-dir", e.dir, "--listen", n.listen,
		"--syslog-udp", e.udp, "--spool", e.spool, "--log-level", "error"))
}

// syslog sends messages, each about a condition of its own, until it is told to stop, and gives how many it sent.
func (e *ear) syslog(every time.Duration, size int, stop <-chan struct{}) int {
	c, err := net.Dial("udp", e.udp)
	require.NoError(e.t, err)
	defer c.Close() //nolint:errcheck // it was only written
	tick := time.NewTicker(every)
	defer tick.Stop()
	for n := 0; ; {
		select {
		case <-stop:
			return n
		case <-tick.C:
		}
		if _, err := fmt.Fprintf(c, "<11>1 - quay app%d - - - %s", n, strings.Repeat("x", size)); err == nil {
			n++
		}
	}
}

// post reports conditions, each again until it is answered that it was taken.
func (e *ear) post(every time.Duration, name string, stop <-chan struct{}) int {
	tick := time.NewTicker(every)
	defer tick.Stop()
	for n := 0; ; n++ {
		select {
		case <-stop:
			return n
		case <-tick.C:
		}
		for {
			body := fmt.Sprintf(`{"key": "%s-%d", "severity": "major", "summary": "x"}`, name, n)
			req, err := http.NewRequest(http.MethodPost, "http://"+e.nodes[0].listen+"/in/watch", strings.NewReader(body))
			require.NoError(e.t, err)
			req.Header.Set("Authorization", "Bearer "+e.source)
			res, err := quick.Do(req)
			if err == nil {
				res.Body.Close()
				if res.StatusCode == http.StatusAccepted {
					break
				}
				assert.Contains(e.t, []int{http.StatusServiceUnavailable, http.StatusTooManyRequests}, res.StatusCode)
				assert.NotEmpty(e.t, res.Header.Get("Retry-After"))
			}
			time.Sleep(100 * time.Millisecond)
		}
	}
}

// alerts counts the alerts of a source, once they do not become more for a while.
func (e *ear) alerts(source string, want int) int {
	st, err := store.Open(context.Background(), e.db.URL, slog.New(slog.DiscardHandler))
	require.NoError(e.t, err)
	defer st.Close()
	n, still := -1, 0
	for range 600 {
		var is int
		require.NoError(e.t, testdb.SQL(st).Raw("select count(*) from alert where source = ?", source).Scan(&is).Error)
		if still++; is != n {
			n, still = is, 0
		}
		if n == want || still > 50 {
			return n
		}
		time.Sleep(100 * time.Millisecond)
	}
	return n
}

// outage is how long the database is away: URGENTIS_OUTAGE, such as 60s.
func outage(t *testing.T) time.Duration {
	text := os.Getenv("URGENTIS_OUTAGE")
	if text == "" {
		return 4 * time.Second
	}
	d, err := time.ParseDuration(text)
	require.NoError(t, err)
	return d
}

// The database is away while 500 conditions a second are reported, half of them by HTTP, where whoever reports is told
// to do so again, and half by syslog, where nobody can be told. None is lost, and none is there twice.
func TestNothingThatWasHeardIsLostWhileTheDatabaseIsAway(t *testing.T) {
	e := newEar(t, "64")
	stop := make(chan struct{})
	var senders sync.WaitGroup
	var heard, posted int
	var mu sync.Mutex
	senders.Go(func() { heard = e.syslog(4*time.Millisecond, 100, stop) })
	for i := range 50 {
		senders.Go(func() {
			n := e.post(200*time.Millisecond, fmt.Sprint("k", i), stop)
			mu.Lock()
			defer mu.Unlock()
			posted += n
		})
	}
	time.Sleep(time.Second)
	e.outage(outage(t))
	time.Sleep(time.Second)
	close(stop)
	senders.Wait()
	t.Logf("%d by syslog, %d by HTTP", heard, posted)
	assert.Equal(t, heard, e.alerts("hosts", heard))
	assert.Equal(t, posted, e.alerts("watch", posted))
	require.Eventually(t, func() bool {
		r, err := e.nodes[0].admin.ListListenersWithResponse(context.Background())
		return err == nil && r.JSON200 != nil && len(*r.JSON200) == 1 && (*r.JSON200)[0].Heard == int64(heard) &&
			(*r.JSON200)[0].Lost == 0
	}, time.Minute, 100*time.Millisecond, "what was heard is accounted for")
}

// A process that is killed while its spool is full leaves it to the next one, which hands all of it on.
func TestASpoolOutlivesItsProcess(t *testing.T) {
	e := newEar(t, "1")
	stop, stopped := make(chan struct{}), make(chan int)
	again, down := make(chan time.Time), make(chan struct{})
	go func() {
		defer close(down)
		e.outageUntil(again)
	}()
	time.Sleep(500 * time.Millisecond)
	go func() { stopped <- e.syslog(500*time.Microsecond, 400, stop) }()
	e.full()
	close(stop)
	sent := <-stopped
	e.kill(e.nodes[0])
	kept := e.kept()
	t.Logf("%d sent, %d in the spool when it was killed", sent, kept)
	assert.Greater(t, kept, 1000)
	assert.Less(t, kept, sent, "the spool was full")
	again <- time.Time{}
	<-down
	e.up()
	e.ready(e.nodes[0])
	assert.Equal(t, kept, e.alerts("hosts", kept))
}

// full waits until the spool takes no more, however slow the machine is.
func (e *ear) full() {
	n, still := 0, 0
	for range 600 {
		is := e.kept()
		if still++; is != n {
			n, still = is, 0
		}
		if n > 1000 && still > 10 {
			return
		}
		time.Sleep(100 * time.Millisecond)
	}
}

// kept counts the messages in the spool.
func (e *ear) kept() int {
	files, err := filepath.Glob(filepath.Join(e.dir, "heard", "spool", "hosts", "*.seg"))
	require.NoError(e.t, err)
	n := 0
	for _, f := range files {
		b, err := os.ReadFile(f)
		require.NoError(e.t, err)
		for len(b) >= 8 {
			size := 8 + int(binary.BigEndian.Uint32(b))
			if size > len(b) {
				break // it is being written
			}
			b = b[size:]
			n++
		}
	}
	return n
}
