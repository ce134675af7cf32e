package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/viper"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/api"
	"urgentis/core/plain"
	"urgentis/internal/demo"
	"urgentis/internal/service"
	"urgentis/internal/testdb"
)

func run(t *testing.T, in string, args ...string) (code int, out, errOut string) {
	var o, e bytes.Buffer
	code = Main(args, strings.NewReader(in), &o, &e)
	return code, o.String(), e.String()
}

// ok runs a command that must succeed.
func ok(t *testing.T, args ...string) string {
	code, out, errOut := run(t, "", args...)
	require.Equal(t, 0, code, "urgentis %s: %s", strings.Join(args, " "), errOut)
	return out
}

func home(t *testing.T) {
	t.Setenv("HOME", t.TempDir())
	t.Setenv("XDG_CONFIG_HOME", "")
}

func TestEveryCommandHasHelpWithAnExample(t *testing.T) {
	a := &app{}
	for _, noun := range a.root().Commands() {
		for _, c := range append(noun.Commands(), noun) {
			if c.HasSubCommands() || c.Name() == "help" || c.Name() == "completion" ||
				c.Parent().Name() == "completion" {
				continue
			}
			assert.NotEmpty(t, c.Example, c.CommandPath())
			assert.Contains(t, c.Example, "urgentis ", c.CommandPath())
			assert.NotEmpty(t, c.Short, c.CommandPath())
		}
	}
	code, out, _ := run(t, "", "incident")
	assert.Equal(t, 0, code)
	assert.Contains(t, out, "verify")
}

func TestWrongUse(t *testing.T) {
	home(t)
	for _, c := range []struct {
		code int
		want string
		args []string
	}{
		{2, "there is no command urgentis dance", []string{"dance"}},
		{2, "did you mean urgentis run?", []string{"rnu"}},
		{2, "did you mean urgentis run start?", []string{"run", "strat"}},
		{2, "did you mean --active?", []string{"run", "list", "--acitve"}},
		{2, "something is missing\n  Usage: urgentis incident show NUMBER", []string{"incident", "show"}},
		{2, "is no incident's number", []string{"incident", "show", "x"}},
		{2, "there is no --nope here", []string{"status", "--nope"}},
		{2, "-o must be", []string{"status", "-o", "xml"}},
		{2, "no such file", []string{"runbook", "check", "/nothing"}},
		{2, "there is no role", []string{"token", "add", "x", "--role", "king", "--server", "http://127.0.0.1:1",
			"--token", "x"}},
		{3, "not logged in", []string{"status"}},
		{5, "cannot be reached", []string{"status", "--server", "http://127.0.0.1:1", "--token", "x"}},
		{2, "must begin with http", []string{"login", "example"}},
		{2, "log-level", []string{"serve", "--log-level", "loud"}},
		{2, "cannot be read", []string{"status", "--config", "/nothing.yaml"}},
	} {
		code, _, errOut := run(t, "", c.args...)
		assert.Equal(t, c.code, code, "%v: %s", c.args, errOut)
		assert.Contains(t, errOut, c.want)
	}
}

func TestCheck(t *testing.T) {
	home(t)
	code, out, _ := run(t, "", "runbook", "check", "../../examples/ferry/runbooks")
	assert.Equal(t, 0, code)
	assert.Contains(t, out, ": sound")
	code, out, _ = run(t, "", "runbook", "check", "../../test/shots/errors.yaml")
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "did you mean age?")
	code, out, _ = run(t, "", "runbook", "check", "-o", "json", "../../test/shots/errors.yaml")
	assert.Equal(t, 1, code)
	var found struct {
		Items []struct {
			File     string
			Findings []struct{ Line int }
		}
	}
	require.NoError(t, json.Unmarshal([]byte(out), &found))
	require.Len(t, found.Items, 1)
	assert.Len(t, found.Items[0].Findings, 3)
	src, err := os.ReadFile("../../examples/ferry/runbooks/berth-queue-backlog.yaml")
	require.NoError(t, err)
	code, out, _ = run(t, string(src), "runbook", "check", "-")
	assert.Equal(t, 0, code)
	assert.Contains(t, out, "-:24:1: warning: nothing is known of berthq", "no estate says what its own tools do")
	bad := strings.Replace(string(src), "[berthq, depth, --queue, \"{{ inputs.queue }}\"]", "[systemctl, restart, nginx]", 1)
	code, out, _ = run(t, bad, "runbook", "check", "-")
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "error: systemctl with these words is not known to only read")
}

// Errors for programs are problem documents, also those that come before anything is read.
func TestErrorsForPrograms(t *testing.T) {
	home(t)
	for _, c := range []struct {
		code int
		want string
		args []string
	}{
		{2, "usage", []string{"run", "list", "--acitve", "-o", "json"}},
		{3, "refused", []string{"-o", "json", "status"}},
		{5, "unreachable", []string{"status", "-o=json", "--server", "http://127.0.0.1:1", "--token", "x"}},
	} {
		code, out, errOut := run(t, "", c.args...)
		assert.Equal(t, c.code, code)
		assert.Empty(t, out)
		var p struct{ Type, Title, Code, Detail string }
		require.NoError(t, json.Unmarshal([]byte(errOut), &p), errOut)
		assert.Equal(t, c.want, p.Code)
		assert.NotEmpty(t, p.Detail)
	}
	t.Setenv("URGENTIS_OUTPUT", "json")
	code, out, _ := run(t, "", "version")
	assert.Equal(t, 0, code)
	assert.JSONEq(t, `{"version":"0.1.0"}`, out)
}

// Help is in words, in the order of use, and every command has an example.
func TestHelp(t *testing.T) {
	home(t)
	out := ok(t, "--help")
	assert.Contains(t, out, "Respond\n  incident ")
	assert.Contains(t, out, "Exit codes: 0 done")
	assert.Contains(t, ok(t, "run", "--help"), "urgentis run start RUNBOOK")
	start := ok(t, "run", "start", "--help")
	assert.Contains(t, start, "--input NAME=VALUE")
	assert.NotContains(t, start, "stringToString")
	var walk func(c *cobra.Command)
	walk = func(c *cobra.Command) {
		for _, sub := range c.Commands() {
			if sub.Name() == "help" || sub.Name() == "completion" {
				continue
			}
			walk(sub)
			if !sub.HasSubCommands() {
				assert.NotEmpty(t, sub.Example, sub.CommandPath())
				assert.NotEmpty(t, sub.Short, sub.CommandPath())
			}
		}
	}
	walk((&app{out: io.Discard, err: io.Discard, v: viper.New()}).root())
}

// The first administrator is made on the machine, without a browser, beside a service that runs.
func TestAdminOnTheMachine(t *testing.T) {
	home(t)
	c := service.Config{
		Database: testdb.URL(t), DataDir: t.TempDir(), Listen: "127.0.0.1:0", Version: "9.9",
		Log: slog.New(slog.DiscardHandler),
	}
	i, err := service.Start(context.Background(), c)
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	go i.Serve(ctx) //nolint:errcheck // it ends with the context
	t.Cleanup(func() { cancel(); assert.NoError(t, i.Stop()) })
	code, _, errOut := run(t, "short\n", "admin", "iva", "--database", c.Database)
	assert.Equal(t, 2, code)
	assert.Contains(t, errOut, "at least 10 characters")
	code, out, errOut := run(t, "a password of hers\n", "admin", "iva", "--database", c.Database)
	require.Equal(t, 0, code, errOut)
	assert.Contains(t, out, "iva can sign in (admin).")
	code, out, errOut = run(t, "a password of hers\n", "login", i.Link, "--name", "iva")
	require.Equal(t, 0, code, errOut)
	assert.Contains(t, out, "as iva (admin)")

	// An author's day: push, push again, compare, restore, remove.
	book := filepath.Join(t.TempDir(), "b.yaml")
	text := "urgentis: runbook/1\nname: b\ntitle: B\nowner: o\nservice: berts\nsteps:\n  - note: N\n    text: one\n" +
		"  - close: repaired\n    because: it is\n"
	require.NoError(t, os.WriteFile(book, []byte(text), 0o600))
	ok(t, "service", "set", "berths", "--owner", "o")
	code, out, errOut = run(t, "", "runbook", "push", book, "--check")
	assert.Equal(t, 0, code)
	assert.Contains(t, errOut, "there is no service berts; did you mean berths?")
	assert.Contains(t, out, "b is sound; nothing was stored.")
	assert.Contains(t, ok(t, "runbook", "check", book), "did you mean berths?", "the estate is remembered")
	require.NoError(t, os.WriteFile(book, []byte(strings.Replace(text, "berts", "berths", 1)), 0o600))
	assert.Contains(t, ok(t, "runbook", "push", book), "b is revision 1 (")
	assert.Contains(t, ok(t, "runbook", "push", book), "b is unchanged: revision 1 (")
	require.NoError(
		t,
		os.WriteFile(book, []byte(strings.NewReplacer("berts", "berths", "one", "two").Replace(text)), 0o600),
	)
	assert.Contains(t, ok(t, "runbook", "push", book), "b is revision 2 (")
	assert.Contains(t, ok(t, "runbook", "compare", "b", "1"), "-    text: one\n+    text: two\n")
	assert.Contains(t, ok(t, "runbook", "show", "b", "--revision", "1"), "text: one")
	ok(t, "runbook", "remove", "b")
	code, _, errOut = run(t, "", "runbook", "show", "b")
	assert.Equal(t, 4, code)
	assert.Contains(t, errOut, "there is no runbook b")
	assert.Contains(t, ok(t, "runbook", "restore", "b", "1"), "b is revision 3 (")
	assert.Regexp(t, `(?s)3 .*2 .*1 `, ok(t, "runbook", "revisions", "b"))

	// Lists have one shape for programs, whatever they list, and are never null.
	for _, noun := range []string{
		"run", "alert", "incident", "gate", "question", "runbook", "service", "target", "source", "secret",
		"connection",
		"person", "token", "instance", "audit", "message", "document", "unparsed",
	} {
		var list struct{ Items []map[string]any }
		out := ok(t, noun, "list", "-o", "json")
		require.NoError(t, json.Unmarshal([]byte(out), &list), noun)
		assert.NotNil(t, list.Items, "%s: %s", noun, out)
	}

	// Names are completed.
	assert.Contains(t, ok(t, "__complete", "runbook", "show", ""), "b\tB\n")
	assert.Contains(t, ok(t, "__complete", "service", "remove", ""), "berths\n")
	assert.Contains(t, ok(t, "__complete", "incident", "close", "1", "--outcome", ""), "mitigated\n")

	ok(t, "connection", "add", "quayside", "--url", "http://127.0.0.1:1/")
	code, out, errOut = run(t, "", "connection", "try", "quayside")
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "quayside: dial tcp")
	assert.Contains(t, errOut, "nothing arrives at quayside")
	ok(t, "halt")
	assert.Eventually(t, func() bool {
		return strings.Contains(ok(t, "message", "list", "--state", "queued"), "All changes are halted by iva.")
	}, time.Minute, 100*time.Millisecond)
	ok(t, "connection", "remove", "quayside")
	ok(t, "service", "remove", "berths")
	assert.Equal(t, 2, strings.Count(ok(t, "audit", "list", "--limit", "2", "-o", "json"), `"subject"`))
}

func TestTheStoryByCommands(t *testing.T) {
	home(t)
	ctx, cancel := context.WithCancel(context.Background())
	w, err := demo.Start(
		ctx,
		service.Config{
			Database: testdb.URL(t),
			DataDir:  t.TempDir(),
			Listen:   "127.0.0.1:0",
			Version:  "9.9",
			Log:      slog.New(slog.DiscardHandler),
		},
		100*time.Millisecond,
		func(string) {},
	)
	require.NoError(t, err)
	t.Cleanup(func() { cancel(); assert.NoError(t, w.Stop()) })

	code, _, errOut := run(t, "wrong\n", "login", w.Link, "--name", "mara")
	assert.Equal(t, 3, code)
	assert.Contains(t, errOut, "name or password is wrong")
	code, out, errOut := run(t, w.SignIn["mara"]+"\n", "login", w.Link, "--name", "mara")
	require.Equal(t, 0, code, errOut)
	assert.Contains(t, out, "as mara (approver, operator)")
	assert.Contains(t, ok(t, "gate", "list"), "Nothing waits for approval.")
	assert.Contains(t, ok(t, "incident", "list"), "No incidents.")
	assert.Contains(t, ok(t, "run", "list"), "No runs.")

	w.Fleet.Queue.Break()
	var gate string
	require.Eventually(t, func() bool {
		gate = regexp.MustCompile(`r[a-z2-7]+:5:1`).FindString(ok(t, "gate", "list"))
		return gate != ""
	}, time.Minute, 50*time.Millisecond)
	shown := ok(t, "gate", "show", gate)
	for _, want := range []string{"berthq park --queue quay-north m-4711", "address 127.0.", "account ",
		"undo: berthq unpark", "Harm:", "Now:", "If the answer is", "Never done on this service.", "depth", "changes need approval on this service"} {
		assert.Contains(t, shown, want)
	}
	assert.Contains(t, ok(t, "incident", "show", "1"), "Waits for approval")
	assert.Contains(t, ok(t, "alert", "list"), "berth assignments wait")
	id := regexp.MustCompile(`a[a-z2-7]{16}`).FindString(ok(t, "alert", "list"))
	assert.Regexp(t, `berth-queue-backlog/backlog +started`, ok(t, "alert", "show", id))
	code, _, errOut = run(t, "", "gate", "approve", gate, "--digest", strings.Repeat("0", 64))
	assert.Equal(t, 3, code)
	assert.Contains(t, errOut, "no longer what was shown")
	assert.Contains(t, ok(t, "gate", "approve", gate, "--comment", "seen"), "approved: Park")
	code, _, _ = run(t, "", "gate", "approve", gate)
	assert.Equal(t, 3, code, "it is decided already")

	followed := ok(t, "incident", "follow", "1")
	assert.Contains(t, followed, "Closed: repaired")
	assert.Contains(t, followed, "“seen”")
	runID := strings.SplitN(gate, ":", 2)[0]
	assert.Contains(t, ok(t, "run", "follow", runID), "Runbook ended")
	assert.Contains(t, ok(t, "run", "show", runID, "--log"), "change.made")
	assert.Contains(t, ok(t, "incident", "verify", "1"), "the record is whole")
	assert.Contains(t, ok(t, "incident", "note", "1", "all", "well"), "Written as entry")
	code, _, _ = run(t, "", "incident", "close", "1", "--because", "x")
	assert.Equal(t, 3, code, "it is closed already")
	theReport(t)
	var one struct{ Incident struct{ Outcome string } }
	require.NoError(t, json.Unmarshal([]byte(ok(t, "incident", "show", "1", "-o", "json")), &one))
	assert.Equal(t, "repaired", one.Incident.Outcome)
	assert.Contains(t, ok(t, "incident", "list", "--all", "-o", "yaml"), "outcome: repaired")
	assert.Contains(t, ok(t, "runbook", "list"), "berth-queue-backlog")
	assert.Contains(t, ok(t, "runbook", "show", "berth-queue-backlog"), "urgentis: runbook/1")
	assert.Contains(t, ok(t, "status"), "version 9.9")
	code, _, errOut = run(t, "", "person", "list")
	assert.Equal(t, 3, code)
	assert.Contains(t, errOut, "this needs the role admin")
	code, _, _ = run(t, "", "incident", "show", "77")
	assert.Equal(t, 4, code)

	// By hand, with a wrong and a right input; a queue that is well is a false alarm.
	code, _, errOut = run(t, "", "run", "start", "berth-queue-backlog", "--input", "queue=a;b")
	assert.Equal(t, 2, code)
	assert.Contains(t, errOut, "does not match the pattern")
	out = ok(t, "run", "start", "berth-queue-backlog", "--input", "queue=quay-north", "--follow")
	assert.Contains(t, out, "Runbook ended")

	code, _, errOut = run(t, "", "login", w.Link, "--name", "iva", "--password", w.SignIn["iva"])
	require.Equal(t, 0, code, errOut)
	admin(t, w)
	language(t, runID)
	twoPeople(t, w)
}

// twoPeople are signed in from one account: the newest login counts, --as takes the other, and each ends alone.
func twoPeople(t *testing.T, w *demo.World) {
	code, _, errOut := run(t, "", "run", "list", "--as", "oke")
	assert.Equal(t, 3, code)
	assert.Contains(t, errOut, "oke is not signed in here (iva, mara can be named); urgentis login ADDRESS --name oke")
	ok(t, "secret", "list")
	code, _, _ = run(t, "", "secret", "list", "--as", "mara")
	assert.Equal(t, 3, code, "she is no administrator")
	t.Setenv("URGENTIS_AS", "mara")
	assert.Contains(t, ok(t, "logout"), "Signed out")
	code, _, errOut = run(t, "", "run", "list")
	assert.Equal(t, 3, code)
	assert.Contains(t, errOut, "mara is not signed in here (iva can be named)")
	t.Setenv("URGENTIS_AS", "")
	ok(t, "secret", "list")
	assert.Contains(t, ok(t, "logout"), "Signed out")
	code, _, errOut = run(t, "", "run", "list")
	assert.Equal(t, 3, code)
	assert.Contains(t, errOut, "not logged in")
}

// language drives what writers of runbooks use, and the control of runs. run is one that is over.
// rehearsals plays the runbook of the backlog while there is none, and pretends that there is one.
func rehearsals(t *testing.T, backlog string) {
	rendered := ok(t, "runbook", "rehearse", backlog, "--input", "queue=quay-north")
	for _, want := range []string{
		"on berth-consumer-1, berth-consumer-2: berthq depth", "  fails →", "gate: asks team/quayside, within 20m",
		"undo: berthq unpark", "proved by", "now it would ask first", "In all: 2 looks, 1 change, 1 gate, no question",
		"May approve: ",
	} {
		assert.Contains(t, rendered, want)
	}
	text, err := os.ReadFile(backlog)
	require.NoError(t, err)
	// With a bound below what the queue holds when all is well, the runbook goes its whole way.
	own := filepath.Join(t.TempDir(), "own.yaml")
	busy := strings.NewReplacer("default: 200", "default: 3", "name: berth-queue-backlog", "name: rehearsed").
		Replace(string(text))
	busy = strings.Replace(busy, `    still: own(readings.stuck) != ""`+"\n", "", 1)
	require.NoError(t, os.WriteFile(own, []byte(busy), 0o600))
	looks := []string{"runbook", "rehearse", own, "--input", "queue=quay-north", "--how", "looks-only"}
	code, out, errOut := run(t, "", looks...)
	assert.Equal(t, 1, code, errOut)
	assert.Contains(t, out, "this look cannot see the effect of")
	assert.Contains(t, errOut, "came to no end")
	assumed := append(looks, "--assume", "park.depth=1")
	assert.Contains(t, ok(t, assumed...), "depth is 1 (assumed)")
	file := filepath.Join(t.TempDir(), "assumed.yaml")
	require.NoError(
		t,
		os.WriteFile(file, []byte("park:\n  depth: {berth-consumer-1: 1, berth-consumer-2: 2}\n"), 0o600),
	)
	assert.Contains(t, ok(t, append(looks, "--assume-from", file)...), "max(readings.depth) is 2")
	for assume, want := range map[string]string{
		"prk.depth=1":     "there is no change prk; there is park",
		"park.dpth=1":     "no look takes the reading dpth",
		"park.depth/zz=1": "the service has no target zz",
		"park.depth=lots": "reading depth",
		"depth=1":         "write CHANGE.READING=VALUE",
		"park.depth":      "write CHANGE.READING=VALUE",
	} {
		code, _, errOut := run(t, "", append(looks, "--assume", assume)...)
		assert.Equal(t, 2, code, "%s: %s", assume, errOut)
		assert.Contains(t, errOut, want)
	}
	assert.Contains(t, ok(t, "runbook", "rehearse", own, "--how", "against-the-past"), "there is no recorded run")

	const gates = "../../examples/ferry/runbooks/boarding-gate-errors.yaml"
	tried := ok(t, "runbook", "try", gates, "back")
	assert.Contains(t, tried, "is out of rotation. The releases are", "the text of a question")
	assert.Contains(t, tried, "6.choices.roll_back.1 change", "paths as in the whole")
	assert.Contains(t, tried, "on each item: gatectl rotation in")
	parted := ok(t, "runbook", "try", gates, "put_in", "--reading", "errors=3")
	assert.Contains(t, parted, "6.choices.roll_back.3.do.1 change")
}

func language(t *testing.T, over string) {
	const backlog = "../../examples/ferry/runbooks/berth-queue-backlog.yaml"
	ok(t, "runbook", "format", "--only-check", backlog)
	rough := filepath.Join(t.TempDir(), "rough.yaml")
	require.NoError(
		t,
		os.WriteFile(
			rough,
			[]byte(
				"name:   rough\nurgentis: runbook/1 # kept\ntitle: R\nowner: o\nservice: s\nsteps:\n- title_less: 1\n",
			),
			0o600,
		),
	)
	code, _, errOut := run(t, "", "runbook", "format", "--only-check", rough)
	assert.Equal(t, 1, code, errOut)
	ok(t, "runbook", "format", rough)
	text, err := os.ReadFile(rough)
	require.NoError(t, err)
	assert.True(t, strings.HasPrefix(string(text), "urgentis: runbook/1 # kept\nname: rough\n"), string(text))

	var schema map[string]any
	require.NoError(t, json.Unmarshal([]byte(ok(t, "runbook", "schema")), &schema))
	assert.Contains(t, schema, "$defs")
	assert.Contains(t, ok(t, "runbook", "graph", backlog), "Park the unreadable message")
	assert.Contains(t, ok(t, "runbook", "graph", backlog, "--svg"), "<svg")
	assert.Contains(t, ok(t, "run", "graph", over), "Park the unreadable message")
	assert.Contains(t, ok(t, "run", "graph", over), "(reached", "the end at which it arrived is marked")
	for _, args := range [][]string{{"runbook", "graph", backlog}, {"run", "graph", over}} {
		var g api.Graph
		d := json.NewDecoder(strings.NewReader(ok(t, append(args, "-o", "json")...)))
		d.DisallowUnknownFields()
		require.NoError(t, d.Decode(&g), "one shape for both")
		assert.NotEmpty(t, g.Nodes)
	}
	assert.Contains(t, ok(t, "run", "graph", over, "--svg"), "<svg")

	tried := ok(t, "runbook", "try", backlog, "park", "--input", "queue=quay-north", "--reading", "stuck=m-7")
	assert.Contains(t, tried, "berthq park --queue quay-north m-7")
	assert.Contains(t, tried, "undo")
	tried = ok(t, "runbook", "try", backlog, "depth", "--input", "queue=quay-north", "--run")
	assert.Contains(t, tried, "depth")
	assert.Contains(t, ok(t, "runbook", "rehearse", backlog, "--input", "queue=quay-north"), "berthq park")
	assert.Contains(
		t,
		ok(t, "runbook", "rehearse", backlog, "--input", "queue=quay-north", "--how", "looks-only"),
		"false-alarm",
	)
	assert.Contains(t, ok(t, "runbook", "rehearse", backlog, "--how", "against-the-past"), over)
	written, err := os.ReadFile(backlog)
	require.NoError(t, err)
	stricter := filepath.Join(t.TempDir(), "stricter.yaml")
	require.NoError(t, os.WriteFile(stricter, bytes.Replace(written, []byte("default: 200, min: 0, max: 1000"),
		[]byte("default: 90000, min: 0, max: 100000"), 1), 0o600))
	code, _, errOut = run(t, "", "runbook", "rehearse", stricter, "--how", "against-the-past")
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, "would go otherwise than then")
	rehearsals(t, backlog)

	assert.Contains(t, ok(t, "run", "again", over, "--follow"), "Runbook ended")
	code, _, errOut = run(t, "", "run", "cancel", over)
	assert.Equal(t, 3, code)
	assert.Contains(t, errOut, "no longer open")
	instances := ok(t, "instance", "list")
	id := regexp.MustCompile(`n[a-z2-7]{16}`).FindString(instances)
	require.NotEmpty(t, id, instances)
	code, _, errOut = run(t, "", "instance", "gone", id)
	assert.Equal(t, 3, code, "one that is alive is not gone: %s", errOut)

	// A question on the way: shown with its fields, refused where the answer is wrong, and answered.
	asks := filepath.Join(t.TempDir(), "asks.yaml")
	require.NoError(t, os.WriteFile(asks, []byte(`urgentis: runbook/1
name: asks
title: A question
owner: quayside
service: berth-queue
steps:
  - ask: Which quay?
    id: quay
    text: The pilot waits.
    fields:
      berth: {type: integer, min: 1, max: 9, label: Berth}
    choices:
      north: {label: The north quay, steps: [{note: It is, text: "berth {{ answers.quay.berth }}"}]}
      south: go on
  - wait: Until it is cancelled
    for: 1h
  - hand_over: on-call/quayside
    because: "{{ answers.quay.choice }}"
`), 0o600))
	ok(t, "runbook", "push", asks)
	started := regexp.MustCompile(`r[a-z2-7]{16}`).FindString(ok(t, "run", "start", "asks"))
	require.Eventually(
		t,
		func() bool { return strings.Contains(ok(t, "question", "list"), "The pilot waits.") },
		time.Minute,
		50*time.Millisecond,
	)
	listed := ok(t, "question", "list")
	assert.Contains(t, listed, "--field berth=")
	question := regexp.MustCompile(`question answer (\S+)`).FindStringSubmatch(listed)[1]
	code, _, errOut = run(t, "", "question", "answer", question, "west")
	assert.Equal(t, 2, code, errOut)
	code, _, errOut = run(t, "", "question", "answer", question, "north", "--field", "berth=12")
	assert.Equal(t, 2, code)
	assert.Contains(t, errOut, "berth")
	ok(t, "question", "answer", question, "north", "--field", "berth=4")
	require.Eventually(
		t,
		func() bool { return strings.Contains(ok(t, "run", "show", started), "berth 4") },
		time.Minute,
		50*time.Millisecond,
	)
	ok(t, "run", "cancel", started, "--because", "enough")
	code, _, errOut = run(t, "", "run", "follow", started)
	assert.Equal(t, 1, code, "a run that did not end well is told by the exit too")
	assert.Contains(t, errOut, "cancelled: Cancelled by iva: enough")
}

// admin drives what only an administrator may.
func admin(t *testing.T, w *demo.World) {
	token := regexp.MustCompile(`urg_\S+`).
		FindString(ok(t, "token", "add", "reader", "--role", "viewer", "--days", "3"))
	require.NotEmpty(t, token)
	assert.Contains(t, ok(t, "status", "--server", w.Link, "--token", token), "version")
	assert.Contains(t, ok(t, "token", "list"), "reader")
	assert.Contains(t, ok(t, "token", "remove", "reader"), "Revoked")
	code, _, _ := run(t, "", "status", "--server", w.Link, "--token", token)
	assert.Equal(t, 3, code)
	assert.Contains(
		t,
		ok(t, "person", "add", "ole", "--role", "viewer", "--password", "long enough 1"),
		"ole can sign in",
	)
	assert.Contains(t, ok(t, "person", "list"), "ole")
	assert.Contains(t, ok(t, "person", "remove", "ole"), "Removed")
	src := regexp.MustCompile(`urs_\S+`).FindString(ok(t, "source", "add", "by-hand"))
	assert.Contains(t, ok(t, "source", "list"), "harbour-watch")
	assert.Contains(
		t,
		ok(
			t,
			"alert",
			"send",
			"--source",
			"by-hand",
			"--source-token",
			src,
			"--severity",
			"minor",
			"--summary",
			"odd",
			"--label",
			"a=b",
		),
		"(new), incident 2",
	)
	assert.Contains(t, ok(t, "incident", "show", "2"), "No runbook starts by itself")
	assert.Contains(
		t,
		ok(t, "incident", "close", "2", "--outcome", "false-alarm", "--because", "nothing there"),
		"is closed: false-alarm",
	)
	body := filepath.Join(t.TempDir(), "a.json")
	require.NoError(t, os.WriteFile(body, []byte(`{"severity":"bad"}`), 0o600))
	code, _, errOut := run(t, "", "alert", "send", "--source", "by-hand", "--source-token", src, "-f", body)
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, "but cannot be read: severity is \"bad\"")
	assert.Contains(t, ok(t, "source", "remove", "by-hand"), "Removed")
	assert.Contains(t, ok(t, "target", "try", "berth-consumer-1"), "signed in and ran a command")
	assert.Contains(t, ok(t, "target", "list"), "role=consumer")
	code, out, errOut := run(t, "pass word 1\n", "secret", "set", "pw", "--kind", "password")
	require.Equal(t, 0, code, errOut)
	assert.Contains(t, out, "version 1")
	assert.Contains(t, ok(t, "secret", "list"), "fleet-key")
	assert.Contains(
		t,
		ok(
			t,
			"target",
			"set",
			"spare",
			"--service",
			"berth-queue",
			"--address",
			"127.0.0.9",
			"--account",
			"ops",
			"--secret",
			"pw",
			"--label",
			"role=spare",
		),
		"Try it",
	)
	code, _, _ = run(t, "", "target", "try", "spare")
	assert.Equal(t, 1, code)
	assert.Contains(t, ok(t, "target", "remove", "spare"), "Removed")
	assert.Contains(
		t,
		ok(t, "service", "set", "tide-feed", "--owner", "harbour", "--stance", "suggest"),
		"its stance is suggest",
	)
	assert.Contains(t, ok(t, "service", "list"), "quayside")
	assert.Contains(t, ok(t, "connection", "add", "spare-room", "--url", "http://127.0.0.9/"), "Added.")
	assert.Contains(t, ok(t, "connection", "list"), "quayside-room")
	assert.Contains(t, ok(t, "halt", "--because", "test"), "All changes are halted")
	assert.Contains(t, ok(t, "status"), "halted by iva")
	assert.Contains(t, ok(t, "resume"), "Changes go on")
	assert.Contains(t, ok(t, "question", "list"), "Nothing waits for an answer.")
	assert.Contains(t, ok(t, "runbook", "push", "../../examples/ferry/runbooks"), "is unchanged: revision 1")
	// What calls comes after what it calls, whatever the names of the files; a loop is found before anything is sent.
	dir := t.TempDir()
	write := func(file, name, steps string) {
		text := "urgentis: runbook/1\nname: " + name + "\ntitle: T\nowner: o\nservice: berth-queue\nsteps:\n" + steps
		require.NoError(t, os.WriteFile(filepath.Join(dir, file), []byte(text), 0o600))
	}
	write("a.yaml", "caller", "  - call: callee\n")
	write("b.yaml", "callee", "  - note: N\n    text: t\n")
	assert.Regexp(t, "(?s)callee is revision 1.*caller is revision 1", ok(t, "runbook", "push", dir))
	write("b.yaml", "callee", "  - note: N\n    text: t\n  - call: caller\n")
	code, out, _ = run(t, "", "runbook", "check", dir)
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "in what callee calls: runbook caller would call itself: caller → callee → caller")
	code, _, errOut = run(t, "", "runbook", "push", dir)
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, "2 of 2 runbooks have errors; none was pushed")
	code, _, errOut = run(t, "", "runbook", "push", "../../test/shots/errors.yaml")
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, "did you mean age?")
	assert.Contains(t, ok(t, "audit", "list"), "gate.approve")
}

func TestOutputOfOthersDoesNotSteerTheTerminal(t *testing.T) {
	var out bytes.Buffer
	a := &app{out: &out, output: "table", isTTY: true}
	hostile := "deep\n12:00:00  decided   Approved by mara\x1b[31m\u202e\u009b"
	a.entry(
		api.Entry{
			Kind:  "alert.raised",
			Title: hostile,
			Actor: "source:" + hostile,
			Says:  []api.Text{{{Text: hostile}}},
		},
	)
	a.say("%s %v\n", hostile, errors.New(hostile))
	a.table("", []string{"x"}, [][]string{{hostile}})
	for _, output := range []string{"json", "yaml"} {
		a.output = output
		require.NoError(t, a.print(map[string]any{"x": hostile}, nil))
	}
	said := regexp.MustCompile(`\x1b\[\d+m`).ReplaceAllString(strings.ReplaceAll(out.String(), "⟨U+001B⟩[31m", ""), "")
	assert.Equal(t, plain.Text(said), said)
	for _, line := range strings.Split(said, "\n") {
		assert.NotRegexp(t, "^12:00:00", line)
	}
}

// What the program itself says is never taken for text from outside.
func TestOurOwnLinesAreNotMadePlain(t *testing.T) {
	files, err := filepath.Glob("*.go")
	require.NoError(t, err)
	wrong := regexp.MustCompile(`\.say\("[^"]*", "[^"]*\\n|paint\(\w+, "[^"]*\\n`)
	for _, f := range files {
		if strings.HasSuffix(f, "_test.go") {
			continue
		}
		b, err := os.ReadFile(f)
		require.NoError(t, err)
		assert.Empty(t, wrong.FindAllString(string(b), -1), f)
	}
}

// theReport is what the one incident that is over cost, and what each figure counts.
func theReport(t *testing.T) {
	var report string
	require.Eventually(t, func() bool {
		report = ok(t, "report", "show")
		return strings.Contains(report, "1 incident closed")
	}, time.Minute, 200*time.Millisecond, "its facts are gathered after its end")
	for _, want := range []string{
		`Until evidence was whole +median .*, of 1 incident`, `From being asked to the decision +median`,
		`Until it had recovered +median`, `Without people +0 of 1`, `Came back within a day +0 of 1`,
		`Saved by runbooks +25 min on 1 incident, as their authors estimate`, `repaired +1\n`,
		`berth-queue-backlog +1 +0 +0 +25 min +helped on 1 of 1`,
		`crossing-clocks-drift +0 .*worked on no incident yet`,
	} {
		assert.Regexp(t, want, report)
	}
	assert.Regexp(t, `1 +berth-queue +repaired .*mara`, ok(t, "report", "incidents", "outcome", "repaired"))
	assert.Contains(t, ok(t, "report", "incidents", "came-back"), "It counts no incident.")
	assert.Contains(t, ok(t, "report", "show", "--service", "fares-db"), "Nothing to tell of that time.")
	assert.Regexp(t, `(?s)^number,title,.*\n1,.*,berth-queue,.*,true,[0-9.]+,mara,.*,1500,false\n$`, ok(t, "report", "export"))
	code, _, errOut := run(t, "", "report", "incidents", "luck")
	assert.Equal(t, 2, code, errOut)
	code, _, errOut = run(t, "", "report", "show", "--since", "1h", "--until", "2h")
	assert.Equal(t, 2, code, errOut)
}
