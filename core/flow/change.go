package flow

import (
	"fmt"
	"slices"
	"strings"

	"urgentis/core/leave"
	"urgentis/core/runbook"
	"urgentis/core/task"
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
	if !w.started(st) {
		if r, waits := w.halted(st, func() result { return w.askLeave(s, path, st) }); waits {
			return r
		}
	}
	given := st.leaves[len(st.leaves)-1]
	if !w.started(st) && given.Verdict == leave.No {
		return w.notAllowed(s, path, given)
	}
	if st.cleared == nil && len(st.gates) == 0 {
		if ap := w.approvalFor(f, path); ap != nil {
			return w.goUnderApproval(f, s, path, st, given, ap)
		}
		if given.Verdict == leave.Yes {
			return w.goWithoutGate(f, s, path, st, given)
		}
		return w.raiseGate(f, s, path, st, given, nil)
	}
	if st.cleared != nil && len(st.gates) == 0 {
		if !w.started(st) && given.Verdict == leave.Gate && w.approvalFor(f, path) == nil && !w.olderRules(4) {
			return w.raiseGate(f, s, path, st, given, []string{"it was allowed without asking before it waited"})
		}
		if diff := leave.Differ(targetsOf(st.cleared.Proposal), given.Facts); len(diff) > 0 && !w.started(st) {
			return w.fail(
				path,
				Troubled{
					Final: true,
					Because: fmt.Sprintf(
						"The change %q was cleared, and something is no longer so: %s.",
						s.Title,
						strings.Join(diff, "; "),
					),
				},
			)
		}
		about := "leave"
		ap := w.approvalFor(f, path)
		if ap != nil {
			about = ap.id
		}
		if !w.started(st) && (ap != nil || !w.olderRules(4)) {
			if r, ok := w.judgeStill(f, s, path, st, about, 0); !ok {
				return r
			}
		}
		return w.carryOut(f, s, path, st, st.cleared.Proposal, st.cleared.Digest)
	}
	return w.goThroughGate(f, s, path, st, given)
}

// started reports whether any target was touched.
func (w *walker) started(st *stepState) bool { return len(st.rounds[0]) > 0 }

// fresh takes evidence anew that is older than the change wants it.
func (w *walker) fresh(f *frame, s *runbook.Step, path string, st *stepState) result {
	again := st.waits > 0 && st.stale && !w.started(st) && !w.olderRules(4)
	if s.Fresh == 0 || len(st.leaves) > 0 && !again {
		return goOn
	}
	for i, look := range w.looksOf(f, s.Readings()) {
		place := placeSeenFrom(path, look)
		begun := w.s.step(place).begun
		if begun == nil {
			return w.broken(path, s, fmt.Errorf("look %s was not taken on this path", look.Title))
		}
		round := freshRound(w.waitsBefore(st), i)
		if len(st.rounds[round]) == 0 {
			if age, ok := w.s.ageOf(path, f.target, look.Read[0].Name, w.now); ok && age <= s.Fresh {
				continue
			}
		}
		if over, r := w.round(f, path, round, look, place, asked(f, begun)); r != goOn {
			return r
		} else if !over {
			return blocked
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

// requestFor renders a change for one target, with its undo and what is known of the target.
func (w *walker) requestFor(
	f *frame,
	s *runbook.Step,
	path, target string,
	given LeaveGiven,
	bounded bool,
) (task.Request, error) {
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
	fileAsGiven(&r, given)
	if s.Undo != nil {
		u, err := w.request(f, s.Undo, path, target, s.Timeout, bounded)
		if err != nil {
			return r, fmt.Errorf("its undo: %w", err)
		}
		fileAsGiven(&u, given)
		u.Target, u.Secrets, u.OnlyIfDone = r.Target, r.Secrets, s.UndoOnlyIfDone
		r.Undo = &u
	}
	return r, nil
}

// fileAsGiven binds a request to the file of the store as it is now.
func fileAsGiven(r *task.Request, given LeaveGiven) {
	if r.File == nil || r.File.Name == "" {
		return
	}
	x := *r.File
	fmt.Sscanf(given.Files[x.Name], "%s %d", &x.Digest, &x.Size) //nolint:errcheck // what is not there stays empty
	r.File = &x
}

// storedAs is what LeaveGiven says of a file that was approved.
func storedAs(x *task.File) string { return fmt.Sprintf("%s %d", x.Digest, x.Size) }

// carryOut does the proposal, one target after the other. A change is begun once; it is begun again
// only where the step says that it may be repeated, or a person says so.
func (w *walker) carryOut(
	f *frame,
	s *runbook.Step,
	path string,
	st *stepState,
	p leave.Proposal,
	digest string,
) result {
	if !w.started(st) {
		if r := w.locked(s, path, st); r != goOn {
			return r
		}
	}
	for _, req := range p.Requests {
		r := w.carryOutOne(f, s, path, st, req, digest, ownRound(0), "")
		if r != goOn {
			return r
		}
	}
	w.emit(path, Changed{Targets: st.begun.Targets})
	return goOn
}

// carryOutOne begins one request of a change and follows it to its end. undo names the attempt that it takes back.
func (w *walker) carryOutOne(
	f *frame,
	s *runbook.Step,
	path string,
	st *stepState,
	req task.Request,
	digest string,
	round roundKey,
	undo string,
) result {
	t := req.Target.Name
	tries := st.rounds[round][t]
	// known is what a job elsewhere is known by that was begun before and is followed on.
	known := ""
	begin := func() result {
		if known != "" {
			j := *req.Job
			j.Known, req.Job = known, &j
		}
		w.emit(
			path,
			Intent{
				Attempt:  w.attempt(path, round, t, len(tries)),
				Target:   t,
				Round:    int(round),
				Change:   true,
				Request:  req,
				Approval: digest,
				Undo:     undo,
			},
		)
		return blocked
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
		return blocked
	case last.lost != nil && last.elsewhere() != "" && len(tries) < maxLooksLost:
		// It runs elsewhere, whoever followed it: to follow it on begins nothing.
		known = last.elsewhere()
		return begin()
	case !last.unknown() && last.outcome.State == Held:
		known = last.elsewhere()
		if w.resumed(last.heldSeq, last.heldAt) {
			return begin()
		}
		return blocked
	case last.unknown() && s.Repeatable && len(tries) < maxLooksLost:
		return begin()
	case last.unknown():
		r, again := w.whatBecame(f, s, path, st, last, what)
		if again {
			return begin()
		}
		return r
	case last.outcome.State == Failed:
		return w.fail(
			path,
			Troubled{
				Final:   undo != "",
				Because: fmt.Sprintf("The %s %q failed on %s: %s.", what, s.Title, here(t), last.outcome.reason()),
			},
		)
	}
	return goOn
}
