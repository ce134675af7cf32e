package source

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"mime"
	"time"

	"urgentis/core/alert"
	"urgentis/core/doc"
)

// cloudEvent is an event of CloudEvents 1.0 (https://cloudevents.io): its attributes, and in structured mode its data.
type cloudEvent struct {
	SpecVersion string          `json:"specversion"`
	ID          string          `json:"id"`
	Source      string          `json:"source"`
	Type        string          `json:"type"`
	Subject     string          `json:"subject"`
	Time        string          `json:"time"`
	Data        json.RawMessage `json:"data"`
	Data64      []byte          `json:"data_base64"`
	at          time.Time
}

func (e *cloudEvent) complete() (err error) {
	if e.SpecVersion != "1.0" {
		return fmt.Errorf("the event's specversion is %q; 1.0 is understood", alert.Clip(e.SpecVersion))
	}
	if e.ID == "" || e.Source == "" || e.Type == "" {
		return errors.New("the event lacks id, source or type")
	}
	if e.Time != "" {
		if e.at, err = time.Parse(time.RFC3339, e.Time); err != nil {
			return errors.New("the event's time is not RFC 3339")
		}
	}
	if e.Data == nil {
		e.Data = e.Data64
	}
	return nil
}

// Content-Types of CloudEvents in structured and in batched mode.
const (
	structuredType = "application/cloudevents+json"
	batchType      = "application/cloudevents-batch+json"
)

// known opens a payload whose form is known without a map: our own JSON, or CloudEvents in structured, binary or
// batched mode (HTTP protocol binding); one thing, or a list of them.
func (w *walk) known() ([]read, bool, error) {
	if w.kind.known == nil || w.s.takes() != HTTP {
		return nil, false, errors.New("the source has no map")
	}
	media, _, err := mime.ParseMediaType(w.p.ContentType)
	if err != nil && w.p.ContentType != "" {
		return nil, false, errors.New("the Content-Type cannot be read")
	}
	binary := w.p.Headers["ce-specversion"] != "" && media != structuredType && media != batchType
	if !binary && media != "" && !isJSON(media) {
		return nil, false, fmt.Errorf("the Content-Type is %s; send application/json, %s or %s", alert.Clip(media),
			structuredType, batchType)
	}
	body, err := w.p.text()
	if err != nil {
		return nil, false, err
	}
	if deep(body) {
		return nil, false, fmt.Errorf("the body is nested more than %d deep", maxDepth)
	}
	switch {
	case binary:
		h := w.p.Headers
		e := &cloudEvent{SpecVersion: h["ce-specversion"], ID: h["ce-id"], Source: h["ce-source"], Type: h["ce-type"],
			Subject: h["ce-subject"], Time: h["ce-time"], Data: body}
		return []read{func(x *Item) { w.event(e, x) }}, false, nil
	case media != batchType && !bytes.HasPrefix(bytes.TrimLeft(body, " \t\r\n"), []byte("[")):
		return []read{func(x *Item) { w.own(body, media == structuredType, x) }}, false, nil
	}
	var list []json.RawMessage
	if err := decode(body, &list); err != nil {
		return nil, true, err
	}
	if len(list) == 0 {
		return nil, true, fmt.Errorf("the list is empty; send from 1 to %d", MaxItems)
	}
	out := make([]read, len(list))
	for i, one := range list {
		out[i] = func(x *Item) { w.own(one, media == batchType, x) }
	}
	return out, true, nil
}

// own reads one item: the event that it is, or the thing itself.
func (w *walk) own(one []byte, wrapped bool, x *Item) {
	if wrapped || bytes.Contains(one, []byte(`"specversion"`)) {
		e := &cloudEvent{}
		err := decode(one, e)
		switch {
		case err != nil && wrapped:
			x.Unparsed = err.Error()
			return
		case wrapped || err == nil && e.SpecVersion != "":
			w.event(e, x)
			return
		}
	}
	w.make(one, nil, x)
}

func (w *walk) event(e *cloudEvent, x *Item) {
	if err := e.complete(); err != nil {
		x.Unparsed = err.Error()
		return
	}
	x.ID, x.Digest = clipID("ce "+e.Source+" "+e.ID), doc.Sum(e.Data)
	w.make(e.Data, e, x)
}

func (w *walk) make(one []byte, from *cloudEvent, x *Item) {
	var err error
	if x.Event, x.form, err = w.kind.known(one, from); err != nil {
		x.Event, x.Unparsed = nil, err.Error()
	}
}

// decode reads JSON into a value; an error is one sentence.
func decode(body []byte, into any) error {
	if len(bytes.TrimSpace(body)) == 0 {
		return errors.New("the body is empty; send a JSON object, such as docs/sources.md shows")
	}
	if err := json.Unmarshal(body, into); err != nil {
		var te *json.UnmarshalTypeError
		if errors.As(err, &te) {
			return fmt.Errorf("%s must be %s, not %s", orBody(te.Field), words[te.Type.Kind().String()], te.Value)
		}
		return fmt.Errorf("the body is not JSON: %w", err)
	}
	return nil
}

var words = map[string]string{"string": "text", "map": "an object of texts", "struct": "an object", "slice": "a list"}

func orBody(f string) string {
	if f == "" {
		return "the body"
	}
	return f
}
