package flow

import (
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"urgentis/core/expr"
	"urgentis/core/leave"
	"urgentis/core/runbook"
)

// questionTime is how long a question about an unknown outcome stands before it is handed over.
const questionTime = time.Hour

// freshRound is the round under which the last look before a change is taken, far from that of the change itself.
const freshRound = 1000

// change takes a change from leave over its gate to the last target. Each stage is passed when the log holds its end.
func (w *walker) change(s *runbook.Step, st *stepState) result {
	if st.changed {
		return goOn
	}
	if len(st.leaves) == 0 {
		return w.askLeave(s, st)
	}
	given := st.leaves[len(st.leaves)-1]
	if !w.started(st) && given.Verdict == leave.No {
		return w.handOver(s, fmt.Sprintf("The change %q is not allowed now: %s.", s.Title, strings.Join(given.Reasons, "; ")))
	}
	if st.cleared == nil && len(st.gates) == 0 {
		if given.Verdict == leave.Yes {
			return w.clear(s, st, given)
		}
		return w.raise(s, st, given.Facts, given.Reasons)
	}
	if st.cleared != nil {
		return w.carryOut(s, st, st.cleared.Proposal, st.cleared.Digest, "")
	}
	return w.gated(s, st, given)
}

// started reports whether any target was touched.
func (w *walker) started(st *stepState) bool { return len(st.rounds[0]) > 0 }

func (w *walker) askLeave(s *runbook.Step, st *stepState) result {
	w.plan.AskLeave = &AskLeave{Path: s.Path, Targets: st.begun.Targets, HasGate: s.Gate != nil}
	return block
}

// propose renders the change once. What is stored here is what runs.
func (w *walker) propose(s *runbook.Step, st *stepState, facts []leave.Facts, until time.Time) (leave.Proposal, string, error) {
	p := leave.Proposal{Runbook: w.book.Name, Revision: w.book.Revision, Path: s.Path}
	if !until.IsZero() {
		p.Until = strconv.FormatInt(until.Unix(), 10)
	}
	for _, t := range st.begun.Targets {
		sc := w.s.scope(w.book, t, w.now)
		r, err := w.request(s.Do, s.Timeout.Seconds(), t, sc)
		if err != nil {
			return p, "", err
		}
		for _, f := range facts {
			if f.Name == t {
				r.Target = f
			}
		}
		if s.Undo != nil {
			u, err := w.request(s.Undo, s.Timeout.Seconds(), t, sc)
			if err != nil {
				return p, "", fmt.Errorf("its undo: %w", err)
			}
			u.Target = r.Target
			r.Undo = &u
		}
		p.Requests = append(p.Requests, r)
	}
	d, err := p.Digest()
	return p, d, err
}

func (w *walker) clear(s *runbook.Step, st *stepState, given LeaveGiven) result {
	p, d, err := w.propose(s, st, given.Facts, time.Time{})
	if err != nil {
		return w.broken(s, err)
	}
	w.emit(s.Path, Cleared{Proposal: p, Digest: d, Reasons: given.Reasons})
	return w.carryOut(s, st, p, d, "")
}

func (w *walker) raise(s *runbook.Step, st *stepState, facts []leave.Facts, reasons []string) result {
	g := s.Gate
	if g == nil {
		g = &runbook.Gate{Within: 30 * time.Minute}
	}
	ask := g.Ask
	if ask == "" {
		ask = "team/" + w.book.Owner
	}
	until := w.now.Add(g.Within).Truncate(time.Second)
	p, d, err := w.propose(s, st, facts, until)
	if err != nil {
		return w.broken(s, err)
	}
	n := len(st.gates) + 1
	w.emit(s.Path, GateRaised{Gate: fmt.Sprintf("%s:%s:%d", w.s.Begun.Run, s.Path, n), Round: n, Proposal: p, Digest: d,
		Ask: ask, Comment: g.Comment, Until: until, Reasons: reasons})
	w.wake(until)
	return block
}

// gated follows the newest gate of the step.
func (w *walker) gated(s *runbook.Step, st *stepState, given LeaveGiven) result {
	g := st.gates[len(st.gates)-1]
	gate := s.Gate
	if gate == nil {
		gate = &runbook.Gate{}
	}
	switch {
	case g.decided == nil && !g.expired:
		if w.now.Before(g.raised.Until) {
			w.wake(g.raised.Until)
			return block
		}
		w.emit(s.Path, GateExpired{Gate: g.raised.Gate})
		fallthrough
	case g.expired:
		return w.branch(s, gate.Unanswered.Or(runbook.HandOverWord), fmt.Sprintf("Nobody answered the gate before %q in time.", s.Title))
	case !g.decided.Approved:
		because := fmt.Sprintf("%s refused the change %q", g.decided.By, s.Title)
		if g.decided.Comment != "" {
			because += ": " + g.decided.Comment
		}
		return w.branch(s, gate.Refused.Or(runbook.HandOverWord), strings.TrimSuffix(because, ".")+".")
	}
	if !w.started(st) {
		if r := w.approvedStill(s, st, g, given); r != nil {
			return *r
		}
	}
	return w.carryOut(s, st, g.raised.Proposal, g.raised.Digest, g.raised.Gate)
}

// approvedStill makes sure, between the approval and the first touch, that what was approved is still so:
// the reason on fresh readings, the facts and the leave as they are now. nil: it is.
func (w *walker) approvedStill(s *runbook.Step, st *stepState, g *gateState, given LeaveGiven) *result {
	is := func(r result) *result { return &r }
	if s.Still != nil {
		r, ok := w.still(s, st, g.raised)
		if r == block {
			return is(block)
		}
		if !ok {
			return is(w.list(s.Otherwise))
		}
	}
	if len(st.leaves) == st.leavesAtGate {
		return is(w.askLeave(s, st))
	}
	approved := make([]leave.Facts, len(g.raised.Proposal.Requests))
	for i, r := range g.raised.Proposal.Requests {
		approved[i] = r.Target
	}
	if diff := leave.Differ(approved, given.Facts); len(diff) > 0 {
		return is(w.raise(s, st, given.Facts, append([]string{"what was approved is no longer so: " + strings.Join(diff, "; ")}, given.Reasons...)))
	}
	if !w.now.Before(g.raised.Until) {
		return is(w.raise(s, st, given.Facts, append([]string{"the approval came to its end before the change began"}, given.Reasons...)))
	}
	return nil
}

// still takes the readings of the condition anew and judges it for each target. It reports false
// where the reason is gone and the runbook provides for that by otherwise.
func (w *walker) still(s *runbook.Step, st *stepState, g GateRaised) (result, bool) {
	looks := []*runbook.Step{}
	for _, name := range s.Still.Refers("readings") {
		if l := w.book.Takes(name); l != nil && !slices.Contains(looks, l) {
			looks = append(looks, l)
		}
	}
	for i, look := range looks {
		begun := w.s.step(look.Path).begun
		if begun == nil {
			return w.broken(s, fmt.Errorf("look %s was not taken on this path", look.Title)), false
		}
		over, r := w.round(s.Path, freshRound*g.Round+i, look, begun.Targets)
		if r == block || !over {
			return block, false
		}
	}
	for _, t := range st.begun.Targets {
		key := g.Gate + "/" + t
		j := st.still[key]
		if j == nil {
			ok, values, err := s.Still.Explain(w.s.scope(w.book, t, w.now))
			n := StillJudged{Gate: g.Gate, Target: t, Expr: s.Still.Source, Values: values, Result: Fails}
			if ok {
				n.Result = Passes
			}
			if err != nil {
				n.Result, n.Unsure = Unsure, strings.TrimPrefix(err.Error(), expr.ErrUnsure.Error()+": ")
			}
			w.emit(s.Path, n)
			j = st.still[key]
		}
		switch {
		case j.Result == Fails && s.Otherwise != nil:
			return goOn, false
		case j.Result == Fails:
			return w.handOver(s, fmt.Sprintf("The reason for the change %q is gone: %s no longer holds on %s. Nothing was changed.", s.Title, j.Expr, here(t))), false
		case j.Result == Unsure:
			return w.handOver(s, fmt.Sprintf("Whether the change %q is still wanted is unsure: %s. Nothing was changed.", s.Title, j.Unsure)), false
		}
	}
	return goOn, true
}

func here(target string) string {
	if target == "" {
		return "this host"
	}
	return target
}

// carryOut does the proposal, one target after the other. A change is begun once; it is begun again
// only where the step says that it may be repeated, or a person says so.
func (w *walker) carryOut(s *runbook.Step, st *stepState, p leave.Proposal, digest, gate string) result {
	for _, req := range p.Requests {
		t := req.Target.Name
		tries := st.rounds[0][t]
		if len(tries) == 0 {
			return w.begin(s, req, digest, 0)
		}
		last := tries[len(tries)-1]
		if !last.over() {
			return block
		}
		unknown := last.lost != nil || last.outcome.State == Unknown
		if unknown && s.Repeatable && len(tries) < maxLooksLost {
			return w.begin(s, req, digest, len(tries))
		}
		if unknown {
			if r, ok := w.ask(s, st, req, last, digest, len(tries)); !ok {
				return r
			}
			continue
		}
		if last.outcome.State == Failed {
			return w.handOver(s, fmt.Sprintf("The change %q failed on %s: %s.", s.Title, here(t), last.outcome.reason()))
		}
	}
	w.emit(s.Path, Changed{Targets: st.begun.Targets})
	return goOn
}

func (o *Outcome) reason() string {
	why := o.Error
	if why == "" && o.Exit != nil {
		why = fmt.Sprintf("it ended with %d", *o.Exit)
	}
	if line := strings.TrimSpace(strings.SplitN(strings.TrimSpace(o.Stderr.Head), "\n", 2)[0]); line != "" {
		why += ", saying " + strconv.Quote(line)
	}
	return why
}

func (w *walker) begin(s *runbook.Step, req leave.Request, digest string, try int) result {
	t := req.Target.Name
	w.emit(s.Path, Intent{Attempt: w.attempt(s.Path, 0, t, try), Target: t, Change: true, Request: req, Approval: digest})
	return block
}

// ask puts the question what became of a change. ok: it happened, the next target may follow.
func (w *walker) ask(s *runbook.Step, st *stepState, req leave.Request, last *attempt, digest string, tries int) (result, bool) {
	q := st.questions[last.intent.Attempt]
	if q == nil {
		why := "nobody saw its end"
		switch {
		case last.lost != nil && last.lost.Because != "":
			why = last.lost.Because
		case last.outcome != nil && last.outcome.Error != "":
			why = last.outcome.Error
		}
		until := w.now.Add(questionTime).Truncate(time.Second)
		w.emit(s.Path, QuestionRaised{
			Question: "q:" + last.intent.Attempt, Attempt: last.intent.Attempt, Until: until,
			Text:    fmt.Sprintf("The change %q was begun on %s and its outcome is unknown (%s). What became of it?", s.Title, here(req.Target.Name), why),
			Choices: []string{Happened, DidNot, DoItAgain}, Ask: "on-call/" + w.book.Owner,
		})
		w.wake(until)
		return block, false
	}
	switch {
	case q.answered == nil && !q.expired:
		if w.now.Before(q.raised.Until) {
			w.wake(q.raised.Until)
			return block, false
		}
		w.emit(s.Path, QuestionExpired{Question: q.raised.Question})
		fallthrough
	case q.expired:
		return w.handOver(s, fmt.Sprintf("Nobody could say what became of the change %q on %s.", s.Title, here(req.Target.Name))), false
	case q.answered.Choice == Happened:
		return goOn, true
	case q.answered.Choice == DoItAgain:
		return w.begin(s, req, digest, tries), false
	}
	return w.handOver(s, fmt.Sprintf("The change %q did not happen on %s, says %s.", s.Title, here(req.Target.Name), q.answered.By)), false
}

// bodyText writes the body of a call: text as it is, everything else as JSON.
func bodyText(v any) (string, error) {
	if s, ok := v.(string); ok {
		return s, nil
	}
	b, err := json.Marshal(v)
	return string(b), err
}
