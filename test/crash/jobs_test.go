package crash

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/api"
)

// batch is a system that runs one job until it is told to end.
type batch struct {
	mu      sync.Mutex
	started int
	looks   int
	state   string
}

func (b *batch) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	b.mu.Lock()
	defer b.mu.Unlock()
	switch r.Method + " " + r.URL.Path {
	case "POST /jobs":
		b.started, b.state = b.started+1, "working"
		fmt.Fprint(w, `{"id": "job-7"}`)
	case "GET /jobs/job-7":
		b.looks++
		json.NewEncoder(w).Encode(map[string]string{"state": b.state}) //nolint:errcheck // the client is gone
	case "GET /jobs/job-7/log":
		fmt.Fprint(w, "the first line\n")
	case "POST /jobs/job-7/stop":
		b.state = "stopped"
	default:
		http.NotFound(w, r)
	}
}

func (b *batch) set(state string) (looks int) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if state != "" {
		b.state = state
	}
	return b.looks
}

const jobBook = `urgentis: runbook/1
name: timetable
title: Build the timetable
owner: quayside
service: berth-queue
steps:
  - change: Build it
    id: build
    job:
      start: {url: "URL/jobs", body: {what: timetable}}
      id: .id
      follow: {url: "URL/jobs/{{ job.id }}"}
      log: {url: "URL/jobs/{{ job.id }}/log"}
      stop: {url: "URL/jobs/{{ job.id }}/stop"}
      state: .state
      good: [done]
      bad: [failed, stopped]
      every: 500ms
    timeout: 5m
`

// job has a run start a job elsewhere, and waits until it is followed.
func (s *stage) job() (*batch, string) {
	b := &batch{}
	server := httptest.NewServer(b)
	s.t.Cleanup(server.Close)
	ctx := context.Background()
	r, err := s.admin.PushRunbookWithResponse(ctx,
		api.RunbookText{Text: strings.ReplaceAll(jobBook, "URL", server.URL)})
	require.NoError(s.t, err)
	require.NotNil(s.t, r.JSON201, string(r.Body))
	run, err := s.admin.StartRunWithResponse(ctx, api.NewRun{Runbook: "timetable"})
	require.NoError(s.t, err)
	require.NotNil(s.t, run.JSON202, string(run.Body))
	require.Eventually(s.t, func() bool {
		s.person() //nolint:errcheck // asked again
		return b.set("") > 2
	}, time.Minute, 100*time.Millisecond, "the service said: %s", &s.log)
	return b, run.JSON202.Id
}

func (s *stage) run(id, state string) *api.RunDetail {
	var d *api.RunDetail
	require.Eventually(s.t, func() bool {
		r, err := s.admin.GetRunWithResponse(context.Background(), id)
		if err != nil || r.JSON200 == nil {
			return false
		}
		d = r.JSON200
		return string(d.Run.State) == state
	}, time.Minute, 100*time.Millisecond, "%v; the service said: %s", d, &s.log)
	return d
}

// A job elsewhere goes on whatever becomes of us: whoever comes back follows it on, and starts none.
func TestAJobElsewhereIsFollowedOn(t *testing.T) {
	for how, end := range map[string]func(s *stage){
		"killed": (*stage).kill,
		"stopped": func(s *stage) {
			began := time.Now()
			require.NoError(s.t, s.proc.Process.Signal(syscall.SIGTERM))
			s.proc.Wait() //nolint:errcheck // it was told to
			assert.Less(s.t, time.Since(began), 15*time.Second, "it does not wait for the job")
			s.kill()
		},
	} {
		t.Run(how, func(t *testing.T) {
			t.Parallel()
			s := set(t)
			b, id := s.job()
			end(s)
			s.up()
			seen := b.set("")
			require.Eventually(t, func() bool { return b.set("") > seen+1 }, time.Minute, 100*time.Millisecond,
				"it is followed on; the service said: %s", &s.log)
			b.set("done")
			s.run(id, "done")
			assert.Equal(t, 1, b.started)
			q, err := s.admin.ListQuestionsWithResponse(context.Background())
			require.NoError(t, err)
			assert.Empty(t, *q.JSON200, "nobody was asked what became of it")
		})
	}
}

// Whoever cancels a run stops its job.
func TestACancelStopsTheJob(t *testing.T) {
	t.Parallel()
	s := set(t)
	b, id := s.job()
	r, err := s.admin.CancelRunWithResponse(context.Background(), id, api.Cancel{Because: "not now"})
	require.NoError(t, err)
	require.Less(t, r.StatusCode(), 300, string(r.Body))
	s.run(id, "cancelled")
	b.mu.Lock()
	defer b.mu.Unlock()
	assert.Equal(t, "stopped", b.state)
}
