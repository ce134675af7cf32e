package library

import (
	"context"
	"crypto/tls"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/internal/testpeers"
)

// redis starts a cache with more options.
func redis(t *testing.T, options ...string) (port int) {
	port = testpeers.FreePort(t)
	testpeers.Start(t, testpeers.Answers(port), "redis-server", append([]string{"--port", fmt.Sprint(port), "--bind",
		"127.0.0.1", "--dir", t.TempDir(), "--save", ""}, options...)...)
	return port
}

// holds puts so many values into a cache, or as many as it takes.
func holds(t *testing.T, port, values int) {
	sh(t, `redis-cli -p "$1" eval "for i = 1, $2 do redis.call('set', 'key' .. i, string.rep(i, 20)) end" 0 >/dev/null`,
		fmt.Sprint(port), fmt.Sprint(values))
}

func TestCacheMemoryFull(t *testing.T) {
	t.Parallel()
	port := redis(t, "--maxmemory", "8mb")
	holds(t, port, 40000)
	at(t, "cache").repairs("cache-memory-full", map[string]any{"port": port, "allowed": 64})
	assert.Equal(t, "67108864", sh(t, `redis-cli -p "$1" config get maxmemory | tail -n 1`, fmt.Sprint(port)))
}

func TestCacheNotSaving(t *testing.T) {
	t.Parallel()
	dir := tmpfs(t, "size=8m")
	port := redis(t, "--dir", dir)
	holds(t, port, 20000)
	sh(t, `dd if=/dev/zero of="$1/ballast" bs=1k 2>/dev/null || true`, dir)
	sh(t, `redis-cli -p "$1" bgsave >/dev/null`, fmt.Sprint(port))
	require.Eventually(t, func() bool {
		return sh(t, `redis-cli -p "$1" info persistence | grep -c rdb_last_bgsave_status:err || true`,
			fmt.Sprint(port)) == "1"
	}, time.Minute, 50*time.Millisecond)
	require.NoError(t, os.Remove(filepath.Join(dir, "ballast")))
	at(t, "cache").repairs("cache-not-saving", map[string]any{"port": port})
	assert.FileExists(t, filepath.Join(dir, "dump.rdb"))
}

// nginx starts a web server with lines of its server block.
func nginx(t *testing.T, server string) (conf string) {
	dir := t.TempDir()
	require.NoError(t, os.Chmod(dir, 0o755)) //nolint:gosec // its workers read there
	conf = filepath.Join(dir, "nginx.conf")
	text := fmt.Sprintf(
		"pid %s/pid; error_log %s/error.log; daemon off; events {} http { access_log off; server { %s } }",
		dir,
		dir,
		server,
	)
	require.NoError(t, os.WriteFile(conf, []byte(text), 0o600))
	var port int
	_, err := fmt.Sscanf(server, "listen 127.0.0.1:%d", &port)
	require.NoError(t, err)
	testpeers.Start(t, testpeers.Answers(port), "nginx", "-c", conf)
	return conf
}

func TestWebWrongAnswer(t *testing.T) {
	t.Parallel()
	root, port := t.TempDir(), testpeers.FreePort(t)
	sh(t, `chmod 755 "$1" "$(dirname "$1")"; mkdir "$1/r41" "$1/r42"; echo "all is ok" >"$1/r41/health"
		echo "cannot find the berths" >"$1/r42/health"; ln -s r42 "$1/current"; ln -s r41 "$1/previous"`, root)
	nginx(t, fmt.Sprintf("listen 127.0.0.1:%d; root %s/current;", port, root))
	at(t, "web").repairs("web-wrong-answer", map[string]any{"port": port, "root": root})
	at, err := os.Readlink(root + "/current")
	require.NoError(t, err)
	assert.Equal(t, "r41", at)
}

func TestWebWrongAnswerOfBothReleases(t *testing.T) {
	t.Parallel()
	root, port := t.TempDir(), testpeers.FreePort(t)
	sh(t, `chmod 755 "$1" "$(dirname "$1")"; mkdir "$1/r41" "$1/r42"; echo bad >"$1/r41/health"
		echo bad >"$1/r42/health"; ln -s r42 "$1/current"; ln -s r41 "$1/previous"`, root)
	nginx(t, fmt.Sprintf("listen 127.0.0.1:%d; root %s/current;", port, root))
	at(t, "web").finds("web-wrong-answer", map[string]any{"port": port, "root": root}, "handed-over")
	at, err := os.Readlink(root + "/current")
	require.NoError(t, err)
	assert.Equal(t, "r42", at, "it is undone")
}

func TestCertificateEnding(t *testing.T) {
	t.Parallel()
	dir, port := t.TempDir(), testpeers.FreePort(t)
	file := filepath.Join(dir, "site.pem")
	made := func(to, days string) {
		sh(
			t,
			`openssl req -x509 -newkey ec -pkeyopt ec_paramgen_curve:prime256v1 -nodes -subj /CN=quay.example -days "$2" \
			-keyout "$1.key" -out "$1.crt" 2>/dev/null; cat "$1.crt" "$1.key" >"$1"; rm "$1.crt" "$1.key"`,
			to,
			days,
		)
	}
	made(file, "3")
	conf := nginx(
		t,
		fmt.Sprintf("listen 127.0.0.1:%d ssl; ssl_certificate %s; ssl_certificate_key %s;", port, file, file),
	)
	unit := initScript(t, "case $1 in reload) nginx -c '"+conf+"' -s reload ;; esac")
	p := at(t, "web")
	inputs := map[string]any{"port": port, "file": file, "reload": unit}
	p.finds("certificate-ending", inputs, "handed-over") // there is no newer one
	made(file+".new", "90")
	p.repairs("certificate-ending", inputs)
	c, err := tls.Dial(
		"tcp",
		fmt.Sprintf("127.0.0.1:%d", port),
		&tls.Config{InsecureSkipVerify: true},
	) //nolint:gosec // its own
	require.NoError(t, err)
	defer c.Close() //nolint:errcheck // it was only looked at
	assert.Greater(t, time.Until(c.ConnectionState().PeerCertificates[0].NotAfter), 80*24*time.Hour)
	assert.FileExists(t, file+".old")
}

func TestWebSlow(t *testing.T) {
	t.Parallel()
	slow := filepath.Join(t.TempDir(), "slow")
	require.NoError(t, os.WriteFile(slow, nil, 0o600))
	srv := &http.Server{
		ReadHeaderTimeout: time.Second,
		Handler: http.HandlerFunc(func(http.ResponseWriter, *http.Request) {
			if _, err := os.Stat(slow); err == nil {
				time.Sleep(700 * time.Millisecond)
			}
		}),
	}
	port := testpeers.FreePort(t)
	srv.Addr = fmt.Sprintf("127.0.0.1:%d", port)
	go srv.ListenAndServe()                                  //nolint:errcheck // it ends with the test
	t.Cleanup(func() { srv.Shutdown(context.Background()) }) //nolint:errcheck // see above
	unit := initScript(t, "case $1 in restart) rm -f '"+slow+"' ;; esac")
	at(t, "web").repairs("web-slow", map[string]any{"port": port, "unit": unit, "most": 500})
}
