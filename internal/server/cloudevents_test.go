package server_test

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"net/http"
	"testing"
	"time"

	cloudevents "github.com/cloudevents/sdk-go/v2"
	"github.com/cloudevents/sdk-go/v2/binding"
	"github.com/cloudevents/sdk-go/v2/event"
	cehttp "github.com/cloudevents/sdk-go/v2/protocol/http"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/access"
	"urgentis/core/estate"
	"urgentis/internal/app"
)

func condition(t *testing.T, key string) event.Event {
	e := cloudevents.NewEvent()
	e.SetID("e-" + key)
	e.SetSource("quay/north")
	e.SetType("example.merrow.condition")
	e.SetSubject(key)
	e.SetTime(time.Now())
	require.NoError(t, e.SetData(cloudevents.ApplicationJSON, map[string]any{"severity": "major", "summary": key + " is dark"}))
	return e
}

// What the maintainers' own library sends is taken, in each of its modes, by sources with a map and without one.
func TestCloudEventsOfTheirOwnLibrary(t *testing.T) {
	s := start(t)
	ctx, root := context.Background(), access.OnTheMachine("t")
	_, err := s.App.Push(ctx, root, app.Pushing{Files: []estate.File{{Name: "a", Text: `urgentis: source/1
name: plain
---
urgentis: source/1
name: mapped
map:
  key: "{{ body.subject }}"
  summary: "{{ body.data.summary }}"
  severity: {of: body.data.severity}
`}}})
	require.NoError(t, err)
	for _, source := range []string{"plain", "mapped"} {
		k, err := s.App.AddSource(ctx, root, app.NewKey{Source: source})
		require.NoError(t, err)
		send := func(write func(*http.Request) error) (int, string) {
			req, err := http.NewRequestWithContext(ctx, http.MethodPost, s.Link+"/in/"+source, nil)
			require.NoError(t, err)
			require.NoError(t, write(req))
			req.Header.Set("Authorization", "Bearer "+k.Token)
			res, err := http.DefaultClient.Do(req)
			require.NoError(t, err)
			defer res.Body.Close()
			said, err := io.ReadAll(res.Body)
			require.NoError(t, err)
			return res.StatusCode, string(said)
		}
		modes := map[string]func(context.Context) context.Context{"structured": binding.WithForceStructured}
		if source == "plain" {
			modes["binary"] = binding.WithForceBinary
		}
		for mode, with := range modes {
			e := condition(t, source+"-"+mode)
			status, said := send(func(r *http.Request) error {
				return cehttp.WriteRequest(with(ctx), binding.ToMessage(&e), r)
			})
			assert.Equal(t, http.StatusAccepted, status, "%s %s: %s", source, mode, said)
			assert.Contains(t, said, `"change":"new"`, "%s %s", source, mode)
		}
		if source == "mapped" {
			continue
		}
		list, err := json.Marshal([]event.Event{condition(t, "one"), condition(t, "two")})
		require.NoError(t, err)
		status, said := send(func(r *http.Request) error {
			r.Header.Set("Content-Type", "application/cloudevents-batch+json")
			r.Body = io.NopCloser(bytes.NewReader(list))
			return nil
		})
		assert.Equal(t, http.StatusAccepted, status, said)
		assert.Equal(t, 2, bytes.Count([]byte(said), []byte(`"change":"new"`)), said)
	}
}
