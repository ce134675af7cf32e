// Package connect carries messages out: one outbox, from which each is delivered once per key or
// until its tries are used up.
package connect

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/url"
	"time"

	"github.com/riverqueue/river"

	"urgentis/core/incident"
	"urgentis/internal/act/httpcall"
	"urgentis/internal/meter"
	"urgentis/internal/need"
	"urgentis/internal/store"
)

// Outbox delivers what the engine and the intake put there.
type Outbox struct {
	river.WorkerDefaults[store.Deliver]
	store  *store.Store
	client *http.Client
	log    *slog.Logger
}

// Config is what an outbox works with.
type Config struct {
	Store *store.Store `need:"yes"`
	// Allowed are the networks that it reaches.
	Allowed httpcall.Allowed
	Log     *slog.Logger `need:"yes"`
}

// New makes an outbox that reaches only allowed networks. It refuses a configuration in which something is missing.
func New(c Config) (*Outbox, error) {
	if err := need.All("an outbox", c); err != nil {
		return nil, err
	}
	return &Outbox{store: c.Store, client: c.Allowed.Client(10 * time.Second), log: c.Log}, nil
}

// Work implements river.Worker: one try of one delivery.
func (o *Outbox) Work(ctx context.Context, job *river.Job[store.Deliver]) error {
	d, err := o.store.In(ctx).Delivery(job.Args.ID)
	if err != nil {
		if errors.Is(err, store.ErrNotFound) {
			return nil
		}
		return err
	}
	if d.State != "queued" {
		return nil
	}
	if died := job.Attempt - 1 - d.Tries; died >= store.PoisonAt {
		meter.Deliveries.WithLabelValues("failed").Inc()
		cause := fmt.Errorf("it is set aside: the program died %d times while it was being delivered", died)
		return errors.Join(river.JobCancel(cause), o.failed(ctx, d, "failed", cause))
	}
	err = o.deliver(ctx, d)
	// How it ended is written down even where the service stops meanwhile: what is not counts as a death.
	ctx = context.WithoutCancel(ctx)
	if err == nil {
		meter.Deliveries.WithLabelValues("sent").Inc()
		return o.store.In(ctx).Sent(d.ID)
	}
	state, counted := "queued", "again"
	if job.Attempt >= job.MaxAttempts {
		state, counted = "failed", "failed"
	}
	meter.Deliveries.WithLabelValues(counted).Inc()
	o.log.Warn("deliver a message", "to", d.Kind+"/"+d.Address, "error", err)
	return errors.Join(err, o.failed(ctx, d, state, err))
}

// NextRetry implements river.Worker: soon at first, then each minute.
func (o *Outbox) NextRetry(job *river.Job[store.Deliver]) time.Time {
	return time.Now().Add(min(time.Minute, time.Second<<min(job.Attempt, 6)))
}

func (o *Outbox) failed(ctx context.Context, d *store.Delivery, state string, cause error) error {
	return o.store.Tx(ctx, func(tx *store.Tx) error {
		if err := tx.NotSent(d.ID, state, cause.Error()); err != nil {
			return err
		}
		if state != "failed" || d.Incident == nil {
			return nil
		}
		// Nobody was told: that belongs into the record.
		r := store.NewRecordWriter(tx)
		i, err := r.Incident(*d.Incident)
		if err != nil {
			return err
		}
		if err := r.Write(i, store.NewEntry{At: time.Now(), Kind: incident.DeliveryFailed, Actor: "urgentis",
			Title: "A message could not be delivered",
			Content: map[string]any{"to": d.Kind + "/" + d.Address, "body": d.Body,
				"error": cause.Error()}}); err != nil {
			return err
		}
		return r.Flush()
	})
}

func (o *Outbox) deliver(ctx context.Context, d *store.Delivery) error {
	to, err := o.store.In(ctx).AddressOf(d)
	if err != nil || to == "" {
		return err
	}
	var body map[string]any
	if err := json.Unmarshal([]byte(d.Body), &body); err != nil {
		return err
	}
	body["key"] = orKey(body["key"], d.Key)
	return o.post(ctx, d.Address, to, d.Key, body)
}

// Send posts a message to a room at once, outside of the outbox: nothing of it is kept, and it is not repeated.
func (o *Outbox) Send(ctx context.Context, room *store.Connection, text string) error {
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	return o.post(ctx, room.Name, room.URL, store.NewID("try"), map[string]any{"text": text})
}

// post sends a body to an address. name is what the address is called where it must not be said.
func (o *Outbox) post(ctx context.Context, name, address, key string, body map[string]any) error {
	out, err := json.Marshal(body)
	if err != nil {
		return err
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, address, bytes.NewReader(out))
	if err != nil {
		return fmt.Errorf("%s: its address cannot be used", name)
	}
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set("Idempotency-Key", key)
	res, err := o.client.Do(req)
	if err != nil {
		// The address may hold a token, and what is said here goes into the record.
		var at *url.Error
		if errors.As(err, &at) {
			err = at.Err
		}
		return fmt.Errorf("%s: %w", name, err)
	}
	defer res.Body.Close()
	io.Copy(io.Discard, io.LimitReader(res.Body, 64<<10)) //nolint:errcheck // only to reuse the connection
	if res.StatusCode < 200 || res.StatusCode > 299 {
		return fmt.Errorf("%s answered %s", name, res.Status)
	}
	return nil
}

func orKey(v any, key string) any {
	if v != nil {
		return v
	}
	return key
}
