package flow

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"urgentis/core/leave"
	"urgentis/core/runbook"
	"urgentis/core/task"
)

// stillFresh is how long ago the evidence may have been complete on which a change is judged still wanted, where it
// does not say fresh.
const stillFresh = time.Minute

// touching is one target of a change, or its undo, on its way. There is one way: what stages lists, from the first to
// the last, and whatever waits in between begins at the first again.
type touching struct {
	w      *walker
	f      *frame // nil for an undo
	step   *runbook.Step
	place  Place // the place of the change
	st     *stepState
	target string
	undo   *Touch // set where the change is undone
	// What the stages found: the request as it was approved, and the leave that it rests on.
	request task.Request
	digest  string
	under   string
	given   *leaveState
}

// stage passes a touching on. ok: to the next one; else r is what the step comes to for now.
type stage func(*touching) (r result, ok bool)

// changeWay is the way to a change on a target.
func changeWay() []stage {
	return []stage{
		(*touching).rested,   // a pause is over
		(*touching).approved, // what would run is approved, or may run without, and that is not over
		(*touching).evidence, // what still: reads was read in this lap
		(*touching).still,    // the reason holds
		(*touching).allowed,  // leave with facts, secrets and files as they were approved
		(*touching).locked,   // by address
		(*touching).intended, // intent and leave in one commit
	}
}

// undoWay is the way to the undo of a change on a target.
func undoWay() []stage {
	return []stage{
		(*touching).rested,
		(*touching).approvedOnce, // by the yes to the change, or by a new one
		(*touching).allowed,
		(*touching).locked,
		(*touching).intended,
	}
}

// along goes on a way as far as it goes now. blocked: it was begun, or waits.
func (x *touching) along(way []stage) result {
	for _, pass := range way {
		if r, ok := pass(x); !ok {
			return r
		}
	}
	return blocked
}

// change takes a change from one target to the next.
func (w *walker) change(f *frame, s *runbook.Step, place Place, st *stepState) result {
	if s.Do == nil {
		return w.block(f, s, place, st, func(g *frame) result {
			g.block = place
			return w.list(g, s.Steps, place.List("do"))
		})
	}
	if st.changed || st.done {
		return goOn
	}
	for _, t := range st.begun.Targets {
		if st.spared[t] {
			continue
		}
		if r := w.changeOn(f, s, place, st, t); r != goOn {
			return r
		}
		if !st.spared[t] && w.s.fateAt(place, t) != WasDone {
			return goOn // it is passed over: its reason is gone, or there was no yes
		}
	}
	w.emit(place, Changed{Targets: st.wanted()})
	return goOn
}

// wanted are the targets of a change but for those that need it no more.
func (st *stepState) wanted() []string {
	if len(st.spared) == 0 {
		return st.begun.Targets
	}
	return slices.DeleteFunc(slices.Clone(st.begun.Targets), func(t string) bool { return st.spared[t] })
}

// lastWanted reports whether all targets of a change but one need it no more. Under older rules the first target that
// needs it no more is the end of it.
func (s *State) lastWanted(st *stepState, target string) bool {
	return s.Begun.Rules < sparing || st.begun == nil ||
		!slices.ContainsFunc(st.wanted(), func(t string) bool { return t != target })
}

// changeOn follows a change on one target to its end. goOn: it is done, or the step is passed over.
func (w *walker) changeOn(f *frame, s *runbook.Step, place Place, st *stepState, t string) result {
	if st.gone {
		return w.passOver(f, s, place, st)
	}
	touch := w.s.touch(place, t)
	if touch != nil && touch.Change.Fate == NotKnown {
		if r := w.settle(f, f.book, s, touch, false); r != goOn {
			return r
		}
	}
	if touch == nil || touch.Change.MayBegin() {
		x := &touching{w: w, f: f, step: s, place: place, st: st, target: t}
		return x.along(changeWay())
	}
	switch e := &touch.Change; e.Fate {
	case WasDone:
		return goOn
	case UnderWay:
		w.followOn(touch, e, place)
		return blocked
	default:
		return w.fail(place, Troubled{
			Because: e.trouble(s.Title, here(t)), Final: e.Fate == NotKnown, Unsaid: e.Fate == NotKnown,
		})
	}
}

// followOn begins to look after a job that goes on elsewhere and that nobody follows.
func (w *walker) followOn(t *Touch, e *Effect, place Place) {
	last := w.s.attempts[e.Newest()]
	if last == nil || !last.over() || e.Job == "" || !w.over(e.pause) {
		return
	}
	req := last.intent.Request
	j := *req.Job
	j.Known, req.Job = e.Job, &j
	until := e.Deadline
	if w.s.cancel != nil && !last.intent.Undoes() {
		until = w.now // it is to be stopped, which whoever follows it does once its time is over
	}
	p := last.intent.Purpose
	w.emit(place, Intent{
		Attempt: w.attempt(place, p, t.Target, len(e.Attempts)), Target: t.Target, Purpose: p, Request: req,
		Digest: last.intent.Digest, Under: last.intent.Under, Deadline: &until,
	})
}

// landed reports whether nothing that touches is under way in a place, and follows on the jobs that nobody follows.
func (w *walker) landed(in Place) bool {
	landed := true
	for _, t := range w.s.touchOrder {
		for _, e := range []*Effect{&t.Change, &t.Undo} {
			if e.Fate == UnderWay && t.Place.In(in) {
				w.followOn(t, e, t.Place)
				landed = false
			}
		}
	}
	return landed
}

// over reports whether a pause is; else it wakes the run at its end.
func (w *walker) over(p *pause) bool {
	if p == nil || !p.until.IsZero() && !w.now.Before(p.until) || p.on == OnHalt && w.s.resumed > p.seq {
		return true
	}
	if !p.until.IsZero() {
		w.wake(p.until)
	}
	return p.until.IsZero()
}

// wait makes what is on its way wait: it begins at the first stage after it.
func (x *touching) wait(on string, until time.Time) (result, bool) {
	x.w.emit(x.place, Waits{On: on, Until: until, Target: x.undoTarget(), Undo: x.undo != nil})
	if !until.IsZero() {
		x.w.wake(until)
	}
	return blocked, false
}

func (x *touching) undoTarget() string {
	if x.undo != nil {
		return x.target
	}
	return ""
}

// rested waits until a pause is over, and for locks that others hold before anything else is looked at.
func (x *touching) rested() (result, bool) {
	p := x.st.pause
	if x.undo != nil {
		p = x.undo.Undo.pause
	}
	if !x.w.over(p) {
		return blocked, false
	}
	if n := len(x.st.leaves); n > 0 && x.st.awaits[x.of()] != nil {
		return x.lockedOn(x.st.leaves[n-1].Facts)
	}
	return goOn, true
}

// left lists the targets of the change that are not begun.
func (x *touching) left() []string {
	if x.undo != nil {
		return []string{x.target}
	}
	var out []string
	for _, t := range x.st.wanted() {
		if f := x.w.s.fateAt(x.place, t); f == NotBegun || f == HeldBack {
			out = append(out, t)
		}
	}
	return out
}

// leaveFor is the newest leave that is open and was given for targets; nil where it is to be asked for.
func (x *touching) leaveFor(targets ...string) *leaveState {
	for i := range slices.Backward(x.st.leaves) {
		g := &x.st.leaves[i]
		if !x.w.s.openLeaves[g.seq] {
			return nil
		}
		if !slices.ContainsFunc(targets, func(t string) bool { return !slices.Contains(g.Targets, t) }) {
			return g
		}
	}
	return nil
}

// askLeave asks for leave for targets.
func (x *touching) askLeave(targets ...string) (result, bool) {
	ask := WouldAsk(x.step, x.place, targets)
	ask.Undo = x.undo != nil
	if ask.Undo {
		ask.HasGate = false
	}
	x.w.plan.AskLeave = append(x.w.plan.AskLeave, ask)
	return blocked, false
}

// refused is what follows from a leave that says no.
func (x *touching) refused(given *leaveState) (result, bool) {
	if given.Halted {
		return x.wait(OnHalt, x.w.now.Add(haltRetry))
	}
	if x.undo != nil {
		return x.leave("it is not allowed now: " + strings.Join(given.Reasons, "; "))
	}
	return x.w.notAllowed(x.step, x.place, given.LeaveGiven), false
}

// leave leaves a change as it is.
func (x *touching) leave(why string) (result, bool) {
	x.w.emit(x.undo.Place, UndoLeft{TouchKey: x.undo.TouchKey, Why: why})
	return goOn, false
}

// evidence takes what the change's reason reads anew, all at once, in each lap, and again where it has become old since
// all of it was there.
func (x *touching) evidence() (result, bool) {
	w, s := x.w, x.step
	if s.Still == nil {
		return goOn, true
	}
	over, last := true, time.Time{}
	for i, look := range w.looksOf(x.f, s.Still.Refers("readings")) {
		place, begun := w.instance(x.place, look)
		if begun == nil {
			return w.broken(x.place, s, fmt.Errorf("look %s was not taken on this path", look.Title)), false
		}
		p := Purpose{For: ForStill, Lap: x.st.lap, Look: i}
		all, r := w.round(x.f, x.place, p, look, place, asked(x.f, begun))
		if r != goOn {
			return r, false
		}
		over = over && all
		last = later(last, x.st.roundEnded(p))
	}
	limit := s.Fresh
	if limit == 0 {
		limit = stillFresh
	}
	if age := w.now.Sub(last); over && !last.IsZero() && (age < 0 || age > limit) {
		w.emit(x.place, Waits{On: OnEvidence})
		return x.evidence()
	}
	if !over {
		return blocked, false
	}
	return goOn, true
}

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

// roundEnded is when the last outcome of a round came.
func (st *stepState) roundEnded(p Purpose) time.Time {
	var at time.Time
	for _, tries := range st.rounds[p] {
		if last := tries[len(tries)-1]; last.overAt.After(at) {
			at = last.overAt
		}
	}
	return at
}

// still judges whether the reason of the change still holds on its target.
func (x *touching) still() (result, bool) {
	w, s := x.w, x.step
	if s.Still == nil {
		return goOn, true
	}
	key := stillKey{x.st.lap, x.target}
	if x.st.still[key] == nil {
		holds, values, err := s.Still.Explain(w.scope(x.f, x.place, x.target))
		j := StillJudged{
			Lap: key.lap, Target: x.target, Expr: s.Still.Source, Values: values, Result: judged(holds, err),
		}
		if err != nil {
			j.Unsure = unsure(err)
		}
		w.emit(x.place, j)
	}
	switch j := x.st.still[key]; {
	case j.Result == Passes:
		return goOn, true
	case j.Result == Fails && !w.s.lastWanted(x.st, x.target):
		w.emit(x.place, TargetPassed{Target: x.target, Because: fmt.Sprintf("%s no longer holds on it", j.Expr)})
		return goOn, false
	case j.Result == Fails && s.Otherwise != nil:
		return w.passOver(x.f, s, x.place, x.st), false
	case j.Result == Fails && x.passItem(j):
		return passed, false
	case j.Result == Fails:
		on := here(x.target)
		if len(x.st.spared) > 0 {
			on = "any of its targets"
		}
		because := fmt.Sprintf("The reason for the change %q is gone: %s no longer holds on %s.", s.Title, j.Expr, on)
		return w.fail(x.place, Troubled{Because: because}), false
	default:
		because := fmt.Sprintf("Whether the change %q is still needed is unsure: %s.", s.Title, j.Unsure)
		return w.fail(x.place, Troubled{Because: because}), false
	}
}

// passItem passes over the item around that needs its change no more, where nothing was changed in it yet: a part of it
// that is not wanted any more is no reason to leave the rest. It reports whether it did.
func (x *touching) passItem(j *StillJudged) bool {
	item := x.place.Frame()
	if !item.isItem() || slices.ContainsFunc(x.w.s.touchOrder, func(t *Touch) bool { return t.Place.In(item) }) {
		return false
	}
	each, i, _ := item.ItemOf()
	x.w.emit(x.place, StepEnded{})
	x.w.emit(item, ItemPassed{
		Label: x.w.s.step(each).each.Items[i].Label,
		Because: fmt.Sprintf("the change %q is not needed: %s no longer holds on %s", x.step.Title, j.Expr,
			here(x.target)),
	})
	return true
}

// passOver follows what is provided for a change whose reason is gone, and passes it over.
func (w *walker) passOver(f *frame, s *runbook.Step, place Place, st *stepState) result {
	r := w.list(f, s.Otherwise, place.List("otherwise"))
	if r == goOn && !st.done {
		w.emit(place, StepEnded{})
	}
	return r
}

func judged(holds bool, err error) string {
	switch {
	case err != nil:
		return Unsure
	case holds:
		return Passes
	}
	return Fails
}

// allowed asks for leave, with everything as it was approved.
func (x *touching) allowed() (result, bool) {
	given := x.leaveFor(x.target)
	if given == nil {
		return x.askLeave(x.target)
	}
	if given.Verdict == leave.No {
		return x.refused(given)
	}
	why := ""
	if diff := differs(x.request, given.LeaveGiven); len(diff) > 0 {
		why = "what was approved is no longer so: " + strings.Join(diff, "; ")
	} else if given.Verdict == leave.Gate && x.under == "" && x.undo == nil {
		why = "it was allowed without asking before it waited"
	} else if x.w.s.raised[x.under] < x.w.s.putBackSeq {
		why = x.w.s.putBack.says() + ": whether this was begun shortly before is not known"
	}
	if why == "" {
		x.given = given
		return goOn, true
	}
	return x.askAnew(why)
}

// askAnew raises a gate for all that is left to do.
func (x *touching) askAnew(why string) (result, bool) {
	left := x.left()
	given := x.leaveFor(left...)
	if given == nil {
		return x.askLeave(left...)
	}
	if given.Verdict == leave.No {
		return x.refused(given)
	}
	if x.undo != nil {
		return x.raiseUndoGate(given, why), false
	}
	return x.raiseGate(given, why), false
}

// differs lists in words what of a request, and of its undo, is not as leave was given for it.
func differs(r task.Request, given LeaveGiven) []string {
	diff := leave.Differ([]task.Facts{r.Target}, given.Facts)
	if r.Target.Name == "" {
		diff = nil
	}
	for _, side := range []*task.Request{&r, r.Undo} {
		if side == nil {
			continue
		}
		for n, v := range side.Secrets {
			if now := given.Secrets[n]; now != v {
				diff = append(diff, fmt.Sprintf("the secret %s was version %d and is %d", n, v, now))
			}
		}
		if f := side.File; f != nil && f.Name != "" && given.Files[f.Name] != storedAs(f) {
			diff = append(diff, fmt.Sprintf("the file %s is not the one that was approved", f.Name))
		}
	}
	slices.Sort(diff)
	return slices.Compact(diff)
}

// locked takes the locks that are needed, by address.
func (x *touching) locked() (result, bool) { return x.lockedOn(x.given.Facts) }

func (x *touching) lockedOn(facts []task.Facts) (result, bool) {
	w := x.w
	keys := w.s.Missing(w.s.lockOn(facts, x.target))
	if x.undo == nil && len(keys) > 0 {
		keys = w.s.Missing(append(keys, w.keysAhead()...)...)
	}
	if len(keys) == 0 {
		return goOn, true
	}
	why, waits := w.wantLocks(x.place, x.of(), keys)
	switch {
	case waits:
		return blocked, false
	case x.undo != nil:
		return x.leave(why)
	}
	return w.fail(x.place, Troubled{Because: fmt.Sprintf("The change %q cannot begin: %s.", x.step.Title, why)}), false
}

// of is what its locks are for.
func (x *touching) of() string {
	if x.undo == nil {
		return ""
	}
	return "undo " + x.target
}

// intended writes down that it is begun, by the leave that was given.
func (x *touching) intended() (result, bool) {
	w, e, p := x.w, (*Effect)(nil), Purpose{For: ForChange}
	if t := w.s.touch(x.place, x.target); t != nil {
		e = &t.Change
	}
	if x.undo != nil {
		e, p = &x.undo.Undo, Purpose{For: ForUndo}
	}
	try := 0
	if e != nil {
		try = len(e.Attempts)
	}
	w.emit(x.place, Intent{
		Attempt: w.attempt(x.place, p, x.target, try), Target: x.target, Purpose: p, Request: x.request,
		Digest: x.digest, Under: x.under, Leave: x.given.seq,
	})
	return blocked, true
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

// fresh takes evidence anew that is older than the change wants it, before it is proposed.
func (x *touching) fresh() (result, bool) {
	w, s := x.w, x.step
	if s.Fresh == 0 {
		return goOn, true
	}
	for i, look := range w.looksOf(x.f, s.Readings()) {
		place, begun := w.instance(x.place, look)
		if begun == nil {
			return w.broken(x.place, s, fmt.Errorf("look %s was not taken on this path", look.Title)), false
		}
		p := Purpose{For: ForFresh, Lap: x.st.lap, Look: i}
		if len(x.st.rounds[p]) == 0 {
			if age, ok := w.s.ageOf(x.place, x.f.target, look.Read[0].Name, w.now); ok && age >= 0 && age <= s.Fresh {
				continue
			}
		}
		if over, r := w.round(x.f, x.place, p, look, place, asked(x.f, begun)); r != goOn {
			return r, false
		} else if !over {
			return blocked, false
		}
	}
	return goOn, true
}

// errNoSuchTarget says that a proposal does not speak of a target.
var errNoSuchTarget = errors.New("it was not proposed for this target")

// requestIn finds the request of a proposal for a target.
func requestIn(p leave.Proposal, target string) (task.Request, error) {
	for _, r := range p.Requests {
		if r.Target.Name == target {
			return r, nil
		}
	}
	return task.Request{}, errNoSuchTarget
}

const (
	// haltRetry is how often what waits because all is halted is tried again by itself; the word that changes go on
	// tries it at once.
	haltRetry = 10 * time.Minute
	// heldRetry is how soon what this instance may not begin is tried again.
	heldRetry = 2 * time.Second
)
