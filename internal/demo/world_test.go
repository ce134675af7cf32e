package demo

import (
	"context"
	"encoding/json"
	"io"
	"log/slog"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/api"
	"urgentis/core/access"
	"urgentis/core/incident"
	"urgentis/internal/service"
	"urgentis/internal/testdb"
)

func world(t *testing.T) (*World, context.Context) {
	return worldIn(t, service.Config{Database: testdb.URL(t), DataDir: t.TempDir()})
}

func worldIn(t *testing.T, c service.Config) (*World, context.Context) {
	ctx, cancel := context.WithTimeout(context.Background(), 4*time.Minute)
	c.Listen, c.Log = "127.0.0.1:0", slog.New(slog.DiscardHandler)
	w, err := Start(ctx, c, 100*time.Millisecond, func(string) {})
	require.NoError(t, err)
	t.Cleanup(func() { cancel(); assert.NoError(t, w.Stop()) })
	// Whoever is told depends on the hour: for tests it is day, whenever they run.
	require.NoError(t, (&playing{World: w, ctx: ctx, tell: func(string) {}}).clock(true))
	return w, ctx
}

func (w *World) incident(
	t *testing.T,
	ctx context.Context,
	n int64,
	when func(*api.IncidentDetail) bool,
) *api.IncidentDetail {
	var got *api.IncidentDetail
	require.Eventually(t, func() bool {
		r, err := w.Admin.GetIncidentWithResponse(ctx, n, nil)
		require.NoError(t, err)
		got = r.JSON200
		return got != nil && when(got)
	}, 60*time.Second, 50*time.Millisecond)
	return got
}

// kinds are the kinds of entries in their order. Who is called, and when, depends on how long the others take.
func kinds(d *api.IncidentDetail) string {
	var out []string
	for _, e := range d.Entries {
		if e.Kind != "people.called" {
			out = append(out, e.Kind)
		}
	}
	return strings.Join(out, " ")
}

func TestTheWholeStory(t *testing.T) {
	w, ctx := world(t)
	mara, err := w.As(ctx, "mara-by-script", access.Approver)
	require.NoError(t, err)
	w.Fleet.Queue.Break()
	g, err := w.Approve(ctx, mara, "seen")
	require.NoError(t, err)
	d := w.incident(t, ctx, g.Incident, func(d *api.IncidentDetail) bool { return d.Incident.State == "closed" })
	assert.Equal(t, "repaired", d.Incident.Outcome)
	assert.Regexp(
		t,
		`alert.raised run.begun (look.taken )+check.passes note gate.raised gate.approved .*change.begun change.ended .*check.passes told run.ended incident.closed`,
		strings.ReplaceAll(kinds(d), "ticket.made ", ""), // it comes whenever the desk has answered
	)
	changes := w.Fleet.Queue.Changes()
	require.Len(t, changes, 1)
	assert.NotEmpty(t, changes[0].Attempt, "the host learns the attempt's name")
	require.Eventually(
		t,
		func() bool { return len(w.Room.Messages()) >= 2 && len(w.Monitor.Told()) == 1 },
		time.Minute,
		20*time.Millisecond,
	)
	assert.Equal(t, []string{"close"}, w.Monitor.Told())
	var said []string
	for _, m := range w.Room.Messages() {
		said = append(said, m.Text)
	}
	assert.Contains(t, strings.Join(said, "\n"), "berth assignments wait in quay-north")
	assert.Contains(t, strings.Join(said, "\n"), "is closed, repaired")
	assert.Len(t, said, 2, "that it began, and that it is over; the gate was decided before anybody was told: %s", said)
	for _, u := range []string{w.Room.URL, w.Monitor.URL} {
		res, err := http.Get(u + "/")
		require.NoError(t, err)
		b, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		res.Body.Close()
		assert.Contains(t, string(b), "Merrow Line")
	}
}

func TestASilentHostIsNeverAFalseAlarm(t *testing.T) {
	w, ctx := world(t)
	w.Fleet.Hosts[1].SetDown(true)
	// The queue is well, as far as anybody can see: only one consumer answers.
	start, err := w.Admin.StartRunWithResponse(
		ctx,
		api.NewRun{Runbook: "berth-queue-backlog", Inputs: map[string]any{"queue": "quay-north"}},
	)
	require.NoError(t, err)
	require.NotNil(t, start.JSON202, string(start.Body))
	var run *api.RunDetail
	require.Eventually(t, func() bool {
		r, err := w.Admin.GetRunWithResponse(ctx, start.JSON202.Id)
		require.NoError(t, err)
		run = r.JSON200
		return !run.Run.EndedAt.IsZero()
	}, time.Minute, 50*time.Millisecond)
	assert.EqualValues(t, "handed-over", run.Run.State)
	assert.Contains(t, run.Run.Because, "is unsure: no depth from berth-consumer-2")
	require.Eventually(t, func() bool {
		for _, m := range w.Room.Messages() {
			if strings.Contains(m.Text, ", on call for Quayside") {
				return true
			}
		}
		return false
	}, time.Minute, 20*time.Millisecond)
}

const free = `urgentis: runbook/1
name: free-text
title: Words stay words
owner: quayside
service: berth-queue
starts:
  any: {alert: alert.labels.signal == "free", inputs: {text: "{{ alert.labels.queue }}"}}
inputs:
  text: {type: text}
steps:
  - look: Which words arrive?
    where: {role: consumer, pick: one}
    run: [echo-words, "{{ inputs.text }}", "a {{ inputs.text }} b", "", "it's"]
    as_data: it only shows the words
    only_reads: it shows the words that arrive
    read: {words: {json: ., type: json}}
  - hand_over: team/quayside
    because: "{{ own(readings.words).size() }}"
`

// Whatever an alert holds arrives on the host as it is, as one argument; through a pattern it does not get in.
func TestHostileTextStaysData(t *testing.T) {
	w, ctx := world(t)
	r, err := w.Admin.PushRunbookWithResponse(
		ctx,
		api.RunbookText{Text: strings.Replace(free, "own(readings.words)", "first(readings.words)", 1)},
	)
	require.NoError(t, err)
	require.NotNil(t, r.JSON201, string(r.Body))
	hostile := `x; rm -rf / #{{ "$(reboot)" }}` + " `id` 'q' \"d\" \\ \u202e*"
	for signal, check := range map[string]func(d *api.IncidentDetail){
		"queue_depth": func(d *api.IncidentDetail) {
			assert.Equal(t, "alert.raised run.refused nothing.started", kinds(d))
			assert.Contains(t, string(d.Entries[1].Content), "does not match the pattern "+
				"^[a-z][a-z-]{0,39}$")
		},
		"free": func(d *api.IncidentDetail) {
			for _, e := range d.Entries {
				if e.Kind == "look.taken" {
					c, _ := (&incident.Entry{Kind: incident.Kind(e.Kind),
						Content: e.Content}).Read().(incident.AttemptContent)
					words := c.Readings["words"].Value
					assert.Equal(t, []any{hostile, "a " + hostile + " b", "", "it's"}, words)
					return
				}
			}
			assert.Fail(t, "the look was not taken", kinds(d))
		},
	} {
		body, err := json.Marshal(
			map[string]any{
				"severity": "major",
				"summary":  "s",
				"key":      signal,
				"labels":   map[string]string{"signal": signal, "queue": hostile},
			},
		)
		require.NoError(t, err)
		src, err := w.Admin.AddSourceWithResponse(
			ctx,
			api.NewSource{Name: "mon-" + strings.ReplaceAll(signal, "_", "-")},
		)
		require.NoError(t, err)
		req, err := http.NewRequestWithContext(
			ctx,
			http.MethodPost,
			w.Link+"/in/"+src.JSON201.Name,
			strings.NewReader(string(body)),
		)
		require.NoError(t, err)
		req.Header.Set("Authorization", "Bearer "+src.JSON201.Token)
		res, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		require.Equal(t, 202, res.StatusCode)
		var taken api.Taken
		require.NoError(t, json.NewDecoder(res.Body).Decode(&taken))
		res.Body.Close()
		check(
			w.incident(
				t,
				ctx,
				taken.Incident,
				func(d *api.IncidentDetail) bool { return d.Incident.WaitingOn == "person" },
			),
		)
	}
	assert.Empty(t, w.Fleet.Queue.Changes())
}

func TestAChangedHostKeyIsRefused(t *testing.T) {
	w, ctx := world(t)
	h := w.Fleet.Hosts[0]
	try := func() *api.Tried {
		r, err := w.Admin.TryTargetWithResponse(ctx, h.Name)
		require.NoError(t, err)
		return r.JSON200
	}
	assert.True(t, try().Ok, try().Says)
	tgt := api.Target{
		Name:    h.Name,
		Service: "berth-queue",
		Address: h.Address,
		Port:    SSHPort,
		Account: w.Fleet.Account,
		Secret:  "fleet-key",
		HostKey: w.Fleet.Hosts[1].HostKey,
		Labels:  h.Labels,
	}
	_, err := w.Admin.SetTargetWithResponse(ctx, nil, tgt)
	require.NoError(t, err)
	assert.Contains(t, try().Says, "not the pinned one")
	_, err = w.Admin.SetTargetWithBodyWithResponse(
		ctx,
		nil,
		"application/json",
		strings.NewReader(`{"name": "`+h.Name+`", "host_key": null}`),
	)
	require.NoError(t, err)
	assert.Contains(t, try().Says, "host key is not known")
}
