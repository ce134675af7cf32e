package httpcall

import (
	"context"
	"io"
	"net/http"
	"net/http/httptest"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/flow"
	"urgentis/core/leave"
	"urgentis/internal/act"
)

func do(t *testing.T, allowed []string, r leave.Request) act.Result {
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
	r := do(t, local, leave.Request{Method: "POST", URL: s.URL + "/x", Body: "{}"})
	assert.Equal(t, flow.OK, r.State, r.Error)
	assert.Equal(t, "POST {} a1", r.Stdout.Text())
	r = do(t, local, leave.Request{URL: s.URL + "/bad"})
	assert.Equal(t, flow.Failed, r.State)
	assert.Equal(t, 503, *r.Exit)
	assert.Equal(t, flow.OK, do(t, local, leave.Request{URL: s.URL + "/bad", Accept: []int{503}}).State)
	r = do(t, local, leave.Request{URL: s.URL + "/away"})
	assert.Equal(t, 302, *r.Exit, "no redirect is followed")
	r = do(t, local, leave.Request{Method: "POST", URL: s.URL + "/slow", Timeout: 1})
	assert.Equal(t, flow.Unknown, r.State, "it may have arrived")

	for _, allowed := range [][]string{nil, {"10.0.0.0/8"}} {
		r = do(t, allowed, leave.Request{Method: "POST", URL: s.URL})
		assert.Equal(t, flow.Failed, r.State, "nothing was sent")
		assert.Contains(t, r.Error, "--allow-net")
	}
	r = do(t, local, leave.Request{URL: "http://127.0.0.1:1/"})
	assert.Equal(t, flow.Failed, r.State)
	_, err := ParseAllowed([]string{"everything"})
	assert.ErrorContains(t, err, "no network")
}
