package connect

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
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

	"urgentis/core/alert"
	"urgentis/core/estate"
	"urgentis/core/message"
	"urgentis/internal/act/httpcall"
	"urgentis/internal/store"
	"urgentis/internal/telling"
	"urgentis/internal/testdb"
)

func job(id int64, attempt int) *river.Job[store.Deliver] {
	return &river.Job[store.Deliver]{
		JobRow: &rivertype.JobRow{Attempt: attempt, MaxAttempts: 12},
		Args:   store.Deliver{ID: id},
	}
}

// tried is what a try of a message ended with; nil where it has not to be tried again.
func tried(t *testing.T, s *store.Store, o *Outbox, id int64, attempt int) error {
	if err := o.Work(context.Background(), job(id, attempt)); err != nil {
		return err
	}
	d, err := s.In(context.Background()).Delivery(id)
	require.NoError(t, err)
	if d.State == "queued" {
		return errors.New(d.Error)
	}
	return nil
}

// opened are secrets whose values are their names, but for one that signs.
type opened struct{}

func (opened) Value(_ context.Context, name string) (string, error) {
	if name == "signing" {
		return "whsec_" + base64.StdEncoding.EncodeToString([]byte("a key of thirty-two bytes and so")), nil
	}
	return name, nil
}

func namesOf(_ *store.Tx, inc *store.Incident) (map[string]any, error) {
	return map[string]any{"incident": map[string]any{"number": inc.Number, "title": inc.Title,
		"reference": telling.Reference("http://u", inc.Number), "outcome": inc.Outcome, "handed_over": false}}, nil
}

func outbox(t *testing.T, s *store.Store) *Outbox {
	allowed, err := httpcall.ParseAllowed([]string{"127.0.0.0/8"})
	require.NoError(t, err)
	o, err := New(Config{Store: s, Allowed: allowed, Link: "http://u", Log: slog.New(slog.DiscardHandler),
		Secrets: opened{}, Desk: namesOf,
		Connections: func(ctx context.Context, name string) (*message.Connection, error) {
			d, err := s.In(ctx).Document(estate.Connection, name)
			if err != nil {
				return nil, err
			}
			docs, _ := estate.Parse([]estate.File{{Name: name, Text: d.Text}})
			return docs[0].Connection, nil
		}})
	require.NoError(t, err)
	return o
}

func incidentIn(t *testing.T, s *store.Store) int64 {
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
		Key:        key,
		Kind:       kind,
		Connection: address,
		Body:       `{"subject":"hello","link":"http://u/","key":"` + key + `"}`,
		Incident:   inc,
		State:      "queued",
		QueuedAt:   time.Now(),
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
			w.WriteHeader(http.StatusServiceUnavailable)
			return
		}
		b, _ := io.ReadAll(r.Body)
		var m map[string]any
		assert.NoError(t, json.Unmarshal(b, &m))
		assert.Equal(t, "hello\nhttp://u/", m["text"])
		assert.Equal(t, "k1", r.Header.Get("Idempotency-Key"))
	}))
	defer room.Close()
	require.NoError(t, testdb.Room(s, "quayside-room", room.URL))
	o := outbox(t, s)
	ctx := context.Background()
	id := queue(t, s, "room", "quayside-room", "k1", nil)

	fail.Store(true)
	assert.ErrorContains(t, tried(t, s, o, id, 1), "503")
	d := state(t, s, id)
	assert.Equal(t, "queued", d.State)
	assert.Equal(t, 1, d.Tries)
	assert.Contains(t, d.Error, "503")

	fail.Store(false)
	require.NoError(t, o.Work(ctx, job(id, 2)))
	assert.Equal(t, "sent", state(t, s, id).State)
	require.NoError(t, o.Work(ctx, job(id, 3)))
	assert.EqualValues(t, 2, calls.Load(), "what was sent is not sent again")
	require.NoError(t, o.Work(ctx, job(9999, 1)), "a delivery that is gone is nothing to do")
	assert.ErrorIs(
		t,
		testdb.SQL(s).
			Create(&store.Delivery{Key: "k1", Kind: "room", Connection: "x", Body: "{}", State: "queued",
				QueuedAt: time.Now()}).
			Error,
		gorm.ErrDuplicatedKey,
	)
}

func TestWhatCannotBeDeliveredStandsInTheRecord(t *testing.T) {
	s := testdb.Open(t)
	require.NoError(t, testdb.Room(s, "dead-room", "http://127.0.0.1:1/hook?token=canary-7781"))
	inc := incidentIn(t, s)
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

// Whatever a room says as it refuses, it can be written down that the message did not arrive.
func TestAnyRefusalCanBeWrittenDown(t *testing.T) {
	s := testdb.Open(t)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			c.Read(make([]byte, 64<<10))                                //nolint:errcheck // whatever it asks
			io.WriteString(c, "HTTP/1.1 503 \xff\x01\x00 busy\r\n\r\n") //nolint:errcheck // see above
			c.Close()
		}
	}()
	require.NoError(t, testdb.Room(s, "rude-room", "http://"+l.Addr().String()))
	id := queue(t, s, "room", "rude-room", "k", nil)
	assert.ErrorContains(t, tried(t, s, outbox(t, s), id, 1), "503")
	d := state(t, s, id)
	assert.Equal(t, "queued", d.State)
	assert.Contains(t, d.Error, "busy")
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
	assert.ErrorContains(t, tried(t, s, outbox(t, s), id, 1), "not allowed")
}

func TestRetriesComeSoonAndThenEachMinute(t *testing.T) {
	for attempt, want := range map[int]time.Duration{1: 2 * time.Second, 3: 8 * time.Second, 11: time.Minute} {
		assert.Equal(t, want, retryAfter(attempt))
	}
}

// A source is told in the form that its document has, with secrets in their places.
func TestASourceIsToldInItsOwnForm(t *testing.T) {
	s := testdb.Open(t)
	got := make(chan string, 1)
	at := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		b, _ := io.ReadAll(r.Body)
		got <- r.Method + " " + r.URL.EscapedPath() + " " + r.Header.Get("Authorization") + " " + string(b)
	}))
	defer at.Close()
	require.NoError(t, testdb.SQL(s).Create(&store.Source{Name: "watch", AddedAt: time.Now(), Says: `urgentis: source/1
name: watch
tell_back:
  close:
    method: DELETE
    url: ` + at.URL + `/conditions/{{ alert.key }}
    headers: {Authorization: "Bearer {{ secrets.watch }}"}
    body: {by: "{{ incident.number }}"}
`}).Error)
	inc := incidentIn(t, s)
	require.NoError(t, testdb.SQL(s).Create(&store.Alert{ID: "a1", Source: "watch", Key: "quay north", State: "open",
		Severity: "major", Labels: map[string]string{}, FirstAt: alert.HeardAt(time.Now()),
		LastAt: alert.HeardAt(time.Now()), Verdicts: json.RawMessage("[]")}).Error)
	queue := func(key, do string) int64 {
		list := []store.Delivery{
			{Key: key, Kind: store.DeliverySource, Connection: "watch", Incident: &inc, State: "queued",
				Body: `{"alert": "a1", "key": "quay north", "do": "` + do + `"}`, QueuedAt: time.Now()},
		}
		require.NoError(t, s.In(context.Background()).AddDeliveries(list))
		return list[0].ID
	}
	o := outbox(t, s)
	require.NoError(t, o.Work(context.Background(), job(queue("k1", "close"), 1)))
	assert.Equal(t, fmt.Sprintf(`DELETE /conditions/quay%%20north Bearer watch {"by":%d}`, inc), <-got)
	id := queue("k2", "acknowledge")
	assert.ErrorContains(t, tried(t, s, o, id, 1), "is not configured")
	assert.Equal(t, "failed", state(t, s, id).State, "what cannot be told is said")
}

// Every kind has what carries messages there; a desk is told of incidents, by what stands in desk.go.
func TestEveryKindHasASender(t *testing.T) {
	for _, k := range message.Kinds {
		assert.Equal(t, k.Name != message.Desk, registry[k.Name] != nil, k.Name)
	}
	assert.Len(t, registry, len(message.Kinds)-1)
}
