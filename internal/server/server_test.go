package server_test

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"context"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/text/encoding/unicode"

	"urgentis/api"
	"urgentis/core/access"
	"urgentis/internal/app"
	"urgentis/internal/service"
	"urgentis/internal/store"
	"urgentis/internal/testapi"
	"urgentis/internal/testdb"
)

type site struct {
	t *testing.T
	*service.Instance
}

func start(t *testing.T) *site { return startWith(t, func(*service.Config) {}) }

func startWith(t *testing.T, set func(*service.Config)) *site {
	c := service.Config{
		Database: testdb.URL(t),
		DataDir:  t.TempDir(),
		Listen:   "127.0.0.1:0",
		Version:  "test",
		Log:      slog.New(slog.DiscardHandler),
	}
	set(&c)
	i, err := service.Start(context.Background(), c)
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	go i.Serve(ctx) //nolint:errcheck // it ends with the context
	t.Cleanup(func() { cancel(); assert.NoError(t, i.Stop()) })
	return &site{t, i}
}

func (s *site) token(role access.Role) string {
	return testapi.Token(s.t, s.Store, "t-"+string(role), "test", role)
}

// do sends a request; headers are pairs.
func (s *site) do(method, path, body string, headers ...string) (int, http.Header, string) {
	req, err := http.NewRequest(method, s.Link+path, strings.NewReader(body))
	require.NoError(s.t, err)
	if body != "" {
		req.Header.Set("Content-Type", "application/json")
	}
	for i := 0; i+1 < len(headers); i += 2 {
		req.Header.Set(headers[i], headers[i+1])
	}
	res, err := http.DefaultClient.Do(req)
	require.NoError(s.t, err)
	defer res.Body.Close()
	out, err := io.ReadAll(res.Body)
	require.NoError(s.t, err)
	return res.StatusCode, res.Header, string(out)
}

func TestMain(m *testing.M) {
	testapi.Check()
	os.Exit(m.Run())
}

func bearer(t string) []string { return []string{"Authorization", "Bearer " + t} }

// Every operation of the contract is tried by everybody: who fulfils its rule gets past it, nobody else.
func TestEveryEndpointAndRole(t *testing.T) {
	s := start(t)
	doc, err := openapi3.NewLoader().LoadFromData(api.Document)
	require.NoError(t, err)
	tokens := map[access.Role]string{}
	for _, r := range access.Roles {
		tokens[r] = s.token(r)
	}
	may := map[access.Role]string{
		access.Viewer: "viewer", access.Responder: "viewer responder", access.Operator: "viewer responder operator",
		access.Approver: "viewer responder approver",
		access.Author:   "viewer author", access.Admin: "viewer responder operator approver author admin",
	}
	n := 0
	for path, item := range doc.Paths.Map() {
		for method, op := range item.Operations() {
			rule, _ := op.Extensions["x-role"].(string)
			require.NotEmpty(t, rule, "%s %s", method, path)
			if rule == "source" || path == "/api/v1/stream" {
				continue // they have tests of their own
			}
			url := strings.NewReplacer("{name}", "nothing", "{id}", "nothing", "{number}", "999").Replace(path)
			body := ""
			if op.RequestBody != nil {
				body = "{}"
			}
			status, _, said := s.do(method, url, body)
			if rule == "anybody" {
				assert.NotContains(t, []int{401, 403}, status, "%s %s by nobody: %s", method, path, said)
			} else {
				assert.Equal(t, 401, status, "%s %s by nobody", method, path)
			}
			for role, token := range tokens {
				n++
				status, _, said := s.do(method, url, body, bearer(token)...)
				allowed := rule == "anybody" || rule == "signed-in" || strings.Contains(" "+may[role]+" ", " "+rule+" ")
				assert.Equal(t, !allowed, status == 403, "%s %s by %s: %d %s", method, path, role, status, said)
				assert.Less(t, status, 500, "%s %s by %s: %s", method, path, role, said)
			}
		}
	}
	assert.Greater(t, n, 200)
	status, _, _ := s.do("GET", "/api/v1/stream", "")
	assert.Equal(t, 401, status)
}

func TestSetUpSignInAndOut(t *testing.T) {
	s := start(t)
	code, err := s.App.SetupCode(context.Background())
	require.NoError(t, err)
	status, _, _ := s.do("POST", "/api/v1/setup", `{"code":"wrong","name":"iva","password":"long enough 1"}`)
	assert.Equal(t, 403, status)
	status, _, said := s.do("POST", "/api/v1/setup", `{"code":"`+code+`","name":"iva","password":"short"}`)
	assert.Equal(t, 400, status)
	assert.Contains(t, said, "password")
	status, _, said = s.do("POST", "/api/v1/setup", `{"code":"`+code+`","name":"iva","password":"long enough 1"}`)
	require.Equal(t, 201, status, said)
	status, _, _ = s.do("POST", "/api/v1/setup", `{"code":"`+code+`","name":"eve","password":"long enough 1"}`)
	assert.Equal(t, 403, status, "the code works once")

	status, _, said = s.do("POST", "/api/v1/session", `{"name":"iva","password":"wrong"}`)
	assert.Equal(t, 401, status)
	_, _, other := s.do("POST", "/api/v1/session", `{"name":"nobody","password":"wrong"}`)
	assert.Equal(t, said, other, "an answer does not tell who exists")
	status, h, _ := s.do("POST", "/api/v1/session", `{"name":"iva","password":"long enough 1"}`)
	require.Equal(t, 200, status)
	cookie := h.Get("Set-Cookie")
	assert.Contains(t, cookie, "HttpOnly")
	assert.Contains(t, cookie, "SameSite=Strict")
	session := strings.SplitN(cookie, ";", 2)[0]

	status, _, said = s.do("GET", "/api/v1/session", "", "Cookie", session)
	assert.Equal(t, 200, status)
	assert.JSONEq(t, `{"name":"iva","person":"iva","kind":"person","roles":["admin"],
		"may":["viewer","responder","operator","approver","author","admin"]}`, said)
	status, _, said = s.do("PUT", "/api/v1/halt", `{"halted":true}`, "Cookie", session, "Sec-Fetch-Site", "cross-site")
	assert.Equal(t, 403, status)
	assert.Contains(t, said, "another site")
	status, _, _ = s.do("DELETE", "/api/v1/session", "", "Cookie", session)
	assert.Equal(t, 204, status)
	status, _, _ = s.do("GET", "/api/v1/session", "", "Cookie", session)
	assert.Equal(t, 401, status)
}

func TestSignInIsThrottled(t *testing.T) {
	s := start(t)
	// A slow machine earns tries back while it counts; ten and some more are still too many.
	last := 0
	for i := 0; i < 40 && last != 429; i++ {
		last, _, _ = s.do("POST", "/api/v1/session", `{"name":"iva","password":"wrong"}`)
	}
	assert.Equal(t, 429, last)
}

func TestIntake(t *testing.T) {
	s := start(t)
	admin := s.token(access.Admin)
	status, _, said := s.do("POST", "/api/v1/sources", `{"name":"mon"}`, bearer(admin)...)
	require.Equal(t, 201, status, said)
	var src api.TokenShown
	require.NoError(t, json.Unmarshal([]byte(said), &src))
	post := func(body string, headers ...string) (int, string) {
		st, _, out := s.do("POST", "/in/mon", body, append(bearer(src.Token), headers...)...)
		return st, out
	}
	status, said = post(`{"key":"k","severity":"major","summary":"deep"}`)
	require.Equal(t, 202, status, said)
	var taken api.Taken
	require.NoError(t, json.Unmarshal([]byte(said), &taken))
	assert.EqualValues(t, "new", taken.Change)
	st, _, got := s.do("GET", strings.TrimPrefix(taken.Link, s.Link), "", bearer(admin)...)
	assert.Equal(t, 200, st, "the link leads to the alert: %s", got)
	status, said = post(
		`{"severity":"major","summary":"deep"}`,
		"Ce-Specversion",
		"1.0",
		"Ce-Id",
		"1",
		"Ce-Source",
		"m",
		"Ce-Type",
		"t",
		"Ce-Subject",
		"k",
	)
	require.Equal(t, 202, status, said)
	assert.Contains(t, said, "repeat")
	status, said = post(
		`{"specversion":"1.0","id":"2","source":"m","type":"t","subject":"k","data":{"severity":"cleared"}}`,
		"Content-Type",
		"application/cloudevents+json",
	)
	require.Equal(t, 202, status, said)
	assert.Contains(t, said, "cleared")

	status, said = post(
		`[{"key":"a","severity":"major","summary":"one"},{"key":"b","severity":"minor","summary":"two"},{"key":"a","severity":"major","summary":"one"}]`,
	)
	require.Equal(t, 202, status, said)
	var list []api.Taken
	require.NoError(t, json.Unmarshal([]byte(said), &list))
	require.Len(t, list, 3)
	assert.Equal(t, list[0].Alert, list[2].Alert)
	assert.NotEqual(t, list[0].Alert, list[1].Alert)
	assert.EqualValues(t, "repeat", list[2].Change)

	// What cannot be read is kept as it came, and told.
	unparsed := 0
	for body, want := range map[string]string{
		"": "the body is empty", "{": "not JSON", `{"severity":"awful","summary":"x"}`: "severity",
		`[]`: "the list is empty", `"x"`: "must be an object", "[1]": "must be an object",
		`{"severity":"major","summary":"` + strings.Repeat("x", 300<<10) + `"}`: "bytes",
		strings.Repeat("[", 100000): "nested",
	} {
		status, said = post(body)
		assert.Equal(t, 202, status, said)
		assert.Contains(t, said, want)
		assert.Contains(t, said, `"change":"unparsed"`)
		unparsed++
	}
	status, said = post(`[{"key":"c","severity":"major","summary":"one"},{"severity":"odd"}]`)
	require.Equal(t, 202, status, said)
	require.NoError(t, json.Unmarshal([]byte(said), &list))
	require.Len(t, list, 2)
	assert.EqualValues(t, "new", list[0].Change)
	assert.Contains(t, list[1].Says, `item 2 of 2: severity is "odd"`)
	_, _, said = s.do("GET", "/api/v1/unparsed?source=mon", "", bearer(admin)...)
	var kept []api.Unparsed
	require.NoError(t, json.Unmarshal([]byte(said), &kept))
	assert.Len(t, kept, unparsed+1)
	st, _, said = s.do(
		"POST",
		"/in/mon",
		`{"severity":"major","summary":"`+strings.Repeat("x", 2<<20)+`"}`,
		bearer(src.Token)...)
	assert.Equal(t, 413, st, said)
	for _, tok := range []string{"", "wrong", admin} {
		st, _, _ = s.do("POST", "/in/mon", `{"severity":"major","summary":"x"}`, bearer(tok)...)
		assert.Equal(t, 401, st)
	}
	st, _, _ = s.do("POST", "/in/other", `{"severity":"major","summary":"x"}`, bearer(src.Token)...)
	assert.Equal(t, 401, st)
}

func TestBadRequestsSayWhatIsWrong(t *testing.T) {
	s := start(t)
	admin := s.token(access.Admin)
	for _, c := range []struct{ method, path, body, want string }{
		{"POST", "/api/v1/services", `{"name":"Bad Name","owner":"x"}`, "name"},
		{"POST", "/api/v1/services", `{"name":"x"}`, "owner"},
		{"POST", "/api/v1/targets", `{"name":"x","service":"y","address":"a b"}`, "address must be"},
		{"POST", "/api/v1/targets", `{"name":"x","service":"y","address":"a","host_key":"nonsense"}`,
			"host key cannot be read"},
		{"POST", "/api/v1/targets", `{"name":"x","service":"y","address":"a","secret":"none"}`,
			"there is no secret none"},
		{"POST", "/api/v1/secrets", `{"name":"x","kind":"ssh-key","value":"nonsense"}`, "no SSH private key"},
		{"POST", "/api/v1/connections", `{"name":"x","url":"file:///etc/passwd"}`, "http or https"},
		{"GET", "/api/v1/incidents?limit=1000", "", "limit"},
		{"GET", "/api/v1/incidents?cursor=zzz", "", "cursor is not one of ours"},
		{"POST", "/api/v1/runs", `{"runbook":"none"}`, "there is no runbook none"},
		{"POST", "/api/v1/runbooks", `{"text":"a: b"}`, "the runbook has errors"},
		{"GET", "/api/v1/nothing", "", "no such address"},
		{"DELETE", "/api/v1/incidents", "", "cannot be done to this address"},
	} {
		status, h, said := s.do(c.method, c.path, c.body, bearer(admin)...)
		assert.GreaterOrEqual(t, status, 400, c)
		assert.Less(t, status, 500, c)
		assert.Contains(t, said, c.want)
		assert.Equal(t, "application/problem+json", h.Get("Content-Type"), c)
	}
}

func TestHeadersAndPages(t *testing.T) {
	s := start(t)
	for path, want := range map[string]string{"/healthz": "ok", "/readyz": "ready",
		"/openapi.yaml": "openapi: 3.0.3", "/api": "Report a condition", "/metrics": "urgentis_incidents_open 0"} {
		status, h, said := s.do("GET", path, "")
		assert.Equal(t, 200, status, path)
		assert.Contains(t, said, want, path)
		assert.Contains(t, h.Get("Content-Security-Policy"), "frame-ancestors 'none'")
		assert.Equal(t, "nosniff", h.Get("X-Content-Type-Options"))
	}
}

// What is worth an alarm is counted.
func TestWhatIsCounted(t *testing.T) {
	s := start(t)
	_, _, before := s.do("GET", "/metrics", "")
	for _, name := range []string{
		"urgentis_instances 1", "urgentis_halted 0", "urgentis_gates_open 0", "urgentis_beat_lag_seconds_bucket",
		"go_goroutines",
	} {
		assert.Eventually(t, func() bool {
			_, _, before = s.do("GET", "/metrics", "")
			return strings.Contains(before, name)
		}, time.Minute, 100*time.Millisecond, name)
	}
	token, err := s.App.AddSource(
		context.Background(),
		access.OnTheMachine("t"),
		app.NewKey{Source: "mon", CallBack: ""},
	)
	require.NoError(t, err)
	counted := func(text string) string {
		return regexp.MustCompile(`urgentis_alerts_total\{change="new"\} (\d+)`).FindString(text)
	}
	status, _, said := s.do("POST", "/in/mon", `{"key":"k","severity":"major","summary":"deep"}`, bearer(token.Token)...)
	require.Equal(t, 202, status, said)
	_, _, after := s.do("GET", "/metrics", "")
	assert.NotEmpty(t, counted(after))
	assert.NotEqual(t, counted(before), counted(after))
}

func TestMetricsCanBeClosed(t *testing.T) {
	for how, want := range map[string][2]int{"open": {200, 200}, "signed-in": {401, 200}, "off": {404, 404}} {
		s := startWith(t, func(c *service.Config) { c.Metrics = how })
		status, _, _ := s.do("GET", "/metrics", "")
		assert.Equal(t, want[0], status, how)
		status, _, _ = s.do("GET", "/metrics", "", bearer(s.token(access.Viewer))...)
		assert.Equal(t, want[1], status, how)
	}
}

func TestStreamResumes(t *testing.T) {
	s := start(t)
	admin := s.token(access.Admin)
	listen := func(last string) (func(want string) string, func()) {
		ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
		req, err := http.NewRequestWithContext(ctx, "GET", s.Link+"/api/v1/stream", nil)
		require.NoError(t, err)
		req.Header.Set("Authorization", "Bearer "+admin)
		if last != "" {
			req.Header.Set("Last-Event-ID", last)
		}
		res, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		require.Equal(t, "text/event-stream", res.Header.Get("Content-Type"))
		var seen bytes.Buffer
		return func(want string) string {
			buf := make([]byte, 4096)
			for !strings.Contains(seen.String(), want) {
				n, err := res.Body.Read(buf)
				require.NoError(t, err, "waiting for %s, saw %s", want, seen.String())
				seen.Write(buf[:n])
			}
			return seen.String()
		}, func() { cancel(); res.Body.Close() }
	}
	see, stop := listen("")
	see("event: hello")
	halt := func(on bool) {
		st, _, said := s.do("PUT", "/api/v1/halt", fmt.Sprintf(`{"halted":%v}`, on), bearer(admin)...)
		require.Equal(t, 200, st, said)
	}
	halt(true)
	text := see(`"id":"halt"`)
	id := text[strings.LastIndex(text, "id: ")+4:]
	id = strings.SplitN(id, "\n", 2)[0]
	stop()
	halt(false) // while nobody listens
	see, stop = listen(id)
	defer stop()
	see(`"id":"resume"`)
	_, _, said := s.do("GET", "/api/v1/audit", "", bearer(admin)...)
	assert.Contains(t, said, `"act":"halt"`)
}

func TestSecretsAreNowhereInTheDatabase(t *testing.T) {
	s := start(t)
	admin := s.token(access.Admin)
	st, _, said := s.do(
		"POST",
		"/api/v1/secrets",
		`{"name":"pw","kind":"password","value":"canary-55121"}`,
		bearer(admin)...)
	require.Equal(t, 201, st, said)
	assert.NotContains(t, said, "canary")
	_, _, said = s.do("GET", "/api/v1/secrets", "", bearer(admin)...)
	assert.Contains(t, said, `"version":1`)
	var tables []string
	require.NoError(
		t,
		testdb.SQL(s.Store).
			Raw("select tablename from pg_tables where schemaname = current_schema()").
			Scan(&tables).
			Error,
	)
	require.NotEmpty(t, tables)
	for _, table := range tables {
		var n int
		require.NoError(
			t,
			testdb.SQL(s.Store).
				Raw(fmt.Sprintf("select count(*) from %q t where t::text like '%%canary-55121%%' or t::text like "+
					"'%%%s%%'", table, admin)).
				Scan(&n).
				Error,
		)
		assert.Zero(t, n, table)
	}
}

func TestAddressInUseIsSaidBeforeAnythingStarts(t *testing.T) {
	s := start(t)
	dir := filepath.Join(t.TempDir(), "d")
	_, err := service.Start(
		context.Background(),
		service.Config{DataDir: dir, Listen: strings.TrimPrefix(s.Link, "http://"), Log: slog.New(slog.DiscardHandler)},
	)
	assert.ErrorContains(t, err, "address already in use")
	assert.NoDirExists(t, dir)
}

const peek = `urgentis: runbook/1
name: peek
title: Peek
owner: quayside
service: berth-queue
steps:
  - look: Peek
    id: peek
    where: {role: consumer}
    %s
    read: {all: {whole: true}}
  - hand_over: team/quayside
    because: done
`

// An author reads no secret by trying a step whose look prints it: carrying out needs more, and is written down.
func TestATryNeedsMoreThanAnAuthorsRights(t *testing.T) {
	s := start(t)
	author, admin := s.token(access.Author), s.token(access.Admin)
	operator := testapi.Token(t, s.Store, "both", "jonas", access.Author, access.Operator)
	for _, c := range []struct {
		do               string
		author, operator int
	}{
		{"run: [uptime]", 403, 200},
		{"script: echo \"$T\" | base64\n    only_reads: it only prints\n    env: {T: \"{{ secrets.hull " +
			"}}\"}", 403, 403},
		{"script: cat /etc/shadow\n    only_reads: it only prints", 403, 403},
		{"run: [env]\n    env: {T: \"{{ secrets.hull }}\"}", 403, 403},
	} {
		text, err := json.Marshal(fmt.Sprintf(peek, c.do))
		require.NoError(t, err)
		try := fmt.Sprintf(`{"text":%s,"step":"peek","run":true}`, text)
		looks := fmt.Sprintf(`{"text":%s,"how":"looks-only"}`, text)
		for token, want := range map[string]int{author: c.author, operator: c.operator, admin: 200} {
			for path, body := range map[string]string{"/api/v1/tries": try, "/api/v1/rehearsals": looks} {
				status, _, said := s.do("POST", path, body, bearer(token)...)
				assert.Equal(t, want, status, "%s %s: %s", path, c.do, said)
			}
		}
		status, _, said := s.do(
			"POST",
			"/api/v1/tries",
			fmt.Sprintf(`{"text":%s,"step":"peek"}`, text),
			bearer(author)...)
		assert.Equal(t, 200, status, "rendering is an author's: %s", said)
	}
	// What is a look only by its author's word nobody carries out under a halt, or where changes are only proposed.
	text, err := json.Marshal(fmt.Sprintf(peek, "script: date > /tmp/x\n    only_reads: it only prints"))
	require.NoError(t, err)
	try := fmt.Sprintf(`{"text":%s,"step":"peek","run":true}`, text)
	require.NoError(t, s.Store.In(context.Background()).SetHalted(true, "iva"))
	status, _, said := s.do("POST", "/api/v1/tries", try, bearer(admin)...)
	assert.Equal(t, 409, status, said)
	assert.Contains(t, said, "none is taken while all changes are halted")
	require.NoError(t, s.Store.In(context.Background()).SetHalted(false, "iva"))
	require.NoError(t, testdb.SQL(s.Store).Create(&store.Service{Name: "berth-queue", Owner: "o", Stance: "suggest"}).Error)
	status, _, said = s.do("POST", "/api/v1/tries", try, bearer(admin)...)
	assert.Equal(t, 409, status, said)
	assert.Contains(t, said, "a run asks a person first")

	_, _, audit := s.do("GET", "/api/v1/audit?limit=100", "", bearer(admin)...)
	assert.Contains(t, audit, `"runbook.try"`)
	assert.Contains(t, audit, "refused on service berth-queue")
	assert.Contains(t, audit, "carried out on service berth-queue")
}

// A stream ends when whoever reads it may no longer.
func TestAStreamEndsWithItsReader(t *testing.T) {
	s := start(t)
	token := s.token(access.Viewer)
	req, err := http.NewRequest("GET", s.Link+"/api/v1/stream", nil)
	require.NoError(t, err)
	req.Header.Set("Authorization", "Bearer "+token)
	res, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer res.Body.Close()
	require.Equal(t, 200, res.StatusCode)
	require.NoError(t, testdb.SQL(s.Store).Exec("delete from token").Error)
	done := make(chan string, 1)
	go func() { b, _ := io.ReadAll(res.Body); done <- string(b) }()
	select {
	case said := <-done:
		assert.Contains(t, said, "event: signed-out")
	case <-time.After(15 * time.Second):
		assert.Fail(t, "the stream goes on")
	}
}

// What is not given stays as it is.
func TestSettingLeavesWhatIsNotGiven(t *testing.T) {
	s := start(t)
	admin := bearer(s.token(access.Admin))
	for _, c := range []struct {
		path, body string
		status     int
		says       string
	}{
		{"services", `{"name":"berth-queue"}`, 400, "a new service needs its owner"},
		{"services", `{"name":"berth-queue","owner":"quayside","stance":"suggest","title":"Berths"}`, 200, `"suggest"`},
		{"services", `{"name":"berth-queue","title":"Berth queue"}`, 200, `"suggest"`},
		{"secrets", `{"name":"key","kind":"password","value":"canary-7781"}`, 201, ""},
		{"targets", `{"name":"consumer-1"}`, 400, "a new target needs"},
		{"targets", `{"name":"consumer-1","service":"berth-queue","address":"10.0.0.1","port":2222,"account":"ops","secret":"key","labels":{"role":"consumer"}}`, 200, ""},
		{"targets", `{"name":"consumer-1","address":"10.0.0.2"}`, 200, `"changed":["address 10.0.0.2 (was 10.0.0.1)"]`},
		{"targets", `{"name":"consumer-1","address":"10.0.0.2"}`, 200, `"secret":"key"`},
		{"targets", `{"name":"consumer-1","labels":{"zone":"north"},"known":{"a":1,"b":2}}`, 200, `"role":"consumer"`},
		{"targets", `{"name":"consumer-1","known":{"a":null}}`, 200, `"known":{"b":2}`},
		{"targets", `{"name":"consumer-1","host_key":"nonsense"}`, 400, "the host key cannot be read"},
		{"targets", `{"name":"consumer-1","look_account":"viewer"}`, 200, `"look_secret":"key"`},
		{"targets", `{"name":"consumer-1","look_account":null,"look_secret":null}`, 200, "look_account taken away " +
			"(was viewer)"},
		{"targets", `{"name":"consumer-1","addres":"10.0.0.3"}`, 400, "addres"},
		{"targets", `{"name":"consumer-1","version":"x"}`, 400, "version"},
		{"runs", `{"runbook":"b","input":{}}`, 400, "input"},
	} {
		status, _, said := s.do("POST", "/api/v1/"+c.path, c.body, admin...)
		assert.Equal(t, c.status, status, "%s: %s", c.body, said)
		assert.Contains(t, said, c.says, c.body)
	}
	_, _, said := s.do("GET", "/api/v1/targets", "", admin...)
	for _, want := range []string{`"port":2222`, `"10.0.0.2"`, `"ops"`, `"role":"consumer"`} {
		assert.Contains(t, said, want)
	}
	_, _, said = s.do("GET", "/api/v1/audit?limit=20", "", admin...)
	assert.Contains(t, said, "address 10.0.0.2 (was 10.0.0.1)")
	assert.Contains(t, said, "title Berth queue (was Berths)")

	var listed []api.Target
	_, _, said = s.do("GET", "/api/v1/targets", "", admin...)
	require.NoError(t, json.Unmarshal([]byte(said), &listed))
	matching := func(version string) []string { return append(slices.Clone(admin), "If-Match", version) }
	for _, c := range []struct {
		version string
		status  int
	}{{`"0000"`, 412}, {listed[0].Version, 200}, {listed[0].Version, 412}} {
		status, _, said := s.do("POST", "/api/v1/targets", `{"name":"consumer-1","port":2223}`, matching(c.version)...)
		assert.Equal(t, c.status, status, said)
	}
}

func TestForgedCursorsAreRefused(t *testing.T) {
	s := start(t)
	admin := bearer(s.token(access.Admin))
	for _, list := range []string{"alerts", "incidents", "runs", "audit"} {
		for _, forged := range []string{"x", "MXwx", "MXx4", base64.RawURLEncoding.EncodeToString([]byte("1|\x00")),
			base64.RawURLEncoding.EncodeToString([]byte("9223372036854775807|99999999999999999999"))} {
			status, _, said := s.do("GET", "/api/v1/"+list+"?cursor="+forged, "", admin...)
			assert.Less(t, status, 500, "%s %s: %s", list, forged, said)
			if forged == "x" {
				assert.Equal(t, 400, status, "%s: %s", list, said)
			}
		}
	}
}

// While the database is away the service is alive and not ready: beginning it anew would help nobody.
func TestAliveIsNotReady(t *testing.T) {
	s := start(t)
	cfg := s.Store.Pool.Config().ConnConfig
	name := cfg.Database
	cfg.Database = "postgres"
	db, err := pgx.ConnectConfig(t.Context(), cfg)
	require.NoError(t, err)
	defer db.Close(context.Background()) //nolint:errcheck // the test is over
	say := func(statement string) {
		_, err := db.Exec(t.Context(), statement)
		require.NoError(t, err)
	}
	say("alter database " + name + " allow_connections false")
	defer say("alter database " + name + " allow_connections true")
	say("select pg_terminate_backend(pid) from pg_stat_activity where datname = '" + name + "'")
	status, _, said := s.do("GET", "/readyz", "")
	assert.Equal(t, 503, status)
	assert.Contains(t, said, "database")
	require.Eventually(t, func() bool {
		_, _, said := s.do("GET", "/readyz", "")
		return strings.Contains(said, "has not answered for")
	}, time.Minute, 200*time.Millisecond, "its beats are not answered")
	status, _, said = s.do("GET", "/healthz", "")
	assert.Equal(t, 200, status, said)
	say("alter database " + name + " allow_connections true")
	require.Eventually(t, func() bool {
		status, _, _ := s.do("GET", "/readyz", "")
		return status == 200
	}, time.Minute, 200*time.Millisecond)
}

// Before somebody is known nothing of what they send is kept, and nobody waits for it: strangers who hold back the end
// of large bodies are answered at once, take no room, and keep no sender out.
func TestStrangersFillNothing(t *testing.T) {
	s := start(t)
	at := strings.TrimPrefix(s.Link, "http://")
	hold := func(method, path, more string, size int) net.Conn {
		c, err := net.Dial("tcp", at)
		require.NoError(t, err)
		t.Cleanup(func() { c.Close() })
		fmt.Fprintf(c, "%s %s HTTP/1.1\r\nHost: x\r\n%sContent-Length: %d\r\n\r\n", method, path, more, size)
		go c.Write(make([]byte, size-1)) //nolint:errcheck // it is not taken
		return c
	}
	for path, method := range map[string]string{
		"/api/v1/push": "POST", "/api/v1/files/x": "PUT", "/api/v1/incidents/1/files?name=x": "POST", "/api/v1/sources": "POST",
	} {
		c := hold(method, path, "Content-Type: application/json\r\n", 500<<10)
		require.NoError(t, c.SetReadDeadline(time.Now().Add(5*time.Second)))
		answer, err := bufio.NewReader(c).ReadString('\n')
		require.NoError(t, err, path)
		assert.Contains(t, answer, "401", path)
	}
	// Who signs in says little.
	c := hold("POST", "/api/v1/session", "Content-Type: application/json\r\n", 500<<10)
	require.NoError(t, c.SetReadDeadline(time.Now().Add(5*time.Second)))
	answer, err := bufio.NewReader(c).ReadString('\n')
	require.NoError(t, err)
	assert.Contains(t, answer, "413")

	// At the door of a source the body comes before its proof: those who hold it back share what their network has.
	for range 60 {
		hold("POST", "/in/mon", "", 1<<20)
	}
	status, _, said := s.do("POST", "/in/mon", `{"key":"k","severity":"minor","summary":"s"}`, bearer("nobody")...)
	assert.Equal(t, 401, status, said)
	status, _, said = s.do("POST", "/in/mon", `{"key":"k","severity":"minor","summary":"`+strings.Repeat("x", 100<<10)+`"}`,
		bearer("nobody")...)
	assert.Contains(t, []int{401, 503}, status, said)
}

// Nothing that a source sends is refused for what its bytes are: NUL, gzip and other character sets are read, and what
// cannot be unpacked is kept unparsed.
func TestWhateverASourceSendsIsKept(t *testing.T) {
	s := start(t)
	admin := bearer(s.token(access.Admin))
	status, _, said := s.do("POST", "/api/v1/push", `{"files":[{"name":"p.yaml","text":"urgentis: source/1\nname: panel\n`+
		`map:\n  key: \"{{ body.key }}\"\n  summary: \"{{ body.text }}\"\n  severity: major\n"}]}`, admin...)
	require.Equal(t, 200, status, said)
	_, _, said = s.do("POST", "/api/v1/sources", `{"name":"panel"}`, admin...)
	var key struct{ Token string }
	require.NoError(t, json.Unmarshal([]byte(said), &key))
	var gz bytes.Buffer
	w := gzip.NewWriter(&gz)
	_, err := w.Write([]byte(`{"key":"c","text":"packed"}`))
	require.NoError(t, err)
	require.NoError(t, w.Close())
	wide, err := unicode.UTF16(unicode.BigEndian, unicode.UseBOM).NewEncoder().String(`{"key":"d","text":"wide"}`)
	require.NoError(t, err)
	for _, c := range []struct{ body, media, coding, want string }{
		{`{"key":"a","text":"one\u0000two"}`, "application/json", "", "one\uFFFDtwo"},
		{"{\"key\":\"b\",\"text\":\"raw\"}\x00", "application/json", "", "unparsed"},
		{gz.String(), "application/json", "gzip", "packed"},
		{wide, "application/json; charset=utf-16", "", "wide"},
		{"no gzip", "application/json", "gzip", "is no gzip"},
	} {
		status, _, said := s.do("POST", "/in/panel", c.body, append(bearer(key.Token), "Content-Type", c.media,
			"Content-Encoding", c.coding)...)
		assert.Equal(t, 202, status, said)
		_, _, alerts := s.do("GET", "/api/v1/alerts", "", admin...)
		assert.Contains(t, alerts+said, c.want)
	}
}
