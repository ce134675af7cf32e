package flow

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"urgentis/core/expr"
	"urgentis/core/leave"
	"urgentis/core/runbook"
	"urgentis/core/task"
)

// approvalFor is the yes that somebody gave before this change was reached; nil without one.
func (w *walker) approvalFor(f *frame, path string) *approval {
	if f.approval != nil {
		return f.approval
	}
	return w.s.approved[path]
}

// goUnderApproval goes on under a yes that was given before, if it allows what would run now; else the gate stands.
func (w *walker) goUnderApproval(
	f *frame,
	s *runbook.Step,
	path string,
	st *stepState,
	given LeaveGiven,
	ap *approval,
) result {
	p, d, err := w.propose(f, s, path, st.begun.Targets, given, time.Time{})
	if err != nil {
		return w.broken(path, s, err)
	}
	if why := w.whyNotCovered(path, p, ap); why != "" {
		return w.raiseGate(f, s, path, st, given, []string{"what was approved does not cover it: " + why})
	}
	c := Cleared{
		Proposal: p,
		Digest:   d,
		Approval: ap.id,
		Reasons:  []string{fmt.Sprintf("%s approved it before (%s)", ap.by, ap.id)},
	}
	if w.olderRules(4) {
		c.Approval = ""
	}
	w.emit(path, c)
	return w.change(f, s, path, st)
}

// whyNotCovered tells why an approval does not cover a proposal; "" where it does.
func (w *walker) whyNotCovered(path string, p leave.Proposal, ap *approval) string {
	if !ap.until.IsZero() && !w.now.Before(ap.until) {
		return "the approval came to its end"
	}
	for _, r := range p.Requests {
		r.Step = ""
		why := "nothing like it was shown for " + here(r.Target.Name)
		for _, a := range ap.proposal.Requests {
			if a.Target.Name != r.Target.Name || a.Step != "" && a.Step != path {
				continue
			}
			a.Step = ""
			if why = leave.Covers(a, r); why == "" {
				break
			}
		}
		if why != "" {
			return why
		}
	}
	return ""
}

// add takes in what a change wants to know.
func (a *AskLeave) add(s *runbook.Step, targets []string) {
	for _, t := range targets {
		if !slices.Contains(a.Targets, t) {
			a.Targets = append(a.Targets, t)
		}
		if s.Do != nil && s.Do.Kind() == "ssh" && !slices.Contains(a.NeedsKey, t) {
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

func (w *walker) askLeave(s *runbook.Step, path string, st *stepState) result {
	ask := WouldAsk(s, path, st.begun.Targets)
	w.plan.AskLeave = &ask
	return blocked
}

// WouldAsk is what a change at a place asks leave for.
func WouldAsk(s *runbook.Step, path string, targets []string) AskLeave {
	ask := AskLeave{Path: path, Targets: targets, HasGate: s.Gate != nil, Secrets: s.Secrets(),
		Files: s.Files()}
	if s.Do != nil && s.Do.Kind() == "ssh" {
		ask.NeedsKey = targets
	}
	return ask
}

// notAllowed is the trouble of a change that may not happen as everything stands.
func (w *walker) notAllowed(s *runbook.Step, path string, given LeaveGiven) result {
	because := fmt.Sprintf("The change %q is not allowed now: %s.", s.Title, strings.Join(given.Reasons, "; "))
	return w.fail(path, Troubled{Final: true, Because: because})
}

// propose renders the change once. What is stored here is what runs.
func (w *walker) propose(
	f *frame,
	s *runbook.Step,
	path string,
	targets []string,
	given LeaveGiven,
	until time.Time,
) (leave.Proposal, string, error) {
	p := leave.Proposal{Runbook: f.book.Name, Revision: f.book.Revision, Path: path, Until: untilText(until)}
	for _, t := range targets {
		r, err := w.requestFor(f, s, path, t, given, false)
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

func (w *walker) goWithoutGate(f *frame, s *runbook.Step, path string, st *stepState, given LeaveGiven) result {
	p, d, err := w.propose(f, s, path, st.begun.Targets, given, time.Time{})
	if err != nil {
		return w.broken(path, s, err)
	}
	w.emit(path, Cleared{Proposal: p, Digest: d, Reasons: given.Reasons})
	return w.carryOut(f, s, path, st, p, d)
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

func (w *walker) raiseGate(
	f *frame,
	s *runbook.Step,
	path string,
	st *stepState,
	given LeaveGiven,
	first []string,
) result {
	until := w.now.Add(gateOf(s).Within).Truncate(time.Second)
	p, d, err := w.propose(f, s, path, st.begun.Targets, given, until)
	if err != nil {
		return w.broken(path, s, err)
	}
	return w.emitGate(f, s, path, st, p, d, until, append(first, given.Reasons...))
}

// emitGate puts the question to people: what would run, word for word.
func (w *walker) emitGate(
	f *frame,
	s *runbook.Step,
	path string,
	st *stepState,
	p leave.Proposal,
	d string,
	until time.Time,
	reasons []string,
) result {
	g := gateOf(s)
	ask := g.Ask
	if ask == "" {
		ask = f.book.Team()
	}
	n := len(st.gates) + 1
	people, comment := g.People, g.Comment
	if !w.olderRules(4) {
		people, comment = strictest(f, s)
	}
	w.emit(
		path,
		GateRaised{Gate: fmt.Sprintf("%s:%s:%d", w.s.Begun.Run, named(path), n), Round: n, Proposal: p, Digest: d,
			Ask: ask, Comment: comment, Until: until, Reasons: reasons, People: people},
	)
	w.wake(until)
	return blocked
}

// decision follows the newest gate of a step to a person's yes. ok: it is there.
func (w *walker) decision(f *frame, s *runbook.Step, path string, st *stepState) (r result, ok bool) {
	g, gate := st.gates[len(st.gates)-1], gateOf(s)
	switch {
	case g.refused != nil:
		because := fmt.Sprintf("%s refused the %s %q", g.refused.By, s.Verb, s.Title)
		if g.refused.Comment != "" {
			because += ": " + g.refused.Comment
		}
		return w.unapproved(f, gate.Refused, path, ".refused.", strings.TrimSuffix(because, ".")+"."), false
	case g.enough():
		if start := g.startAt(); w.now.Before(start) {
			w.wake(start)
			return blocked, false
		}
		return goOn, true
	case !g.expired:
		if w.now.Before(g.raised.Until) {
			w.wake(g.raised.Until)
			return blocked, false
		}
		w.emit(path, GateExpired{Gate: g.raised.Gate})
	}
	return w.unapproved(
		f,
		gate.Unanswered,
		path,
		".unanswered.",
		fmt.Sprintf("Nobody answered the gate before %q in time.", s.Title),
	), false
}

// unapproved follows what the gate provides for no yes. Where it provides nothing, that is a trouble, which an on_error
// around may take.
func (w *walker) unapproved(f *frame, b runbook.Branch, path, prefix, because string) result {
	if w.olderRules(4) {
		return w.branch(f, b.Or(runbook.HandOverWord), path, path+prefix, because)
	}
	because += " " + w.changedBefore()
	if b.Word == "" && b.Steps == nil {
		return w.fail(path, Troubled{Because: because})
	}
	return w.branch(f, b, path, path+prefix, because)
}

// changedBefore says what the run has changed so far and not taken back.
func (w *walker) changedBefore() string {
	var did, unknown []string
	for _, t := range w.touchedIn("") {
		switch t.fate {
		case done, inPart:
			did = append(did, t.intent.Attempt)
		default:
			unknown = append(unknown, t.intent.Attempt)
		}
	}
	out := "Nothing was changed."
	if len(did) > 0 {
		out = "Changed before that: " + strings.Join(w.s.named(did, ""), "; ") + "."
	}
	if len(unknown) > 0 {
		out += " Unknown is what became of: " + strings.Join(w.s.named(unknown, ""), "; ") + "."
	}
	return out
}

// goThroughGate follows the newest gate of the step, and carries the change out once it is approved.
func (w *walker) goThroughGate(f *frame, s *runbook.Step, path string, st *stepState, given LeaveGiven) result {
	if r, ok := w.decision(f, s, path, st); !ok {
		return r
	}
	g := st.gates[len(st.gates)-1]
	if !w.started(st) {
		if r, ok := w.approvedStill(f, s, path, st, g, given); !ok {
			return r
		}
	}
	return w.carryOut(f, s, path, st, g.raised.Proposal, g.raised.Digest)
}

// approvedStill makes sure, between the approval and the first touch, that what was approved is still so:
// the reason on fresh readings, the facts and the leave as they are now. ok: it is.
func (w *walker) approvedStill(
	f *frame,
	s *runbook.Step,
	path string,
	st *stepState,
	g *gateState,
	given LeaveGiven,
) (r result, ok bool) {
	if r, ok := w.judgeStill(f, s, path, st, g.raised.Gate, g.raised.Round); !ok {
		return r, false
	}
	if len(st.leaves) == st.leavesAtGate {
		return w.askLeave(s, path, st), false
	}
	secrets := map[string]int{}
	for _, r := range g.raised.Proposal.Requests {
		for n, v := range r.Secrets {
			secrets[n] = v
		}
	}
	diff := leave.Differ(targetsOf(g.raised.Proposal), given.Facts)
	for n, v := range secrets {
		if given.Secrets[n] != v {
			diff = append(diff, fmt.Sprintf("the secret %s was version %d and is %d", n, v, given.Secrets[n]))
		}
	}
	for _, r := range g.raised.Proposal.Requests {
		if x := r.File; x != nil && x.Name != "" && given.Files[x.Name] != storedAs(x) {
			diff = append(diff, fmt.Sprintf("the file %s is not the one that was approved", x.Name))
		}
	}
	if len(diff) > 0 {
		return w.raiseGate(
			f,
			s,
			path,
			st,
			given,
			[]string{"what was approved is no longer so: " + strings.Join(diff, "; ")},
		), false
	}
	if !w.now.Before(g.raised.Until) && g.startAt().IsZero() {
		return w.raiseGate(
			f,
			s,
			path,
			st,
			given,
			[]string{"the approval came to its end before the change began"},
		), false
	}
	return goOn, true
}

// targetsOf lists what was known of the targets of a proposal.
func targetsOf(p leave.Proposal) []task.Facts {
	out := make([]task.Facts, len(p.Requests))
	for i, r := range p.Requests {
		out[i] = r.Target
	}
	return out
}

// judgeStill takes the readings of the condition anew and judges it for each target. ok: its reason still holds,
// or there is none to judge.
func (w *walker) judgeStill(
	f *frame,
	s *runbook.Step,
	path string,
	st *stepState,
	gate string,
	round int,
) (r result, ok bool) {
	if s.Still == nil {
		return goOn, true
	}
	for i, look := range w.looksOf(f, s.Still.Refers("readings")) {
		place := placeSeenFrom(path, look)
		begun := w.s.step(place).begun
		if begun == nil {
			return w.broken(path, s, fmt.Errorf("look %s was not taken on this path", look.Title)), false
		}
		over, r := w.round(f, path, stillRound(round, w.waitsBefore(st), i), look, place, asked(f, begun))
		if r != goOn {
			return r, false
		}
		if !over {
			return blocked, false
		}
	}
	for _, t := range st.begun.Targets {
		about := gate
		if n := w.waitsBefore(st); n > 0 {
			about = fmt.Sprintf("%s~%d", gate, n)
		}
		key := about + "/" + t
		j := st.still[key]
		if j == nil {
			w.emit(path, w.judgeOn(f, s.Still, path, about, t))
			j = st.still[key]
		}
		switch {
		case j.Result == Fails && s.Otherwise != nil:
			return w.list(f, s.Otherwise, path+".otherwise."), false
		case j.Result == Fails:
			return w.fail(
				path,
				Troubled{
					Final: w.olderRules(4),
					Because: fmt.Sprintf(
						"The reason for the change %q is gone: %s no longer holds on %s. %s",
						s.Title,
						j.Expr,
						here(t),
						w.unchanged(),
					),
				},
			), false
		case j.Result == Unsure:
			return w.fail(
				path,
				Troubled{
					Final: w.olderRules(4),
					Because: fmt.Sprintf(
						"Whether the change %q is still wanted is unsure: %s. %s",
						s.Title,
						j.Unsure,
						w.unchanged(),
					),
				},
			), false
		}
	}
	return goOn, true
}

// unchanged says what was changed before, as the version of the rules has it.
func (w *walker) unchanged() string {
	if w.olderRules(4) {
		return "Nothing was changed."
	}
	return w.changedBefore()
}

// judgeOn judges a condition of a change on one target; about is the gate or the attempt that it is judged for.
func (w *walker) judgeOn(f *frame, cond *expr.Program, path, about, target string) StillJudged {
	holds, values, err := cond.Explain(w.scope(f, path, target))
	j := StillJudged{Gate: about, Target: target, Expr: cond.Source, Values: values, Result: Fails}
	if holds {
		j.Result = Passes
	}
	if err != nil {
		j.Result, j.Unsure = Unsure, unsure(err)
	}
	return j
}
