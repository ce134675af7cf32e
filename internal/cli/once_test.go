package cli

import (
	"context"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/spf13/viper"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/internal/testdb"
)

// dropping stands before a service, and drops the connections of some requests after the service did what they ask for.
func dropping(t *testing.T, service string, drop *atomic.Int64) string {
	to, err := url.Parse(service)
	require.NoError(t, err)
	proxy := httputil.NewSingleHostReverseProxy(to)
	proxy.ErrorLog = slog.NewLogLogger(slog.DiscardHandler, slog.LevelError)
	front := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if n := left(r, drop); n >= 0 {
			ctx, cancel := context.WithCancel(r.Context())
			if n%2 == 0 { // the service notices while it is at it
				time.AfterFunc(3*time.Millisecond, cancel)
			}
			proxy.ServeHTTP(httptest.NewRecorder(), r.WithContext(ctx))
			cancel()
			panic(http.ErrAbortHandler)
		}
		proxy.ServeHTTP(w, r)
	}))
	front.Config.ErrorLog = proxy.ErrorLog
	t.Cleanup(front.Close)
	return front.URL
}

// left is how many requests are to be dropped after this one, below zero where this one is not.
func left(r *http.Request, drop *atomic.Int64) int64 {
	if r.Method != http.MethodPost {
		return -1
	}
	return drop.Add(-1)
}

// What is begun over a connection that drops after the request is begun once, and its answer is heard.
func TestAConnectionThatDropsBeginsNothingTwice(t *testing.T) {
	i := signedIn(t)
	waits := onceWaits
	onceWaits = []time.Duration{10 * time.Millisecond, 300 * time.Millisecond, time.Second, 2 * time.Second,
		4 * time.Second}
	t.Cleanup(func() { onceWaits = waits })
	var drop atomic.Int64
	front := dropping(t, i.Link, &drop)
	code, _, errOut := run(t, "a password of hers\n", "login", front, "--name", "iva")
	require.Equal(t, 0, code, errOut)
	book := filepath.Join(t.TempDir(), "b.yaml")
	require.NoError(t, os.WriteFile(book, []byte("urgentis: runbook/1\nname: b\ntitle: B\nowner: o\nservice: berths\n"+
		"steps:\n  - note: N\n    text: one\n"), 0o600))
	ok(t, "service", "set", "berths", "--owner", "o")
	ok(t, "runbook", "push", book)

	count := func(table string) (n int) {
		require.NoError(t, testdb.SQL(i.Store).Raw("select count(*) from "+table).Scan(&n).Error)
		return n
	}
	drop.Store(2)
	code, out, errOut := run(t, "", "run", "start", "b")
	require.Equal(t, 0, code, errOut)
	assert.Contains(t, errOut, "The connection dropped; asking again in 10ms…")
	assert.Contains(t, out, "Started as run ", "the one that was begun the first time")
	assert.Equal(t, 1, count("run"))
	drop.Store(1)
	ok(t, "incident", "open", "Mooring line parted", "--severity", "major")
	assert.Equal(t, 1, count("incident"))

	onceWaits = onceWaits[:1]
	drop.Store(10) // the first of them is done to its end
	code, _, errOut = run(t, "", "run", "start", "b")
	assert.Equal(t, exitNoServer, code)
	assert.Contains(t, errOut, "it is not known whether it was done: look before you ask again")
	assert.Equal(t, 2, count("run"))

	drop.Store(0)
	ask := func(body string) (*http.Response, string) {
		r, err := http.NewRequest(http.MethodPost, i.Link+"/api/v1/runs", nil)
		require.NoError(t, err)
		r.Body = io.NopCloser(strings.NewReader(body))
		k, err := (&app{v: viper.New()}).loginOf()
		require.NoError(t, err)
		r.AddCookie(&http.Cookie{Name: cookieName, Value: k.Session})
		r.Header.Set("Idempotency-Key", "mine")
		r.Header.Set("Content-Type", "application/json")
		res, err := http.DefaultClient.Do(r)
		require.NoError(t, err)
		defer res.Body.Close()
		b, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		return res, string(b)
	}
	res, said := ask(`{"runbook": "no"}`)
	assert.Equal(t, http.StatusNotFound, res.StatusCode, "what is refused may be asked for again: %s", said)
	res, said = ask(`{"runbook": "b"}`)
	assert.Equal(t, http.StatusAccepted, res.StatusCode, said)
	res, again := ask(`{"runbook": "b"}`)
	assert.Equal(t, http.StatusAccepted, res.StatusCode)
	assert.Equal(t, "true", res.Header.Get("Idempotent-Replayed"))
	assert.JSONEq(t, said, again)
	res, said = ask(`{"runbook": "b", "inputs": {}}`)
	assert.Equal(t, http.StatusUnprocessableEntity, res.StatusCode, said)
	assert.Equal(t, 3, count("run"))
	require.NoError(t, testdb.SQL(i.Store).Exec(
		"update heard_id set answer = null, at = now() - interval '1 hour' where id = 'mine'").Error)
	res, said = ask(`{"runbook": "b"}`)
	assert.Equal(t, http.StatusConflict, res.StatusCode)
	assert.Contains(t, said, "what came of it is not known: look whether it is there")
	assert.Equal(t, 3, count("run"))
}
