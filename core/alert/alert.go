// Package alert understands what monitors report: identity, severity and changes of state.
package alert

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"mime"
	"slices"
	"sort"
	"strings"
	"time"
	"unicode/utf8"
)

// Limits of a request and of one report, in bytes and counts.
const (
	MaxBody    = 256 << 10
	MaxReports = 100
	MaxLabels  = 64
	MaxText    = 8 << 10 // summary
	MaxLabel   = 2 << 10 // one label's value
	MaxName    = 200     // key, label names, service
)

// Severity is how bad a condition is, by the words of ITU-T X.733.
type Severity string

// The severities, and Cleared for a condition that is over.
const (
	Critical Severity = "critical"
	Major    Severity = "major"
	Minor    Severity = "minor"
	Warning  Severity = "warning"
	Cleared  Severity = "cleared"
)

var severities = []Severity{Cleared, Warning, Minor, Major, Critical}

// Severities lists the words of all severities, cleared too, the mildest first.
func Severities() []string {
	out := make([]string, len(severities))
	for i, s := range severities {
		out[i] = string(s)
	}
	return out
}

// Worth is how bad a severity is, as a number to compare; -1 for a word that is none.
func Worth(severity string) int { return Severity(severity).rank() }

func (s Severity) rank() int { return slices.Index(severities, s) }

// Report is what a monitor says once about one condition.
type Report struct {
	// Key names the condition within its source; reports with one key are about one condition.
	Key      string            `json:"key"`
	Severity Severity          `json:"severity"`
	Summary  string            `json:"summary"`
	Service  string            `json:"service"`
	Link     string            `json:"link"`
	Labels   map[string]string `json:"labels"`
	// At is when it happened, as its sender says; where that says nothing or lies ahead, when it was heard.
	At Said `json:"at"`
}

// Invalid is a report that cannot be taken, in one sentence.
type Invalid struct{ Reason string }

func (e *Invalid) Error() string { return e.Reason }

func invalid(format string, args ...any) error { return &Invalid{fmt.Sprintf(format, args...)} }

// Read understands the body of a request: our own JSON, or CloudEvents 1.0 in structured or binary mode
// (https://cloudevents.io, HTTP protocol binding); or a list of up to MaxReports of them, as a JSON array or in the
// batched mode of CloudEvents. many tells a list from a single one. header gives the request's headers.
// Errors are of type *Invalid; one of a list refuses all of it.
func Read(header func(string) string, body []byte, now time.Time) (reports []Report, many bool, err error) {
	if len(body) > MaxBody {
		return nil, false, invalid("the body has %d bytes, %d are allowed", len(body), MaxBody)
	}
	if !utf8.Valid(body) {
		return nil, false, invalid("the body is not UTF-8")
	}
	body = withoutNUL(body)
	media, _, err := mime.ParseMediaType(header("Content-Type"))
	if err != nil && header("Content-Type") != "" {
		return nil, false, invalid("the Content-Type cannot be read")
	}
	batch := media == "application/cloudevents-batch+json"
	binary := header("Ce-Specversion") != ""
	structured := media == "application/cloudevents+json"
	if !batch && !structured && !binary && media != "application/json" && media != "" {
		return nil, false, invalid(
			"the Content-Type is %s; send application/json, application/cloudevents+json or "+
				"application/cloudevents-batch+json",
			media,
		)
	}
	if !batch && (structured || binary || !bytes.HasPrefix(bytes.TrimLeft(body, " \t\r\n"), []byte("["))) {
		var event cloudEvent
		if binary && !structured {
			event = cloudEvent{SpecVersion: header("Ce-Specversion"), ID: header("Ce-Id"), Source: header("Ce-Source"),
				Type: header("Ce-Type"), Subject: header("Ce-Subject"), Time: header("Ce-Time"), Data: body}
		}
		r, err := readOne(body, event, structured, now)
		return []Report{r}, false, err
	}
	var list []json.RawMessage
	if err := decode(body, &list); err != nil {
		return nil, true, err
	}
	if len(list) == 0 || len(list) > MaxReports {
		return nil, true, invalid("the list has %d reports; send from 1 to %d", len(list), MaxReports)
	}
	for i, one := range list {
		r, err := readOne(one, cloudEvent{}, batch, now)
		if err != nil {
			return nil, true, invalid("report %d of %d: %s", i+1, len(list), err)
		}
		reports = append(reports, r)
	}
	return reports, true, nil
}

// readOne reads one report; event is that of the headers, or with wrapped that of the body.
func readOne(body []byte, event cloudEvent, wrapped bool, now time.Time) (Report, error) {
	if wrapped {
		if err := decode(body, &event); err != nil {
			return Report{}, err
		}
		body = event.Data
	}
	isEvent := wrapped || event.SpecVersion != ""
	if isEvent {
		if err := event.check(); err != nil {
			return Report{}, err
		}
	}
	var r Report
	if err := decode(body, &r); err != nil {
		return Report{}, err
	}
	if isEvent {
		if r.Key == "" {
			r.Key = event.Subject
		}
		if r.At.IsZero() && event.Time != "" {
			var err error
			if r.At.Time, err = time.Parse(time.RFC3339, event.Time); err != nil {
				return Report{}, invalid("the event's time is not RFC 3339")
			}
		}
	}
	return r, r.complete(now)
}

type cloudEvent struct {
	SpecVersion string          `json:"specversion"`
	ID          string          `json:"id"`
	Source      string          `json:"source"`
	Type        string          `json:"type"`
	Subject     string          `json:"subject"`
	Time        string          `json:"time"`
	Data        json.RawMessage `json:"data"`
}

func (e cloudEvent) check() error {
	if e.SpecVersion != "1.0" {
		return invalid("the event's specversion is %q; 1.0 is understood", e.SpecVersion)
	}
	if e.ID == "" || e.Source == "" || e.Type == "" {
		return invalid("the event lacks id, source or type")
	}
	return nil
}

func decode(body []byte, into any) error {
	if len(body) == 0 {
		return invalid("the body is empty; send a JSON object with at least severity and summary")
	}
	if err := json.Unmarshal(body, into); err != nil {
		var te *json.UnmarshalTypeError
		if errors.As(err, &te) {
			return invalid("%s must be %s, not %s", orBody(te.Field), words[te.Type.Kind().String()], te.Value)
		}
		return invalid("the body is not JSON: %s", err)
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

func (r *Report) complete(now time.Time) error {
	if !slices.Contains(severities, r.Severity) {
		return invalid(
			"severity is %q; it must be critical, major, minor, warning or cleared",
			clip(string(r.Severity)),
		)
	}
	if r.Severity != Cleared && strings.TrimSpace(r.Summary) == "" {
		return invalid("the summary is missing")
	}
	if len(r.Summary) > MaxText {
		return invalid("the summary has %d bytes, %d are allowed", len(r.Summary), MaxText)
	}
	if len(r.Key) > MaxName || len(r.Service) > MaxName || len(r.Link) > MaxLabel {
		return invalid("key and service may have %d bytes, link %d", MaxName, MaxLabel)
	}
	if r.Link != "" && !strings.HasPrefix(r.Link, "https://") && !strings.HasPrefix(r.Link, "http://") {
		return invalid("link must begin with https:// or http://")
	}
	if len(r.Labels) > MaxLabels {
		return invalid("there are %d labels, %d are allowed", len(r.Labels), MaxLabels)
	}
	for k, v := range r.Labels {
		if k == "" || len(k) > MaxName || len(v) > MaxLabel {
			return invalid("label %s is too long: a name may have %d bytes, a value %d", clip(k), MaxName, MaxLabel)
		}
	}
	// PostgreSQL keeps no NUL in text; it is the one character that has to be refused.
	for _, s := range append(r.texts(), r.Key, r.Summary, r.Service, r.Link) {
		if strings.ContainsRune(s, 0) {
			return invalid("the NUL character is not allowed in text")
		}
	}
	if r.Labels == nil {
		r.Labels = map[string]string{}
	}
	if r.Key == "" {
		r.Key = derived(*r)
	}
	if !r.At.IsZero() && r.At.Year() < 1970 {
		return invalid("at is in the year %d; it must be 1970 or later", r.At.Year())
	}
	if r.At.IsZero() || r.At.After(now.Add(time.Minute)) {
		r.At = SaidAt(now)
	}
	return nil
}

func (r *Report) texts() []string {
	var out []string
	for k, v := range r.Labels {
		out = append(out, k, v)
	}
	return out
}

// derived makes the identity of a report that names none: its service and labels.
func derived(r Report) string {
	names := make([]string, 0, len(r.Labels))
	for k := range r.Labels {
		names = append(names, k)
	}
	sort.Strings(names)
	h := sha256.New()
	fmt.Fprintf(h, "%q", r.Service)
	for _, k := range names {
		fmt.Fprintf(h, "%q=%q", k, r.Labels[k])
	}
	if len(names) == 0 && r.Service == "" {
		fmt.Fprintf(h, "%q", r.Summary)
	}
	return "labels-" + hex.EncodeToString(h.Sum(nil))[:16]
}

func clip(s string) string {
	if r := []rune(s); len(r) > 60 {
		return string(r[:59]) + "…"
	}
	return s
}

// Change says what a report alters.
type Change string

// The changes. Only those other than Repeat can start anything.
const (
	New    Change = "new"
	Worse  Change = "worse"
	Better Change = "better"
	Clear  Change = "cleared"
	Repeat Change = "repeat"
	// Idle is a clearing of something that was not open.
	Idle Change = "idle"
)

// Compare tells what a report alters, given the severity of the open alert with its identity; "" without one.
func Compare(open Severity, r Report) Change {
	switch {
	case open == "" && r.Severity == Cleared:
		return Idle
	case open == "":
		return New
	case r.Severity == Cleared:
		return Clear
	case r.Severity.rank() > open.rank():
		return Worse
	case r.Severity.rank() < open.rank():
		return Better
	}
	return Repeat
}
