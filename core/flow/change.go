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

// questionTime is how long a question about an unknown outcome stands before it is handed over.
const questionTime = time.Hour

// Rounds far from those of the step itself: the last look before a change, looks taken because evidence was
// old, looks that settle an unknown outcome, and the taking back of changes.
const (
	stillRounds  = 1000
	freshRounds  = 100_000
	settleRounds = 200_000
	undoRounds   = 300_000
)

// change takes a change from leave over its gate to the last target. Each stage is passed when the log holds its end.
func (w *walker) change(f *frame, s *runbook.Step, path string, st *stepState) result {
	if s.Do == nil {
		return w.block(f, s, path, st, func(g *frame) result {
			g.block = path
			return w.list(g, s.Steps, path+".do.")
		})
	}
	if st.changed {
		return goOn
	}
	if r := w.fresh(f, s, path, st); r != goOn {
		return r
	}
	if len(st.leaves) == 0 || st.stale && !w.started(st) {
		return w.askLeave(s, path, st)
	}
	given := st.leaves[len(st.leaves)-1]
	if !w.started(st) && given.Verdict == leave.No {
		return w.fail(path, Troubled{Final: true, Because: fmt.Sprintf("The change %q is not allowed now: %s.", s.Title, strings.Join(given.Reasons, "; "))})
	}
	if st.cleared == nil && len(st.gates) == 0 {
		if ap := w.approvalFor(f, path); ap != nil {
			return w.covered(f, s, path, st, given, ap)
		}
		if given.Verdict == leave.Yes {
			return w.clear(f, s, path, st, given)
		}
		return w.raise(f, s, path, st, given, nil)
	}
	if st.cleared != nil {
		if diff := leave.Differ(targetsOf(st.cleared.Proposal), given.Facts); len(diff) > 0 && !w.started(st) {
			return w.fail(path, Troubled{Final: true, Because: fmt.Sprintf("The change %q was cleared, and something is no longer so: %s.", s.Title, strings.Join(diff, "; "))})
		}
		if ap := w.approvalFor(f, path); ap != nil && !w.started(st) {
			if r, ok := w.still(f, s, path, st, ap.id, 0); !ok {
				return r
			}
		}
		return w.carryOut(f, s, path, st, st.cleared.Proposal, st.cleared.Digest)
	}
	return w.gated(f, s, path, st, given)
}

// approvalFor is the yes that somebody gave before this change was reached; nil without one.
func (w *walker) approvalFor(f *frame, path string) *approval {
	if f.approval != nil {
		return f.approval
	}
	return w.s.approved[path]
}

// covered goes on under a yes that was given before, if it allows what would run now; else the gate stands.
func (w *walker) covered(f *frame, s *runbook.Step, path string, st *stepState, given LeaveGiven, ap *approval) result {
	p, d, err := w.propose(f, s, path, st.begun.Targets, given, time.Time{})
	if err != nil {
		return w.broken(path, s, err)
	}
	if why := w.outside(path, p, ap); why != "" {
		return w.raise(f, s, path, st, given, []string{"what was approved does not cover it: " + why})
	}
	w.emit(path, Cleared{Proposal: p, Digest: d, Reasons: []string{fmt.Sprintf("%s approved it before (%s)", ap.by, ap.id)}})
	return w.change(f, s, path, st)
}

// outside tells why an approval does not cover a proposal; "" where it does.
func (w *walker) outside(path string, p leave.Proposal, ap *approval) string {
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

// started reports whether any target was touched.
func (w *walker) started(st *stepState) bool { return len(st.rounds[0]) > 0 }

func (w *walker) askLeave(s *runbook.Step, path string, st *stepState) result {
	ask := &AskLeave{Path: path, Targets: st.begun.Targets, HasGate: s.Gate != nil, Secrets: s.Secrets()}
	if s.Do != nil && s.Do.Kind() == "ssh" {
		ask.NeedsKey = st.begun.Targets
	}
	w.plan.AskLeave = ask
	return block
}

// fresh takes evidence anew that is older than the change wants it.
func (w *walker) fresh(f *frame, s *runbook.Step, path string, st *stepState) result {
	if s.Fresh == 0 || len(st.leaves) > 0 {
		return goOn
	}
	for i, look := range w.looksOf(f, s.Readings()) {
		place := at(path, look)
		begun := w.s.step(place).begun
		if begun == nil {
			return w.broken(path, s, fmt.Errorf("look %s was not taken on this path", look.Title))
		}
		round := freshRounds + i
		if len(st.rounds[round]) == 0 {
			if age, ok := w.s.since(path, f.target, look.Read[0].Name, w.now); ok && age <= s.Fresh {
				continue
			}
		}
		if over, r := w.round(f, path, round, look, place, asked(f, begun)); r != goOn {
			return r
		} else if !over {
			return block
		}
	}
	return goOn
}

// looksOf lists the looks that take readings, each once.
func (w *walker) looksOf(f *frame, readings []string) []*runbook.Step {
	var out []*runbook.Step
	for _, name := range readings {
		if l := f.book.Takes(name); l != nil && !slices.Contains(out, l) {
			out = append(out, l)
		}
	}
	return out
}

// propose renders the change once. What is stored here is what runs.
func (w *walker) propose(f *frame, s *runbook.Step, path string, targets []string, given LeaveGiven, until time.Time) (leave.Proposal, string, error) {
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

// requestFor renders a change for one target, with its undo and what is known of the target.
func (w *walker) requestFor(f *frame, s *runbook.Step, path, target string, given LeaveGiven, bounded bool) (leave.Request, error) {
	r, err := w.request(f, s.Do, path, target, s.Timeout, bounded)
	if err != nil {
		return r, err
	}
	for _, x := range given.Facts {
		if x.Name == target {
			r.Target = x
		}
	}
	for _, n := range r.SecretNames() {
		if r.Secrets == nil {
			r.Secrets = map[string]int{}
		}
		r.Secrets[n] = given.Secrets[n]
	}
	if s.Undo != nil {
		u, err := w.request(f, s.Undo, path, target, s.Timeout, bounded)
		if err != nil {
			return r, fmt.Errorf("its undo: %w", err)
		}
		u.Target, u.Secrets = r.Target, r.Secrets
		r.Undo = &u
	}
	return r, nil
}

func (w *walker) clear(f *frame, s *runbook.Step, path string, st *stepState, given LeaveGiven) result {
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

func (w *walker) raise(f *frame, s *runbook.Step, path string, st *stepState, given LeaveGiven, first []string) result {
	until := w.now.Add(gateOf(s).Within).Truncate(time.Second)
	p, d, err := w.propose(f, s, path, st.begun.Targets, given, until)
	if err != nil {
		return w.broken(path, s, err)
	}
	return w.stand(f, s, path, st, p, d, until, append(first, given.Reasons...))
}

// stand puts the question to people: what would run, word for word.
func (w *walker) stand(f *frame, s *runbook.Step, path string, st *stepState, p leave.Proposal, d string, until time.Time, reasons []string) result {
	g := gateOf(s)
	ask := g.Ask
	if ask == "" {
		ask = "team/" + f.book.Owner
	}
	n := len(st.gates) + 1
	w.emit(path, GateRaised{Gate: fmt.Sprintf("%s:%s:%d", w.s.Begun.Run, named(path), n), Round: n, Proposal: p, Digest: d,
		Ask: ask, Comment: g.Comment, Until: until, Reasons: reasons, People: g.People})
	w.wake(until)
	return block
}

// decision follows the newest gate of a step to a person's yes. ok: it is there.
func (w *walker) decision(f *frame, s *runbook.Step, path string, st *stepState) (r result, ok bool) {
	g, gate := st.gates[len(st.gates)-1], gateOf(s)
	switch {
	case g.refused != nil:
		because := fmt.Sprintf("%s refused the change %q", g.refused.By, s.Title)
		if g.refused.Comment != "" {
			because += ": " + g.refused.Comment
		}
		return w.branch(f, gate.Refused.Or(runbook.HandOverWord), path, path+".refused.", strings.TrimSuffix(because, ".")+"."), false
	case g.enough():
		if start := g.startAt(); w.now.Before(start) {
			w.wake(start)
			return block, false
		}
		return goOn, true
	case !g.expired:
		if w.now.Before(g.raised.Until) {
			w.wake(g.raised.Until)
			return block, false
		}
		w.emit(path, GateExpired{Gate: g.raised.Gate})
	}
	return w.branch(f, gate.Unanswered.Or(runbook.HandOverWord), path, path+".unanswered.", fmt.Sprintf("Nobody answered the gate before %q in time.", s.Title)), false
}

// gated follows the newest gate of the step, and carries the change out once it is approved.
func (w *walker) gated(f *frame, s *runbook.Step, path string, st *stepState, given LeaveGiven) result {
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
func (w *walker) approvedStill(f *frame, s *runbook.Step, path string, st *stepState, g *gateState, given LeaveGiven) (r result, ok bool) {
	if r, ok := w.still(f, s, path, st, g.raised.Gate, g.raised.Round); !ok {
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
	if len(diff) > 0 {
		return w.raise(f, s, path, st, given, []string{"what was approved is no longer so: " + strings.Join(diff, "; ")}), false
	}
	if !w.now.Before(g.raised.Until) && g.startAt().IsZero() {
		return w.raise(f, s, path, st, given, []string{"the approval came to its end before the change began"}), false
	}
	return goOn, true
}

// targetsOf lists what was known of the targets of a proposal.
func targetsOf(p leave.Proposal) []leave.Facts {
	out := make([]leave.Facts, len(p.Requests))
	for i, r := range p.Requests {
		out[i] = r.Target
	}
	return out
}

// still takes the readings of the condition anew and judges it for each target. ok: its reason still holds, or
// there is none to judge.
func (w *walker) still(f *frame, s *runbook.Step, path string, st *stepState, gate string, round int) (r result, ok bool) {
	if s.Still == nil {
		return goOn, true
	}
	for i, look := range w.looksOf(f, s.Still.Refers("readings")) {
		place := at(path, look)
		begun := w.s.step(place).begun
		if begun == nil {
			return w.broken(path, s, fmt.Errorf("look %s was not taken on this path", look.Title)), false
		}
		over, r := w.round(f, path, stillRounds*max(1, round)+i, look, place, asked(f, begun))
		if r != goOn {
			return r, false
		}
		if !over {
			return block, false
		}
	}
	for _, t := range st.begun.Targets {
		key := gate + "/" + t
		j := st.still[key]
		if j == nil {
			holds, values, err := s.Still.Explain(w.scope(f, path, t))
			n := StillJudged{Gate: gate, Target: t, Expr: s.Still.Source, Values: values, Result: Fails}
			if holds {
				n.Result = Passes
			}
			if err != nil {
				n.Result, n.Unsure = Unsure, unsure(err)
			}
			w.emit(path, n)
			j = st.still[key]
		}
		switch {
		case j.Result == Fails && s.Otherwise != nil:
			return w.list(f, s.Otherwise, path+".otherwise."), false
		case j.Result == Fails:
			return w.fail(path, Troubled{Final: true, Because: fmt.Sprintf("The reason for the change %q is gone: %s no longer holds on %s. Nothing was changed.", s.Title, j.Expr, here(t))}), false
		case j.Result == Unsure:
			return w.fail(path, Troubled{Final: true, Because: fmt.Sprintf("Whether the change %q is still wanted is unsure: %s. Nothing was changed.", s.Title, j.Unsure)}), false
		}
	}
	return goOn, true
}

// lockTime is how long a change waits for another run to let go of what it holds.
const lockTime = 15 * time.Minute

// lockRetry is how often a lock is asked for again by itself; its release asks at once.
const lockRetry = 30 * time.Second

func minTime(a, b time.Time) time.Time {
	if a.Before(b) {
		return a
	}
	return b
}

// locked takes the locks on the targets before the first touch.
func (w *walker) locked(s *runbook.Step, path string, st *stepState) result {
	if w.olderRules(2) {
		return goOn
	}
	want := &WantLocks{Path: path}
	service, _ := w.s.Begun.Service["name"].(string)
	for _, t := range st.begun.Targets {
		if key := "target:" + t; t != "" && !w.s.locks[key] {
			want.Keys = append(want.Keys, key)
		}
	}
	if key := "service:" + service; len(want.Keys) > 0 && !w.s.locks[key] {
		want.Shared = append(want.Shared, key)
	}
	if len(want.Keys)+len(want.Shared) == 0 {
		return goOn
	}
	if st.awaited != nil {
		until := st.awaitedAt.Add(lockTime)
		if !w.now.Before(until) {
			return w.fail(path, Troubled{Because: fmt.Sprintf("The change %q waited %s for run %s, which holds %s.", s.Title, lockTime, st.awaited.Holder, st.awaited.Key)})
		}
		if st.awaited.Circle {
			return w.fail(path, Troubled{Because: fmt.Sprintf("The change %q cannot begin: run %s holds %s, and waits for what this run holds.", s.Title, st.awaited.Holder, st.awaited.Key)})
		}
		// Asked again from time to time: a circle of waiting runs shows when the last of them waits.
		w.wake(minTime(until, w.now.Add(lockRetry)))
	}
	w.plan.WantLocks = want
	return block
}

// carryOut does the proposal, one target after the other. A change is begun once; it is begun again
// only where the step says that it may be repeated, or a person says so.
func (w *walker) carryOut(f *frame, s *runbook.Step, path string, st *stepState, p leave.Proposal, digest string) result {
	if !w.started(st) {
		if r := w.locked(s, path, st); r != goOn {
			return r
		}
	}
	for _, req := range p.Requests {
		r := w.touch(f, s, path, st, req, digest, 0, "")
		if r != goOn {
			return r
		}
	}
	w.emit(path, Changed{Targets: st.begun.Targets})
	return goOn
}

// touch begins one request of a change and follows it to its end. undo names the attempt that it takes back.
func (w *walker) touch(f *frame, s *runbook.Step, path string, st *stepState, req leave.Request, digest string, round int, undo string) result {
	t := req.Target.Name
	tries := st.rounds[round][t]
	begin := func() result {
		w.emit(path, Intent{Attempt: w.attempt(path, round, t, len(tries)), Target: t, Round: round, Change: true, Request: req, Approval: digest, Undo: undo})
		return block
	}
	if len(tries) == 0 {
		return begin()
	}
	last := tries[len(tries)-1]
	what := "change"
	if undo != "" {
		what = "undo of the change"
	}
	switch {
	case !last.over():
		return block
	case last.unknown() && s.Repeatable && len(tries) < maxLooksLost:
		return begin()
	case last.unknown():
		r, again := w.settle(f, s, path, st, last, what)
		if again {
			return begin()
		}
		return r
	case last.outcome.State == Failed:
		return w.fail(path, Troubled{Final: undo != "", Because: fmt.Sprintf("The %s %q failed on %s: %s.", what, s.Title, here(t), last.outcome.reason())})
	}
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

// settle finds out what became of a change: by the condition that the runbook names, or by asking a person.
// goOn: it happened. again: a person wants it done again.
func (w *walker) settle(f *frame, s *runbook.Step, path string, st *stepState, last *attempt, what string) (r result, again bool) {
	t := last.intent.Target
	id := last.intent.Attempt
	if s.Happened != nil && last.intent.Undo == "" {
		holds, known, r := w.happened(f, s, path, st, t, id)
		if r != goOn {
			return r, false
		}
		if known && holds {
			return goOn, false
		}
		if known {
			return w.fail(path, Troubled{Because: fmt.Sprintf("The %s %q did not happen on %s: %s does not hold.", what, s.Title, here(t), s.Happened.Source)}), false
		}
	}
	q := st.questions[questionOf(id)]
	if q == nil {
		w.askWhatBecame(f, s, path, last, what)
		return block, false
	}
	if q.open() {
		if w.now.Before(q.raised.Until) {
			w.wake(q.raised.Until)
			return block, false
		}
		w.emit(path, QuestionExpired{Question: q.raised.Question})
	}
	switch {
	case q.answered == nil:
		return w.fail(path, Troubled{Final: true, Because: fmt.Sprintf("Nobody could say what became of the %s %q on %s.", what, s.Title, here(t))}), false
	case q.answered.Choice == Happened:
		return goOn, false
	case q.answered.Choice == DoItAgain:
		return block, true
	}
	return w.fail(path, Troubled{Because: fmt.Sprintf("The %s %q did not happen on %s, says %s.", what, s.Title, here(t), q.answered.By)}), false
}

func (w *walker) askWhatBecame(f *frame, s *runbook.Step, path string, last *attempt, what string) {
	why, by := "nobody saw its end", ""
	switch {
	case last.lost != nil && last.lost.Because != "":
		why, by = last.lost.Because, last.lost.By
	case last.outcome != nil && last.outcome.Error != "":
		why = last.outcome.Error
	}
	until := w.now.Add(questionTime).Truncate(time.Second)
	w.emit(path, QuestionRaised{
		Question: questionOf(last.intent.Attempt), Attempt: last.intent.Attempt, Until: until, By: by,
		Text:    fmt.Sprintf("The %s %q was begun on %s and its outcome is unknown (%s). What became of it?", what, s.Title, here(last.intent.Target), why),
		Choices: []string{Happened, DidNot, DoItAgain}, Ask: "on-call/" + f.book.Owner,
	})
	w.wake(until)
}

// happened takes the readings of the settling condition anew and judges it. known is false where it is unsure.
func (w *walker) happened(f *frame, s *runbook.Step, path string, st *stepState, target, attempt string) (holds, known bool, r result) {
	key := attempt + "/" + target
	if j := st.still[key]; j != nil {
		return j.Result == Passes, j.Result != Unsure, goOn
	}
	n := len(w.s.order) // far enough apart for each try
	for i, a := range w.s.order {
		if a.intent.Attempt == attempt {
			n = i
		}
	}
	for i, look := range w.looksOf(f, s.Happened.Refers("readings")) {
		place := at(path, look)
		begun := w.s.step(place).begun
		if begun == nil {
			return false, false, goOn
		}
		over, r := w.round(f, path, settleRounds+100*n+i, look, place, asked(f, begun))
		if r != goOn {
			return false, false, r
		}
		if !over {
			return false, false, block
		}
	}
	ok, values, err := s.Happened.Explain(w.scope(f, path, target))
	j := StillJudged{Gate: attempt, Target: target, Expr: s.Happened.Source, Values: values, Result: Fails}
	if ok {
		j.Result = Passes
	}
	if err != nil {
		j.Result, j.Unsure = Unsure, unsure(err)
	}
	w.emit(path, j)
	return j.Result == Passes, j.Result != Unsure, goOn
}

// undo takes back, newest first, every change made within a block that has an undo and was not taken back.
func (w *walker) undo(f *frame, path, block string) result {
	st := w.s.step(path)
	if st.undone {
		return goOn
	}
	if st.undo == nil {
		u := UndoBegun{}
		for i := len(w.s.order) - 1; i >= 0; i-- {
			a := w.s.order[i]
			if !a.intent.Change || a.intent.Undo != "" || a.undone || !inside(a.path, block) || !w.made(a) {
				continue
			}
			if a.intent.Request.Undo == nil {
				u.Without = append(u.Without, a.intent.Attempt)
				continue
			}
			u.Attempts = append(u.Attempts, a.intent.Attempt)
		}
		w.emit(path, u)
	}
	for i, id := range st.undo.Attempts {
		a := w.s.attempts[id]
		s, _ := Find(w.s.book, a.path)
		if s == nil {
			continue
		}
		if r := w.touch(f, s, path, st, *a.intent.Request.Undo, a.intent.Approval, undoRounds+i, id); r != goOn {
			return r
		}
	}
	if n := len(st.undo.Without); n > 0 {
		return w.fail(path, Troubled{Final: true, Because: fmt.Sprintf("%d change(s) could not be taken back: they have no undo.", n)})
	}
	w.emit(path, Undone{})
	return goOn
}

// made reports whether a change is known to have happened.
func (w *walker) made(a *attempt) bool {
	if a.outcome != nil && a.outcome.State == OK {
		return true
	}
	q := w.s.step(a.path).questions[questionOf(a.intent.Attempt)]
	return q != nil && q.answered != nil && q.answered.Choice == Happened
}
