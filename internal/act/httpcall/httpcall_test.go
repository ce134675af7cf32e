package httpcall

import (
	"bufio"
	"context"
	"errors"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/flow"
	"urgentis/core/task"
	"urgentis/internal/act"
)

func do(t *testing.T, allowed []string, r task.Request) act.Result {
	a, err := ParseAllowed(allowed)
	require.NoError(t, err)
	if r.Timeout == 0 {
		r.Timeout = 5
	}
	if r.Method == "" {
		r.Method = "GET"
	}
	return New(a).Do(context.Background(), act.Job{Request: r, Attempt: "a1"})
}

func TestCalls(t *testing.T) {
	release := make(chan struct{})
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/bad":
			w.WriteHeader(503)
		case "/away":
			http.Redirect(w, r, "http://169.254.169.254/", http.StatusFound)
		case "/slow":
			<-release
		default:
			b, _ := io.ReadAll(r.Body)
			io.WriteString(w, r.Method+" "+string(b)+" "+r.Header.Get("Idempotency-Key"))
		}
	}))
	defer s.Close()
	defer close(release)
	local := []string{"127.0.0.1"}
	r := do(t, local, task.Request{Method: "POST", URL: s.URL + "/x", Body: "{}"})
	assert.Equal(t, flow.OK, r.State, r.Error)
	assert.Equal(t, "POST {} a1", r.Stdout.Text())
	r = do(t, local, task.Request{URL: s.URL + "/bad"})
	assert.Equal(t, flow.Failed, r.State)
	assert.Equal(t, 503, *r.Exit)
	assert.Equal(t, flow.OK, do(t, local, task.Request{URL: s.URL + "/bad", Accept: []int{503}}).State)
	r = do(t, local, task.Request{URL: s.URL + "/away"})
	assert.Equal(t, 302, *r.Exit, "no redirect is followed")
	r = do(t, local, task.Request{Method: "POST", URL: s.URL + "/slow", Timeout: 3})
	assert.Equal(t, flow.Unknown, r.State, "it may have arrived")

	for _, allowed := range [][]string{nil, {"10.0.0.0/8"}} {
		r = do(t, allowed, task.Request{Method: "POST", URL: s.URL})
		assert.Equal(t, flow.Failed, r.State, "nothing was sent")
		assert.Contains(t, r.Error, "--allow-net")
	}
	r = do(t, local, task.Request{URL: "http://127.0.0.1:1/"})
	assert.Equal(t, flow.Failed, r.State)
	_, err := ParseAllowed([]string{"everything"})
	assert.ErrorContains(t, err, "no network")
}

// dying answers the first request on each connection, reads the second and closes the connection.
func dying(t *testing.T) (url string, got *atomic.Int64) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	got = &atomic.Int64{}
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				in := bufio.NewReader(c)
				for n := 0; n < 2; n++ {
					r, err := http.ReadRequest(in)
					if err != nil {
						return
					}
					io.Copy(io.Discard, r.Body)
					if r.Method == "POST" {
						got.Add(1)
					}
					if n == 0 && r.URL.Path != "/die" {
						io.WriteString(c, "HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nok")
					} else {
						return
					}
				}
			}()
		}
	}()
	return "http://" + l.Addr().String(), got
}

func TestAChangeIsNeverSentTwice(t *testing.T) {
	url, got := dying(t)
	a, err := ParseAllowed([]string{"127.0.0.1"})
	require.NoError(t, err)
	h := New(a)
	for i := range int64(4) {
		r := h.Do(
			context.Background(),
			act.Job{Attempt: "a", Request: task.Request{Method: "POST", URL: url + "/x", Body: "{}", Timeout: 5}},
		)
		assert.Equal(
			t,
			i+1,
			got.Load(),
			"one call is one request, whatever became of the connection (%s %s)",
			r.State,
			r.Error,
		)
	}
	before := got.Load()
	r := h.Do(
		context.Background(),
		act.Job{Attempt: "a", Request: task.Request{Method: "POST", URL: url + "/die", Timeout: 5}},
	)
	assert.Equal(t, flow.Unknown, r.State, "it was read and not answered")
	assert.Equal(t, before+1, got.Load())
}

func TestNothingIsSentWhereLeaveIsGoneAfterDialling(t *testing.T) {
	var got atomic.Int64
	s := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { got.Add(1) }))
	defer s.Close()
	tls := httptest.NewTLSServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { got.Add(1) }))
	defer tls.Close()
	a, err := ParseAllowed([]string{"127.0.0.1"})
	require.NoError(t, err)
	for _, url := range []string{s.URL, tls.URL} {
		r := New(
			a,
		).Do(context.Background(), act.Job{Attempt: "a", Request: task.Request{Method: "POST", URL: url, Timeout: 5},
			Ready: func(context.Context) error { return errors.New("this instance was taken for dead") }})
		assert.Contains(t, []string{flow.Held, flow.Failed}, r.State, r.Error)
	}
	assert.Zero(t, got.Load())
}
