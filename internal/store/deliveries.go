package store

import (
	"context"
)

// AddDeliveries puts messages into the outbox, and numbers them. Somebody must enqueue a job for each.
func (tx *Tx) AddDeliveries(out []Delivery) error {
	if len(out) == 0 {
		return nil
	}
	// The database numbers them, and their jobs carry the numbers.
	return tx.db.CreateInBatches(&out, 1000).Error
}

// Deliveries lists messages of a state ("": of all) and an incident (0: of all), newest first, those before an id; 0:
// from the newest.
func (tx *Tx) Deliveries(state string, incident, before int64, most int) ([]Delivery, error) {
	return scan[Delivery](tx, `select * from delivery where (? = 0 or id < ?) and (? = '' or state = ?)
		and (? = 0 or incident = ?) order by id desc limit ?`,
		before, before, state, state, incident, incident, most)
}

// Delivery reads a message on its way out.
func (tx *Tx) Delivery(id int64) (*Delivery, error) { return take[Delivery](tx, "id = ?", id) }

// Sent says that the other side took a message, and what it answered.
func (tx *Tx) Sent(id int64, answer string) error {
	return tx.run(`update delivery set state = 'sent', tries = tries + 1, error = '', answer = ?, sent_at = now()
		where id = ?`, answer, id)
}

// NotSent says why a message did not arrive, or that nobody knows whether it did, and what becomes of it: queued or
// failed.
func (tx *Tx) NotSent(id int64, state, because string, unsure bool) error {
	return tx.run("update delivery set state = ?, tries = tries + 1, error = ?, unsure = unsure or ? where id = ?",
		state, because, unsure, id)
}

// SourceThread is that of what the source of an alert is told of it.
func SourceThread(alert string) string { return "alert/" + alert }

// ToldBack reports whether what a thread is about was told something, such as close, or will be.
func (tx *Tx) ToldBack(thread, do string) (bool, error) {
	return one[bool](tx, `select exists (select from delivery where thread = ? and does = ?
		and state in ('queued', 'sent'))`, thread, do)
}

// Before reports whether another message of the same thread is still on its way, or without one, another about the same
// incident to the same place: they arrive in order.
func (tx *Tx) Before(d *Delivery) (bool, error) {
	if d.Thread != "" {
		return one[bool](tx, `select exists (select from delivery where thread = ? and state = 'queued' and id < ?)`,
			d.Thread, d.ID)
	}
	if d.Incident == nil {
		return false, nil
	}
	return one[bool](tx, `select exists (select from delivery where incident = ? and kind = ? and address = ?
		and at_address = ? and state = 'queued' and id < ?)`, *d.Incident, d.Kind, d.Connection, d.Address, d.ID)
}

// Dropped says that a message is sent no more: what it was about is over.
func (tx *Tx) Dropped(id int64, because string) error {
	return tx.run("update delivery set state = 'dropped', error = ? where id = ? and state = 'queued'", because, id)
}

// SendAgain queues a message anew that failed or was dropped; ErrNotFound where there is none such. What a
// desk is told counts as never told, and its ticket as never asked for: whoever sends it again has looked there.
func (tx *Tx) SendAgain(id int64) error {
	n, err := tx.exec(`update delivery set state = 'queued', tries = 0, error = '', unsure = unsure and kind <> ?
		where id = ? and state in ('failed', 'dropped')`, DeliveryDesk, id)
	if err == nil && n == 0 {
		err = ErrNotFound
	}
	if err != nil {
		return err
	}
	return tx.run(`update ticket t set asked = '', none_at = null from delivery d where d.id = ? and d.kind = ?
		and t.incident = d.incident and t.connection = d.address and t.number = ''`, id, DeliveryDesk)
}

// freeDeliveries lets messages be tried again that an instance had in hand whose process is gone. The queue itself
// would do so after a minute.
func (tx *Tx) freeDeliveries(instance string) error {
	return tx.run(`update river_job set state = 'available', scheduled_at = now() where kind = ? and state = 'running'
		and attempted_by[array_upper(attempted_by, 1)] = ?`, Deliver{}.Kind(), instance)
}

// SendForgotten queues messages anew that are to be sent and that no job of the queue has any more: the queue ended the
// job, and the database that was put back to an older state, or went away, does not know how the message ended. It may
// have arrived.
func (s *Store) SendForgotten(ctx context.Context) error {
	return s.Tx(ctx, func(tx *Tx) error {
		mine, err := one[bool](tx, "select pg_try_advisory_xact_lock(hashtextextended('forgotten messages', 0))")
		if err != nil || !mine {
			return err
		}
		forgotten, err := scan[int64](tx, `update delivery d set unsure = true
			where d.id in (select d.id from delivery d
				where d.state = 'queued' and d.queued_at < now() - interval '10 seconds' and not exists
					(select from river_job j where j.kind = ? and (j.args->>'id')::bigint = d.id
						and j.state in ('available', 'pending', 'retryable', 'running', 'scheduled')) limit 500)
			returning d.id`, Deliver{}.Kind())
		if err != nil {
			return err
		}
		jobs := make([]Job, len(forgotten))
		for i, id := range forgotten {
			jobs[i] = Deliver{ID: id}
		}
		return tx.Enqueue(jobs...)
	})
}

// DeliveryKnown reports whether a message with a key was put into the outbox.
func (tx *Tx) DeliveryKnown(key string) (bool, error) {
	return one[bool](tx, "select exists (select from delivery where key = ?)", key)
}
