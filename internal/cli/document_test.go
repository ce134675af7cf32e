package cli

import (
	"context"
	"io"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/internal/service"
	"urgentis/internal/testdb"
)

// signedIn starts a service, and signs iva in who administers it.
func signedIn(t *testing.T) *service.Instance {
	home(t)
	c := service.Config{
		Database: testdb.URL(t), DataDir: t.TempDir(), Listen: "127.0.0.1:0", Log: slog.New(slog.DiscardHandler),
	}
	i, err := service.Start(context.Background(), c)
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	go i.Serve(ctx) //nolint:errcheck // it ends with the context
	t.Cleanup(func() { cancel(); assert.NoError(t, i.Stop()) })
	code, _, errOut := run(t, "a password of hers\n", "admin", "iva", "--database", c.Database)
	require.Equal(t, 0, code, errOut)
	code, _, errOut = run(t, "a password of hers\n", "login", i.Link, "--name", "iva")
	require.Equal(t, 0, code, errOut)
	return i
}

// What is sound and may not be meant is said before anything is changed.
func TestAPushShowsWarnings(t *testing.T) {
	signedIn(t)
	book := filepath.Join(t.TempDir(), "book.yaml")
	require.NoError(t, os.WriteFile(book, []byte("urgentis: runbook/1\nname: lamp\ntitle: A lamp\nowner: quay\n"+
		"service: lamps\nsteps:\n  - note: Seen\n    text: It was seen.\n"), 0o600))
	code, out, errOut := run(t, "", "push", book, "--yes")
	require.Equal(t, 0, code, errOut)
	assert.Contains(t, errOut, "warning: there is no service lamps", "what may not be meant is said")
	assert.Contains(t, out, "Done, as push")
}

// An administrator's day: sources as text, a payload of a shape of its own, one that cannot be read and is read later.
func TestSourcesAsDocuments(t *testing.T) {
	i := signedIn(t)
	dir := filepath.Join(t.TempDir(), "harbour")
	require.NoError(t, os.Mkdir(dir, 0o755))
	file := filepath.Join(dir, "panel.yaml")
	text := "urgentis: source/1\nname: panel\neach: body.points\nmap:\n  key: \"{{ item.id }}\"\n" +
		"  summary: \"{{ item.text }}\"\n  severity: {of: item.state, as: {alarm: majr}}\n"
	write := func(from, to string) {
		text = strings.Replace(text, from, to, 1)
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
	}
	write("", "")
	code, _, errOut := run(t, "", "push", dir)
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, "panel.yaml:7:42: error: there is no severity majr")
	assert.Contains(t, errOut, "nothing was changed")
	write("majr", "major")
	code, out, _ := run(t, "", "push", dir, "--check")
	assert.Equal(t, 6, code)
	assert.Contains(t, out, "added    source panel")
	code, _, errOut = run(t, "", "push", dir)
	assert.Equal(t, 2, code, "nobody is there who could be asked")
	assert.Contains(t, errOut, "say yes, or --yes")
	assert.Contains(t, ok(t, "push", dir, "--yes"), "Done, as push")
	assert.Contains(t, ok(t, "push", dir, "--check"), "Nothing to do.")

	out = ok(t, "push", dir, "--origin", "quay", "--yes")
	assert.Contains(t, out, "moved    source panel\n           was kept at harbour")
	ok(t, "push", dir, "--yes")

	token := strings.TrimSpace(ok(t, "source", "add", "panel"))
	token = token[strings.LastIndexByte(token, '\n')+1:]
	post := func(body string) string {
		req, err := http.NewRequest(http.MethodPost, i.Link+"/in/panel", strings.NewReader(body))
		require.NoError(t, err)
		req.Header.Set("Authorization", "Bearer "+token)
		req.Header.Set("Content-Type", "application/json")
		res, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		defer res.Body.Close()
		said, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		require.Equal(t, http.StatusAccepted, res.StatusCode, string(said))
		return string(said)
	}
	said := post(
		`{"points": [{"id": "ramp-1", "text": "stuck", "state": "alarm"}, {"id": "lamp-4", "text": "dark", "state": "odd"}]}`,
	)
	assert.Contains(t, said, `"change":"new"`)
	assert.Contains(t, said, `as has no word for`)
	taken := said[strings.Index(said, `"alert":"`)+len(`"alert":"`):]
	assert.Contains(
		t,
		ok(t, "alert", "show", taken[:strings.IndexByte(taken, '"')]),
		`"text": "stuck"`,
		"what was sent is kept",
	)
	unparsed := ok(t, "unparsed", "list")
	assert.Contains(t, unparsed, "item 2 of 2")
	id := strings.Fields(strings.SplitN(unparsed, "\n", 2)[1])[0]
	assert.Contains(t, ok(t, "unparsed", "show", id), `"state": "odd"`)
	code, _, errOut = run(t, "", "unparsed", "again", id)
	assert.Equal(t, 2, code)
	assert.Contains(t, errOut, "still cannot be read")

	write("{alarm: major}", "{alarm: major, odd: minor}")
	sample := `{"points": [{"id": "lamp-4", "text": "dark", "state": "odd"}]}`
	code, out, errOut = run(t, sample, "source", "try", "panel")
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, "1 of 1 items cannot be read")
	assert.Contains(t, out, "cannot be read: severity")
	code, out, errOut = run(t, sample, "source", "try", "panel", "--map", file)
	assert.Equal(t, 0, code, errOut)
	assert.Regexp(t, `severity +minor +of: item.state`, out)
	assert.Contains(t, ok(t, "push", dir, "--yes"), `map.severity.as.odd: "minor", new`)
	assert.Contains(t, ok(t, "unparsed", "again", id), "Alerts taken: 1.")
	assert.Contains(t, ok(t, "unparsed", "list"), "Nothing is unparsed.")
	assert.Contains(t, ok(t, "alert", "list"), "dark")

	assert.Contains(
		t,
		ok(t, "document", "compare", "source", "panel", "1"),
		"+  severity: {of: item.state, as: {alarm: major, odd",
	)
	assert.Contains(t, ok(t, "document", "restore", "source", "panel", "1"), "revision 1 is in use again")
	assert.Regexp(t, `(?s)3 .*2 .*1 `, ok(t, "document", "revisions", "source", "panel"))
	assert.Contains(t, ok(t, "document", "list", "--kind", "source"), "harbour")
	assert.NotContains(t, ok(t, "document", "show", "source", "panel"), "odd")

	assert.Contains(t, ok(t, "document", "schema"), `"title": "a source"`)
	folder := filepath.Join(t.TempDir(), "out")
	assert.Contains(t, ok(t, "pull", folder), "Documents: 1, written: 1.")
	assert.Contains(t, ok(t, "pull", folder), "Documents: 1, written: 0.")
	require.NoError(t, os.WriteFile(filepath.Join(folder, "source", "panel.yaml"), []byte("mine"), 0o600))
	code, _, errOut = run(t, "", "pull", folder)
	assert.Equal(t, 6, code)
	assert.Contains(t, errOut, "were left alone")
	ok(t, "pull", folder, "--force")
	assert.Contains(t, ok(t, "push", folder, "--check", "--origin", "harbour"), "Nothing to do.")
	require.NoError(t, os.WriteFile(file, []byte("urgentis: source/1\nname: other\n"), 0o600))
	assert.Regexp(t, `(?s)added +source other.*removed +source panel`, ok(t, "push", dir, "--prune", "--yes"))
	assert.Contains(t, ok(t, "document", "remove", "source", "other"), "document restore source other NUMBER")
	_, _, errOut = run(t, "", "document", "remove", "source", "other")
	assert.Contains(t, errOut, "there is no source other")
	require.NoError(t, os.WriteFile(file, []byte("urgentis: runbook/1\nname: nightly\ntitle: Nightly\nowner: o\n"+
		"service: s\nstarts:\n  night: {schedule: 0 2 * * *}\nsteps:\n  - close: false-alarm\n    because: x\n"), 0o600))
	ok(t, "push", dir, "--yes")
	ok(t, "trigger", "off", "nightly/night", "--because", "the store is moved")
	assert.Contains(t, ok(t, "pull", filepath.Join(t.TempDir(), "off")),
		"Switched off here, which no document says: nightly/night (by iva: the store is moved)")
}
