package server_test

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/access"
	"urgentis/core/estate"
	"urgentis/core/flow"
	"urgentis/core/source"
	"urgentis/internal/app"
)

const calls = `urgentis: runbook/1
name: called
title: What is called
owner: o
service: s
inputs:
  what: {type: text, pattern: '^[a-z]+$'}
steps:
  - wait: A while
    for: 5m
  - close: false-alarm
    because: All is well.
---
urgentis: trigger/1
name: by-call
runbook: called
address: true
inputs: {what: "{{ request.body.what }}"}
`

// A start address begins its runbook with what was sent, tells how it is used, and opens nothing without its key.
func TestStartAddresses(t *testing.T) {
	s := start(t)
	root := access.OnTheMachine("t")
	ctx := context.Background()
	_, err := s.App.Push(ctx, root, app.Pushing{Files: []estate.File{{Name: "a.yaml", Text: calls}}})
	require.NoError(t, err)
	key, ends, err := s.App.AddStartKey(ctx, root, "by-call", app.StartKeyLife, 0)
	require.NoError(t, err)
	assert.WithinDuration(t, time.Now().AddDate(1, 0, 0), ends, 48*time.Hour)
	post := func(key, body string) (int, string) {
		status, _, said := s.do("POST", "/start/"+key, body, "Content-Type", "application/json")
		return status, said
	}
	status, said := post(key, `{"what": "lamp"}`)
	require.Equal(t, http.StatusAccepted, status, said)
	var begun struct{ Run, Link string }
	require.NoError(t, json.Unmarshal([]byte(said), &begun))
	run, err := s.App.Run(ctx, root, begun.Run)
	require.NoError(t, err)
	assert.Equal(t, "trigger:by-call", run.StartedBy)
	proof := bearer(s.token(access.Viewer))
	var fired struct {
		Items   []struct{ ID int64 }
		Payload struct{ Body string }
	}
	_, _, text := s.do("GET", "/api/v1/triggers/by-call/firings", "", proof...)
	require.NoError(t, json.Unmarshal([]byte(text), &fired))
	require.Len(t, fired.Items, 1)
	one := fmt.Sprint("/api/v1/triggers/by-call/firings/", fired.Items[0].ID)
	_, _, text = s.do("GET", one, "", proof...)
	require.NoError(t, json.Unmarshal([]byte(text), &fired))
	assert.JSONEq(t, `{"what": "lamp"}`, fired.Payload.Body, "what was sent as it fired")
	missing, _, _ := s.do("GET", one+"999", "", proof...)
	assert.Equal(t, http.StatusNotFound, missing)
	status, said = post(key, `{"what": "LAMP; rm -rf /"}`)
	assert.Equal(t, http.StatusConflict, status)
	assert.Contains(t, said, "the runbook did not start: ")
	status, said = post(key, `{`)
	assert.Equal(t, http.StatusBadRequest, status, said)
	status, _ = post(key+"x", `{"what": "lamp"}`)
	assert.Equal(t, http.StatusNotFound, status)
	status, _, said = s.do("GET", "/start/"+key, "")
	assert.Equal(t, http.StatusOK, status)
	for _, has := range []string{`"trigger":"by-call"`, `what: text`, `{{ request.body.what }}`} {
		assert.Contains(t, said, has)
	}
	list, _, err := s.App.Firings(ctx, root, "by-call", 0, 10)
	require.NoError(t, err)
	require.Len(t, list, 2)
	assert.Equal(t, []string{"refused", "started"}, []string{list[0].Result, list[1].Result})
	assert.NotEmpty(t, list[1].Payload)

	// A new key beside the old one, and an end of both.
	second, _, err := s.App.AddStartKey(ctx, root, "by-call", time.Hour, time.Hour)
	require.NoError(t, err)
	for _, k := range []string{key, second} {
		status, said := post(k, `{"what": "lamp"}`)
		assert.Equal(t, http.StatusAccepted, status, said)
	}
	keys, err := s.App.StartKeys(ctx, root, "by-call")
	require.NoError(t, err)
	require.Len(t, keys, 2)
	require.NoError(t, s.App.EndStartKey(ctx, root, "by-call", keys[0].ID))
	status, _ = post(second, `{"what": "lamp"}`)
	assert.Equal(t, http.StatusNotFound, status)
	require.NoError(t, s.App.Switch(ctx, root, "by-call", false, "not tonight"))
	status, said = post(key, `{"what": "lamp"}`)
	assert.Equal(t, http.StatusConflict, status)
	assert.Contains(t, said, "it is switched off by")
	assert.Contains(t, said, "not tonight")
	_, err = s.App.Push(ctx, root, app.Pushing{Files: []estate.File{{Name: "a.yaml",
		Text: strings.Replace(strings.Split(calls, "---\n")[1], "what:", "other:", 1)}}})
	assert.ErrorContains(t, err, "the runbook called has no input other")
	_, err = s.App.Push(ctx, root, app.Pushing{Files: []estate.File{{Name: "a.yaml",
		Text: strings.Split(calls, "---\n")[1] + "hours: {inside: nowhere}\n"}}})
	assert.ErrorContains(t, err, "there is no calendar nowhere")
}

// With more triggers than an alert keeps, each is told once, page by page, and what started stands first.
func TestWhyNotTheOthersHasPages(t *testing.T) {
	s := start(t)
	root := access.OnTheMachine("t")
	ctx := context.Background()
	const many = 250
	text := calls
	for i := range many {
		text += fmt.Sprintf("---\nurgentis: trigger/1\nname: n%d\nrunbook: called\ninputs: {what: lamp}\n"+
			"alert: alert.labels.n == \"%d\"\n", i, i)
	}
	_, err := s.App.Push(ctx, root, app.Pushing{Files: []estate.File{{Name: "a.yaml", Text: text}}})
	require.NoError(t, err)
	key, err := s.App.AddSource(ctx, root, app.NewKey{Source: "mon"})
	require.NoError(t, err)
	got, err := s.App.TakeAlerts(ctx, "mon", app.Proof{Authorization: "Bearer " + key.Token}, source.Payload{
		ContentType: "application/json",
		Body:        []byte(`{"key": "k", "severity": "major", "summary": "s", "labels": {"n": "249"}}`),
	})
	require.NoError(t, err)
	proof := bearer(s.token(access.Viewer))
	read := func(path string, into any) {
		status, _, said := s.do("GET", "/api/v1/alerts/"+got.Taken[0].Alert+path, "", proof...)
		require.Equal(t, http.StatusOK, status, said)
		require.NoError(t, json.Unmarshal([]byte(said), into))
	}
	type verdict struct {
		Name    string
		Started bool
		Values  []struct{ Part, Text string }
	}
	var first struct {
		Verdicts []verdict
		Next     string
	}
	read("", &first)
	assert.Equal(t, "trigger/n249", first.Verdicts[0].Name)
	assert.True(t, first.Verdicts[0].Started)
	assert.NotEmpty(t, first.Next)

	told, cursor := map[string]int{}, ""
	for pages := 0; ; pages++ {
		var page struct {
			Items []verdict
			Next  string
		}
		read("/triggers?limit=60&cursor="+cursor, &page)
		for _, v := range page.Items {
			told[v.Name]++
			assert.Equal(t, v.Name == "trigger/n249", v.Started)
			assert.NotEmpty(t, v.Values)
		}
		if cursor = page.Next; cursor == "" {
			assert.Equal(t, 4, pages, "250 in pages of 60")
			break
		}
	}
	assert.Len(t, told, many)
	for name, times := range told {
		assert.Equal(t, 1, times, name)
	}
	status, _, _ := s.do("GET", "/api/v1/alerts/"+got.Taken[0].Alert+"/triggers?cursor=nonsense", "", proof...)
	assert.Equal(t, http.StatusBadRequest, status)
}

// What is posted to a start address may be any text: inputs are pulled out of it as sources pull their fields.
func TestAStartAddressPullsValuesOutOfTexts(t *testing.T) {
	s := start(t)
	root := access.OnTheMachine("t")
	ctx := context.Background()
	text := strings.Replace(calls, `inputs: {what: "{{ request.body.what }}"}`, `inputs:
  what: {of: request.body, pattern: '(?i)\bwhat is ([a-z]+)', as: {lamp: light, ramp: ramp}, otherwise: nothing}
`, 1)
	_, err := s.App.Push(ctx, root, app.Pushing{Files: []estate.File{{Name: "a.yaml", Text: text}}})
	require.NoError(t, err)
	key, _, err := s.App.AddStartKey(ctx, root, "by-call", app.StartKeyLife, 0)
	require.NoError(t, err)
	for said, what := range map[string]string{
		"Good evening, what is lamp doing?": "light", "WHAT IS ramp": "ramp", "what is moth": "nothing", "": "nothing",
	} {
		status, _, answer := s.do("POST", "/start/"+key, said, "Content-Type", "text/plain")
		require.Equal(t, http.StatusAccepted, status, answer)
		var begun struct{ Run string }
		require.NoError(t, json.Unmarshal([]byte(answer), &begun))
		run, err := s.App.Run(ctx, root, begun.Run)
		require.NoError(t, err)
		assert.Equal(t, what, run.Log[0].Body.(flow.Begun).Inputs["what"], said)
	}
	_, _, about := s.do("GET", "/start/"+key, "")
	assert.Contains(t, about, "of: request.body")
	for wrong, finding := range map[string]string{
		"what: {pattern: x}":               "an input needs of: the value that it is made of",
		"what: {of: requestt.body}":        "did you mean request",
		"what: {of: request.body, is: me}": "is",
	} {
		_, err := s.App.Push(ctx, root, app.Pushing{Files: []estate.File{{Name: "a.yaml",
			Text: strings.Replace(calls, `inputs: {what: "{{ request.body.what }}"}`, "inputs: {"+wrong+"}", 1)}}})
		assert.ErrorContains(t, err, finding, wrong)
	}
}
