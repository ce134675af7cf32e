package engine_test

import (
	"context"
	"encoding/json"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/flow"
	"urgentis/internal/engine"
	"urgentis/internal/store"
	"urgentis/internal/testdb"
)

const busy = `urgentis: runbook/1
name: busy
title: Keeps busy
owner: o
service: berth-queue
starts: {any: {alert: alert.severity == "major"}}
steps:
  - wait: A little
    for: 400ms
  - wait: And again
    for: 400ms
  - hand_over: team/harbour
    because: it is done
`

func TestOneRunDoesNotHideWhatAnotherWaitsFor(t *testing.T) {
	b := set(t, source(t))
	_, _, err := b.store.PushRunbook(context.Background(), busy, "iva")
	require.NoError(t, err)
	taken := b.alert()
	eventually[int](b, "select 1 from run where runbook = 'busy' and ended_at is not null")
	eventually[int](b, "select 1 from gate where state = 'open'")
	var inc store.Incident
	require.NoError(t, testdb.SQL(b.store).Where("number = ?", taken.Incident).Take(&inc).Error)
	assert.Equal(t, "approval", inc.WaitingOn)
	b.decide(true)
	eventually[int](b, "select 1 from run where runbook <> 'busy' and ended_at is not null")
	assert.Contains(t, b.kinds(taken.Incident), "wait.ended")
}

func TestWhileAnotherRunGoesOnTheApprovalIsStillWaitedFor(t *testing.T) {
	b := set(t, source(t))
	_, _, err := b.store.PushRunbook(
		context.Background(),
		strings.Replace(busy, "for: 400ms\n  - hand", "for: 1h\n  - hand", 1),
		"iva",
	)
	require.NoError(t, err)
	taken := b.alert()
	eventually[int](b, "select 1 from gate where state = 'open'")
	eventually[int](b, "select 1 from entry where kind = 'wait.ended'")
	var inc store.Incident
	require.NoError(t, testdb.SQL(b.store).Where("number = ?", taken.Incident).Take(&inc).Error)
	assert.Equal(t, "approval", inc.WaitingOn)
	b.decide(false)
	assert.Eventually(t, func() bool {
		require.NoError(t, testdb.SQL(b.store).Where("number = ?", taken.Incident).Take(&inc).Error)
		return inc.WaitingOn == "person"
	}, time.Minute, 10*time.Millisecond)
}

// content is what the newest entry of a kind holds.
func (b *bench) content(kind string) map[string]any {
	var text string
	require.NoError(
		b.t,
		testdb.SQL(b.store).
			Raw("select content from entry where kind = ? order by at desc limit 1", kind).
			Scan(&text).
			Error,
	)
	var out map[string]any
	require.NoError(b.t, json.Unmarshal([]byte(text), &out), kind)
	return out
}

func TestTheRecordSaysWhatWas(t *testing.T) {
	b := set(t, source(t))
	b.alert()
	g := eventually[store.Gate](b, "select * from gate where state = 'open'")
	require.ErrorIs(
		t,
		b.word(g.ID, engine.Word{Approve: true, By: "mara", Digest: strings.Repeat("0", 64)}),
		engine.ErrOtherDigest,
	)
	assert.Contains(t, b.content("gate.turned-away")["because"], "no longer what was shown")
	b.decide(true)
	require.Equal(t, flow.Done, b.ended().State)
	assert.Contains(t, b.content("told")["not_told"], "no address", "a source without call-back is told nothing")
	var acts []string
	require.NoError(t, testdb.SQL(b.store).Raw("select act from act order by id").Scan(&acts).Error)
	assert.Equal(t, []string{"runbook.push", "word.turned-away", "gate.approve"}, acts)
}
