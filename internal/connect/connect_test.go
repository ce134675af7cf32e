package connect

import (
	"context"
	"encoding/json"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"sync/atomic"
	"testing"
	"time"

	"github.com/riverqueue/river"
	"github.com/riverqueue/river/rivertype"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

	"urgentis/internal/act/httpcall"
	"urgentis/internal/store"
	"urgentis/internal/testdb"
)

func job(id int64, attempt int) *river.Job[store.Deliver] {
	return &river.Job[store.Deliver]{
		JobRow: &rivertype.JobRow{Attempt: attempt, MaxAttempts: 12},
		Args:   store.Deliver{ID: id},
	}
}

func outbox(t *testing.T, s *store.Store) *Outbox {
	allowed, err := httpcall.ParseAllowed([]string{"127.0.0.0/8"})
	require.NoError(t, err)
	o, err := New(Config{Store: s, Allowed: allowed, Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	return o
}

func opened(t *testing.T, s *store.Store) int64 {
	inc := &store.Incident{Title: "deep", State: "open", WaitingOn: "nobody", Severity: "major", OpenedAt: time.Now()}
	require.NoError(t, s.Tx(context.Background(), func(tx *store.Tx) error {
		r := store.NewRecordWriter(tx)
		if err := r.Open(inc); err != nil {
			return err
		}
		return r.Flush()
	}))
	return inc.Number
}

func queue(t *testing.T, s *store.Store, kind, address, key string, inc *int64) int64 {
	d := &store.Delivery{
		Key:      key,
		Kind:     kind,
		Address:  address,
		Body:     `{"text":"hello","link":"http://u/"}`,
		Incident: inc,
		State:    "queued",
		QueuedAt: time.Now(),
	}
	require.NoError(t, testdb.SQL(s).Create(d).Error)
	return d.ID
}

func state(t *testing.T, s *store.Store, id int64) store.Delivery {
	var d store.Delivery
	require.NoError(t, testdb.SQL(s).Where("id = ?", id).Take(&d).Error)
	return d
}

func TestDeliveries(t *testing.T) {
	s := testdb.Open(t)
	var calls atomic.Int64
	fail := atomic.Bool{}
	room := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		calls.Add(1)
		if fail.Load() {
			w.WriteHeader(http.StatusBadGateway)
			return
		}
		b, _ := io.ReadAll(r.Body)
		var m map[string]any
		assert.NoError(t, json.Unmarshal(b, &m))
		assert.Equal(t, "hello", m["text"])
		assert.Equal(t, "k1", r.Header.Get("Idempotency-Key"))
	}))
	defer room.Close()
	require.NoError(
		t,
		testdb.SQL(s).Create(&store.Connection{Name: "quayside-room", Kind: "room", URL: room.URL}).Error,
	)
	o := outbox(t, s)
	ctx := context.Background()
	id := queue(t, s, "room", "quayside-room", "k1", nil)

	fail.Store(true)
	assert.ErrorContains(t, o.Work(ctx, job(id, 1)), "502")
	d := state(t, s, id)
	assert.Equal(t, "queued", d.State)
	assert.Equal(t, 1, d.Tries)
	assert.Contains(t, d.Error, "502")

	fail.Store(false)
	require.NoError(t, o.Work(ctx, job(id, 2)))
	assert.Equal(t, "sent", state(t, s, id).State)
	require.NoError(t, o.Work(ctx, job(id, 3)))
	assert.EqualValues(t, 2, calls.Load(), "what was sent is not sent again")
	require.NoError(t, o.Work(ctx, job(9999, 1)), "a delivery that is gone is nothing to do")
	assert.ErrorIs(
		t,
		testdb.SQL(s).
			Create(&store.Delivery{Key: "k1", Kind: "room", Address: "x", Body: "{}", State: "queued",
				QueuedAt: time.Now()}).
			Error,
		gorm.ErrDuplicatedKey,
	)
}

func TestWhatCannotBeDeliveredStandsInTheRecord(t *testing.T) {
	s := testdb.Open(t)
	require.NoError(
		t,
		testdb.SQL(s).
			Create(&store.Connection{Name: "dead-room", Kind: "room",
				URL: "http://127.0.0.1:1/hook?token=canary-7781"}).
			Error,
	)
	inc := opened(t, s)
	o := outbox(t, s)
	id := queue(t, s, "room", "dead-room", "k", &inc)
	assert.Error(t, o.Work(context.Background(), job(id, 12)))
	assert.Equal(t, "failed", state(t, s, id).State)
	var e store.Entry
	require.NoError(t, testdb.SQL(s).Where("incident = ?", inc).Take(&e).Error)
	assert.Equal(t, "delivery.failed", e.Kind)
	assert.Contains(t, *e.Content, "room/dead-room")
	assert.NotContains(t, *e.Content, "canary", "an address may hold a token")
	assert.NotContains(t, state(t, s, id).Error, "canary")
	n, err := s.Verify(context.Background(), inc)
	require.NoError(t, err)
	assert.EqualValues(t, 1, n)
}

func TestOnlyAllowedAddressesAreReached(t *testing.T) {
	s := testdb.Open(t)
	require.NoError(
		t,
		testdb.SQL(s).
			Create(&store.Source{Name: "mon", CallBack: "http://169.254.169.254/",
				AddedAt: time.Now()}).
			Error,
	)
	id := queue(t, s, "source", "mon", "k", nil)
	assert.ErrorContains(t, outbox(t, s).Work(context.Background(), job(id, 1)), "not allowed")
}

func TestRetriesComeSoonAndThenEachMinute(t *testing.T) {
	o := &Outbox{}
	for attempt, want := range map[int]time.Duration{1: 2 * time.Second, 3: 8 * time.Second, 11: time.Minute} {
		assert.WithinDuration(t, time.Now().Add(want), o.NextRetry(job(1, attempt)), time.Second)
	}
}
