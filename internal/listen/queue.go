package listen

import (
	"context"
	"encoding/json"
	"errors"
	"log/slog"
	"time"

	"github.com/cenkalti/backoff/v5"
)

// queueLength is how many messages of a source wait in memory for its spool, handedOn how many are handed on at once.
const (
	queueLength = 16_384
	handedOn    = 4096
)

// queue is what arrived for one source: in memory until it is in the spool, and there until it is handed on. A storm of
// one source fills its own queue and nobody else's.
type queue struct {
	source string
	spool  *spool
	in     chan *entry
	door   Door
	log    *slog.Logger
	stop   chan struct{}
	at     Place // how far it is taken, as handOn knows
	// writes and syncs say what is wrong with the disk; each is used by the one that does so.
	writes, syncs complaint
}

// complaint says what is wrong with the disk, at most once a minute: it is tried again many times in a second.
type complaint struct {
	said time.Time // when it was said last
	more int       // how often something was wrong since
}

// entry is a message on its way into the spool.
type entry struct {
	Message
	from *counts
	// patient says that its sender can be made to wait: it is not dropped where there is no room.
	patient bool
	// kept is told once the message is on disk, or that it is not; nil where nobody waits for that.
	kept chan error
}

// offer takes a message without waiting; one that there is no room for is lost, and counted.
func (q *queue) offer(x *entry) {
	select {
	case q.in <- x:
	default:
		x.from.lost.Add(1)
	}
}

// wait takes a message once there is room for it.
func (q *queue) wait(x *entry) {
	select {
	case q.in <- x:
	case <-q.stop:
	}
}

// keep writes what arrives into the spool, much of it at once, until in is closed.
func (q *queue) keep() {
	for x := range q.in {
		batch := []*entry{x}
	more:
		for len(batch) < 512 {
			select {
			case x, ok := <-q.in:
				if !ok {
					break more
				}
				batch = append(batch, x)
			default:
				break more
			}
		}
		q.put(batch)
	}
}

// sync has what is kept survive the end of the machine, a second after it was kept at most. A disk that takes its time
// over that holds up nothing that arrives.
func (q *queue) sync() {
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for {
		select {
		case <-q.stop:
			return
		case <-tick.C:
		}
		if err := q.spool.Sync(); err != nil {
			q.complain(&q.syncs, err)
		}
	}
}

func (q *queue) complain(c *complaint, err error) {
	c.more++
	if time.Since(c.said) < time.Minute {
		return
	}
	q.log.Error("keep what was heard", "source", q.source, "error", err, "times", c.more)
	c.said, c.more = time.Now(), 0
}

// put appends a batch. Where there is no room, what can wait is tried again until there is, and the rest is lost.
func (q *queue) put(batch []*entry) {
	for len(batch) > 0 {
		records := make([][]byte, len(batch))
		for i, x := range batch {
			records[i], _ = json.Marshal(x.Message) // it has nothing that could fail
		}
		n, err := q.spool.Append(records)
		q.tell(batch[:n], nil)
		if batch = batch[n:]; len(batch) == 0 {
			return
		}
		if !errors.Is(err, errFull) {
			q.complain(&q.writes, err)
		}
		var left []*entry
		for _, x := range batch {
			if x.patient {
				left = append(left, x)
				continue
			}
			x.from.lost.Add(1)
			if x.kept != nil {
				x.kept <- err
			}
		}
		if batch = left; len(batch) > 0 {
			select {
			case <-q.stop:
				batch[0].from.lost.Add(int64(len(batch)))
				return
			case <-time.After(50 * time.Millisecond):
			}
		}
	}
}

// tell counts what is kept. Whoever waits for it is told once it would survive the end of the machine.
func (q *queue) tell(batch []*entry, err error) {
	synced := false
	for _, x := range batch {
		x.from.kept.Add(1)
		if x.kept == nil {
			continue
		}
		if !synced {
			err, synced = q.spool.Sync(), true
		}
		x.kept <- err
	}
}

// handOn gives what the spool holds to the door, again and again where that fails.
func (q *queue) handOn() {
	wait := backoff.NewExponentialBackOff()
	wait.InitialInterval, wait.MaxInterval = 100*time.Millisecond, 5*time.Second
	settled := false
	for {
		var err error
		if !settled {
			err = q.settle()
		}
		idle := false
		if settled = err == nil; settled {
			idle, err = q.handOnce()
		}
		switch {
		case err == nil && !idle:
			wait.Reset()
			continue
		case err == nil:
			select {
			case <-q.stop:
				return
			case <-q.spool.more:
			}
			continue
		}
		settled = false
		q.log.Warn("hand on what was heard; it stays in the spool", "source", q.source, "error", err)
		select {
		case <-q.stop:
			return
		case <-time.After(wait.NextBackOff()):
		}
	}
}

// settle goes on where what was taken ends, as it was kept with that.
func (q *queue) settle() error {
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	is, err := q.door.Place(ctx, q.spool.id)
	if err != nil {
		return err
	}
	q.at = q.spool.At()
	if is != nil {
		q.at, _ = q.spool.Seek(*is)
	}
	if is == nil || *is != q.at {
		if err := q.door.SetPlace(ctx, q.source, q.spool.id, q.at); err != nil {
			return err
		}
	}
	return q.spool.Done(q.at) // it may be taken further than anybody heard
}

// handOnce gives what is next to the door; idle says that there was nothing.
func (q *queue) handOnce() (idle bool, err error) {
	records, end, err := q.spool.Next(handedOn)
	if err != nil || len(records) == 0 && end == q.at {
		return true, err
	}
	b := Batch{Spool: q.spool.id, From: q.at, To: end}
	for _, r := range records {
		var m Message
		if err := json.Unmarshal(r.body, &m); err != nil {
			q.log.Error("a record of the spool is left out", "source", q.source, "error", err)
			continue
		}
		b.Messages, b.Ends = append(b.Messages, m), append(b.Ends, r.end)
	}
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	if err := q.door.TakeHeard(ctx, q.source, b); err != nil {
		return false, err
	}
	q.at = end
	return false, q.spool.Done(end)
}
