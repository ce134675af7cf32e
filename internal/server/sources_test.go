package server_test

import (
	"context"
	"net/http"
	"strconv"
	"strings"
	"testing"
	"time"

	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/access"
	"urgentis/core/estate"
	"urgentis/internal/app"
)

// Each shape of a body, proven in each way, as a monitor would post it.
func TestReportsOfEveryShape(t *testing.T) {
	s := start(t)
	ctx, root := context.Background(), access.OnTheMachine("t")
	_, err := s.App.Push(ctx, root, app.Pushing{Files: []estate.File{{Name: "a", Text: `urgentis: source/1
name: panel
proof: [bearer, basic, address, signed]
map:
  key: "{{ query.k }}"
  severity: {of: 'headers["x-level"]', as: {"1": major}}
  labels: {level: '{{ headers["x-level"] }}', k: "{{ query.k }}"}
  summary: {of: "type(body) == string ? body : body.what"}
`}}})
	require.NoError(t, err)
	shown, err := s.App.AddSource(ctx, root, app.NewKey{Source: "panel"})
	require.NoError(t, err)
	token := shown.Token
	key, err := s.App.AddSource(ctx, root, app.NewKey{Source: "panel", Signing: true})
	require.NoError(t, err)
	w, err := standardwebhooks.NewWebhook(key.Token)
	require.NoError(t, err)
	signed := func(body string) []string {
		sig, err := w.Sign("m1", time.Now(), []byte(body))
		require.NoError(t, err)
		return []string{"Webhook-Id", "m1", "Webhook-Timestamp", strconv.FormatInt(time.Now().Unix(), 10),
			"Webhook-Signature", sig}
	}
	for _, c := range []struct {
		path, contentType, body string
		headers                 []string
	}{
		{"/in/panel?k=json", "application/json", `{"what": "dark"}`, bearer(token)},
		{"/in/panel/" + token + "?k=address", "application/json; charset=utf-8", `{"what": "dark"}`, nil},
		{"/in/panel?k=form", "application/x-www-form-urlencoded", "what=dark", bearer(token)},
		{"/in/panel?k=text", "text/plain", "dark", bearer(token)},
		{"/in/panel?k=signed", "application/json", `{"what": "dark"}`, signed(`{"what": "dark"}`)},
	} {
		status, _, said := s.do(
			"POST",
			c.path,
			c.body,
			append(c.headers, "Content-Type", c.contentType, "X-Level", "1")...)
		assert.Equal(t, http.StatusAccepted, status, c.path)
		assert.Contains(t, said, `"change":"new"`, "%s: %s", c.path, said)
	}
	for _, c := range []struct {
		path    string
		headers []string
	}{
		{"/in/panel/" + token + "x", nil}, {"/in/panel/", nil}, {"/in/panel", signed(`{"what": "well"}`)},
	} {
		status, _, _ := s.do("POST", c.path, `{"what": "dark"}`, c.headers...)
		assert.NotEqual(t, http.StatusAccepted, status, c.path)
	}
	status, _, said := s.do("POST", "/in/panel?k=odd", `{"what": "dark"}`, append(bearer(token), "X-Level", "7")...)
	assert.Equal(t, http.StatusAccepted, status, "it is kept")
	assert.Contains(t, said, `"change":"unparsed"`)
	// What cannot stand in the database as it came is kept all the same.
	for _, odd := range [][]string{
		{"Content-Type", "text/\xff"}, {"Content-Type", "text/plain", "X-Level", "\xff\xfe"},
		{"Content-Type", "text/plain", "X-Level", strings.Repeat("é", 3000)},
	} {
		status, _, said := s.do("POST", "/in/panel?k=%ff", "\xff", append(bearer(token), odd...)...)
		assert.Equal(t, http.StatusAccepted, status, said)
		assert.Contains(t, said, `"change":"unparsed"`)
	}
	status, _, said = s.do("POST", "/in/panel?k=%ff", `{"what": "dark"}`, append(bearer(token), "X-Level", "1")...)
	assert.Equal(t, http.StatusAccepted, status, said)
	assert.Contains(t, said, `"change":"new"`)
	unparsed, err := s.App.UnparsedPayloads(ctx, root, "panel")
	require.NoError(t, err)
	require.Len(t, unparsed, 4)
	assert.NotContains(t, unparsed[3].Headers, "authorization", "what proves is no part of what was said")
}
