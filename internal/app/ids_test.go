package app_test

import (
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/alert"
	"urgentis/core/source"
	"urgentis/internal/app"
	"urgentis/internal/testdb"
)

// A sender that heard no answer sends again, under the same identity: it counts once, has the same answer, and starts
// nothing twice. Something else under the same identity is refused.
func TestADeploymentThatIsSentAgainCountsOnce(t *testing.T) {
	a := open(t)
	_, err := a.Push(ctx, iva, pushing(desk))
	require.NoError(t, err)
	token := key(t, a, app.NewKey{Source: "desk"})
	post := func(id, body string) (*app.Received, error) {
		return a.TakeAlerts(ctx, "desk", bearer(token), source.Payload{ContentType: "application/json", Body: []byte(body),
			Headers: map[string]string{"webhook-id": id}})
	}
	const one = `{"service": "north", "version": "v7"}`
	first, err := post("d1", one)
	require.NoError(t, err)
	var wg sync.WaitGroup
	for range 8 {
		wg.Go(func() {
			again, err := post("d1", one)
			if assert.NoError(t, err) {
				assert.Equal(t, first.Deployments, again.Deployments)
			}
		})
	}
	wg.Wait()
	_, err = post("d1", `{"service": "north", "version": "v8"}`)
	assert.ErrorContains(t, err, "something else was sent under this identity before")
	_, err = post("d2", one)
	require.NoError(t, err, "another identity is another deployment")
	list, err := a.Deployments(ctx, jonas, "")
	require.NoError(t, err)
	assert.Len(t, list, 2)
	var runs int
	require.NoError(t, testdb.SQL(a.Store).Raw("select count(*) from run").Scan(&runs).Error)
	assert.Equal(t, 2, runs)
}

// A report that is sent again by one who heard no answer, after the condition was over, raises nothing; with something
// else under the same identity it is new.
func TestAnAlertThatIsSentAgainAltersNothing(t *testing.T) {
	a := open(t)
	token := key(t, a, app.NewKey{Source: "mon"})
	post := func(id, severity string) *app.Received {
		out, err := a.TakeAlerts(ctx, "mon", bearer(token), source.Payload{ContentType: "application/json",
			Body:    []byte(`{"key": "k", "severity": "` + severity + `", "summary": "s"}`),
			Headers: map[string]string{"webhook-id": id}})
		require.NoError(t, err)
		return out
	}
	first := post("1", "minor")
	post("2", "cleared")
	again := post("1", "minor")
	assert.Equal(t, alert.Repeat, again.Taken[0].Change)
	assert.Equal(t, first.Taken[0].Alert, again.Taken[0].Alert)
	post("1", "major")
	late := post("2", "cleared")
	assert.Equal(t, alert.Repeat, late.Taken[0].Change, "what cleared before clears nothing that came since")
	post("3", "major")
	post("4", "cleared")
	assert.Equal(t, alert.Repeat, post("3", "major").Taken[0].Change, "one that repeated what was open counts too")

	var rows []struct{ State, Severity string }
	require.NoError(t, testdb.SQL(a.Store).Raw("select state, severity from alert order by first_at").Scan(&rows).Error)
	assert.Equal(t, []struct{ State, Severity string }{{"cleared", "minor"}, {"cleared", "major"}}, rows)
}

// Of the same that comes many times at once one raises the alert.
func TestAnAlertThatComesManyTimesAtOnce(t *testing.T) {
	a := open(t)
	token := key(t, a, app.NewKey{Source: "mon"})
	post := func(id, severity string) {
		_, err := a.TakeAlerts(ctx, "mon", bearer(token), source.Payload{ContentType: "application/json",
			Body:    []byte(`[{"key": "k", "severity": "` + severity + `", "summary": "s"}]`),
			Headers: map[string]string{"idempotency-key": id}})
		assert.NoError(t, err)
	}
	var wg sync.WaitGroup
	for range 12 {
		wg.Go(func() {
			post("up", "major")
			post("down", "cleared")
		})
	}
	wg.Wait()
	var n int
	require.NoError(t, testdb.SQL(a.Store).Raw("select count(*) from alert").Scan(&n).Error)
	assert.Equal(t, 1, n)
	require.NoError(t, testdb.SQL(a.Store).Raw("select count(*) from alert where state = 'cleared'").Scan(&n).Error)
	assert.Equal(t, 1, n)
}

const addressed = `urgentis: runbook/1
name: by-address
title: Started by an address
owner: o
service: north
starts:
  door: {address: true}
steps:
  - wait: A while
    for: 5m
  - close: false-alarm
    because: All is well.
`

func TestAStartThatIsSentAgainStartsOnce(t *testing.T) {
	a := open(t)
	_, err := a.Push(ctx, iva, pushing(addressed))
	require.NoError(t, err)
	made, _, err := a.AddStartKey(ctx, iva, "by-address/door", time.Hour, 0)
	require.NoError(t, err)
	start := func(id string) string {
		run, err := a.StartByKey(ctx, made, source.Payload{ContentType: "application/json", Body: []byte(`{}`),
			Headers: map[string]string{"idempotency-key": id}})
		require.NoError(t, err)
		return run
	}
	first := start("s1")
	assert.Equal(t, first, start("s1"))
	assert.NotEqual(t, first, start("s2"))
	acts, _, err := a.Acts(ctx, iva, "", 0, 100)
	require.NoError(t, err)
	begun := 0
	for _, x := range acts {
		if x.Act == "run.start" && x.Actor == "start/by-address/door" {
			begun++
		}
	}
	assert.Equal(t, 2, begun, "what is begun by an address stands in the audit log, once")
	assert.NotEqual(t, start(""), start(""), "what has no identity is each time another")
}
