package flow

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"urgentis/core/expr"
	"urgentis/core/leave"
	"urgentis/core/plain"
	"urgentis/core/reading"
	"urgentis/core/runbook"
	"urgentis/core/task"
)

// targets selects from the estate as it was when the run began, by name. Without a selector it is the item
// at hand, or nothing in particular ("").
func (w *walker) targets(f *frame, sel *runbook.Selector, place Place) ([]string, error) {
	if sel == nil {
		return []string{f.target}, nil
	}
	out, err := w.selected(f, sel, place)
	if err != nil {
		return nil, err
	}
	if sel.PickOne && len(out) > 1 {
		out = w.pickOne(place, out)
	}
	return out, nil
}

func (w *walker) selected(f *frame, sel *runbook.Selector, place Place) ([]string, error) {
	sc := w.scope(f, place, "")
	want := map[string]string{}
	for k, t := range sel.Labels {
		v, err := t.Text(sc)
		if err != nil {
			return nil, err
		}
		want[k] = v
	}
	name := ""
	if sel.Name != nil {
		var err error
		if name, err = sel.Name.Text(sc); err != nil {
			return nil, err
		}
	}
	var out []string
	for _, t := range w.s.Begun.Estate {
		ok := sel.Name == nil || t.Name == name
		for k, v := range want {
			ok = ok && t.Labels[k] == v
		}
		if ok {
			out = append(out, t.Name)
		}
	}
	slices.Sort(out)
	return out, nil
}

// asked are the targets that a look asked; inside an item only its own, where it is one of them.
func asked(f *frame, begun *StepBegun) []string {
	if f.target != "" && slices.Contains(begun.Targets, f.target) {
		return []string{f.target}
	}
	return begun.Targets
}

// pickOne chooses one target: the first by name that answered the newest look that can be seen from the place, else
// the first.
func (w *walker) pickOne(place Place, names []string) []string {
	for i := len(w.s.order) - 1; i >= 0; i-- {
		a := w.s.order[i]
		if a.intent.Touches() || !slices.Contains(names, a.intent.Target) || !place.Sees(a.place) {
			continue
		}
		for _, n := range names {
			for _, b := range w.s.order {
				if b.place == a.place && b.intent.Purpose == a.intent.Purpose && b.intent.Target == n &&
					b.outcome != nil && b.outcome.State == OK {
					return []string{n}
				}
			}
		}
		break
	}
	return names[:1]
}

// round makes one round of attempts of a look under the step at path, and reports whether it is over.
// lookAt is the place of the look.
func (w *walker) round(
	f *frame,
	place Place,
	purpose Purpose,
	look *runbook.Step,
	lookAt Place,
	targets []string,
) (bool, result) {
	st := w.s.step(place)
	over := true
	free := look.LooksAtOnce()
	for _, tries := range st.rounds[purpose] {
		if last := tries[len(tries)-1]; !last.over() {
			free--
		}
	}
	for i, t := range targets {
		tries := st.rounds[purpose][t]
		if n := len(tries); n > 0 {
			last := tries[n-1]
			if last.outcome != nil {
				continue
			}
			if last.lost == nil {
				over = false
				continue
			}
			if n >= maxLooksLost {
				continue // it stays missing
			}
		}
		if over = false; free <= 0 {
			continue // it is asked as soon as one of the others is done with
		}
		free--
		req, err := w.lookRequest(f, place, look, t)
		if err != nil {
			return false, w.broken(place, look, err)
		}
		req.Looks = look.OnlyReads == ""
		in := Intent{
			Attempt: w.attempt(place, purpose, t, len(tries)),
			Target:  t,
			Purpose: purpose,
			Look:    lookAt,
			Request: req,
		}
		if i == 0 && len(tries) == 0 {
			in.Asked = targets
		}
		w.emit(place, in)
	}
	return over, goOn
}

// lookRequest renders a look; where people approved it, what they approved is what runs.
func (w *walker) lookRequest(f *frame, place Place, look *runbook.Step, target string) (task.Request, error) {
	st := w.s.step(place)
	if n := len(st.gates); n > 0 && look.OnlyReads != "" && st.gates[n-1].enough() {
		return requestIn(st.gates[n-1].raised.Proposal, target)
	}
	return w.request(f, look.Do, place, target, look.Timeout, false)
}

// mayLook asks for leave for a look that is one only by the runbook's word, once for its step. Where the service's
// stance wants it, a person approves it word for word.
func (w *walker) mayLook(f *frame, s *runbook.Step, place Place, st *stepState) result {
	if s.OnlyReads == "" || len(st.rounds[ownRound(0)]) > 0 {
		return goOn
	}
	if n := len(st.gates); n > 0 {
		r, _ := w.decision(f, s, place, st.gates[n-1])
		return r
	}
	x := &touching{w: w, f: f, step: s, place: place, st: st}
	given := x.leaveFor(st.begun.Targets...)
	if given == nil {
		w.plan.AskLeave = append(w.plan.AskLeave, AskLeave{
			Place: place, Targets: st.begun.Targets, Look: true, Secrets: s.Secrets(),
		})
		return blocked
	}
	if given.Verdict == leave.Yes {
		return goOn
	}
	return x.raiseGate(given)
}

// ownRound is the n-th round of what a step itself asks.
func ownRound(n int) Purpose { return Purpose{For: ForLook, Lap: n} }

func (w *walker) look(f *frame, s *runbook.Step, place Place, st *stepState) result {
	if r := w.mayLook(f, s, place, st); r != goOn {
		return r
	}
	for round := 0; ; round++ {
		over, r := w.round(f, place, ownRound(round), s, place, st.begun.Targets)
		if r != goOn {
			return r
		}
		if !over {
			return blocked
		}
		if s.Again == nil || w.complete(st, round) {
			return goOn
		}
		next, more := w.again(s.Again, st, round)
		if !more {
			return goOn
		}
		if w.now.Before(next) && len(st.rounds[ownRound(round+1)]) == 0 {
			w.wake(next)
			return blocked
		}
	}
}

func (w *walker) complete(st *stepState, round int) bool {
	for _, tries := range st.rounds[ownRound(round)] {
		last := tries[len(tries)-1]
		if last.outcome == nil || last.outcome.State != OK || len(last.outcome.Missing) > 0 {
			return false
		}
	}
	return true
}

// again tells when the round after this one is due, and whether there is to be one.
func (w *walker) again(a *runbook.Again, st *stepState, round int) (time.Time, bool) {
	var asked time.Time
	for _, tries := range st.rounds[ownRound(round)] {
		if first := tries[0].at; asked.IsZero() || first.Before(asked) {
			asked = first
		}
	}
	if asked.IsZero() {
		// Nothing was asked: a condition that changes by itself. What counts is when it was judged.
		asked = st.beganAt
		if round < len(st.judged) {
			asked = st.judged[round].at
		}
	}
	next := asked.Add(a.Every)
	if a.Times > 0 {
		return next, round+1 < a.Times
	}
	return next, !next.After(st.beganAt.Add(a.For))
}

// judgeUntilFinal judges a condition, on readings taken anew where the step says so, until the answer is final.
// final is nil while it is not.
func (w *walker) judgeUntilFinal(f *frame, s *runbook.Step, place Place, st *stepState) (final *Judged, r result) {
	n := len(st.judged)
	if n > 0 && st.judged[n-1].Final {
		return &st.judged[n-1].Judged, goOn
	}
	for round := n; ; round++ {
		if round > 0 {
			// The answer before this one was not final: it is due again.
			next, _ := w.again(s.Again, st, round-1)
			if w.now.Before(next) {
				w.wake(next)
				return nil, blocked
			}
		}
		if s.Retake != "" {
			look := f.book.ByID(s.Retake)
			at, begun := w.instance(place, look)
			if begun == nil {
				return nil, w.broken(place, s, fmt.Errorf("look %s was not taken on this path", s.Retake))
			}
			over, r := w.round(f, place, ownRound(round), look, at, asked(f, begun))
			if r != goOn {
				return nil, r
			}
			if !over {
				return nil, blocked
			}
		}
		j := w.judge(f, s, place, st, round)
		w.emit(place, j)
		if j.Final {
			return &j, goOn
		}
	}
}

func (w *walker) judge(f *frame, s *runbook.Step, place Place, st *stepState, round int) Judged {
	j := Judged{Round: round, Result: Fails, Final: true}
	if s.Agrees != nil {
		w.compare(f, s.Agrees, place, &j)
	} else {
		ok, values, err := s.That.Explain(w.scope(f, place, ""))
		j.Values = values
		switch {
		case err != nil:
			j.Result, j.Unsure = Unsure, unsure(err)
		case ok:
			j.Result = Passes
		}
	}
	if s.Again == nil {
		return j
	}
	_, more := w.again(s.Again, st, round)
	if j.Result == Passes {
		if s.Again.Steady == 0 {
			return j
		}
		if w.now.Sub(w.heldSince(s.Again, st)) >= s.Again.Steady {
			return j
		}
		if !more {
			j.Result, j.Unsure = Unsure, "it did not hold for "+s.Again.Steady.String()+" before the time was over"
		}
	}
	j.Final = !more
	return j
}

// mayRest is how long nobody may look between two looks of a check whose beats are short, for it to count as looked at
// all the time: what a machine may be late.
const mayRest = 10 * time.Second

// heldSince is since when what was judged, and holds now, held at each look, with no time in between of more than two
// beats in which nobody looked.
func (w *walker) heldSince(a *runbook.Again, st *stepState) time.Time {
	since := w.now
	for i := len(st.judged) - 1; i >= 0 && st.judged[i].Result == Passes; i-- {
		if st.unlooked(i+1, st.judged[i].at, since) > max(2*a.Every, mayRest) {
			break
		}
		since = st.judged[i].at
	}
	return since
}

// unlooked is the longest time between two moments in which no look of a round was under way. Lost looks saw nothing.
func (st *stepState) unlooked(round int, from, to time.Time) time.Duration {
	var heard []*attempt
	for _, tries := range st.rounds[ownRound(round)] {
		heard = append(heard, tries[len(tries)-1])
	}
	slices.SortFunc(heard, func(a, b *attempt) int { return a.at.Compare(b.at) })
	longest := time.Duration(0)
	for _, x := range heard {
		longest = max(longest, x.at.Sub(from))
		from = later(from, x.overAt)
	}
	return max(longest, to.Sub(from))
}

func unsure(err error) string { return strings.TrimPrefix(err.Error(), expr.ErrUnsure.Error()+": ") }

// compare holds the newest taking of each target against a schema or the target's known facts.
func (w *walker) compare(f *frame, a *runbook.Agrees, place Place, j *Judged) {
	series := w.s.view(place, f.target, nil)[a.Reading]
	if series == nil {
		j.Result, j.Unsure = Unsure, "reading "+a.Reading+" was not taken"
		return
	}
	samples, err := series.Newest()
	if err != nil {
		j.Result, j.Unsure = Unsure, unsure(err)
		return
	}
	j.Result = Passes
	for _, t := range samples {
		var found []reading.Difference
		if a.Schema != nil {
			found = a.Schema.Differences(t.Value)
		} else {
			known, _ := w.s.target(t.Target)["known"].(map[string]any)
			want, ok := known[a.Known]
			if !ok {
				j.Result, j.Unsure = Unsure, fmt.Sprintf("nothing is known of %s under %s", here(t.Target), a.Known)
				return
			}
			found = reading.Compare(want, t.Value, a.How)
		}
		for _, d := range found {
			d.Target = t.Target
			j.Differences = append(j.Differences, d)
		}
		if len(found) > 0 {
			j.Result = Fails
		}
	}
	j.Values = append(j.Values, expr.Value{Part: "differences", Text: fmt.Sprint(len(j.Differences))})
}

func (w *walker) check(f *frame, s *runbook.Step, place Place, st *stepState) result {
	j, r := w.judgeUntilFinal(f, s, place, st)
	if r != goOn {
		return r
	}
	var said []string
	for _, v := range j.Values {
		said = append(said, v.Part+" is "+v.Text)
	}
	about := ""
	if len(said) > 0 {
		about = " (" + strings.Join(said, ", ") + ")"
	}
	switch j.Result {
	case Passes:
		return w.branch(f, s.Passes.Or(runbook.GoOn), place, place.List("passes"), "")
	case Unsure:
		return w.branchOrTrouble(
			f,
			s.Unsure,
			place,
			place.List("unsure"),
			fmt.Sprintf("The check %q is unsure: %s.", s.Title, j.Unsure),
		)
	}
	because := fmt.Sprintf("The check %q fails%s.", s.Title, about)
	return w.branchOrTrouble(f, s.Fails, place, place.List("fails"), because)
}

// branchOrTrouble follows a branch, or lets the trouble travel outward where the runbook provides for nothing.
func (w *walker) branchOrTrouble(f *frame, b runbook.Branch, place, in Place, because string) result {
	if b.Word == "" && b.Steps == nil {
		return w.fail(place, Troubled{Because: because})
	}
	return w.branch(f, b, place, in, because)
}

// await is a wait: a time, or until something holds. Running out of time is a trouble.
func (w *walker) await(f *frame, s *runbook.Step, place Place, st *stepState) result {
	if st.done {
		return goOn
	}
	if s.WaitFor > 0 {
		if due := st.beganAt.Add(s.WaitFor); w.now.Before(due) {
			w.wake(due)
			return blocked
		}
		w.emit(place, Waited{})
		return goOn
	}
	j, r := w.judgeUntilFinal(f, s, place, st)
	if r != goOn {
		return r
	}
	if j.Result == Passes {
		w.emit(place, Waited{})
		return goOn
	}
	after := plain.Span(w.now.Sub(st.beganAt).Round(time.Second))
	because := fmt.Sprintf("“%s” timed out after %s: %s does not hold.", s.Title, after, s.That.Source)
	if j.Result == Unsure {
		because = fmt.Sprintf("“%s” timed out after %s, unsure: %s.", s.Title, after, j.Unsure)
	}
	return w.fail(place, Troubled{Because: because})
}

func here(target string) string {
	if target == "" {
		return "this host"
	}
	return target
}

// instance gives the place of the newest instance of a step that can be seen from a place, and what it began with; nil
// where none was begun.
func (w *walker) instance(from Place, step *runbook.Step) (Place, *StepBegun) {
	list := w.s.instances[step]
	for i := len(list) - 1; i >= 0; i-- {
		if st := w.s.steps[list[i]]; st != nil && st.begun != nil && from.Sees(list[i]) {
			return list[i], st.begun
		}
	}
	return Place{}, nil
}
