package tell

import (
	"slices"
	"strconv"
	"strings"
	"time"

	"urgentis/core/flow"

	"urgentis/core/runbook"
)

// Been tells where the run has been in its runbook, and at which of its ends it arrived. Steps of calls belong to the
// call.
func Been(s *flow.State, now time.Time) *runbook.Been {
	out := &runbook.Been{Visits: map[string]runbook.Visit{}}
	lists := map[string]bool{} // the lists of steps that were entered
	for _, place := range s.Places() {
		st := s.Progress(place)
		outer, inCall := place.Outermost()
		key := outer.Static()
		lists[outer.Around()] = true
		if s.Book().Step(key) == nil {
			continue
		}
		visit(s, out, place, key, st, inCall)
	}
	for _, step := range s.Book().All() {
		for _, l := range step.Lists() {
			if lists[step.Path+"."+l.Name] {
				wayTaken(out, step.Path, l.Name)
			}
		}
	}
	timed(s, out, now)
	arrived(s, out)
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
func visit(s *flow.State, out *runbook.Been, place flow.Place, key string, st flow.Progress, inCall bool) {
	gate := visitGate(s, out, key, st, inCall)
	v, had := out.Visits[key]
	switch {
	case gate && !had:
		return // it was not begun
	case st.Trouble != nil && !inCall && !gate:
		v.State = "failed"
	case st.WaitsOn != "" && s.Ended == nil && !gate:
		v.State = "waiting"
	case st.Skipped && v.State == "":
		v.State = "skipped"
	case v.State == "" || v.State == "skipped" && !st.Skipped:
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
func waysOf(st flow.Progress) []string {
	var out []string
	if st.Judged != nil && st.Judged.Final {
		out = append(out, st.Judged.Result)
	}
	for _, q := range st.Asks {
		switch {
		case q.Expired:
			out = append(out, "unanswered")
		case q.Answered == nil:
		case q.Answered.Choice == runbook.NoneOfThese:
			out = append(out, "none")
		case len(q.Raised.Choices) == 0 || q.Answered.Choice == runbook.Back:
			out = append(out, "answered")
		default:
			out = append(out, "choices."+q.Answered.Choice)
		}
	}
	return out
}

// visitGate tells what became of the newest gate at a place. It reports whether the step behind it was not begun.
func visitGate(s *flow.State, out *runbook.Been, key string, st flow.Progress, inCall bool) (before bool) {
	if len(st.Gates) == 0 || inCall {
		return false
	}
	g, at := st.Gates[len(st.Gates)-1], key+".gate"
	v := out.Visits[at]
	v.Times += len(st.Gates)
	switch {
	case g.Refused:
		v.State, v.Ways = "failed", append(v.Ways, "refused")
	case g.Expired:
		v.State, v.Ways = "failed", append(v.Ways, "unanswered")
	case g.Enough:
		v.State, v.Ways = "taken", append(v.Ways, "approved")
	case s.Ended == nil:
		v.State = "waiting"
	default:
		v.State = "taken"
	}
	out.Visits[at] = v
	return !g.Enough
}

// timed adds how long each step took in all.
func timed(s *flow.State, out *runbook.Been, now time.Time) {
	first, last := map[string]time.Time{}, map[string]time.Time{}
	for place, t := range s.Times() {
		outer, _ := place.Outermost()
		key := outer.Static()
		if f, ok := first[key]; !ok || t[0].Before(f) {
			first[key] = t[0]
		}
		if t[1].After(last[key]) {
			last[key] = t[1]
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
func arrived(s *flow.State, out *runbook.Been) {
	e := s.Ended
	if e == nil || e.State == flow.Cancelled {
		return
	}
	if at := closedAt(s, out); at != "" {
		out.Ended, out.End = true, at
		enteredAt(s, out, at)
		return
	}
	if e.State == flow.Done || s.TroubledAt().IsZero() {
		out.Ended = e.State == flow.Done
		return
	}
	outer, inCall := s.TroubledAt().Outermost()
	at := outer.Static()
	out.Ended, out.End = true, at
	if around, is := strings.CutSuffix(at, ".on_error"); is && s.Book().Step(around) != nil && !inCall {
		out.End, out.Way = around, "on_error" // its word, such as undo, came to this
		wayTaken(out, around, "on_error")
		return
	}
	st := s.Progress(s.TroubledAt())
	if !st.Trouble.Final || inCall {
		if by := takenAt(s, at); by != "" {
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
func enteredAt(s *flow.State, out *runbook.Been, at string) {
	for _, around := range s.Book().All() {
		for _, l := range around.Lists() {
			if strings.HasPrefix(at, around.Path+"."+l.Name+".") {
				wayTaken(out, around.Path, l.Name)
			}
		}
	}
}

// closedAt is the step by which the run ended; "" where none did. Where something ran after it, the log does not name
// it: it is the one that was arrived at.
func closedAt(s *flow.State, out *runbook.Been) string {
	ends := func(st *runbook.Step) bool {
		return st != nil && (st.Verb == runbook.Close || st.Verb == runbook.HandOver)
	}
	if at := s.EndedAt().Static(); ends(s.Book().Step(at)) {
		return at
	}
	if s.Book().Finally == nil {
		return ""
	}
	for _, st := range s.Book().All() {
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
		for _, around := range s.Book().All() {
			way, in := strings.CutPrefix(strings.TrimSuffix(list, "."), around.Path+".")
			if in && slices.Contains(out.Visits[around.Path].Ways, way) {
				return st.Path
			}
		}
	}
	return ""
}

// takenAt is the innermost step around a place whose on_error says with a word how the run ends; "" without one.
func takenAt(s *flow.State, path string) string {
	for p := path; p != ""; {
		if st := s.Book().Step(p); st != nil && st.OnError.Word != "" && st.OnError.Word != runbook.GoOn {
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
