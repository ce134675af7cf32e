package flow

import (
	"fmt"
	"strings"
	"time"

	"urgentis/core/leave"
	"urgentis/core/runbook"
	"urgentis/core/task"
)

// approved is the first stage: it finds the yes under which the change may run, or asks for it. What was approved is
// what runs.
func (x *touching) approved() (result, bool) {
	w, st := x.w, x.st
	if n := len(st.gates); n > 0 {
		return x.underGate(st.gates[n-1])
	}
	ap := w.approvalFor(x.f, x.place)
	if ap != nil {
		if over := w.overSince(ap.id, ap.until, ap.within); !over.IsZero() {
			return x.askAnew(approvalOver(over))
		}
		return x.underApproval(ap)
	}
	if st.cleared != nil {
		r, err := requestIn(st.cleared.Proposal, x.target)
		if err != nil {
			return x.askAnew(err.Error())
		}
		x.request, x.digest = r, st.cleared.Digest
		return goOn, true
	}
	given, r, ok := x.leaveForLeft()
	if !ok {
		return r, false
	}
	if given.Verdict == leave.Gate {
		return x.raiseGate(given), false
	}
	p, d, err := w.propose(x.f, x.step, x.place, x.left(), given.LeaveGiven, time.Time{})
	if err != nil {
		return w.broken(x.place, x.step, err), false
	}
	w.emit(x.place, Cleared{Proposal: p, Digest: d, Reasons: given.Reasons})
	return x.approved()
}

// leaveForLeft gives the leave for all targets that are left, on fresh evidence, where it is not a no.
func (x *touching) leaveForLeft() (given *leaveState, r result, ok bool) {
	if r, ok := x.fresh(); !ok {
		return nil, r, false
	}
	left := x.left()
	if given = x.leaveFor(left...); given == nil {
		r, _ = x.askLeave(left...)
		return nil, r, false
	}
	if given.Verdict == leave.No {
		r, _ = x.refused(given)
		return nil, r, false
	}
	return given, goOn, true
}

// underGate follows the newest gate of the change.
func (x *touching) underGate(g *gateState) (result, bool) {
	w := x.w
	if r, ok := w.decision(x.f, x.step, x.place, g); !ok {
		return r, false
	}
	if start := g.startAt(); w.now.Before(start) {
		if p := x.st.pause; p == nil || p.on != OnStart {
			return x.wait(OnStart, start)
		}
		w.wake(start)
		return blocked, false
	}
	if over := w.overSince(g.raised.Gate, g.until(), g.within()); !over.IsZero() {
		return x.askAnew(approvalOver(over))
	}
	r, err := requestIn(g.raised.Proposal, x.target)
	if err != nil {
		return x.askAnew(err.Error())
	}
	x.request, x.digest, x.under = r, g.raised.Digest, g.raised.Gate
	return goOn, true
}

// until is when an approval ends that nothing was begun under: a start time moves it.
func (g *gateState) until() time.Time {
	if start := g.startAt(); !start.IsZero() {
		return start.Add(g.within())
	}
	return g.raised.Until
}

// overSince is since when an approval is over; zero while it stands. Whatever ends under it lets it stand as long
// again, so that a rolling change goes on, and one that was halted for a night does not.
func (w *walker) overSince(id string, until time.Time, within time.Duration) time.Time {
	if until.IsZero() {
		return time.Time{}
	}
	if used := w.s.lately[id]; !used.IsZero() && used.Add(within).After(until) {
		until = used.Add(within)
	}
	if w.now.Before(until) {
		return time.Time{}
	}
	return until
}

func approvalOver(since time.Time) string {
	return "the approval is over since " + since.UTC().Format("15:04")
}

// approvalFor is the yes that somebody gave before this change was reached; nil without one.
func (w *walker) approvalFor(f *frame, place Place) *approval {
	if f.approval != nil {
		return f.approval
	}
	return w.s.approved[place]
}

// underApproval goes on under a yes that was given before, if it allows what would run now; else the gate stands.
func (x *touching) underApproval(ap *approval) (result, bool) {
	w := x.w
	if c := x.st.cleared; c == nil || c.Approval != ap.id {
		given, r, ok := x.leaveForLeft()
		if !ok {
			return r, false
		}
		p, d, err := w.propose(x.f, x.step, x.place, x.left(), given.LeaveGiven, time.Time{})
		if err != nil {
			return w.broken(x.place, x.step, err), false
		}
		if why := w.whyNotCovered(x.place, p, ap); why != "" {
			return x.raiseGate(given, "what was approved does not cover it: "+why), false
		}
		w.emit(x.place, Cleared{
			Proposal: p, Digest: d, Approval: ap.id,
			Reasons: []string{fmt.Sprintf("%s approved it before (%s)", ap.by, ap.id)},
		})
	}
	r, err := requestIn(x.st.cleared.Proposal, x.target)
	if err != nil {
		return x.askAnew(err.Error())
	}
	x.request, x.digest, x.under = r, x.st.cleared.Digest, ap.id
	return goOn, true
}

// whyNotCovered tells why an approval does not cover a proposal; "" where it does.
func (w *walker) whyNotCovered(place Place, p leave.Proposal, ap *approval) string {
	for _, r := range p.Requests {
		r.Step = ""
		why := "nothing like it was shown for " + here(r.Target.Name)
		for _, a := range ap.proposal.Requests {
			if a.Target.Name != r.Target.Name || a.Step != "" && a.Step != place.String() {
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

// approvedOnce is the first stage of an undo: the yes to the change holds for its undo, or a new one does.
func (x *touching) approvedOnce() (result, bool) {
	w, was := x.w, x.undo.request
	x.request, x.digest, x.under = *was.intent.Request.Undo, was.intent.Digest, was.intent.Under
	for _, g := range x.st.undoGates {
		if g.raised.Proposal.Requests[0].Target.Name != x.target {
			continue
		}
		switch {
		case g.open() && w.now.Before(g.raised.Until):
			w.wake(g.raised.Until)
			return blocked, false
		case g.open():
			w.emit(x.place, GateExpired{Gate: g.raised.Gate})
			return x.leave("nobody approved how it would be undone now")
		case g.refused != nil:
			return x.leave(g.refused.By + " refused to have it undone")
		case g.expired:
			return x.leave("nobody approved how it would be undone now")
		}
		x.request, x.digest, x.under = g.raised.Proposal.Requests[0], g.raised.Digest, g.raised.Gate
	}
	return goOn, true
}

// raiseUndoGate asks people for leave to undo a change otherwise than it was approved: facts, secrets or files moved.
func (x *touching) raiseUndoGate(given *leaveState, why string) result {
	w := x.w
	r := *x.undo.request.intent.Request.Undo
	for _, f := range given.Facts {
		if f.Name == x.target {
			r.Target = f
		}
	}
	secretsAsGiven(&r, given.LeaveGiven)
	fileAsGiven(&r, given.LeaveGiven)
	until := w.now.Add(gateOf(x.step).Within).Truncate(time.Second)
	_, book := Find(w.s.book, x.place)
	p := leave.Proposal{
		Runbook: book.Name, Revision: book.Revision, Path: x.place.String(), Until: untilText(until),
		Requests: []task.Request{r},
	}
	d, err := p.Digest()
	if err != nil {
		r, _ := x.leave(err.Error())
		return r
	}
	g := gateOf(x.step)
	w.emit(x.place, GateRaised{
		Gate:  fmt.Sprintf("%s:%s:undo-%d", w.s.Begun.Run, x.place.Named(), len(x.st.undoGates)+1),
		Round: len(x.st.undoGates) + 1, Proposal: p, Digest: d, Ask: whoIsAsked(g, book), Comment: g.Comment,
		Until: until, People: g.People, Undo: true,
		Reasons: []string{why},
	})
	w.wake(until)
	return blocked
}

func whoIsAsked(g *runbook.Gate, book *runbook.Book) string {
	if g.Ask != "" {
		return g.Ask
	}
	return book.Team()
}

// requestFor renders a change for one target, with its undo and what is known of the target.
func (w *walker) requestFor(
	f *frame,
	s *runbook.Step,
	place Place, target string,
	given LeaveGiven,
	bounded bool,
) (task.Request, error) {
	r, err := w.request(f, s.Do, place, target, s.Timeout, bounded)
	if err != nil {
		return r, err
	}
	for _, x := range given.Facts {
		if x.Name == target {
			r.Target = x
		}
	}
	secretsAsGiven(&r, given)
	fileAsGiven(&r, given)
	if s.Undo != nil {
		u, err := w.request(f, s.Undo, place, target, s.Timeout, bounded)
		if err != nil {
			return r, fmt.Errorf("its undo: %w", err)
		}
		secretsAsGiven(&u, given)
		fileAsGiven(&u, given)
		u.Target, u.OnlyIfDone = r.Target, s.UndoOnlyIfDone
		r.Undo = &u
	}
	return r, nil
}

// secretsAsGiven binds a request to the secrets that stand in it, as they are now.
func secretsAsGiven(r *task.Request, given LeaveGiven) {
	r.Secrets = nil
	for _, n := range r.SecretNames() {
		if r.Secrets == nil {
			r.Secrets = map[string]int{}
		}
		r.Secrets[n] = given.Secrets[n]
	}
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

// storedAs is how leave names the state of a file of the store.
func storedAs(f *task.File) string { return fmt.Sprintf("%s %d", f.Digest, f.Size) }

// notAllowed is the trouble of a change that may not happen as everything stands.
func (w *walker) notAllowed(s *runbook.Step, place Place, given LeaveGiven) result {
	because := fmt.Sprintf("The change %q is not allowed now: %s.", s.Title, strings.Join(given.Reasons, "; "))
	return w.fail(place, Troubled{Final: true, Because: because})
}
