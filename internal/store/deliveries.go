package store

// AddDeliveries puts messages into the outbox, and numbers them. Somebody must enqueue a job for each.
func (tx *Tx) AddDeliveries(out []Delivery) error {
	if len(out) == 0 {
		return nil
	}
	// The database numbers them, and their jobs carry the numbers.
	return tx.db.CreateInBatches(&out, 1000).Error
}

// Deliveries lists messages of a state ("": of all), newest first, those before an id; 0: from the newest.
func (tx *Tx) Deliveries(state string, before int64, most int) ([]Delivery, error) {
	if before == 0 {
		before = int64(^uint64(0) >> 1)
	}
	where, args := and("id < ?", []any{before}, "state", state)
	var out []Delivery
	err := tx.db.Order("id desc").Where(where, args...).Limit(most).Find(&out).Error
	return out, err
}

// Delivery reads a message on its way out.
func (tx *Tx) Delivery(id int64) (*Delivery, error) { return take[Delivery](tx, "id = ?", id) }

// Sent says that a message arrived.
func (tx *Tx) Sent(id int64) error {
	return tx.run("update delivery set state = 'sent', tries = tries + 1, error = '', sent_at = now() where id = ?", id)
}

// NotSent says why a message did not arrive, and what becomes of it: queued or failed.
func (tx *Tx) NotSent(id int64, state, because string) error {
	return tx.run("update delivery set state = ?, tries = tries + 1, error = ? where id = ?", state, because, id)
}

// AddressOf is where a message goes; "" where its room or source is gone, or is not called back.
func (tx *Tx) AddressOf(d *Delivery) (string, error) {
	if d.Kind == "source" {
		return one[string](tx, "select call_back from source where name = ?", d.Address)
	}
	return one[string](tx, "select url from connection where name = ?", d.Address)
}
