package crash

import (
	"context"
	_ "embed"
	"encoding/json"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/api"
	"urgentis/core/access"
	"urgentis/core/flow"
	"urgentis/internal/demo"
	"urgentis/internal/localdb"
	"urgentis/internal/store"
	"urgentis/internal/testapi"
	"urgentis/internal/testdb"
)

//go:embed storm.yaml
var stormBook string

// node is one service process of several on one database.
type node struct {
	listen   string
	admin    *api.ClientWithResponses
	approver *api.ClientWithResponses
	proc     *exec.Cmd
	gone     chan struct{} // closed once the process has ended
	frozen   time.Time
	step     string // the file by which its wall clock steps
	log      logFile
}

// logFile is the name of what a process writes what it says to.
type logFile string

func (f logFile) String() string {
	said, _ := os.ReadFile(string(f)) //nolint:errcheck // what is not there says nothing
	return string(said)
}

// storm is three service processes, a database and hosts, all of which can be hurt.
type storm struct {
	t      *testing.T
	dir    string
	db     *localdb.Server
	fleet  *demo.Fleet
	nodes  []*node
	token  string
	source string
	mu     sync.Mutex
	taken  map[string]string // alert answered with 202, by its key
	again  map[string]int    // attempts that a person had done again
	faults map[string]int
	// program is what the processes run; clocks says that their wall clocks step.
	program string
	clocks  bool
	// calm is held by whoever reports an alert, and by whoever loses what was written last: what was taken is kept.
	calm sync.RWMutex
}

func newStorm(t *testing.T, clocks bool) *storm {
	// The account postgres must reach the directory when root runs the tests.
	dir, err := os.MkdirTemp("", "urgentis-storm-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(dir, 0o755)) //nolint:gosec // see above
	s := &storm{t: t, dir: dir, taken: map[string]string{}, again: map[string]int{}, faults: map[string]int{},
		program: program, clocks: clocks}
	if clocks {
		s.program = stepped(t)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	ctx := context.Background()
	s.fleet, err = demo.FreeFleet(filepath.Join(dir, "fleet"))
	require.NoError(t, err)
	t.Cleanup(s.fleet.Stop)
	s.fleet.Works.Slow = 150 * time.Millisecond
	s.fleet.Sessions = 10
	s.fleet.Works.Refuses = func(key string) bool { return strings.HasSuffix(key, "7-forth") }
	s.db, err = localdb.StartOn(ctx, filepath.Join(dir, "db"), s.fleet.Net+".60", 5432, "storm")
	require.NoError(t, err)
	t.Cleanup(func() { s.db.Stop() }) //nolint:errcheck // the test is over
	for i := range 3 {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		s.nodes = append(s.nodes, &node{listen: l.Addr().String(), step: filepath.Join(dir, fmt.Sprint("step-", i))})
		require.NoError(t, l.Close())
	}
	t.Cleanup(func() {
		for _, n := range s.nodes {
			s.kill(n)
		}
	})
	for _, n := range s.nodes {
		s.up(n)
	}
	s.ready(s.nodes[0])
	st, err := store.Open(ctx, s.db.URL, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	defer st.Close()
	s.token = testapi.Token(t, st, "admin", "test", access.Admin)
	// Who pushed the runbook does not approve what it changes.
	approver := testapi.Token(t, st, "approver", "somebody else", access.Approver)
	for _, n := range s.nodes {
		n.admin, err = demo.Client("http://"+n.listen, s.token)
		require.NoError(t, err)
		n.approver, err = demo.Client("http://"+n.listen, approver)
		require.NoError(t, err)
	}
	s.source, err = demo.SetUp(ctx, s.nodes[0].admin, s.fleet, nil, "")
	require.NoError(t, err)
	// Many hosts of one service, so that runs meet on some of them and not on all.
	for _, h := range s.fleet.Hosts {
		r, err := s.nodes[0].admin.SetTargetWithResponse(
			ctx,
			nil,
			api.Target{
				Name:    h.Name,
				Service: "berth-queue",
				Address: h.Address,
				Port:    demo.SSHPort,
				Account: s.fleet.Account,
				Secret:  "fleet-key",
				HostKey: h.HostKey,
				Labels:  h.Labels,
			},
		)
		require.NoError(t, err)
		require.NotNil(t, r.JSON200, string(r.Body))
	}
	// Each alert is an incident of its own, as each run is to close one.
	p, err := s.nodes[0].admin.PushWithResponse(ctx, api.NewPush{Files: []api.PushFile{{Name: "join.yaml",
		Text: "urgentis: join/1\nname: each\nby: [alert.key]\nwithin: 1m\n---\n" +
			"urgentis: reader/1\nname: storm\nprograms: {works: any}\n"}}})
	require.NoError(t, err)
	require.NotNil(t, p.JSON200, string(p.Body))
	r, err := s.nodes[0].admin.PushRunbookWithResponse(ctx, api.RunbookText{Text: stormBook})
	require.NoError(t, err)
	require.NotNil(t, r.JSON201, string(r.Body))
	return s
}

func (s *storm) up(n *node) {
	c := exec.Command(s.program, "serve", "--database", s.db.URL, "--data-dir", s.dir, "--listen", n.listen,
		"--allow-net", "127.0.0.0/8", "--log-level", "error")
	c.Env = append(os.Environ(), stepFile+"="+n.step)
	n.begin(s.t, s.dir, c)
}

// supervise has a process begin again that ended, because its database was away as it began, and one go on that was
// frozen for long enough.
func (s *storm) supervise(n *node) {
	select {
	case <-n.gone:
		s.up(n)
	default:
	}
	if time.Now().After(n.frozen) {
		s.wake(n)
	}
}

// ready waits until a process answers.
func (s *storm) ready(n *node) {
	require.Eventually(s.t, func() bool {
		s.supervise(n)
		r, err := quick.Get("http://" + n.listen + "/readyz")
		if err != nil {
			return false
		}
		r.Body.Close()
		return r.StatusCode == http.StatusOK
	}, time.Minute, 50*time.Millisecond, "%s", n.log)
}

// begin starts a process, which says what it says into a directory, and sees when it ends.
func (n *node) begin(t *testing.T, dir string, c *exec.Cmd) {
	n.log = logFile(filepath.Join(dir, "said-"+n.listen[strings.LastIndex(n.listen, ":")+1:]))
	said, err := os.OpenFile(string(n.log), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	require.NoError(t, err)
	defer said.Close() //nolint:errcheck // the process has it
	c.Stderr = said
	require.NoError(t, c.Start())
	gone := make(chan struct{})
	n.proc, n.gone = c, gone
	go func() {
		c.Wait() //nolint:errcheck // however it ended
		close(gone)
	}()
}

func (s *storm) kill(n *node) {
	if n.proc != nil {
		n.proc.Process.Kill() //nolint:errcheck // it may be dead
		<-n.gone
		n.proc = nil
	}
}

// wake lets a frozen process go on.
func (s *storm) wake(n *node) {
	if !n.frozen.IsZero() {
		n.proc.Process.Signal(syscall.SIGCONT) //nolint:errcheck // it may be dead
		n.frozen = time.Time{}
	}
}

// ids are what tells one run's words from another's.
var ids = regexp.MustCompile(`r[a-z2-7]{16}|[0-9]+`)

var quick = &http.Client{Timeout: 3 * time.Second}

// send reports an alert to any process until one answers that it has it.
func (s *storm) send(r *rand.Rand, key string) {
	a := r.IntN(len(s.fleet.Hosts))
	b := (a + 1 + r.IntN(len(s.fleet.Hosts)-1)) % len(s.fleet.Hosts)
	body := fmt.Sprintf(
		`{"key":%q,"severity":"major","summary":"storm %s","service":"berth-queue","labels":{"signal":"storm","key":%q,"a":%q,"b":%q}}`,
		key,
		key,
		key,
		s.fleet.Hosts[a].Name,
		s.fleet.Hosts[b].Name,
	)
	for {
		n := s.nodes[r.IntN(len(s.nodes))]
		req, err := http.NewRequest(http.MethodPost, "http://"+n.listen+"/in/harbour-watch", strings.NewReader(body))
		if err != nil {
			panic(err)
		}
		req.Header.Set("Authorization", "Bearer "+s.source)
		if s.report(key, req) {
			return
		}
		time.Sleep(50 * time.Millisecond)
	}
}

func (s *storm) report(key string, req *http.Request) bool {
	s.calm.RLock()
	defer s.calm.RUnlock()
	res, err := quick.Do(req)
	if err != nil {
		return false
	}
	defer res.Body.Close()
	var got struct{ Alert string }
	json.NewDecoder(res.Body).Decode(&got) //nolint:errcheck // what is no answer counts as none
	if res.StatusCode != http.StatusAccepted {
		return false
	}
	s.mu.Lock()
	s.taken[key] = got.Alert
	s.mu.Unlock()
	return true
}

// person approves, and answers what became of changes by looking at the hosts, as long as the storm lasts.
func (s *storm) person(stop <-chan struct{}) {
	for i := 0; ; i++ {
		select {
		case <-stop:
			return
		case <-time.After(50 * time.Millisecond):
		}
		n := s.nodes[i%len(s.nodes)]
		ctx, cancel := context.WithTimeout(context.Background(), 3*time.Second)
		s.letGoOn(ctx, n)
		if g, err := n.admin.ListGatesWithResponse(ctx); err == nil && g.JSON200 != nil {
			for _, x := range *g.JSON200 {
				n.approver.DecideGateWithResponse(
					ctx,
					x.Id,
					api.Decision{Approve: !s.wasDone(x), Digest: x.Digest},
				) //nolint:errcheck // asked again later
			}
		}
		if q, err := n.admin.ListQuestionsWithResponse(ctx); err == nil && q.JSON200 != nil {
			for _, x := range *q.JSON200 {
				s.answer(ctx, n, x)
			}
		}
		cancel()
	}
}

// letGoOn lets changes go on that were halted because the database was put back: an instance may halt them once more,
// when it only hears of that.
func (s *storm) letGoOn(ctx context.Context, n *node) {
	is, err := n.admin.GetStatusWithResponse(ctx)
	if err != nil || is.JSON200 == nil || is.JSON200.HaltedBy != "urgentis" {
		return
	}
	n.admin.SetHaltWithResponse(ctx, api.Halt{Because: "looked at what was under way"}) //nolint:errcheck // seen next time
}

// works are the words by which a host is asked to do something, or to undo it.
var works = regexp.MustCompile(`works[ /](do|undo|jobs)[ /](k[0-9]+-[a-z]+)`)

// wasDone looks on the hosts whether anything was done before for which a gate asks.
func (s *storm) wasDone(g api.Gate) bool {
	begun, undone := s.fleet.Works.Begun()
	for _, r := range g.Requests {
		m := works.FindStringSubmatch(r.Shown)
		if m == nil {
			s.t.Errorf("a gate shows no work: %s", r.Shown)
			return true
		}
		done := begun
		if m[1] == "undo" {
			done = undone
		}
		if done[m[2]+" on "+r.Target] > 0 {
			return true
		}
	}
	return false
}

// answer says what a host counted of the work that is asked about, whichever attempt did it: one that a database
// forgot which was put back may have.
func (s *storm) answer(ctx context.Context, n *node, q api.Question) {
	work, undo, err := workOf(ctx, n, q)
	if err != nil {
		return // it is asked again
	}
	done, undone := s.fleet.Works.Begun()
	if undo {
		done = undone
	}
	choice := flow.Happened
	if done[work] == 0 {
		choice = flow.DoItAgain
	}
	r, err := n.approver.AnswerQuestionWithResponse(ctx, q.Id, api.Answer{Choice: choice})
	if err == nil && r.StatusCode() == http.StatusNoContent && choice == flow.DoItAgain {
		s.mu.Lock()
		s.again[q.Attempt]++
		s.mu.Unlock()
	}
}

// workOf names the work that a question asks about as hosts count it, and tells whether it is its undo.
func workOf(ctx context.Context, n *node, q api.Question) (string, bool, error) {
	r, err := n.admin.GetRunWithResponse(ctx, q.Run)
	if err != nil {
		return "", false, err
	}
	attempt := strings.Split(q.Attempt, ":") // RUN:PLACE:PURPOSE:TARGET:TRY
	if r.JSON200 == nil {
		return "", false, fmt.Errorf("the run of %s: %s", q.Attempt, r.Status())
	}
	suffix, is := suffixes[q.Title]
	if !is || len(attempt) != 5 {
		panic(fmt.Sprintf("a question about %q, %s", q.Title, q.Attempt))
	}
	work := fmt.Sprint(r.JSON200.Inputs["key"], suffix, " on ", attempt[3])
	return work, strings.HasPrefix(attempt[2], flow.ForUndo), nil
}

// fault hurts something.
func (s *storm) fault(r *rand.Rand) {
	for _, n := range s.nodes {
		s.supervise(n)
	}
	n := s.nodes[r.IntN(len(s.nodes))]
	what := ""
	s.fleet.SignIn.Store(0)
	switch k := r.IntN(100); {
	case k < 8 && s.clocks:
		what = "clock stepped"
		hours := []int{-3600, 0, 3600}[r.IntN(3)]
		require.NoError(s.t, os.WriteFile(n.step, []byte(strconv.Itoa(hours)), 0o600))
	case k < 14:
		what = "halted in the middle"
		s.halt(true)
		time.Sleep(time.Duration(r.IntN(2000)) * time.Millisecond)
		s.halt(false)
	case k < 45:
		what = "killed"
		n.frozen = time.Time{}
		s.kill(n)
		s.up(n)
	case k < 75:
		what = "frozen"
		n.proc.Process.Signal(syscall.SIGSTOP) //nolint:errcheck // it may be dead
		n.frozen = time.Now().Add(time.Duration(r.IntN(9000)) * time.Millisecond)
	case k < 83:
		what = "connections dropped"
		s.fleet.DropConnections()
	case k < 90:
		what = "signing in is slow"
		s.fleet.DropConnections()
		s.fleet.SignIn.Store(int64(r.IntN(12000)) * int64(time.Millisecond))
	case k < 95:
		what = "database restarted"
		s.outage(0)
	case k < 98:
		what = "database put back"
		s.putBack()
	default:
		what = "database away"
		s.outage(time.Duration(r.IntN(30_000)) * time.Millisecond)
	}
	s.faults[what]++
}

// String is what the processes said last, and whether they are there.
func (s *storm) String() string {
	out := ""
	for _, n := range s.nodes {
		said, is := n.log.String(), "there"
		select {
		case <-n.gone:
			is = "gone"
		default:
		}
		out += fmt.Sprintf("%s is %s, frozen until %s, and said …%s\n", n.listen, is, n.frozen, said[max(0, len(said)-1000):])
	}
	return out
}

// halt stops all changes, or lets them go on, by whichever process answers.
func (s *storm) halt(halted bool) {
	because := api.Halt{Halted: halted, Because: "the storm"}
	require.Eventually(s.t, func() bool {
		for _, n := range s.nodes {
			s.supervise(n)
			ctx, cancel := context.WithTimeout(context.Background(), 3*time.Second)
			r, err := n.admin.SetHaltWithResponse(ctx, because)
			cancel()
			if err == nil && r.StatusCode() < 300 {
				return true
			}
		}
		return false
	}, 2*time.Minute, 100*time.Millisecond, "halted: %v; %s", halted, s)
}

// putBack loses the last second of the database. All changes are halted by that until somebody lets them go on.
func (s *storm) putBack() {
	s.calm.Lock()
	defer s.calm.Unlock()
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Minute)
	defer cancel()
	for _, n := range s.nodes {
		s.wake(n) // somebody who knew more must be there
		s.ready(n)
	}
	st, err := store.Open(ctx, s.db.URL, slog.New(slog.DiscardHandler))
	require.NoError(s.t, err)
	defer st.Close()
	// What is lost is known to somebody: an instance that did not beat in between cannot notice.
	const (
		heard   = "select count(*) from instance where fenced_at is null and beat_at > pg_postmaster_start_time()"
		noticed = "select count(*) from setting where key = 'put_back' and value = pg_postmaster_start_time()::text"
	)
	require.NoError(s.t, s.db.PutBack(ctx, func() error {
		s.sees(st, heard, "nobody beats")
		time.Sleep(time.Second)
		return nil
	}))
	s.sees(st, noticed, "nobody noticed that the database was put back")
}

// sees waits until the database counts something.
func (s *storm) sees(st *store.Store, count, otherwise string) {
	require.Eventually(s.t, func() bool {
		for _, n := range s.nodes {
			s.supervise(n)
		}
		var n int
		return testdb.SQL(st).Raw(count).Scan(&n).Error == nil && n > 0
	}, time.Minute, 50*time.Millisecond, "%s; %s", otherwise, s)
}

func (s *storm) outage(long time.Duration) { s.outageUntil(time.After(long)) }

func (s *storm) outageUntil(again <-chan time.Time) {
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Minute)
	defer cancel()
	require.NoError(s.t, s.db.Crash(ctx, again))
}

// TestStorm runs many runs with every verb on three processes, hurts processes and database at random, and then
// proves from the hosts' own counters and from the logs that nothing was lost, stuck or begun twice.
// URGENTIS_STORM_FAULTS and URGENTIS_STORM_SEED set how many faults, and which; URGENTIS_STORM_ASIDE has a short one
// have alerts and people beside its runs too.
func TestStorm(t *testing.T) {
	faults, seed := 10, uint64(time.Now().UnixNano())
	if n, err := strconv.Atoi(os.Getenv("URGENTIS_STORM_FAULTS")); err == nil {
		faults = n
	}
	if n, err := strconv.ParseUint(os.Getenv("URGENTIS_STORM_SEED"), 10, 64); err == nil {
		seed = n
	}
	t.Logf("seed %d, %d faults", seed, faults)
	// Building the program once more takes minutes: only where there is a storm of some length.
	s := newStorm(t, faults > 50)
	r := rand.New(rand.NewPCG(seed, 0)) //nolint:gosec // it is a test
	stop := make(chan struct{})
	var people, senders sync.WaitGroup
	people.Go(func() { s.person(stop) })
	// What goes on beside the runs takes minutes to be told to its end: only where there is a storm of some length.
	var beside *aside
	quiet := make(chan struct{})
	var besides sync.WaitGroup
	if faults > 50 || os.Getenv("URGENTIS_STORM_ASIDE") != "" {
		beside = newAside(s, seed)
		besides.Go(func() { beside.goOn(quiet) })
	}
	runs, began := 0, time.Now()
	for range faults {
		key := fmt.Sprintf("k%d", runs)
		sender := rand.New(rand.NewPCG(seed, uint64(runs)+1)) //nolint:gosec // it is a test
		runs++
		senders.Go(func() { s.send(sender, key) })
		time.Sleep(time.Duration(200+r.IntN(1500)) * time.Millisecond)
		s.fault(r)
	}
	for _, n := range s.nodes {
		s.wake(n)
	}
	s.fleet.SignIn.Store(0)
	senders.Wait()
	close(quiet)
	besides.Wait()
	s.halt(false) // that it was let go on may be what a database lost that was put back
	stormed := time.Now()
	s.settles(runs)
	t.Logf("the storm took %s, settling %s", stormed.Sub(began).Round(time.Second),
		time.Since(stormed).Round(time.Second))
	close(stop)
	people.Wait()
	s.prove(runs)
	if beside != nil {
		beside.prove()
	}
}

// TestARestartOfTheDatabaseLosesNothing restarts the database while runs write: nobody says that it was put back.
func TestARestartOfTheDatabaseLosesNothing(t *testing.T) {
	s := newStorm(t, false)
	r := rand.New(rand.NewPCG(1, 0)) //nolint:gosec // it is a test
	stop := make(chan struct{})
	var people sync.WaitGroup
	people.Go(func() { s.person(stop) })
	const runs = 12
	for i := range runs {
		s.send(r, fmt.Sprintf("k%d", i))
		time.Sleep(time.Second)
		if i%2 == 1 {
			s.outage(0)
		}
	}
	s.settles(runs)
	close(stop)
	people.Wait()
	s.prove(runs)
}

// settles waits until no run is under way.
func (s *storm) settles(runs int) {
	ctx := context.Background()
	st, err := store.Open(ctx, s.db.URL, slog.New(slog.DiscardHandler))
	require.NoError(s.t, err)
	defer st.Close()
	// Runs queue for the hosts that they share: what counts is that they come to an end one after the other.
	var left []store.Run
	before, ok := -1, false
	for moved := time.Now(); !ok && time.Since(moved) < 3*time.Minute; time.Sleep(200 * time.Millisecond) {
		for _, n := range s.nodes {
			s.supervise(n)
		}
		var now []store.Run
		if err := testdb.SQL(st).Raw("select * from run where ended_at is null").Scan(&now).Error; err != nil {
			continue
		}
		left, ok = now, len(now) == 0
		if len(left) != before {
			before, moved = len(left), time.Now()
		}
	}
	if !ok {
		s.t.Errorf("%d runs do not end", len(left))
	}
	for _, x := range left {
		var last []store.Event
		testdb.SQL(st).Raw("select * from event where run = ? order by seq desc limit 3", x.ID).Scan(&last)
		if len(last) > 0 {
			s.t.Logf("stuck: %s %s on %s, last %s %s", x.ID, x.State, x.WaitsOn, last[0].Path, last[0].Kind)
		}
	}
	if !ok {
		for _, n := range s.nodes {
			s.t.Logf("%s said: %s", n.listen, n.log)
		}
		s.t.FailNow()
	}
}

func (s *storm) prove(runs int) {
	ctx := context.Background()
	st, err := store.Open(ctx, s.db.URL, slog.New(slog.DiscardHandler))
	require.NoError(s.t, err)
	defer st.Close()
	var alerts []string
	require.NoError(s.t, testdb.SQL(st).Raw("select id from alert").Scan(&alerts).Error)
	assert.Len(s.t, s.taken, runs)
	for key, id := range s.taken {
		assert.Contains(s.t, alerts, id, "alert %s was answered with 202", key)
	}
	var list []store.Run
	require.NoError(s.t, testdb.SQL(st).Raw("select * from run where runbook = 'storm'").Scan(&list).Error)
	assert.Len(s.t, list, runs, "one run for each alert")
	ends := map[string]int{}
	for _, x := range list {
		ends[x.State]++
		if x.State != flow.Done {
			ends[ids.ReplaceAllString(x.Because, "…")]++
		}
		assert.Contains(s.t, []string{flow.Done, flow.HandedOver}, x.State, x.Because)
	}
	if s.faults["database put back"] == 0 {
		var noted int
		require.NoError(s.t, testdb.SQL(st).Raw("select count(*) from setting where key = 'put_back'").Scan(&noted).Error)
		assert.Zero(s.t, noted, "a database that was restarted is none that was put back")
	}
	// Nothing was begun twice, but where a person said so, having seen that it had not begun.
	var intents []store.Event
	require.NoError(
		s.t,
		testdb.SQL(st).
			Raw("select * from event where kind = 'attempt.intended' and body like '%\"change\":true%'").
			Scan(&intents).
			Error,
	)
	seen := map[string]bool{}
	for _, e := range intents {
		var in flow.Intent
		require.NoError(s.t, json.Unmarshal([]byte(e.Body), &in))
		assert.False(s.t, seen[in.Attempt], "attempt %s is intended twice", in.Attempt)
		seen[in.Attempt] = true
		assert.LessOrEqual(
			s.t,
			s.fleet.Works.Attempt(in.Attempt),
			1,
			"attempt %s was begun twice on its host",
			in.Attempt,
		)
		if s.again[in.Attempt] > 0 {
			assert.Zero(
				s.t,
				s.fleet.Works.Attempt(in.Attempt),
				"attempt %s was begun after a person had it done again",
				in.Attempt,
			)
		}
	}
	begun, undone := s.fleet.Works.Begun()
	for key, n := range begun {
		assert.LessOrEqual(s.t, n, 1, "%s was begun %d times", key, n)
	}
	for key, n := range undone {
		assert.LessOrEqual(s.t, n, 1, "%s was taken back %d times", key, n)
	}
	// No log has a gap, no lock is left, every record is whole.
	var gaps int64
	require.NoError(
		s.t,
		testdb.SQL(st).
			Raw("select count(*) from (select run, count(*) n, max(seq) m from event group by run) x where n <> m").
			Scan(&gaps).
			Error,
	)
	assert.Zero(s.t, gaps)
	var locks int64
	require.NoError(
		s.t,
		testdb.SQL(st).Raw("select (select count(*) from hold) + (select count(*) from awaiting)").Scan(&locks).Error,
	)
	assert.Zero(s.t, locks)
	s.proveSentences(st)
	s.proveIncidents(st, runs)
	s.t.Logf(
		"%d runs, %d changes begun, %d taken back, %d done again by a person; faults %v; ends %v",
		runs,
		len(begun),
		len(undone),
		len(s.again),
		s.faults,
		ends,
	)
}

// proveIncidents proves that each alert of the storm has one incident, whatever alerts of our own joined or opened
// others (the storm may burn an objective's budget), and that every record is whole.
func (s *storm) proveIncidents(st *store.Store, runs int) {
	type opened struct {
		Number int64
		Storms int
		Others int // alerts that are neither of the storm nor of our own
		Alerts string
	}
	var incidents []opened
	require.NoError(s.t, testdb.SQL(st).Raw(`select i.number,
		count(a.id) filter (where a.labels->>'signal' = 'storm') storms,
		count(a.id) filter (where a.labels->>'signal' is distinct from 'storm'
			and a.labels->>'signal' is distinct from 'aside' and a.source <> 'urgentis') others,
		coalesce(string_agg(a.source || ' ' || a.key || ': ' || a.summary, '; '), '') alerts
		from incident i left join alert a on a.incident = i.number group by i.number`).Scan(&incidents).Error)
	storms := 0
	for _, i := range incidents {
		storms += i.Storms
		if i.Storms == 0 {
			s.t.Logf("incident %d is none of the storm's: %s", i.Number, i.Alerts)
		}
		// Alerts of our own (an objective, a source that is silent where the machine is slow) and runs that began by
		// the clock may open others.
		assert.Zero(s.t, i.Others, i.Alerts)
		assert.LessOrEqual(s.t, i.Storms, 1, "incident %d: %s", i.Number, i.Alerts)
		_, err := st.Verify(context.Background(), i.Number)
		assert.NoError(s.t, err, "incident %d", i.Number)
	}
	assert.Equal(s.t, runs, storms, "%v", incidents)
}
