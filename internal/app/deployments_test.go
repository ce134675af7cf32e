package app_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/alert"
	"urgentis/core/source"
	"urgentis/internal/app"
	"urgentis/internal/testdb"
)

const desk = `urgentis: source/1
name: desk
reports: deployments
---
urgentis: runbook/1
name: after-deployment
title: Look after a deployment
owner: o
service: north
inputs: {version: {type: text}}
steps:
  - wait: A while
    for: 5m
  - close: false-alarm
    because: All is well.
---
urgentis: trigger/1
name: watch-north
runbook: after-deployment
deployment: deployment.service == "north"
inputs: {version: "{{ deployment.version }}"}
`

// Deployments are kept, start what starts on them, and stand in the incidents of their services.
func TestDeployments(t *testing.T) {
	a := open(t)
	_, err := a.Push(ctx, iva, pushing(desk))
	require.NoError(t, err)
	token := key(t, a, app.NewKey{Source: "desk"})
	post := func(body string) (*app.Received, error) {
		return a.TakeAlerts(
			ctx,
			"desk",
			bearer(token),
			source.Payload{ContentType: "application/json", Body: []byte(body)},
		)
	}
	got, err := post(`[{"service": "north", "version": "v7", "by": "mara"}, {"service": "south", "version": "v8"},
		{"service": "north", "version": "v1", "at": "2020-01-01T00:00:00Z"}]`)
	require.NoError(t, err)
	assert.Len(t, got.Deployments, 3)
	got, err = post(`[{"version": "v7"}, {"service": "south", "version": "v9"}]`)
	require.NoError(t, err)
	assert.Len(t, got.Deployments, 1)
	assert.Equal(t, "item 1 of 2: the service is missing", got.Finding)
	_, err = a.ReadAgain(ctx, iva, got.Unparsed)
	assert.EqualError(t, err, "item 1 still cannot be read: the service is missing")
	_, err = a.Push(ctx, iva, pushing(strings.Replace(desk, "reports: deployments\n", "reports: deployments\n"+
		"each: body\nmap: {service: {of: item.service, otherwise: \"{{ item.version }}-service\"}}\n", 1)))
	require.NoError(t, err)
	again, err := a.ReadAgain(ctx, iva, got.Unparsed)
	require.NoError(t, err)
	assert.Len(t, again.Deployments, 1, "what was taken before is not taken again")
	firings, _, err := a.Firings(ctx, iva, "watch-north", 0, 10)
	require.NoError(t, err)
	require.Len(t, firings, 2)
	assert.Equal(t, "started", firings[0].Result)
	assert.NotEmpty(t, firings[0].Payload)
	_, n := raised(t, a, "north", "ramp", alert.Major)
	i, err := a.Incident(ctx, jonas, n)
	require.NoError(t, err)
	require.Len(t, i.Deployments, 1, "what was long ago, and of another service, is not shown")
	assert.Equal(t, "v7", i.Deployments[0].Version)
	list, err := a.Deployments(ctx, jonas, "")
	require.NoError(t, err)
	assert.Len(t, list, 5)
	assert.Equal(t, "v7-service", list[0].Service)
	// Closed before the deployment, an incident does not show what came later.
	require.NoError(
		t,
		testdb.SQL(a.Store).Exec("update incident set state = 'closed', closed_at = ?, opened_at = ?",
			time.Now().Add(-time.Hour), time.Now().Add(-2*time.Hour)).Error,
	)
	i, err = a.Incident(ctx, jonas, n)
	require.NoError(t, err)
	assert.Empty(t, i.Deployments)
}
