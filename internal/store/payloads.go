package store

import (
	"time"

	"urgentis/core/source"
)

// Payload is what a source sent when alerts were raised or changed.
type Payload struct {
	ID          string `gorm:"primaryKey"`
	At          time.Time
	ContentType string
	Headers     map[string]string `gorm:"serializer:json"`
	Query       map[string]string `gorm:"serializer:json"`
	Body        []byte
}

// NewPayload is a payload as it is kept.
func NewPayload(p source.Payload, at time.Time) *Payload {
	return &Payload{
		ID: NewID("p"), At: at, ContentType: p.ContentType, Headers: notNull(p.Headers), Query: notNull(p.Query),
		Body: append([]byte{}, p.Body...),
	}
}

// notNull is a map as it is kept: one of nothing is empty.
func notNull(m map[string]string) map[string]string {
	if m == nil {
		return map[string]string{}
	}
	return m
}

// AlertPayload says that a payload raised or changed an alert.
type AlertPayload struct {
	Alert   string `gorm:"primaryKey"`
	Payload string `gorm:"primaryKey"`
}

// PayloadOf gives the newest payload that is kept of an alert; ErrNotFound where there is none.
func (tx *Tx) PayloadOf(id string) (*Payload, error) {
	return only(scan[Payload](tx, `select p.* from alert_payload a join payload p on p.id = a.payload where a.alert = ?
		order by p.at desc, p.id limit 1`, id))
}

// PayloadOfFiring gives what was sent as a trigger fired: what its occasion came with, or else the newest of its alert;
// ErrNotFound where none is kept.
func (tx *Tx) PayloadOfFiring(f *Firing) (*Payload, error) {
	if f.Payload == "" {
		return tx.PayloadOf(f.Alert)
	}
	return take[Payload](tx, "id = ?", f.Payload)
}
