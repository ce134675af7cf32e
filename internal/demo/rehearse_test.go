package demo

import (
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/api"
	"urgentis/core/access"
)

func text(t *testing.T, name string) string {
	b, err := os.ReadFile("../../examples/ferry/runbooks/" + name + ".yaml")
	require.NoError(t, err)
	return string(b)
}

func TestRehearsals(t *testing.T) {
	w, ctx := world(t)
	w.Fleet.Queue.Break()
	d := w.play(t, ctx, nobody)
	require.Equal(t, "repaired", d.Incident.Outcome)
	src := text(t, "berth-queue-backlog")
	inputs := map[string]any{"queue": "quay-north"}
	said := func(r *api.Rehearsal) string {
		var out []string
		for _, l := range r.Lines {
			out = append(out, l.Verb+" "+l.Title+" "+l.Target+" "+l.Shown+" "+l.Says+" undo: "+l.Undo)
		}
		return strings.Join(out, "\n")
	}

	// Rendered on every path; nothing runs.
	before := len(w.Fleet.Queue.Changes())
	r, err := w.Admin.RehearseWithResponse(ctx, api.NewRehearsal{Text: src, Inputs: inputs})
	require.NoError(t, err)
	require.NotNil(t, r.JSON200, string(r.Body))
	assert.Contains(t, said(r.JSON200), "berthq park --queue quay-north '⟨own(readings.stuck)⟩'")
	assert.Contains(t, said(r.JSON200), "undo: berthq unpark")

	// Looks run, changes are assumed.
	r, err = w.Admin.RehearseWithResponse(ctx, api.NewRehearsal{Text: src, Inputs: inputs, How: api.LooksOnly})
	require.NoError(t, err)
	require.NotNil(t, r.JSON200, string(r.Body))
	assert.Equal(t, "false-alarm", r.JSON200.Outcome, "the queue is well: %s", said(r.JSON200))
	w.Fleet.Queue.Break()
	require.Eventually(
		t,
		func() bool { depth, _ := w.Fleet.Queue.Depth(); return depth > 250 },
		time.Minute,
		50*time.Millisecond,
	)
	r, err = w.Admin.RehearseWithResponse(ctx, api.NewRehearsal{Text: src, Inputs: inputs, How: api.LooksOnly})
	require.NoError(t, err)
	require.NotNil(t, r.JSON200, string(r.Body))
	assert.Contains(t, said(r.JSON200), "assumed to have happened; nothing was changed")
	assert.Contains(t, said(r.JSON200), "a gate would stand")
	assert.Empty(t, r.JSON200.State, "what the change did cannot be seen")
	assert.Contains(t, r.JSON200.Because, "by the change park")

	// What the change makes true is said: the runbook goes its whole way.
	r, err = w.Admin.RehearseWithResponse(ctx, api.NewRehearsal{
		Text: src, Inputs: inputs, How: api.LooksOnly,
		Assume: map[string]map[string]any{"park": {"depth": 12, "stuck": ""}},
	})
	require.NoError(t, err)
	require.NotNil(t, r.JSON200, string(r.Body))
	assert.Equal(t, "done", r.JSON200.State, said(r.JSON200))
	assert.Equal(t, "repaired", r.JSON200.Outcome)
	assert.Contains(t, said(r.JSON200), "not taken: what it reads is assumed, depth is 12 (assumed)")
	assert.Equal(t, 1, r.JSON200.Totals.Changes)
	assert.Equal(t, []string{"berth-consumer-1", "berth-consumer-2"}, r.JSON200.Totals.Targets)
	assert.Len(t, w.Fleet.Queue.Changes(), before)

	// Against the past: the same revision goes the same way, another one parts where it differs.
	r, err = w.Admin.RehearseWithResponse(ctx, api.NewRehearsal{Text: src, How: api.AgainstThePast, Past: 5})
	require.NoError(t, err)
	require.NotNil(t, r.JSON200, string(r.Body))
	var ended *api.RehearsedRun
	for i, p := range r.JSON200.Past {
		if p.Then == "repaired" {
			ended = &r.JSON200.Past[i]
		}
	}
	require.NotNil(t, ended)
	assert.True(t, ended.Same, "%+v", ended)
	assert.Equal(t, 1, ended.AskedNow)
	r, err = w.Admin.RehearseWithResponse(
		ctx,
		api.NewRehearsal{
			Text: strings.Replace(
				src,
				"that: max(readings.depth) > inputs.low",
				"that: max(readings.depth) > 100000",
				1,
			),
			How:  api.AgainstThePast,
			Past: 5,
		},
	)
	require.NoError(t, err)
	require.NotNil(t, r.JSON200, string(r.Body))
	for _, p := range r.JSON200.Past {
		if p.Run == ended.Run {
			assert.False(t, p.Same)
			assert.Equal(t, "false-alarm", p.Now)
			assert.Equal(t, "tell: Nothing to do", p.PartsAt)
			assert.Zero(t, p.AskedNow)
		}
	}

	// What was a default then is one: the new default counts.
	other := strings.Replace(src, "default: 200, min: 0, max: 1000", "default: 90000, min: 0, max: 100000", 1)
	require.NotEqual(t, src, other)
	r, err = w.Admin.RehearseWithResponse(ctx, api.NewRehearsal{Text: other, How: api.AgainstThePast, Past: 5})
	require.NoError(t, err)
	require.NotNil(t, r.JSON200, string(r.Body))
	for _, p := range r.JSON200.Past {
		if p.Run == ended.Run {
			assert.Equal(t, "false-alarm", p.Now, "%+v", p)
		}
	}
}

func TestRehearsedAnswers(t *testing.T) {
	w, ctx := world(t)
	// As it stands the question answers itself while all is well.
	src := strings.ReplaceAll(text(t, "boarding-passes-refused"), `r == "none"`, `r == "gone"`)
	play := func(answers map[string]string) (*api.Rehearsal, string) {
		r, err := w.Admin.RehearseWithResponse(ctx, api.NewRehearsal{Text: src, How: api.LooksOnly, Answers: answers})
		require.NoError(t, err)
		return r.JSON200, string(r.Body)
	}
	r, body := play(nil)
	require.NotNil(t, r, body)
	assert.Equal(t, "here a person would be asked", r.Because)
	assert.Equal(t, 1, r.Totals.Questions)
	r, body = play(map[string]string{"why": "nothing"})
	require.NotNil(t, r, body)
	assert.Equal(t, "cleared-itself", r.Outcome, body)
	_, body = play(map[string]string{"why": "moon"})
	assert.Contains(t, body, "has no answer moon; there is")
	_, body = play(map[string]string{"whence": "nothing"})
	assert.Contains(t, body, "there is no question whence to answer")
}

func TestOneStepAlone(t *testing.T) {
	w, ctx := world(t)
	src := text(t, "berth-queue-backlog")
	try := api.NewTry{
		Text:     src,
		Step:     "park",
		Inputs:   map[string]any{"queue": "quay-north"},
		Readings: map[string]any{"stuck": "m-7"},
	}
	r, err := w.Admin.TryStepWithResponse(ctx, try)
	require.NoError(t, err)
	require.NotNil(t, r.JSON200, string(r.Body))
	assert.Equal(t, "berthq park --queue quay-north m-7", r.JSON200.Lines[0].Shown)
	try.Run = true
	r, err = w.Admin.TryStepWithResponse(ctx, try)
	require.NoError(t, err)
	assert.Contains(t, string(r.Body), "only looks are carried out here")
	r, err = w.Admin.TryStepWithResponse(ctx, api.NewTry{Text: src, Step: "depth", Inputs: try.Inputs, Run: true})
	require.NoError(t, err)
	require.NotNil(t, r.JSON200, string(r.Body))
	assert.Contains(t, r.JSON200.Lines[0].Says, "depth = 12 messages")
	r, err = w.Admin.TryStepWithResponse(
		ctx,
		api.NewTry{
			Text:     src,
			Step:     "real",
			Inputs:   try.Inputs,
			Readings: map[string]any{"depth": map[string]any{"berth-consumer-1": "900", "berth-consumer-2": "1"}},
		},
	)
	require.NoError(t, err)
	require.NotNil(t, r.JSON200, string(r.Body))
	assert.Contains(t, r.JSON200.Lines[0].Says, "passes\nmax(readings.depth) is 900")
	assert.Empty(t, w.Fleet.Queue.Changes())
}

func TestRunControl(t *testing.T) {
	w, ctx := world(t)
	const long = `urgentis: runbook/1
name: long
title: Long
owner: quayside
service: berth-queue
limits: {one_at_a_time: service.name}
steps:
  - wait: An hour
    for: 1h
  - close: repaired
    because: waited
`
	_, err := w.Admin.PushRunbookWithResponse(ctx, api.RunbookText{Text: long})
	require.NoError(t, err)
	start := func() string {
		r, err := w.Admin.StartRunWithResponse(ctx, api.NewRun{Runbook: "long"})
		require.NoError(t, err)
		require.NotNil(t, r.JSON202, string(r.Body))
		return r.JSON202.Id
	}
	state := func(id string, want func(api.Run) bool) api.Run {
		var got api.Run
		require.Eventually(t, func() bool {
			r, err := w.Admin.GetRunWithResponse(ctx, id)
			require.NoError(t, err)
			got = r.JSON200.Run
			return want(got)
		}, time.Minute, 20*time.Millisecond, "%+v", &got)
		return got
	}
	first := start()
	state(first, func(r api.Run) bool { return r.WaitsOn == "time" })
	second := start()
	waits := state(second, func(r api.Run) bool { return r.WaitsOn == "turn" })
	assert.Equal(t, first, waits.Awaits, "the queue is there to see")
	cancel, err := w.Admin.CancelRunWithResponse(ctx, first, api.Cancel{Because: "enough"})
	require.NoError(t, err)
	require.Equal(t, 204, cancel.StatusCode(), string(cancel.Body))
	ended := state(first, func(r api.Run) bool { return !r.EndedAt.IsZero() })
	assert.EqualValues(t, "cancelled", ended.State)
	assert.Equal(t, "Cancelled by demo-setup: enough. Nothing was changed.", ended.Because)
	state(second, func(r api.Run) bool { return r.WaitsOn == "time" && r.Awaits == "" })
	again, err := w.Admin.RunAgainWithResponse(ctx, first)
	require.NoError(t, err)
	require.NotNil(t, again.JSON202, string(again.Body))
	assert.Equal(t, first, again.JSON202.AgainOf)
	state(again.JSON202.Id, func(r api.Run) bool { return r.WaitsOn == "turn" && r.Awaits == second })
	twice, err := w.Admin.CancelRunWithResponse(ctx, first, api.Cancel{})
	require.NoError(t, err)
	assert.Equal(t, 409, twice.StatusCode())
	list, err := w.Admin.ListInstancesWithResponse(ctx)
	require.NoError(t, err)
	require.Len(t, *list.JSON200, 1)
	assert.EqualValues(t, "alive", (*list.JSON200)[0].State)
	gone, err := w.Admin.BuryInstanceWithResponse(ctx, (*list.JSON200)[0].Id)
	require.NoError(t, err)
	assert.Equal(t, 409, gone.StatusCode(), "an instance that answers is not gone")
}

// One change is tried alone, for real: what it rests on is looked at, its gate stands, it is done and proven, all of it
// in the record; nothing else of the runbook is done, and the incident stays as it is.
func TestOneChangeAloneForReal(t *testing.T) {
	w, ctx := world(t)
	_, err := w.Admin.SwitchTriggerWithResponse(ctx, "berth-queue-backlog.backlog",
		api.SwitchTriggerJSONRequestBody{On: false, Because: "tried by hand"})
	require.NoError(t, err)
	w.Fleet.Queue.Break()
	n := int64(0)
	require.Eventually(t, func() bool {
		i := w.of(t, ctx, "berth-queue")
		if i != nil {
			n = i.Number
		}
		return n != 0
	}, time.Minute, 50*time.Millisecond)
	start := api.NewRun{Runbook: "berth-queue-backlog", Inputs: map[string]any{"queue": "quay-north"}, Incident: n,
		Only: "park"}
	r, err := w.Admin.StartRunWithResponse(ctx, start)
	require.NoError(t, err)
	require.NotNil(t, r.JSON202, string(r.Body))
	jonas, err := w.As(ctx, "jonas-by-script", access.Approver)
	require.NoError(t, err)
	_, err = w.Approve(ctx, jonas, "yes")
	require.NoError(t, err)
	var run *api.RunDetail
	require.Eventually(t, func() bool {
		got, err := w.Admin.GetRunWithResponse(ctx, r.JSON202.Id)
		require.NoError(t, err)
		run = got.JSON200
		return !run.Run.EndedAt.IsZero()
	}, time.Minute, 50*time.Millisecond)
	assert.EqualValues(t, "done", run.Run.State, run.Run.Because)
	assert.Equal(t, "Only: Park the unreadable message", run.Run.Title)
	assert.Empty(t, run.Treats, "it counts for no alert")
	assert.Len(t, w.Fleet.Queue.Changes(), 1)
	inc, err := w.Admin.GetIncidentWithResponse(ctx, n, nil)
	require.NoError(t, err)
	kinds := []string{}
	for _, e := range inc.JSON200.Entries {
		kinds = append(kinds, string(e.Kind))
	}
	for _, k := range []string{"gate.approved", "change.ended", "check.passes"} {
		assert.Contains(t, kinds, k)
	}
	assert.NotContains(t, kinds, "told")
	assert.NotContains(t, kinds, "note", "the note of the whole is not told")

	// Again is that one change again, and the past of the whole has none of it.
	again, err := w.Admin.RunAgainWithResponse(ctx, run.Run.Id)
	require.NoError(t, err)
	require.NotNil(t, again.JSON202, string(again.Body))
	assert.Equal(t, run.Run.Revision, again.JSON202.Revision)
	cancel, err := w.Admin.CancelRunWithResponse(ctx, again.JSON202.Id, api.Cancel{Because: "enough"})
	require.NoError(t, err)
	require.Equal(t, 204, cancel.StatusCode(), string(cancel.Body))
	past, err := w.Admin.RehearseWithResponse(ctx, api.NewRehearsal{Text: text(t, "berth-queue-backlog"),
		How: api.AgainstThePast, Past: 5})
	require.NoError(t, err)
	require.NotNil(t, past.JSON200, string(past.Body))
	assert.Empty(t, past.JSON200.Past)

	for only, says := range map[string]string{"depth": "a change can be tried alone", "nothing": "there is no step"} {
		start.Only = only
		r, err := w.Admin.StartRunWithResponse(ctx, start)
		require.NoError(t, err)
		assert.Contains(t, string(r.Body), says)
	}
}
