package api

import (
	"encoding/json"
	"time"
)

// RecordEntry is an entry of the record. Content is of the type that its kind has in the API document, as it is kept:
// incident.Entry reads it.
type RecordEntry struct {
	Seq     int64           `json:"seq"`
	At      time.Time       `json:"at"`
	Kind    string          `json:"kind"`
	Word    string          `json:"word"`
	Actor   string          `json:"actor"`
	Run     string          `json:"run,omitempty"`
	Step    string          `json:"step,omitempty"`
	Title   string          `json:"title"`
	Says    []Text          `json:"says"`
	Content json.RawMessage `json:"content,omitempty"`
	Hash    string          `json:"hash"`
}

type entryFields RecordEntry

// MarshalJSON writes it; what is generated for answers that are one entry asks for it.
func (e RecordEntry) MarshalJSON() ([]byte, error) { return json.Marshal(entryFields(e)) }

// UnmarshalJSON reads it.
func (e *RecordEntry) UnmarshalJSON(b []byte) error { return json.Unmarshal(b, (*entryFields)(e)) }

// Plain writes a text without its parts.
func Plain(t Text) string {
	out := ""
	for _, s := range t {
		out += s.Text
	}
	return out
}
