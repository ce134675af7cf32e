package service

import (
	"context"
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/internal/app"
	"urgentis/internal/testdb"
)

const posting = `urgentis: source/1
name: panel
proof: [bearer, basic, address, signed]
map:
  key: "{{ body.station }}/{{ body.what }}"
  summary: "{{ body.words }}"
  severity: {of: body.level, as: {"1": critical, "2": major}, otherwise: warning}
---
urgentis: source/1
name: quay
each: body.report.condition
map:
  key: "{{ item._station }}"
  summary: "{{ item.words }}"
  severity: major
`

// serve lets an instance answer HTTP too.
func (h *hearing) serve() {
	ctx, cancel := context.WithCancel(context.Background())
	h.t.Cleanup(cancel)
	go h.Serve(ctx) //nolint:errcheck // it ends with the context
}

// curl posts, and gives the status and the answer.
func (h *hearing) curl(path string, args ...string) (status, answer string) {
	args = append([]string{"-sS", "--max-time", "20", "-w", "\n%{http_code}"}, append(args, h.Link+path)...)
	out, err := exec.Command("curl", args...).CombinedOutput()
	require.NoError(h.t, err, "%v: %s", args, out)
	at := strings.LastIndex(string(out), "\n")
	return string(out)[at+1:], string(out)[:at]
}

// taken is how many rows keep what arrived of a source: as alerts, and as what nobody could read.
func (h *hearing) taken(source string) (alerts, unparsed int) {
	require.NoError(h.t, testdb.SQL(h.Store).Raw(`select (select count(*) from alert where source = ?),
		(select count(*) from unparsed where source = ?)`, source, source).Row().Scan(&alerts, &unparsed))
	return alerts, unparsed
}

func TestPostsOfCurl(t *testing.T) {
	h := hear(t, posting)
	h.serve()
	ctx := context.Background()
	add := func(n app.NewKey) string {
		k, err := h.App.AddSource(ctx, root, n)
		require.NoError(t, err)
		return k.Token
	}
	token := add(app.NewKey{Source: "panel"})
	signing := add(app.NewKey{Source: "panel", Signing: true})
	quay := "Authorization: Bearer " + add(app.NewKey{Source: "quay"})
	body := func(what string) string {
		return fmt.Sprintf(`{"station": "ramp-2", "what": %q, "words": "dark by %s", "level": 2}`, what, what)
	}
	const isJSON = "Content-Type: application/json"

	t.Run("bearer", func(*testing.T) {
		status, said := h.curl(
			"/in/panel",
			"-H",
			"Authorization: Bearer "+token,
			"-H",
			isJSON,
			"--data",
			body("bearer"),
		)
		require.Equal(t, "202", status, said)
		h.alert("panel", "dark by bearer")
	})
	t.Run("basic", func(*testing.T) {
		status, said := h.curl("/in/panel", "-u", "panel:"+token, "-H", isJSON, "--data", body("basic"))
		require.Equal(t, "202", status, said)
		h.alert("panel", "dark by basic")
		status, said = h.curl("/in/panel", "-u", "panel:nonsense", "-H", isJSON, "--data", body("nobody"))
		assert.Equal(t, "401", status, said)
	})
	t.Run("address, a form", func(*testing.T) {
		status, said := h.curl("/in/panel/"+token, "--data-urlencode", "station=ramp 2 & more", "--data-urlencode",
			"what=form", "--data-urlencode", "words=dark by a form: äöü", "--data-urlencode", "level=1")
		require.Equal(t, "202", status, said)
		a := h.alert("panel", "dark by a form: äöü")
		assert.Equal(t, "ramp 2 & more/form", a.Key)
		assert.Equal(t, "critical", a.Severity)
	})
	t.Run("signed", func(*testing.T) {
		w, err := standardwebhooks.NewWebhook(signing)
		require.NoError(t, err)
		signed := func(text string, at time.Time) []string {
			s, err := w.Sign("msg_1", at, []byte(text))
			require.NoError(t, err)
			return []string{"-H", isJSON, "-H", "webhook-id: msg_1", "-H", fmt.Sprint("webhook-timestamp: ", at.Unix()),
				"-H", "webhook-signature: " + s}
		}
		text := body("signature")
		status, said := h.curl("/in/panel", append(signed(text, time.Now()), "--data", text)...)
		require.Equal(t, "202", status, said)
		h.alert("panel", "dark by signature")
		status, said = h.curl("/in/panel", append(signed(text, time.Now()), "--data", body("forger"))...)
		assert.Equal(t, "401", status, said)
		status, said = h.curl("/in/panel", append(signed(text, time.Now().Add(-6*time.Minute)), "--data", text)...)
		assert.Equal(t, "401", status, "too old: "+said)
	})
	t.Run("XML", func(*testing.T) {
		file := filepath.Join(t.TempDir(), "report.xml")
		require.NoError(t, os.WriteFile(file, []byte(`<?xml version="1.0" encoding="ISO-8859-1"?>
<report><condition station="p1"><words>Pumpe l`+"\xe4"+`uft</words></condition>
<condition station="p2"><words>dark</words></condition></report>`), 0o600))
		status, said := h.curl("/in/quay", "-H", quay, "-H", "Content-Type: text/xml", "--data-binary", "@"+file)
		require.Equal(t, "202", status, said)
		require.NotContains(t, said, "unparsed")
		h.alert("quay", "Pumpe läuft")
		h.alert("quay", "dark")
	})
	t.Run("entity bomb", func(*testing.T) {
		bomb := "<!DOCTYPE r [<!ENTITY a \"ha\">"
		for c := 'b'; c < 'j'; c++ {
			bomb += fmt.Sprintf("<!ENTITY %c %q>", c, strings.Repeat(fmt.Sprintf("&%c;", c-1), 10))
		}
		status, said := h.curl("/in/quay", "-H", quay, "-H", "Content-Type: application/xml", "--data-binary",
			bomb+"]><report><condition station=\"x\"><words>&i;</words></condition></report>")
		assert.Equal(t, "202", status)
		assert.Contains(t, said, `"change":"unparsed"`, "it is kept as it came, and nothing of it is expanded")
	})
	t.Run("what cannot be read is kept", func(*testing.T) {
		_, before := h.taken("panel")
		for i, bad := range []string{`{"station": "ramp-2", "what`, strings.Repeat("[", 100_000),
			"{\"words\": \"\xff\xfe\"}", ""} {
			status, said := h.curl(
				"/in/panel",
				"-H",
				"Authorization: Bearer "+token,
				"-H",
				isJSON,
				"--data-binary",
				bad,
			)
			assert.Contains(t, []string{"202", "400", "413"}, status, said)
			_, unparsed := h.taken("panel")
			if status == "202" {
				before++
			} else {
				assert.Regexp(t, `"detail":"[^"]+"`, said)
			}
			assert.Equal(t, before, unparsed, "payload %d: %s", i, said)
		}
	})
	alerts, _ := h.taken("panel")
	assert.Equal(t, 4, alerts)
}

// TestASourceRevokedInAStorm takes a source away while it reports with all its might, by HTTP and by syslog: what was
// accepted is there, what comes after is refused or counted as a stranger's, and nothing is lost between.
func TestASourceRevokedInAStorm(t *testing.T) {
	h := hear(t, posting+"---\nurgentis: source/1\nname: hosts\ntakes: syslog\nfrom: [127.0.0.0/8]\n")
	h.serve()
	ctx := context.Background()
	proof := "Bearer " + h.key(app.NewKey{Source: "panel"}).Token

	var accepted, refused, lines atomic.Int64
	var senders sync.WaitGroup
	gone := make(chan struct{})
	goOn := func() bool {
		select {
		case <-gone:
			return false
		default:
			return true
		}
	}
	for c := range 6 {
		senders.Go(func() {
			for i, more := 0, 20; more > 0; i++ {
				if !goOn() {
					more--
				}
				text := fmt.Sprintf(`{"station": "s%d", "what": "w%d", "words": "x", "level": 2}`, c, i)
				req, err := http.NewRequest("POST", h.Link+"/in/panel", strings.NewReader(text))
				require.NoError(t, err)
				req.Header.Set("Authorization", proof)
				req.Header.Set("Content-Type", "application/json")
				res, err := http.DefaultClient.Do(req)
				require.NoError(t, err)
				var got []struct{ Change string }
				_ = json.NewDecoder(res.Body).Decode(&got)
				require.NoError(t, res.Body.Close())
				switch res.StatusCode {
				case http.StatusAccepted:
					assert.Equal(t, "new", got[0].Change)
					accepted.Add(1)
				case http.StatusUnauthorized:
					refused.Add(1)
				default:
					assert.Fail(t, "an answer that nobody expects", "%d", res.StatusCode)
				}
			}
		})
	}
	senders.Go(func() {
		c, err := net.Dial("udp", "127.0.0.1:"+h.port("syslog-udp"))
		require.NoError(t, err)
		defer c.Close() //nolint:errcheck // it is only sent from
		for goOn() {
			_, err := fmt.Fprintf(c, "<11>1 2026-11-20T02:14:09Z pier-1 pump - - - line %d", lines.Add(1)%50)
			require.NoError(t, err)
			time.Sleep(200 * time.Microsecond)
		}
		for range 200 { // all listeners know by then
			time.Sleep(20 * time.Millisecond)
			_, err := fmt.Fprintf(c, "<11>1 2026-11-20T02:14:09Z pier-1 pump - - - too late")
			require.NoError(t, err)
		}
	})
	time.Sleep(3 * time.Second)
	require.NoError(t, h.App.RemoveSource(ctx, root, "panel"))
	require.NoError(t, h.App.RemoveSource(ctx, root, "hosts"))
	close(gone)
	senders.Wait()

	var kept int64
	require.NoError(t, testdb.SQL(h.Store).Raw("select count(*) from alert where source = 'panel'").Scan(&kept).Error)
	assert.Equal(t, accepted.Load(), kept, "each that was accepted is there")
	assert.GreaterOrEqual(t, refused.Load(), int64(100), "none is accepted afterwards")
	assert.Positive(t, kept)
	assert.Eventually(t, func() bool {
		var folded int64
		require.NoError(t, testdb.SQL(h.Store).Raw(`select coalesce(sum(count), 0) from alert where source = 'hosts'`).
			Scan(&folded).Error)
		for _, l := range h.ears.Status() {
			if l.Name == "syslog-udp" {
				t.Logf(
					"%d sent: %d heard, %d kept, %d folded, %d of strangers, %d lost",
					lines.Load()+200,
					l.Heard,
					l.Kept,
					folded,
					l.Strange,
					l.Lost,
				)
				return l.Heard == lines.Load()+200 && l.Kept+l.Strange == l.Heard && l.Lost == 0 &&
					l.Strange >= 50 && l.Waiting == 0 && folded <= l.Kept && folded > 0
			}
		}
		return false
	}, time.Minute, 200*time.Millisecond)
}
