package flow

import (
	"slices"
	"strconv"
	"strings"
	"time"

	"urgentis/core/runbook"
)

// Been tells where the run has been in its runbook, and at which of its ends it arrived. Steps of calls belong to the
// call.
func (s *State) Been(now time.Time) *runbook.Been {
	out := &runbook.Been{Visits: map[string]runbook.Visit{}}
	lists := map[string]bool{} // the lists of steps that were entered
	for path, st := range s.steps {
		outer, _, inCall := strings.Cut(path, "/")
		key := static(outer)
		if i := strings.LastIndexByte(key, '.'); i > 0 {
			lists[key[:i]] = true
		}
		if s.book.Step(key) == nil {
			continue
		}
		s.visit(out, path, key, st, inCall)
	}
	for _, step := range s.book.All() {
		for _, l := range step.Lists() {
			if lists[step.Path+"."+l.Name] {
				wayTaken(out, step.Path, l.Name)
			}
		}
	}
	s.timed(out, now)
	s.arrived(out)
	return out
}

func wayTaken(out *runbook.Been, key string, way string) {
	v := out.Visits[key]
	if !slices.Contains(v.Ways, way) {
		v.Ways = append(v.Ways, way)
		out.Visits[key] = v
	}
}

// visit adds what happened at one place to what is known of its step, and of the gate before it.
func (s *State) visit(out *runbook.Been, path, key string, st *stepState, inCall bool) {
	gate := s.visitGate(out, key, st, inCall)
	v, had := out.Visits[key]
	switch {
	case gate && !had:
		return // it was not begun
	case st.trouble != nil && !inCall && !gate:
		v.State = "failed"
	case s.waits[path] != "" && s.Ended == nil && !gate:
		v.State = "waiting"
	case st.skipped != nil && v.State == "":
		v.State = "skipped"
	case v.State == "" || v.State == "skipped" && st.skipped == nil:
		v.State = "taken"
	}
	if !inCall {
		v.Times++
	}
	out.Visits[key] = v
	if inCall {
		return
	}
	for _, way := range waysOf(st) {
		wayTaken(out, key, way)
	}
}

// waysOf lists the ways on that were taken at one place, where the step says them: a check's result, answers.
func waysOf(st *stepState) []string {
	var out []string
	if n := len(st.judged); n > 0 && st.judged[n-1].Final {
		out = append(out, st.judged[n-1].Result)
	}
	for _, q := range st.asks {
		switch {
		case q.expired:
			out = append(out, "unanswered")
		case q.answered == nil:
		case q.answered.Choice == runbook.NoneOfThese:
			out = append(out, "none")
		case len(q.raised.Choices) == 0 || q.answered.Choice == runbook.Back:
			out = append(out, "answered")
		default:
			out = append(out, "choices."+q.answered.Choice)
		}
	}
	return out
}

// visitGate tells what became of the newest gate at a place. It reports whether the step behind it was not begun.
func (s *State) visitGate(out *runbook.Been, key string, st *stepState, inCall bool) (before bool) {
	if len(st.gates) == 0 || inCall {
		return false
	}
	g, at := st.gates[len(st.gates)-1], key+".gate"
	v := out.Visits[at]
	v.Times += len(st.gates)
	switch {
	case g.refused != nil:
		v.State, v.Ways = "failed", append(v.Ways, "refused")
	case g.expired:
		v.State, v.Ways = "failed", append(v.Ways, "unanswered")
	case g.enough():
		v.State, v.Ways = "taken", append(v.Ways, "approved")
	case s.Ended == nil:
		v.State = "waiting"
	default:
		v.State = "taken"
	}
	out.Visits[at] = v
	return !g.enough()
}

// timed adds how long each step took in all.
func (s *State) timed(out *runbook.Been, now time.Time) {
	first, last := map[string]time.Time{}, map[string]time.Time{}
	for path, t := range s.times {
		outer, _, _ := strings.Cut(path, "/")
		key := static(outer)
		if f, ok := first[key]; !ok || t.first.Before(f) {
			first[key] = t.first
		}
		if t.last.After(last[key]) {
			last[key] = t.last
		}
	}
	for key, v := range out.Visits {
		end := last[key]
		if v.State == "waiting" {
			end = now
		}
		if f, ok := first[key]; ok && end.After(f) {
			v.Took = end.Sub(f)
			out.Visits[key] = v
		}
	}
}

// arrived tells at which end the run arrived: at a step that ends it, at the way of a step that leads nowhere else, or
// at the end of its steps. A run that was cancelled, or that a bound ended, arrived at none.
func (s *State) arrived(out *runbook.Been) {
	e := s.Ended
	if e == nil || e.State == Cancelled {
		return
	}
	if at := s.closedAt(out); at != "" {
		out.Ended, out.End = true, at
		s.enteredAt(out, at)
		return
	}
	if e.State == Done || s.troubledAt == "" {
		out.Ended = e.State == Done
		return
	}
	outer, _, inCall := strings.Cut(s.troubledAt, "/")
	at := static(outer)
	out.Ended, out.End = true, at
	if around, is := strings.CutSuffix(at, ".on_error"); is && s.book.Step(around) != nil && !inCall {
		out.End, out.Way = around, "on_error" // its word, such as undo, came to this
		wayTaken(out, around, "on_error")
		return
	}
	st := s.step(s.troubledAt)
	if !st.trouble.Final || inCall {
		if by := s.takenAt(at); by != "" {
			out.End, out.Way = by, "on_error"
			wayTaken(out, by, "on_error")
			return
		}
	}
	ways := waysOf(st)
	if g, ok := out.Visits[at+".gate"]; ok && g.State == "failed" {
		ways = g.Ways
	}
	if len(ways) > 0 && !inCall {
		out.Way = ways[len(ways)-1]
	}
}

// enteredAt marks the way to a step that ends the run: of its list nothing else may stand in the log.
func (s *State) enteredAt(out *runbook.Been, at string) {
	for _, around := range s.book.All() {
		for _, l := range around.Lists() {
			if strings.HasPrefix(at, around.Path+"."+l.Name+".") {
				wayTaken(out, around.Path, l.Name)
			}
		}
	}
}

// closedAt is the step by which the run ended; "" where none did. Where something ran after it, the log does not name
// it: it is the one that was arrived at.
func (s *State) closedAt(out *runbook.Been) string {
	ends := func(st *runbook.Step) bool {
		return st != nil && (st.Verb == runbook.Close || st.Verb == runbook.HandOver)
	}
	if at := static(s.endedAt); ends(s.book.Step(at)) {
		return at
	}
	if s.book.Finally == nil {
		return ""
	}
	for _, st := range s.book.All() {
		if !ends(st) {
			continue
		}
		list, number := "", st.Path
		if i := strings.LastIndexByte(st.Path, '.'); i >= 0 {
			list, number = st.Path[:i+1], st.Path[i+1:]
		}
		if n, err := strconv.Atoi(number); err == nil && n > 1 {
			if out.Visits[list+strconv.Itoa(n-1)].State == "taken" {
				return st.Path
			}
			continue
		}
		for _, around := range s.book.All() {
			way, in := strings.CutPrefix(strings.TrimSuffix(list, "."), around.Path+".")
			if in && slices.Contains(out.Visits[around.Path].Ways, way) {
				return st.Path
			}
		}
	}
	return ""
}

// takenAt is the innermost step around a place whose on_error says with a word how the run ends; "" without one.
func (s *State) takenAt(path string) string {
	for p := path; p != ""; {
		if st := s.book.Step(p); st != nil && st.OnError.Word != "" && st.OnError.Word != runbook.GoOn {
			return p
		}
		i := strings.LastIndexByte(p, '.')
		if i < 0 {
			break
		}
		p = p[:i]
	}
	return ""
}
