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

// silent are runbooks whose authors said nothing: no harm, no undo, no thresholds.
const silent = `urgentis: runbook/1
name: %[1]s
title: %[2]s
owner: quayside
service: %[1]s
steps:
  - change: %[3]s
    where: {name: %[1]s-1}
    run: [%[1]s, again]
  - close: repaired
    because: It was done.
`

// whoSaysNothing opens an incident on a service of which nothing is stated, and starts its runbook.
func whoSaysNothing(ctx context.Context, t *testing.T, w *demo.World, name, title, change string) int64 {
	t.Helper()
	host := w.Fleet.Hosts[0]
	_, err := w.Admin.SetServiceWithResponse(ctx, nil, api.Service{Name: name, Owner: "quayside"})
	require.NoError(t, err)
	set, err := w.Admin.SetTargetWithResponse(ctx, nil, api.Target{Name: name + "-1", Service: name, Address: host.Address,
		Port: 2210, Account: "ops", Secret: "fleet-key", HostKey: host.HostKey})
	require.NoError(t, err)
	require.Equal(t, 200, set.StatusCode(), string(set.Body))
	pushed, err := w.Admin.PushRunbookWithResponse(ctx, api.RunbookText{Text: fmt.Sprintf(silent, name, title, change)})
	require.NoError(t, err)
	require.Less(t, pushed.StatusCode(), 300, string(pushed.Body))
	opened, err := w.Admin.OpenIncidentWithResponse(ctx,
		api.NewIncident{Title: title, Service: name, Severity: "major"})
	require.NoError(t, err)
	require.NotNil(t, opened.JSON201, string(opened.Body))
	run, err := w.Admin.StartRunWithResponse(ctx, api.NewRun{Runbook: name, Incident: opened.JSON201.Number})
	require.NoError(t, err)
	require.Less(t, run.StatusCode(), 300, string(run.Body))
	return opened.JSON201.Number
}

// one waits until a page has a place, and gives its text.
func one(t *testing.T, p *Page, selector string) string {
	t.Helper()
	require.NoError(t, p.Until(fmt.Sprintf("!!document.querySelector(%q)", selector)))
	text, err := p.Text(fmt.Sprintf("[...document.querySelectorAll(%q)].map(e => e.innerText).join('\\n')", selector))
	require.NoError(t, err)
	return text
}

// night is the demo with everything broken that can break, and two incidents beside it whose runbooks say nothing.
func night(ctx context.Context, t *testing.T) (w *demo.World, incidents map[string]int64) {
	// The account postgres must reach the directory when root runs the tests.
	dir, err := os.MkdirTemp("", "urgentis-night-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(dir, 0o755)) //nolint:gosec // see above
	t.Cleanup(func() { os.RemoveAll(dir) })  //nolint:errcheck // it is of this test alone
	ctx, cancel := context.WithCancel(ctx)
	w, err = demo.Start(ctx, service.Config{DataDir: dir, Listen: "127.0.0.1:0",
		Log: slog.New(slog.DiscardHandler)}, 100*time.Millisecond, func(string) {})
	require.NoError(t, err)
	t.Cleanup(func() { cancel(); assert.NoError(t, w.Stop()) })
	for _, of := range ofTroubles {
		require.NoError(t, w.Senders.Deployed(ctx, of, "7.4.0", "jonas"))
	}
	waitForWatches(ctx, t, w)
	breakAll(ctx, t, w)
	incidents = map[string]int64{}
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
	incidents["pier-lamps"] = whoSaysNothing(ctx, t, w, "pier-lamps", "Two lamps of the pier are dark", "Light the lamps")
	incidents["horn"] = whoSaysNothing(ctx, t, w, "horn", "The fog horn is silent", "Sound it again")
	return w, incidents
}

// gateOf is the open gate of an incident; "" where nothing waits for approval.
func gateOf(ctx context.Context, t *testing.T, w *demo.World, incident int64) string {
	list, err := w.Admin.ListGatesWithResponse(ctx)
	require.NoError(t, err)
	for _, g := range *list.JSON200 {
		if g.Incident == incident {
			return g.Id
		}
	}
	return ""
}

// For every incident, page and command line answer what whoever was woken asks, or say plainly that its author did not:
// what is wrong and whom it harms, how bad it is now, since when and whether it gets worse, what is proposed on how
// many, how risky that is and whether it can be undone, how it went before, and what follows yes, no and no answer.
//
// In the morning the same incidents are over, and page, report and command line give five answers of each.
func TestTheQuestionsOfNightAndMorningHaveAnswers(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	w, incidents := night(ctx, t)
	token := tokenFor(ctx, t, w)
	t.Run("night", func(t *testing.T) { byNight(ctx, t, w, token, incidents) })
	t.Run("morning", func(t *testing.T) { byMorning(ctx, t, w, token, incidents) })
}

func byNight(ctx context.Context, t *testing.T, w *demo.World, token string, incidents map[string]int64) {
	require.Eventually(t, func() bool { return gateOf(ctx, t, w, incidents["horn"]) != "" }, time.Minute,
		100*time.Millisecond)
	time.Sleep(12 * time.Second) // until watches looked again

	p := open(t, 1280)
	require.NoError(t, p.SignIn(w.Link, "mara", w.SignIn["mara"]))
	for of, n := range incidents {
		nothing := of == "pier-lamps" || of == "horn"
		require.NoError(t, p.Go(fmt.Sprintf("%s/incidents/%d", w.Link, n)))
		assert.NotEmpty(t, one(t, p, "h1"), "%s: what is wrong", of)
		harm := one(t, p, "section.band .harm")
		now := one(t, p, "section.band .reading")
		if nothing {
			assert.Equal(t, "Harm: not stated by the author (quayside)", harm, of)
			assert.Contains(t, now, "How bad it is now is not known", of)
		} else {
			assert.NotEmpty(t, harm, "%s: whom it harms, or that its author did not say", of)
			assert.Regexp(t, `(now, .*(just read|ago)|How bad it is now is not known)`, now, "%s: how bad now, and how old", of)
			assert.Regexp(t, `(?i)(getting (worse|better)|trend|rising|falling|not known)`, now, "%s: where it goes", of)
		}
		assert.Regexp(t, `open \d+.*s`, one(t, p, "header.incident-head .meta"), "%s: since when", of)
		gate := gateOf(ctx, t, w, n)
		if gate == "" {
			text := one(t, p, "aside.side")
			assert.Regexp(t, `Unclaimed\s+(escalates to \S+|nobody else is called by itself)`, text, "%s: who is called", of)
			assert.Regexp(t, `No runbook works on it|Open run`, one(t, p, ".steps-of"), "%s: what is done", of)
		} else {
			assert.Regexp(t, `on (all )?\S+`, one(t, p, "section.wanted h2.what"), "%s: what is proposed, on what", of)
			assert.NotEmpty(t, one(t, p, "section.wanted .commands pre"), "%s: exactly what would run", of)
			assert.Regexp(t, `undo: |cannot be undone|no undo in this runbook`, one(t, p, "section.wanted .commands .undo"),
				"%s: can it be undone", of)
			assert.NotEmpty(t, one(t, p, "section.wanted .before"), "%s: how it went before", of)
			for _, word := range []string{"yes", "no", "nobody"} {
				assert.NotEmpty(t, one(t, p, "section.wanted .answers ."+word+" td"), "%s: after %s", of, word)
			}
			shown := says(t, w, token, "gate", "show", gate)
			for _, want := range []string{"Harm: ", "Now: ", "Exactly this would run", "If the answer is", "  Yes ", "  No ",
				"  Nobody answers ", "Before: "} {
				assert.Contains(t, shown, want, of)
			}
			assert.Regexp(t, `undo: |cannot be undone|no undo in this runbook`, shown, of)
		}
		if nothing {
			assert.Contains(t, one(t, p, "section.risk"), "What is lost: not stated by the author.", of)
			shown := says(t, w, token, "gate", "show", gate)
			assert.Contains(t, shown, "Harm:    not stated by the author (quayside)")
			assert.Contains(t, shown, "Now:     not known: no reading of it tells")
			assert.Contains(t, shown, "what is lost: not stated by the author")
		} else {
			said := says(t, w, token, "incident", "around", fmt.Sprint(n))
			wide, rest, _ := strings.Cut(said, "Before it")
			before, rest, _ := strings.Cut(rest, "Does it get worse?")
			worse, past, _ := strings.Cut(rest, "Happened before")
			assert.Contains(t, wide, of, "%s: how wide, and since when", of)
			assert.Contains(t, before, "7.4.0", "%s: what was deployed before", of)
			assert.Regexp(t, `worse|better|moved|the same`, worse, "%s: does it get worse", of)
			assert.Contains(t, past, "First time with this alert on this service", of)
			assert.Contains(t, one(t, p, "aside.side"), "7.4.0", "%s: what was deployed before", of)
			require.NoError(t, p.Click("button.v-tab:nth-of-type(3)"))
			require.NoError(t, p.See("First time with this alert on this service"))
		}
		shot(t, p, "night-"+of)
		assert.Empty(t, axe(t, p), of)
	}
}

// endAll lets every incident end: its changes are approved, and what no runbook closes is closed by hand.
func endAll(ctx context.Context, t *testing.T, w *demo.World, incidents map[string]int64) {
	approver, err := w.As(ctx, "approver", access.Approver)
	require.NoError(t, err)
	over := func(n int64) bool {
		d, err := w.Admin.GetIncidentWithResponse(ctx, n, nil)
		return err == nil && d.JSON200 != nil && d.JSON200.Incident.State == api.IncidentStateClosed
	}
	decideAll := func() {
		list, err := approver.ListGatesWithResponse(ctx)
		require.NoError(t, err)
		for _, g := range *list.JSON200 {
			_, err := approver.DecideGateWithResponse(ctx, g.Id,
				api.Decision{Approve: true, Digest: g.Digest, Comment: "Go on."})
			require.NoError(t, err)
		}
	}
	// Some runbooks ask twice; what they do meanwhile is waited for a while.
	for range 20 {
		decideAll()
		time.Sleep(time.Second)
	}
	for of, n := range incidents {
		if over(n) {
			continue
		}
		// What no runbook closes is closed by whoever has it.
		r, err := w.Admin.CloseIncidentWithResponse(ctx, n, api.Closing{Outcome: "repaired-by-hand", Because: "Done by hand."})
		require.NoError(t, err)
		if r.StatusCode() != 200 {
			runs, err := w.Admin.ListRunsWithResponse(ctx, &api.ListRunsParams{Active: true, Limit: 50})
			require.NoError(t, err)
			for _, x := range runs.JSON200.Items {
				if x.Incident == n {
					_, err := w.Admin.CancelRunWithResponse(ctx, x.Id, api.Cancel{Because: "by hand"})
					require.NoError(t, err)
				}
			}
			require.Eventually(t, func() bool {
				r, err := w.Admin.CloseIncidentWithResponse(ctx, n, api.Closing{Outcome: "repaired-by-hand", Because: "Done by hand."})
				return err == nil && r.StatusCode() == 200 || over(n)
			}, time.Minute, 200*time.Millisecond, of)
		}
	}
}

func byMorning(ctx context.Context, t *testing.T, w *demo.World, token string, incidents map[string]int64) {
	endAll(ctx, t, w, incidents)
	p := open(t, 1280)
	require.NoError(t, p.SignIn(w.Link, "mara", w.SignIn["mara"]))
	for of, n := range incidents {
		require.NoError(t, p.Go(fmt.Sprintf("%s/incidents/%d", w.Link, n)))
		require.NoError(t, p.Until("document.querySelectorAll('section.sum .tiles > div').length === 4"))
		page := one(t, p, "section.sum") + one(t, p, "section.left")
		shown := says(t, w, token, "incident", "show", fmt.Sprint(n))
		report, err := w.Admin.ReportIncidentWithResponse(ctx, n, &api.ReportIncidentParams{Form: "markdown"})
		require.NoError(t, err)
		for place, text := range map[string]string{"page": page, "command line": shown, "report": string(report.Body)} {
			for _, answer := range []string{"Cause", "Done", "Approved by", "Effect", "Left over"} {
				assert.Regexp(t, "(?s)"+answer+`\W+\w`, text, "%s of %s: %s", place, of, answer)
			}
		}
		shot(t, p, "morning-"+of)
		assert.Empty(t, axe(t, p), of)
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
