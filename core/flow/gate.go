package flow

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"urgentis/core/leave"
	"urgentis/core/runbook"
)

// add takes in what a change wants to know.
func (a *AskLeave) add(s *runbook.Step, targets []string) {
	for _, t := range targets {
		if !slices.Contains(a.Targets, t) {
			a.Targets = append(a.Targets, t)
		}
		if needsKey(s) && !slices.Contains(a.NeedsKey, t) {
			a.NeedsKey = append(a.NeedsKey, t)
		}
	}
	for _, n := range s.Secrets() {
		if !slices.Contains(a.Secrets, n) {
			a.Secrets = append(a.Secrets, n)
		}
	}
	for _, n := range s.Files() {
		if !slices.Contains(a.Files, n) {
			a.Files = append(a.Files, n)
		}
	}
}

// WouldAsk is what a change at a place asks leave for.
func WouldAsk(s *runbook.Step, place Place, targets []string) AskLeave {
	ask := AskLeave{Place: place, Targets: targets, HasGate: s.Gate != nil, Secrets: s.Secrets(),
		Files: s.Files()}
	if needsKey(s) {
		ask.NeedsKey = targets
	}
	return ask
}

// needsKey reports whether a change, or its undo, reaches its targets by a way that wants a pinned host key.
func needsKey(s *runbook.Step) bool {
	return s.Do != nil && s.Do.Kind() == "ssh" || s.Undo != nil && s.Undo.Kind() == "ssh"
}

// propose renders the change once. What is stored here is what runs.
func (w *walker) propose(
	f *frame,
	s *runbook.Step,
	place Place,
	targets []string,
	given LeaveGiven,
	until time.Time,
) (leave.Proposal, string, error) {
	p := leave.Proposal{Runbook: f.book.Name, Revision: f.book.Revision, Path: place.String(), Until: untilText(until)}
	for _, t := range targets {
		r, err := w.requestFor(f, s, place, t, given, false)
		if err != nil {
			return p, "", err
		}
		p.Requests = append(p.Requests, r)
	}
	d, err := p.Digest()
	return p, d, err
}

func untilText(until time.Time) string {
	if until.IsZero() {
		return ""
	}
	return strconv.FormatInt(until.Unix(), 10)
}

func untilOf(p leave.Proposal) time.Time {
	if n, err := strconv.ParseInt(p.Until, 10, 64); err == nil {
		return time.Unix(n, 0).UTC()
	}
	return time.Time{}
}

// gateOf is the gate of a step, or the one that stands where the runbook says nothing.
func gateOf(s *runbook.Step) *runbook.Gate {
	if s.Gate != nil {
		return s.Gate
	}
	return &runbook.Gate{Within: 30 * time.Minute}
}

// strictest is what the strictest of all gates around a step, and in it, wants: it holds for every way of saying yes.
func strictest(f *frame, s *runbook.Step) (people int, comment bool) {
	for _, g := range slices.Concat(f.outer, f.book.GatesAround(s), s.Gates()) {
		people, comment = max(people, g.People), comment || g.Comment
	}
	return people, comment
}

// raiseGate asks people for leave for all targets of a change that are not begun.
func (x *touching) raiseGate(given *leaveState, first ...string) result {
	w := x.w
	until := w.now.Add(gateOf(x.step).Within).Truncate(time.Second)
	p, d, err := w.propose(x.f, x.step, x.place, x.left(), given.LeaveGiven, until)
	if err != nil {
		return w.broken(x.place, x.step, err)
	}
	return w.emitGate(x.f, x.step, x.place, x.st, p, d, until, append(first, given.Reasons...))
}

// emitGate puts the question to people: what would run, word for word.
func (w *walker) emitGate(
	f *frame,
	s *runbook.Step,
	place Place,
	st *stepState,
	p leave.Proposal,
	d string,
	until time.Time,
	reasons []string,
) result {
	g, n := gateOf(s), len(st.gates)+1
	people, comment := strictest(f, s)
	w.emit(
		place,
		GateRaised{Gate: fmt.Sprintf("%s:%s:%d", w.s.Begun.Run, place.Named(), n), Round: n, Proposal: p, Digest: d,
			Ask: whoIsAsked(g, f.book), Comment: comment, Until: until, Reasons: reasons, People: people},
	)
	w.wake(until)
	return blocked
}

// decision follows a gate to a person's yes. ok: it is there.
func (w *walker) decision(f *frame, s *runbook.Step, place Place, g *gateState) (r result, ok bool) {
	gate := gateOf(s)
	switch {
	case g.refused != nil:
		because := fmt.Sprintf("%s refused the %s %q", g.refused.By, s.Verb, s.Title)
		if g.refused.Comment != "" {
			because += ": " + g.refused.Comment
		}
		because = strings.TrimSuffix(because, ".") + "."
		return w.branchOrTrouble(f, gate.Refused, place, place.List("refused"), because), false
	case g.enough():
		return goOn, true
	case !g.expired:
		if w.now.Before(g.raised.Until) {
			w.wake(g.raised.Until)
			return blocked, false
		}
		w.emit(place, GateExpired{Gate: g.raised.Gate})
	}
	return w.branchOrTrouble(
		f,
		gate.Unanswered,
		place,
		place.List("unanswered"),
		fmt.Sprintf("Nobody answered the gate before %q in time.", s.Title),
	), false
}
