package httpcall

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/flow"
	"urgentis/core/reading"
	"urgentis/core/task"
	"urgentis/internal/act"
)

// works is a system that runs jobs: one more step of a job at each look at it.
type works struct {
	mu      sync.Mutex
	started []string // attempts
	looks   int
	ends    int    // after so many looks; 0: never
	end     string // the state then
	stopped bool
	ranges  bool // whether it gives parts of a log
	fail    func(r *http.Request) int
	id      string
	parts   []string // what was asked of the log
}

func (w *works) ServeHTTP(out http.ResponseWriter, r *http.Request) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.fail != nil {
		if code := w.fail(r); code != 0 {
			http.Error(out, "not now", code)
			return
		}
	}
	log := strings.Repeat("line\n", w.looks)
	switch r.Method + " " + r.URL.Path {
	case "POST /jobs":
		w.started = append(w.started, r.Header.Get("Idempotency-Key"))
		out.WriteHeader(http.StatusCreated)
		fmt.Fprintf(out, `{"job": {"id": %q}}`, w.id)
	case "GET /jobs/7":
		w.looks++
		state := "working"
		if w.ends > 0 && w.looks >= w.ends {
			state = w.end
		}
		if w.stopped {
			state = "stopped"
		}
		json.NewEncoder(out).Encode(map[string]string{"state": state})
	case "GET /jobs/7/log":
		w.parts = append(w.parts, r.Header.Get("Range"))
		if w.ranges {
			http.ServeContent(out, r, "", time.Time{}, strings.NewReader(log))
			return
		}
		fmt.Fprint(out, log)
	case "POST /jobs/7/stop":
		w.stopped = true
	default:
		http.NotFound(out, r)
	}
}

// jobOn makes a hand, and a job for it.
func jobOn(t *testing.T, w *works, timeout int) (*Jobs, act.Job) {
	if w.id == "" {
		w.id = "7"
	}
	s := httptest.NewServer(w)
	t.Cleanup(s.Close)
	allowed, err := ParseAllowed([]string{"127.0.0.0/8"})
	require.NoError(t, err)
	hand := NewJobs(allowed, func(ctx context.Context, q *reading.Query, out []byte) (any, error) {
		return q.Run(ctx, out)
	})
	at := func(method, path string) task.Call { return task.Call{Method: method, URL: s.URL + path} }
	log, stop := at("GET", "/jobs/"+task.JobMark+"/log"), at("POST", "/jobs/"+task.JobMark+"/stop")
	return hand, act.Job{Attempt: "r1:5:0::1", Request: task.Request{Kind: "job", Timeout: timeout, Job: &task.Job{
		Start: at("POST", "/jobs"), Follow: at("GET", "/jobs/"+task.JobMark), Log: &log, Stop: &stop,
		ID: ".job.id", State: ".state", Every: 500, Good: []string{"done"}, Bad: []string{"failed", "stopped"}}}}
}

func TestAJobIsFollowedToItsEnd(t *testing.T) {
	for _, ranges := range []bool{true, false} {
		w := &works{ends: 3, end: "done", ranges: ranges}
		hand, job := jobOn(t, w, 20)
		var known []string
		live := ""
		job.Known = func(id string) { known = append(known, id) }
		job.Live = func(_ int, piece string) { live += piece }
		res := hand.Do(context.Background(), job)
		assert.Equal(t, flow.OK, res.State, res.Error)
		assert.Equal(t, "line\nline\nline\n", res.Stdout.Text(), "each line once")
		assert.Equal(t, "line\nline\nline\n", live)
		assert.Equal(t, []string{"7"}, known)
		assert.Equal(t, []string{"r1:5:0::1"}, w.started)
		assert.Equal(t, []string{"", "bytes=5-", "bytes=10-"}, w.parts)
	}
}

func TestAJobThatFails(t *testing.T) {
	w := &works{ends: 2, end: "failed"}
	hand, job := jobOn(t, w, 20)
	res := hand.Do(context.Background(), job)
	assert.Equal(t, flow.Failed, res.State)
	assert.Equal(t, 1, *res.Exit)
	assert.Equal(t, "the job 7 ended as failed", res.Error)
}

// A job that is known is followed on and not started again, and nobody is asked for leave.
func TestAKnownJobIsNotStarted(t *testing.T) {
	w := &works{ends: 2, end: "done"}
	hand, job := jobOn(t, w, 20)
	job.Ready = func(context.Context) error { return act.ErrHeld }
	res := hand.Follow(context.Background(), job, "7", 20*time.Second).Result()
	assert.Equal(t, flow.OK, res.State, res.Error)
	assert.Empty(t, w.started)
}

// Answers that fail while it is followed are no end of it.
func TestAJobOutlivesAnAbsence(t *testing.T) {
	w := &works{ends: 4, end: "done"}
	n := 0
	w.fail = func(r *http.Request) int {
		if n++; r.Method == "GET" && n < 5 {
			return http.StatusBadGateway
		}
		return 0
	}
	hand, job := jobOn(t, w, 20)
	res := hand.Do(context.Background(), job)
	assert.Equal(t, flow.OK, res.State, res.Error)
}

func TestAJobThatDoesNotEndIsStopped(t *testing.T) {
	w := &works{}
	hand, job := jobOn(t, w, 3)
	res := hand.Do(context.Background(), job)
	assert.Equal(t, flow.Failed, res.State, "it was seen to end")
	assert.Equal(t, "the job 7 did not end within 3 s and was stopped; it ended as stopped", res.Error)
	assert.True(t, w.stopped)

	w = &works{}
	hand, job = jobOn(t, w, 60)
	ctx, cancel := context.WithCancel(context.Background())
	time.AfterFunc(time.Second, cancel)
	res = hand.Do(ctx, job)
	assert.Contains(t, res.Error, "did not end before it was told to stop and was stopped")

	w = &works{}
	hand, job = jobOn(t, w, 3)
	job.Request.Job.Stop = nil
	res = hand.Do(context.Background(), job)
	assert.Equal(t, flow.Unknown, res.State, "nobody saw its end")
	assert.Equal(t, "the job 7 did not end within 3 s, and it is not said how it is stopped; it was last seen as working",
		res.Error)
}

// A service that stops leaves the job to whoever goes on.
func TestAJobIsLeftToOthers(t *testing.T) {
	w := &works{}
	hand, job := jobOn(t, w, 60)
	leave := make(chan struct{})
	job.Leave = leave
	time.AfterFunc(700*time.Millisecond, func() { close(leave) })
	res := hand.Do(context.Background(), job)
	assert.Equal(t, flow.StillRuns, res.State)
	assert.False(t, w.stopped)
}

func TestAJobThatIsNotStarted(t *testing.T) {
	for name, c := range map[string]struct {
		works *works
		with  func(j *act.Job)
		state string
		says  string
	}{
		"refused": {&works{fail: func(*http.Request) int { return http.StatusConflict }}, nil, flow.Failed,
			"the job was not started: 409 not now"},
		"a gateway's timeout": {&works{fail: func(*http.Request) int { return http.StatusGatewayTimeout }}, nil,
			flow.Unknown, "a gateway answered 504 in its place"},
		"without a name": {&works{id: "../7"}, nil, flow.Unknown,
			`the job was started, and what it is known by could not be read: "../7" is nothing that a job could be known by`},
		"held":    {&works{}, func(j *act.Job) { j.Ready = func(context.Context) error { return act.ErrHeld } }, flow.Held, ""},
		"nowhere": {&works{}, func(j *act.Job) { j.Request.Job.Start.URL = "http://127.0.0.1:1/jobs" }, flow.Failed, ""},
	} {
		hand, job := jobOn(t, c.works, 5)
		if c.with != nil {
			c.with(&job)
		}
		res := hand.Do(context.Background(), job)
		assert.Equal(t, c.state, res.State, "%s: %s", name, res.Error)
		if c.says != "" {
			assert.Equal(t, c.says, res.Error, name)
		}
	}
}
