package demo

import (
	"context"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/api"
	"urgentis/core/access"
	"urgentis/internal/service"
	"urgentis/internal/testdb"
)

// play answers every gate and question until the incident is closed or handed over.
func (w *World) play(t *testing.T, ctx context.Context, choose func(q api.Question) string) *api.IncidentDetail {
	mara, err := w.As(ctx, "mara-by-script", access.Approver)
	require.NoError(t, err)
	var got *api.IncidentDetail
	t.Cleanup(func() {
		if t.Failed() && got != nil {
			for _, e := range got.Entries {
				t.Log(e.Kind, e.Title, e.Says)
			}
		}
	})
	require.Eventually(t, func() bool {
		gates, err := mara.ListGatesWithResponse(ctx)
		require.NoError(t, err)
		for _, g := range *gates.JSON200 {
			_, err := mara.DecideGateWithResponse(
				ctx,
				g.Id,
				api.Decision{Approve: true, Digest: g.Digest, Comment: "seen"},
			)
			require.NoError(t, err)
		}
		questions, err := mara.ListQuestionsWithResponse(ctx)
		require.NoError(t, err)
		for _, q := range *questions.JSON200 {
			_, err := mara.AnswerQuestionWithResponse(ctx, q.Id, api.Answer{Choice: choose(q)})
			require.NoError(t, err)
		}
		r, err := w.Admin.GetIncidentWithResponse(ctx, 1, nil)
		require.NoError(t, err)
		got = r.JSON200
		return got != nil && (got.Incident.State == "closed" || got.Incident.WaitingOn == "person")
	}, time.Minute, 100*time.Millisecond)
	return got
}

func nobody(api.Question) string { return "none_of_these" }

func TestClocksAreSetRight(t *testing.T) {
	w, ctx := world(t)
	broken := w.Fleet.Clocks.Break()
	d := w.play(t, ctx, nobody)
	assert.Equal(t, "repaired", d.Incident.Outcome, d.Incident.Because)
	assert.Contains(t, d.Incident.Because, "Set 4 clocks right")
	assert.Less(t, w.Fleet.Clocks.Worst(), 100.0)
	var set []string
	for _, c := range w.Fleet.Clocks.Changes() {
		if c.What != "step" {
			set = append(set, c.Host)
		}
	}
	assert.ElementsMatch(t, broken, set, "only the clocks that differ were touched, each once")
	assert.Contains(t, kinds(d), "gate.raised gate.approved")
}

func TestTheGateThatStandsApartIsRolledBack(t *testing.T) {
	w, ctx := world(t)
	w.Fleet.Gates.Break()
	d := w.play(t, ctx, func(q api.Question) string {
		for _, o := range q.Options {
			if o.Choice == "roll_back" {
				assert.Equal(t, "gatectl release rollback", o.Requests[0].Shown, "whoever answers sees what would run")
			}
		}
		return "roll_back"
	})
	assert.Equal(t, "repaired", d.Incident.Outcome, d.Incident.Because)
	assert.Equal(t, "Rolled back and put in again; no gate has more than 4 errors a minute.", d.Incident.Because)
	var what []string
	for _, c := range w.Fleet.Gates.Changes() {
		what = append(what, c.Host+" "+c.What)
	}
	assert.Equal(t, []string{"gate-4 rotation out", "gate-4 release rollback", "gate-4 rotation in"}, what)
}

func TestPassesAreTakenAgain(t *testing.T) {
	w, ctx := world(t)
	w.Fleet.Gates.BreakKey()
	d := w.play(t, ctx, nobody)
	assert.Equal(t, "repaired", d.Incident.Outcome, d.Incident.Because)
	assert.Equal(t, "The gates have a new key; the oldest is 3 h old.", d.Incident.Because)
	answered := 0
	for _, e := range d.Entries {
		if e.Kind == "question.answered" {
			answered++
		}
	}
	assert.Equal(t, 2, answered, "both questions answered themselves")
}

func TestIdleSessionsAreEnded(t *testing.T) {
	// The account postgres must reach the directory when root runs the tests.
	dir, err := os.MkdirTemp("", "urgentis-fares-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(dir, 0o755)) //nolint:gosec // see above
	t.Cleanup(func() { os.RemoveAll(dir) })
	w, ctx := worldIn(t, service.Config{DataDir: filepath.Join(dir, "d")})
	_, err = w.Fares.Break(ctx)
	require.NoError(t, err)
	d := w.play(t, ctx, nobody)
	assert.Equal(t, "repaired", d.Incident.Outcome, d.Incident.Because)
	n, err := w.Fares.Idle(ctx)
	require.NoError(t, err)
	assert.Zero(t, n)
	var dump string
	require.NoError(t, testdb.SQL(w.Store).Raw("select string_agg(body, ' ') from event").Scan(&dump).Error)
	assert.NotContains(t, dump, w.Fares.Mender, "no password reaches the log")
}
