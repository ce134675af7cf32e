package app_test

import (
	"encoding/base64"
	"net/http"
	"strconv"
	"strings"
	"testing"
	"time"

	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/internal/app"
)

func bearer(token string) app.Proof { return app.Proof{Authorization: "Bearer " + token} }

func basic(token string) app.Proof {
	return app.Proof{Authorization: "Basic " + base64.StdEncoding.EncodeToString([]byte("anybody:"+token))}
}

// signature signs a body as whoever holds the key would, at a time.
func signature(t *testing.T, key string, body []byte, at time.Time) app.Proof {
	w, err := standardwebhooks.NewWebhook(key)
	require.NoError(t, err)
	sig, err := w.Sign("m1", at, body)
	require.NoError(t, err)
	h := http.Header{}
	h.Set("Webhook-Id", "m1")
	h.Set("Webhook-Timestamp", strconv.FormatInt(at.Unix(), 10))
	h.Set("Webhook-Signature", sig)
	return app.Proof{Header: h}
}

// A report proves itself only in the ways that its source's document allows, and only with a key of that source.
func TestProofs(t *testing.T) {
	a := open(t)
	body := points(`{"id": "ramp-1", "text": "stuck", "state": "alarm"}`)
	for _, allowed := range []string{"bearer", "basic", "address", "signed"} {
		_, err := a.Push(ctx, iva, pushing(panel+"proof: ["+allowed+"]\n"))
		require.NoError(t, err)
		token := key(t, a, app.NewKey{Source: "panel"})
		signing := key(t, a, app.NewKey{Source: "panel", Signing: true})
		other := key(t, a, app.NewKey{Source: "other"})
		for way, p := range map[string]app.Proof{
			"bearer": bearer(token), "basic": basic(token), "address": {Address: token},
			"signed":            signature(t, signing, body.Body, time.Now()),
			"old signature":     signature(t, signing, body.Body, time.Now().Add(-time.Hour)),
			"another body":      signature(t, signing, []byte("{}"), time.Now()),
			"the signing key":   bearer(signing),
			"token of another":  bearer(other),
			"basic of another":  basic(other),
			"nothing":           {},
			"empty":             {Authorization: "Bearer "},
			"an address more":   {Address: other},
			"half of the token": {Address: token[:len(token)/2]},
		} {
			_, err := a.TakeAlerts(ctx, "panel", p, body)
			if way == allowed {
				assert.NoError(t, err, way)
			} else {
				assert.EqualError(t, err, "the source or its token is unknown", "%s where %s is allowed", way, allowed)
			}
		}
	}
	_, err := a.TakeAlerts(ctx, "nobody", bearer("x"), body)
	assert.EqualError(t, err, "the source or its token is unknown")
}

// While a key is renewed the old one goes on for as long as is said, and no longer.
func TestKeysOverlap(t *testing.T) {
	a := open(t)
	_, err := a.Push(ctx, iva, pushing(panel))
	require.NoError(t, err)
	body := points("")
	take := func(token string) error {
		_, err := a.TakeAlerts(ctx, "panel", bearer(token), body)
		return err
	}
	first := key(t, a, app.NewKey{Source: "panel"})
	second := key(t, a, app.NewKey{Source: "panel", Keep: time.Hour})
	assert.NoError(t, take(first))
	assert.NoError(t, take(second))
	keys, err := a.SourceKeys(ctx, iva, "panel")
	require.NoError(t, err)
	require.Len(t, keys, 2)
	assert.Nil(t, keys[0].EndsAt)
	require.NotNil(t, keys[1].EndsAt)
	assert.WithinDuration(t, time.Now().Add(time.Hour), *keys[1].EndsAt, time.Minute)
	assert.NotNil(t, keys[0].LastUsedAt)
	// A third one does not lengthen the first one's life.
	_, err = a.AddSource(ctx, iva, app.NewKey{Source: "panel", Keep: 24 * time.Hour})
	require.NoError(t, err)
	again, err := a.SourceKeys(ctx, iva, "panel")
	require.NoError(t, err)
	require.Len(t, again, 3)
	assert.Equal(t, keys[1].EndsAt, again[2].EndsAt)
	require.NoError(t, a.EndSourceKey(ctx, iva, "panel", keys[0].ID))
	assert.Error(t, take(second))
	assert.NoError(t, take(first))
	assert.EqualError(
		t,
		a.EndSourceKey(ctx, iva, "panel", keys[0].ID),
		"there is no key "+keys[0].ID+" of source panel",
	)
	third := key(t, a, app.NewKey{Source: "panel"})
	assert.Error(t, take(first), "without keep the old ones end at once")
	assert.NoError(t, take(third))
	_, err = a.AddSource(ctx, iva, app.NewKey{Source: "panel", Keep: 32 * 24 * time.Hour})
	assert.ErrorContains(t, err, "31 days")
	_, err = a.SourceKeys(ctx, iva, "nobody")
	assert.EqualError(t, err, "there is no source nobody")
	require.NoError(t, a.RemoveSource(ctx, iva, "panel"))
	assert.Error(t, take(third), "a source that is removed takes nothing")
	assert.True(t, strings.HasPrefix(third, "urs_"))
}
