package route

import (
	"fmt"
	"slices"
	"time"

	"urgentis/core/alert"
)

// Matter is what somebody may have to be called for: an incident, or a run that belongs to none. All times are those of
// the database's clock.
type Matter struct {
	Open bool
	// About is what the conditions of routes see of it.
	About Notice
	// Items are its open alerts for which nothing was enough yet, and the incident itself, where a person opened it.
	Items []Item
	// Wants are what its runs want of people, and what is handed on to somebody, as long as it is undecided.
	Wants []Want
	// SetSeverity is a severity that a person gave it at SetAt: it counts for what was there by then; "" for none.
	SetSeverity string
	SetAt       time.Time
	// Holder has it, and took in what was there at TakenAt; zero where it was handed to them, and they did not take it.
	Holder  string
	TakenAt time.Time
}

// Item is something bad that is open.
type Item struct {
	Severity string
	// Since is when it was raised, became worse, was opened again, split off, or its planned work ended.
	Since time.Time
	// MutedUntil is when the planned work ends that holds it back; zero for none.
	MutedUntil time.Time
	// Works says that a run works on it, or will unless it is over by then.
	Works bool
}

// Want is something that a person is asked for.
type Want struct {
	Thing string // such as gate/ID
	Kind  Kind
	Since time.Time
}

// Call is that somebody is to be called now, for one thing.
type Call struct {
	Thing string // "" for the matter as a whole
	Kind  Kind
	Since time.Time
	// Severity is how bad it is: a call for what becomes worse begins anew.
	Severity string
}

// Answer is who must be called, and when to ask again.
type Answer struct {
	Calls []Call
	// Nobody says why nobody is called for the matter as a whole; "" where somebody is.
	Nobody string
	// LookAt is when it is another answer though nothing changes; zero for never.
	LookAt time.Time
}

// Bad reports whether a severity is one for which somebody is called at any hour.
func Bad(severity string) bool { return alert.Worth(severity) >= alert.Worth(string(alert.Major)) }

// Attention tells for what of a matter somebody must be called now. It is pure, and the one place that decides it: for
// what is bad, open, no planned work, and nobody has, somebody is called at once where no run works on it, and else as
// soon as a run had its time. What is wanted of people is called for until it is decided, unless who has the matter may
// decide it and took it after it was wanted.
func Attention(m *Matter, w *World, now time.Time) Answer {
	var out Answer
	if !m.Open {
		out.Nobody = "it is over"
		return out
	}
	for _, x := range m.Wants {
		if m.Holder != "" && !m.TakenAt.Before(x.Since) && w.May(m.Holder, x.Kind) {
			continue
		}
		out.Calls = append(out.Calls, Call{Thing: x.Thing, Kind: x.Kind, Since: x.Since, Severity: m.About.Severity})
	}
	own, nobody, lookAt := m.own(w, now)
	out.Nobody, out.LookAt = nobody, lookAt
	if own != nil {
		out.Calls = append(out.Calls, *own)
	}
	return out
}

// own tells whether somebody is called for the matter as a whole.
func (m *Matter) own(w *World, now time.Time) (call *Call, nobody string, lookAt time.Time) {
	var bad []Item
	var planned time.Time
	for _, x := range m.Items {
		if x.Severity = m.severity(x); !Bad(x.Severity) {
			continue
		}
		if x.MutedUntil.After(now) {
			planned = x.MutedUntil
			continue
		}
		bad = append(bad, x)
	}
	if len(bad) == 0 {
		if !planned.IsZero() {
			return nil, "planned work until " + planned.UTC().Format("15:04 MST"), planned
		}
		return nil, "nothing bad is open in it", time.Time{}
	}
	left := slices.DeleteFunc(slices.Clone(bad), func(x Item) bool {
		return m.Holder != "" && !m.TakenAt.Before(x.Since)
	})
	if len(left) == 0 {
		return nil, m.Holder + " has it", time.Time{}
	}
	about := m.About
	about.Kind, about.Urgent = IncidentPage, true
	after := w.PageAfter(&about, now)
	for _, x := range left {
		kind := NobodyStarted
		if x.Works {
			kind = IncidentPage
			if at := x.Since.Add(after); now.Before(at) {
				lookAt = sooner(lookAt, at)
				continue
			}
		}
		if call == nil {
			call = &Call{Kind: kind, Since: x.Since, Severity: x.Severity}
		}
		if call.Since.After(x.Since) {
			call.Since = x.Since
		}
		if alert.Worth(x.Severity) > alert.Worth(call.Severity) {
			call.Severity = x.Severity
		}
		if kind == NobodyStarted {
			call.Kind = kind
		}
	}
	if call != nil {
		return call, "", lookAt
	}
	return nil, fmt.Sprintf("a runbook works on it; somebody is called at %s", lookAt.UTC().Format("15:04 MST")), lookAt
}

// severity is how bad an item is: as a person said of what was there by then, and else as it is.
func (m *Matter) severity(x Item) string {
	if m.SetSeverity != "" && !x.Since.After(m.SetAt) {
		return m.SetSeverity
	}
	return x.Severity
}
