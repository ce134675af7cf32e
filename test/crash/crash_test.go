// Package crash kills the service at chosen and at random moments, starts it again, and proves from the
// simulated hosts' own counters that nothing was lost and nothing begun twice.
package crash

import (
	"bytes"
	"context"
	"fmt"
	"log/slog"
	"math/rand/v2"
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
	"urgentis/core/flow"
	"urgentis/internal/demo"
	"urgentis/internal/store"
	"urgentis/internal/testapi"
	"urgentis/internal/testdb"
)

var program string

func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "urgentis-crash-")
	if err != nil {
		panic(err)
	}
	program = filepath.Join(dir, "urgentis")
	if out, err := exec.Command("go", "build", "-o", program, "urgentis/cmd/urgentis").CombinedOutput(); err != nil {
		fmt.Fprintf(os.Stderr, "build: %s\n%s", err, out)
		os.Exit(1)
	}
	code := m.Run()
	os.RemoveAll(dir)
	os.Exit(code)
}

// stage is a service process that can be killed, with the fleet outside of it.
type stage struct {
	t        *testing.T
	url      string
	dir      string
	listen   string
	fleet    *demo.Fleet
	admin    *api.ClientWithResponses
	approver *api.ClientWithResponses
	source   string
	mu       sync.Mutex
	proc     *exec.Cmd
	log      bytes.Buffer
	kills    int
}

func set(t *testing.T) *stage {
	s := &stage{t: t, url: testdb.URL(t), dir: t.TempDir()}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	s.listen = l.Addr().String()
	require.NoError(t, l.Close())
	s.fleet, err = demo.FreeFleet(filepath.Join(s.dir, "fleet"))
	require.NoError(t, err)
	t.Cleanup(s.fleet.Stop)
	s.up()
	t.Cleanup(s.kill)
	st, err := store.Open(context.Background(), s.url, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	defer st.Close()
	token := testapi.Token(t, st, "admin", "test", access.Admin)
	s.admin, err = demo.Client("http://"+s.listen, token)
	require.NoError(t, err)
	// Who pushed the runbook does not approve what it changes.
	token = testapi.Token(t, st, "approver", "somebody else", access.Approver)
	s.approver, err = demo.Client("http://"+s.listen, token)
	require.NoError(t, err)
	s.source, err = demo.SetUp(context.Background(), s.admin, s.fleet, nil, "")
	require.NoError(t, err)
	return s
}

func (s *stage) up() {
	s.mu.Lock()
	args := []string{"serve", "--data-dir", s.dir, "--listen", s.listen, "--allow-net", "127.0.0.0/8", "--log-level",
		"error"}
	if s.url != "" { // else it has a database of its own
		args = append(args, "--database", s.url)
	}
	s.proc = exec.Command(program, args...)
	s.proc.Stderr = &s.log
	require.NoError(s.t, s.proc.Start())
	s.mu.Unlock()
	require.Eventually(s.t, func() bool {
		r, err := http.Get("http://" + s.listen + "/readyz")
		if err != nil {
			return false
		}
		r.Body.Close()
		return r.StatusCode == 200
	}, time.Minute, 20*time.Millisecond)
}

// kill is kill -9.
func (s *stage) kill() {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.proc != nil {
		s.proc.Process.Kill() //nolint:errcheck // it may be dead
		s.proc.Wait()         //nolint:errcheck // it was killed
		s.proc = nil
		s.kills++
	}
}

// alert breaks the queue and reports it, as often as it takes to be answered.
func (s *stage) alert() {
	s.fleet.Queue.Break()
	require.Eventually(
		s.t,
		func() bool { d, _ := s.fleet.Queue.Depth(); return d > 250 },
		time.Minute,
		50*time.Millisecond,
	)
	require.Eventually(s.t, func() bool {
		req, err := http.NewRequest(http.MethodPost, "http://"+s.listen+"/in/harbour-watch", strings.NewReader(
			`{"key":"d","severity":"major","summary":"deep","service":"berth-queue","labels":{"signal":"queue_depth","queue":"quay-north"}}`,
		))
		require.NoError(s.t, err)
		req.Header.Set("Authorization", "Bearer "+s.source)
		res, err := http.DefaultClient.Do(req)
		if err != nil {
			return false
		}
		res.Body.Close()
		return res.StatusCode == http.StatusAccepted
	}, time.Minute, 100*time.Millisecond)
}

// person approves gates, and answers what became of a change by looking at the hosts. It reports whether the incident
// is closed.
func (s *stage) person() (*api.Incident, error) {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	g, err := s.admin.ListGatesWithResponse(ctx)
	if err != nil || g.JSON200 == nil {
		return nil, err
	}
	for _, x := range *g.JSON200 {
		if _, err := s.approver.DecideGateWithResponse(ctx, x.Id, api.Decision{Approve: true,
			Digest: x.Digest}); err != nil {
			return nil, err
		}
	}
	q, err := s.admin.ListQuestionsWithResponse(ctx)
	if err != nil || q.JSON200 == nil {
		return nil, err
	}
	for _, x := range *q.JSON200 {
		choice := flow.DoItAgain
		if len(s.fleet.Queue.Changes()) > 0 {
			choice = flow.Happened
		}
		if _, err := s.approver.AnswerQuestionWithResponse(ctx, x.Id, api.Answer{Choice: choice}); err != nil {
			return nil, err
		}
	}
	r, err := s.admin.GetIncidentWithResponse(ctx, 1, nil)
	if err != nil || r.JSON200 == nil {
		return nil, err
	}
	return &r.JSON200.Incident, nil
}

// ends brings the story to its end and proves that it is the right one.
func (s *stage) ends() {
	var inc *api.Incident
	require.Eventually(s.t, func() bool {
		i, err := s.person()
		if err == nil && i != nil {
			inc = i
		}
		return inc != nil && (inc.State == "closed" || inc.WaitingOn == "person")
	}, 90*time.Second, 100*time.Millisecond, "the run is stuck; the service said: %s", &s.log)
	assert.Equal(s.t, "repaired", inc.Outcome, "%+v", inc)
	assert.Len(s.t, s.fleet.Queue.Changes(), 1, "the message was parked once")
	v, err := s.admin.VerifyIncidentWithResponse(context.Background(), 1)
	require.NoError(s.t, err)
	assert.True(s.t, v.JSON200.Whole, v.JSON200.Says)
	var runs *api.ListRunsResponse
	runs, err = s.admin.ListRunsWithResponse(context.Background(), &api.ListRunsParams{Limit: 10})
	require.NoError(s.t, err)
	// What begins by the clock, such as the nightly look at the clocks, is none of the alert's.
	started := 0
	for _, r := range runs.JSON200.Items {
		if r.Runbook == "berth-queue-backlog" {
			started++
		}
	}
	assert.Equal(s.t, 1, started, "the alert started one run")
}

// at kills the service when a host begins the nth command of a run with this word, and starts it again. Others look as
// well: watches, and whoever keeps an open gate informed.
func (s *stage) at(word string, n int) chan struct{} {
	done := make(chan struct{})
	var mu sync.Mutex
	seen := 0
	s.fleet.Watch(func(_ *demo.Host, attempt string, words []string) {
		mu.Lock()
		defer mu.Unlock()
		if len(words) > 1 && words[1] == word && strings.HasPrefix(attempt, "r") {
			if seen++; seen == n {
				s.kill()
				close(done)
			}
		}
	})
	return done
}

func (s *stage) until(what string, done chan struct{}) {
	for i := 0; ; i++ {
		select {
		case <-done:
			return
		case <-time.After(50 * time.Millisecond):
			require.Less(s.t, i, 600, "never came to %s; the service said: %s", what, &s.log)
			s.person() //nolint:errcheck // the service may be dead
		}
	}
}

func TestKillAtEveryStage(t *testing.T) {
	for _, c := range []struct {
		name, word string
		n          int
	}{
		{"while the first look runs", "depth", 1},
		{"while the last look before the change runs", "depth", 3},
		{"while the change runs", "park", 1},
		{"while the check repeats", "depth", 7},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			s := set(t)
			s.fleet.Queue.ParkTime = 600 * time.Millisecond
			if c.name == "while the check repeats" {
				// So deep that the first looks after the change still see it.
				s.fleet.Queue.Break()
				require.Eventually(
					t,
					func() bool { d, _ := s.fleet.Queue.Depth(); return d > 900 },
					time.Minute,
					50*time.Millisecond,
				)
			}
			done := s.at(c.word, c.n)
			s.alert()
			s.until(c.name, done)
			s.up()
			s.ends()
			assert.Equal(t, 1, s.kills)
		})
	}
}

func TestKillBeforeTheLookBegins(t *testing.T) {
	t.Parallel()
	s := set(t)
	s.alert() // answered with 202: it is on disk
	s.kill()
	s.up()
	s.ends()
}

func TestKillWhileTheGateWaits(t *testing.T) {
	t.Parallel()
	s := set(t)
	s.alert()
	require.Eventually(t, func() bool {
		g, err := s.admin.ListGatesWithResponse(context.Background())
		return err == nil && g.JSON200 != nil && len(*g.JSON200) == 1
	}, time.Minute, 50*time.Millisecond)
	s.kill()
	assert.Empty(t, s.fleet.Queue.Changes())
	s.up()
	s.ends()
}

func TestKillAtRandom(t *testing.T) {
	for i := range 2 {
		seed := uint64(time.Now().UnixNano()) + uint64(i)
		t.Run(fmt.Sprint("seed ", seed), func(t *testing.T) {
			t.Parallel()
			r := rand.New(rand.NewPCG(seed, 0)) //nolint:gosec // it is a test
			s := set(t)
			s.alert()
			for range 3 {
				end := time.Now().Add(time.Duration(r.IntN(9000)) * time.Millisecond)
				for ; time.Now().Before(end); time.Sleep(20 * time.Millisecond) {
					s.person() //nolint:errcheck // the service may be on its way up
				}
				s.kill()
				s.up()
			}
			s.ends()
		})
	}
}
