package connect

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"sync"
	"time"

	"github.com/riverqueue/river"

	"urgentis/core/incident"
	"urgentis/core/message"
	"urgentis/core/reading"
	"urgentis/internal/act/httpcall"
	"urgentis/internal/engine"
	"urgentis/internal/meter"
	"urgentis/internal/need"
	"urgentis/internal/store"
)

// Outbox delivers what the engine and the intake put there.
type Outbox struct {
	river.WorkerDefaults[store.Deliver]
	store       *store.Store
	connections Connections
	secrets     Secrets
	allowed     httpcall.Allowed
	client      *http.Client
	deskNames   DeskNames
	link        string
	log         *slog.Logger

	mu   sync.Mutex
	busy map[string]int // how many messages are under way, by connection
}

// Connections finds a connection by its name; nil where there is none.
type Connections func(ctx context.Context, name string) (*message.Connection, error)

// Config is what an outbox works with.
type Config struct {
	Store       *store.Store `need:"yes"`
	Connections Connections  `need:"yes"`
	Secrets     Secrets      `need:"yes"`
	// Allowed are the networks that it reaches.
	Allowed httpcall.Allowed
	// Desk gives what requests of ticket desks see of an incident.
	Desk DeskNames `need:"yes"`
	// Link is the address under which people reach this installation.
	Link string       `need:"yes"`
	Log  *slog.Logger `need:"yes"`
}

// New makes an outbox that reaches only allowed networks. It refuses a configuration in which something is missing.
func New(c Config) (*Outbox, error) {
	if err := need.All("an outbox", c); err != nil {
		return nil, err
	}
	return &Outbox{store: c.Store, connections: c.Connections, secrets: c.Secrets, allowed: c.Allowed,
		client: c.Allowed.Client(callTime), link: c.Link, deskNames: c.Desk, log: c.Log,
		busy: map[string]int{}}, nil
}

const (
	// maxBusy bounds how many messages one connection has under way: one that hangs holds up no other.
	maxBusy = 4
	// stepBack is how long a message waits for those before it, standBack for room on a connection that is full, which
	// seldom comes soon: what looks again and again costs others.
	stepBack  = time.Second
	standBack = 5 * time.Second
)

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
		cause := fmt.Errorf("it is quarantined: the program died %d times while it was being delivered", died)
		return errors.Join(river.JobCancel(cause), o.failed(ctx, d, "failed", cause))
	}
	if !o.begin(d.Connection) {
		if d.Urgent {
			return o.store.Later(ctx, job.ID, stepBack, false)
		}
		return o.store.Later(ctx, job.ID, standBack, false)
	}
	defer o.end(d.Connection)
	if wait, err := o.waits(ctx, d); err != nil || wait {
		return errors.Join(err, o.store.Later(ctx, job.ID, stepBack, false))
	}
	// What a database that was put back says is to be sent may have been sent: that is noted as it is noticed.
	if older, err := o.store.In(ctx).MayBeOlder(); err != nil || older {
		return errors.Join(err, o.store.Later(ctx, job.ID, stepBack, false))
	}
	wanted, err := o.store.In(ctx).WantedStill(d.ID)
	if err != nil {
		return err
	}
	if !wanted {
		meter.Deliveries.WithLabelValues("dropped").Inc()
		return o.store.In(ctx).Dropped(d.ID, "what it was about was over before it was sent")
	}
	// A try whose end was not written down may have arrived.
	d.Unsure = d.Unsure || job.Attempt-1 > d.Tries
	answer, err := o.deliver(ctx, d)
	// How it ended is written down even where the service stops meanwhile: what is not counts as a death.
	ctx = context.WithoutCancel(ctx)
	if err == nil {
		meter.Deliveries.WithLabelValues("sent").Inc()
		return o.store.In(ctx).Sent(d.ID, answer)
	}
	return o.again(ctx, job, d, err)
}

// waits reports whether a message lets others about its incident go first. What is urgent waits for nothing: those
// before it may never arrive.
func (o *Outbox) waits(ctx context.Context, d *store.Delivery) (bool, error) {
	if d.Urgent {
		return false, nil
	}
	return o.store.In(ctx).Before(d)
}

// again notes that a message was not taken, and whether it is tried again.
func (o *Outbox) again(ctx context.Context, job *river.Job[store.Deliver], d *store.Delivery, err error) error {
	state, counted := "queued", "again"
	if job.Attempt >= job.MaxAttempts || errors.Is(err, errForGood) {
		state, counted = "failed", "failed"
	}
	meter.Deliveries.WithLabelValues(counted).Inc()
	o.log.Warn("deliver a message", "to", d.Kind+"/"+d.Connection, "error", err)
	if noted := o.failed(ctx, d, state, err); noted != nil {
		return errors.Join(err, noted)
	}
	if state == "failed" {
		return river.JobCancel(err)
	}
	return o.store.Later(ctx, job.ID, retryAfter(job.Attempt), true)
}

// retryAfter is how long after a try the next one is made: soon at first, then each minute.
func retryAfter(attempt int) time.Duration { return min(time.Minute, time.Second<<min(attempt, 6)) }

// begin takes a place among those that are under way to a connection, if there is one.
func (o *Outbox) begin(connection string) bool {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.busy[connection] >= maxBusy {
		return false
	}
	o.busy[connection]++
	return true
}

func (o *Outbox) end(connection string) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.busy[connection]--; o.busy[connection] == 0 {
		delete(o.busy, connection)
	}
}

// failed notes that a message did not arrive. Whoever should have it is told by another way; where it is for good, the
// record says so.
func (o *Outbox) failed(ctx context.Context, d *store.Delivery, state string, cause error) error {
	why := reading.Why(cause.Error())
	return o.store.Tx(ctx, func(tx *store.Tx) error {
		if err := tx.NotSent(d.ID, state, why, d.Unsure || errors.Is(cause, errUnsure)); err != nil {
			return err
		}
		if err := tx.NoticesAgain(d.ID); err != nil {
			return err
		}
		if state != "failed" || d.Incident == nil {
			return nil
		}
		r := store.NewRecordWriter(tx)
		i, err := r.Incident(*d.Incident)
		if err != nil {
			return err
		}
		to := d.Kind + "/" + d.Connection
		if d.Receiver != "" && d.Address != "" {
			to = d.Receiver + " by " + to
		}
		if err := r.Write(i, store.NewEntry{At: o.store.Clock.Now(), Kind: incident.DeliveryFailed, Actor: "urgentis",
			Title:   "A message could not be delivered",
			Content: incident.PeopleContent{To: to, Body: d.Body, Message: d.ID, Error: why}}); err != nil {
			return err
		}
		return r.Flush()
	})
}

// deliver hands one message over. Of what may have arrived before it says so.
func (o *Outbox) deliver(ctx context.Context, d *store.Delivery) (string, error) {
	if d.Kind == store.DeliverySource {
		return "", o.callBack(ctx, d)
	}
	c, err := o.connections(ctx, d.Connection)
	if err != nil {
		return "", err
	}
	if c == nil {
		return "", fmt.Errorf("%w: there is no connection %s any more", errForGood, d.Connection)
	}
	if d.Kind == store.DeliveryDesk {
		return o.toDesk(ctx, c, d)
	}
	var m message.Message
	if err := json.Unmarshal([]byte(d.Body), &m); err != nil {
		return "", errors.Join(errForGood, err)
	}
	m.Repeat = d.Unsure
	if err := o.linked(ctx, d, c, &m); err != nil {
		return "", err
	}
	return o.send(ctx, c, &m)
}

// callBack tells the source of an alert something about it: by the request of its document, or in our own JSON.
func (o *Outbox) callBack(ctx context.Context, d *store.Delivery) error {
	src, err := o.store.In(ctx).Source(d.Connection)
	if err != nil || src == nil {
		return err
	}
	var body map[string]any
	if err := json.Unmarshal([]byte(d.Body), &body); err != nil {
		return errors.Join(errForGood, err)
	}
	do, _ := body["do"].(string)
	if r := engine.TellBack(src, do); r != nil {
		return o.tellBack(ctx, r, d, body)
	}
	if src.CallBack == "" {
		return fmt.Errorf("%w: how %s is told to %s is not configured", errForGood, src.Name, do)
	}
	if body["key"] == nil {
		body["key"] = d.Key
	}
	out, err := json.Marshal(body)
	if err != nil {
		return err
	}
	_, err = o.do(ctx, d.Connection, &message.Call{
		Method: http.MethodPost, URL: src.CallBack, Body: string(out), ContentType: "application/json"}, d.Key)
	return err
}

// tellBack makes the request of a source's document.
func (o *Outbox) tellBack(ctx context.Context, r *message.Request, d *store.Delivery, body map[string]any) error {
	id, _ := body["alert"].(string)
	a, err := o.store.In(ctx).Alert(id)
	if err != nil {
		return err
	}
	about := map[string]any{"number": int64(0), "link": o.link}
	if d.Incident != nil {
		about = map[string]any{"number": *d.Incident, "link": fmt.Sprintf("%s/incidents/%d", o.link, *d.Incident)}
	}
	labels := map[string]any{}
	for k, v := range a.Labels {
		labels[k] = v
	}
	_, _, err = o.ask(ctx, &message.Connection{Name: d.Connection}, r, map[string]any{
		"alert": map[string]any{"id": a.ID, "key": a.Key, "summary": a.Summary, "severity": a.Severity,
			"service": a.Service, "link": a.Link, "labels": labels},
		"incident": about,
	}, d.Key)
	return err
}

// Send hands a message over at once, outside of the outbox: nothing of it is kept, and it is not repeated. It says what
// the other side answered.
func (o *Outbox) Send(ctx context.Context, c *message.Connection, m *message.Message) (string, error) {
	ctx, cancel := context.WithTimeout(ctx, mailTime)
	defer cancel()
	return o.send(ctx, c, m)
}

// send hands a message to its kind of connection: the one place where messages leave.
func (o *Outbox) send(ctx context.Context, c *message.Connection, m *message.Message) (string, error) {
	send := registry[c.Kind]
	if send == nil {
		return "", fmt.Errorf("%w: %s carries no messages", errForGood, c.Name)
	}
	return send(ctx, o, c, m.Outward())
}
