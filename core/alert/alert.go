// Package alert holds what monitors report, however it came: identity, severity and changes of state. How payloads
// become reports is package source's.
package alert

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"sort"
	"strings"
	"time"

	"golang.org/x/text/unicode/norm"

	"urgentis/core/reading"
)

// Limits of one report, in bytes and counts.
const (
	MaxLabels = 64
	MaxText   = 8 << 10 // summary
	MaxLabel  = 2 << 10 // one label's value
	MaxName   = 200     // key, label names, service
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

// Complete holds a report to what can be kept, and gives it what it leaves out: a key, the labels, and as its time when
// it was heard. Names are the same however they are written: without blanks around them, in Unicode's form C. An error
// is one sentence.
func (r *Report) Complete(heard time.Time) error {
	if err := r.write(); err != nil {
		return err
	}
	if !slices.Contains(severities, r.Severity) {
		return fmt.Errorf(
			"severity is %q; it must be critical, major, minor, warning or cleared",
			Clip(string(r.Severity)),
		)
	}
	if r.Severity != Cleared && strings.TrimSpace(r.Summary) == "" {
		return fmt.Errorf("the summary is missing")
	}
	if len(r.Summary) > MaxText {
		return fmt.Errorf("the summary has %d bytes, %d are allowed", len(r.Summary), MaxText)
	}
	if len(r.Key) > MaxName || len(r.Service) > MaxName || len(r.Link) > MaxLabel {
		return fmt.Errorf("key and service may have %d bytes, link %d", MaxName, MaxLabel)
	}
	if r.Link != "" && !strings.HasPrefix(r.Link, "https://") && !strings.HasPrefix(r.Link, "http://") {
		return fmt.Errorf("link must begin with https:// or http://")
	}
	if len(r.Labels) > MaxLabels {
		return fmt.Errorf("there are %d labels, %d are allowed", len(r.Labels), MaxLabels)
	}
	for k, v := range r.Labels {
		if k == "" || len(k) > MaxName || len(v) > MaxLabel {
			return fmt.Errorf("label %s is too long: a name may have %d bytes, a value %d", Clip(k), MaxName, MaxLabel)
		}
	}
	if r.Key == "" {
		r.Key = derived(*r)
	}
	if !r.At.IsZero() && r.At.Year() < 1970 {
		return fmt.Errorf("at is in the year %d; it must be 1970 or later", r.At.Year())
	}
	if r.At.IsZero() || r.At.After(heard.Add(time.Minute)) {
		r.At = SaidAt(heard)
	}
	return nil
}

// write writes the texts of a report as all are written that are the same.
func (r *Report) write() error {
	r.Key, r.Service = Name(r.Key), Name(r.Service)
	r.Summary, r.Link = Text(r.Summary), Text(r.Link)
	labels := make(map[string]string, len(r.Labels))
	for k, v := range r.Labels {
		k = Name(k)
		if _, twice := labels[k]; twice {
			return fmt.Errorf("label %s is given twice", Clip(k))
		}
		labels[k] = Text(v)
	}
	r.Labels = labels
	return nil
}

// Name is how a name is written, whatever form it came in: as Text, without blanks around it.
func Name(s string) string { return strings.TrimSpace(Text(s)) }

// Text is how a text is written, whatever form it came in: as UTF-8 in Unicode's form C, without NUL, which nothing can
// keep.
func Text(s string) string { return norm.NFC.String(reading.Plain(s)) }

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

// Clip is a text as far as an error shows it.
func Clip(s string) string {
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
