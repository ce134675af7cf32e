package browser

import (
	"bytes"
	"context"
	"fmt"
	"log/slog"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/api"
	"urgentis/core/access"
	"urgentis/internal/cli"
	"urgentis/internal/demo"
	"urgentis/internal/service"
)

// ofTroubles are what can break at the Merrow Line, and the service of each.
var ofTroubles = map[string]string{
	"queue": "berth-queue", "clocks": "crossing-clocks", "gate": "boarding-gates", "fares": "fares-db",
	"gauge": "tide-gauges", "link": "slipway", "fuel": "fuel",
}

// For every incident of the demo, page and command line answer what whoever was woken asks: since when, whether it gets
// worse, how wide it is, what was changed before it, and how it went before.
func TestTheNightsQuestionsHaveAnswers(t *testing.T) {
	ctx, cancel := context.WithCancel(context.Background())
	// The account postgres must reach the directory when root runs the tests.
	dir, err := os.MkdirTemp("", "urgentis-night-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(dir, 0o755)) //nolint:gosec // see above
	t.Cleanup(func() { os.RemoveAll(dir) })  //nolint:errcheck // it is of this test alone
	w, err := demo.Start(ctx, service.Config{DataDir: dir, Listen: "127.0.0.1:0",
		Log: slog.New(slog.DiscardHandler)}, 100*time.Millisecond, func(string) {})
	require.NoError(t, err)
	t.Cleanup(func() { cancel(); assert.NoError(t, w.Stop()) })
	for _, of := range ofTroubles {
		require.NoError(t, w.Senders.Deployed(ctx, of, "7.4.0", "jonas"))
	}
	token := tokenFor(ctx, t, w)
	waitForWatches(ctx, t, w)
	breakAll(ctx, t, w)
	incidents := map[string]int64{}
	require.Eventually(t, func() bool {
		r, err := w.Admin.ListIncidentsWithResponse(ctx, &api.ListIncidentsParams{Limit: 50})
		if err != nil || r.JSON200 == nil {
			return false
		}
		for _, i := range r.JSON200.Items {
			incidents[i.Service] = i.Number
		}
		if incidents["slipway"] == 0 {
			// A trap is a datagram, and may be lost; the switch says it again.
			w.Senders.Link(false, 4, "winch-4") //nolint:errcheck // see above
		}
		for _, of := range ofTroubles {
			if incidents[of] == 0 {
				return false
			}
		}
		return true
	}, 60*time.Second, time.Second, "%v", incidents)
	time.Sleep(12 * time.Second) // until watches looked again

	p := open(t, 1280)
	require.NoError(t, p.SignIn(w.Link, "mara", w.SignIn["mara"]))
	for trouble, of := range ofTroubles {
		n := incidents[of]
		said := says(t, w, token, "incident", "around", fmt.Sprint(n))
		wide, rest, _ := strings.Cut(said, "Before it")
		before, rest, _ := strings.Cut(rest, "Does it get worse?")
		worse, past, _ := strings.Cut(rest, "Happened before")
		assert.Contains(t, wide, of, "%s: how wide, and since when", trouble)
		assert.Contains(t, before, "7.4.0", "%s: what was deployed before", trouble)
		assert.Regexp(t, `worse|better|moved|the same`, worse, "%s: does it get worse", trouble)
		assert.Contains(t, past, "First time with this alert on this service", trouble)

		require.NoError(t, p.Go(fmt.Sprintf("%s/incidents/%d", w.Link, n)))
		require.NoError(t, p.See("Changed before it"), trouble)
		text, err := p.Text("document.body.innerText")
		require.NoError(t, err)
		assert.Regexp(t, `opened .+ ago`, text, "%s: since when", trouble)
		assert.Contains(t, text, "7.4.0", "%s: what was deployed before", trouble)
		assert.Regexp(t, `▲ worse|▽ better|moved|the same`, text, "%s: does it get worse", trouble)
		assert.NotContains(t, text, "Whether it gets worse is not known", trouble)
		assert.Regexp(t, `How wide`, text, trouble)
		assert.Contains(t, text, "First time with this alert on this service", trouble)
		shot(t, p, "night-"+trouble)
	}
}

// tokenFor makes a token with which the command line asks.
func tokenFor(ctx context.Context, t *testing.T, w *demo.World) string {
	r, err := w.Admin.AddTokenWithResponse(
		ctx,
		api.NewToken{Name: "by-night", Roles: []api.Role{api.Role(access.Viewer)}},
	)
	require.NoError(t, err)
	require.NotNil(t, r.JSON201, string(r.Body))
	return r.JSON201.Token
}

// says is what the command line prints.
func says(t *testing.T, w *demo.World, token string, args ...string) string {
	var out, wrong bytes.Buffer
	code := cli.Main(append(args, "--server", w.Link, "--token", token), strings.NewReader(""), &out, &wrong)
	require.Zero(t, code, wrong.String())
	return out.String()
}

func waitForWatches(ctx context.Context, t *testing.T, w *demo.World) {
	require.Eventually(t, func() bool {
		r, err := w.Admin.ListWatchesWithResponse(ctx, nil)
		if err != nil || r.JSON200 == nil || len(*r.JSON200) < 7 {
			return false
		}
		for _, x := range *r.JSON200 {
			if x.TakenAt.IsZero() {
				return false
			}
		}
		return true
	}, 60*time.Second, 200*time.Millisecond)
	time.Sleep(2500 * time.Millisecond) // until listeners know the keys of this installation
}

func breakAll(ctx context.Context, t *testing.T, w *demo.World) {
	for _, x := range w.Troubles() {
		if ofTroubles[x.Name] == "" {
			continue
		}
		_, err := x.Break(ctx)
		require.NoError(t, err, x.Name)
	}
}
