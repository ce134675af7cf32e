package flow

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"urgentis/core/runbook"
)

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

// locked takes the locks on the targets before the first touch, together with those of what comes after.
func (w *walker) locked(s *runbook.Step, path string, st *stepState) result {
	return w.lockedOn(path, st, st.begun.Targets, fmt.Sprintf("change %q", s.Title))
}

// lockedOn takes the locks on targets for what is to touch them.
func (w *walker) lockedOn(path string, st *stepState, targets []string, what string) result {
	if w.olderRules(2) {
		return goOn
	}
	want := &WantLocks{Path: path}
	service, _ := w.s.Begun.Service["name"].(string)
	add := func(t string) {
		if key := "target:" + t; t != "" && !w.s.locks[key] && !slices.Contains(want.Keys, key) {
			want.Keys = append(want.Keys, key)
		}
	}
	for _, t := range targets {
		add(t)
	}
	if len(want.Keys) > 0 {
		w.targetsAhead(&frame{book: w.s.book}, w.s.book.Steps, "", add)
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
			return w.fail(
				path,
				Troubled{
					Because: fmt.Sprintf(
						"The %s waited %s for run %s, which holds %s.",
						what,
						lockTime,
						st.awaited.Holder,
						st.awaited.Key,
					),
				},
			)
		}
		if st.awaited.Circle {
			return w.fail(
				path,
				Troubled{
					Because: fmt.Sprintf(
						"The %s cannot begin: run %s holds %s, and waits for what this run holds.",
						what,
						st.awaited.Holder,
						st.awaited.Key,
					),
				},
			)
		}
		// Asked again from time to time: a circle of waiting runs shows when the last of them waits.
		w.wake(minTime(until, w.now.Add(lockRetry)))
	}
	w.plan.WantLocks = want
	return blocked
}

// targetsAhead adds the targets of the changes that will come if all goes well, as far as they can be named now: a run
// takes them with its first lock, all or none, so that two runs that touch the same targets in another order
// do not end up waiting for one another. What a reading must name first is locked when it is known.
func (w *walker) targetsAhead(f *frame, steps []*runbook.Step, prefix string, add func(target string)) {
	for i, s := range steps {
		path := prefix + strconv.Itoa(i+1)
		st := w.s.steps[path]
		if st == nil {
			st = &stepState{}
		}
		if st.skipped != nil {
			w.targetsAhead(f, s.Otherwise, path+".otherwise.", add)
			continue
		}
		if s.When != nil && st.begun == nil {
			if ok, err := s.When.Bool(w.scope(f, path, "")); err != nil || !ok {
				continue
			}
		}
		w.aheadIn(f, s, path, st, add)
		w.targetsAhead(f, s.Passes.Steps, path+".passes.", add)
		for _, b := range []struct {
			name  string
			steps []*runbook.Step
		}{{"fails", s.Fails.Steps}, {"unsure", s.Unsure.Steps}, {"on_error", s.OnError.Steps}} {
			if w.stepBegun(path + "." + b.name + ".1") {
				w.targetsAhead(f, b.steps, path+"."+b.name+".", add)
			}
		}
	}
}

// aheadIn adds what one step itself will touch.
func (w *walker) aheadIn(f *frame, s *runbook.Step, path string, st *stepState, add func(target string)) {
	switch {
	case s.Verb == runbook.Change && st.changed && !w.olderRules(4):
	case s.Verb == runbook.Change && s.Do != nil:
		targets := []string{}
		if st.begun != nil {
			targets = st.begun.Targets
		} else if s.Where == nil || !s.Where.PickOne {
			targets, _ = w.targets(f, s.Where, path) //nolint:errcheck // what cannot be named yet is left for later
		}
		for _, t := range targets {
			add(t)
		}
	case s.Verb == runbook.Change:
		w.targetsAhead(f, s.Steps, path+".do.", add)
	case s.Verb == runbook.Each:
		begun := st.each
		if begun == nil {
			items, err := w.items(f, s, path)
			if err != nil {
				return
			}
			begun = &EachBegun{Items: items}
		}
		for i := range begun.Items {
			g, prefix := w.itemFrame(f, s, path, begun, i)
			w.targetsAhead(g, s.Steps, prefix, add)
		}
	case s.Verb == runbook.Together:
		for _, b := range s.Branches {
			g := *f
			g.block = path + ".branches." + b.Name + "~"
			w.targetsAhead(&g, b.Steps, g.block+".", add)
		}
	case s.Verb == runbook.Call && st.call != nil && f.book.Callee(s.Callee) != nil:
		g := w.callFrame(f, s, path)
		w.targetsAhead(g, g.book.Steps, path+"/", add)
	}
}

// stepBegun reports whether a step has begun in any way.
func (w *walker) stepBegun(path string) bool {
	st := w.s.steps[path]
	return st != nil && (st.begun != nil || st.each != nil || st.call != nil || st.skipped != nil || st.done)
}

// giveBack gives back, while a person is asked, the locks on targets where all that this run changed is proven or taken
// back, and that nothing to come will touch as far as it can be named now. What must touch them after all, such as
// taking a change back, takes them again.
func (w *walker) giveBack() {
	if on := w.s.WaitsOn(); w.olderRules(4) || w.s.ending != nil || w.s.cancel != nil ||
		on != OnApproval && on != OnAnswer {
		return
	}
	needed := map[string]bool{}
	for _, a := range w.s.order {
		if a.intent.Change && a.intent.Undo == "" && !a.undone && !w.proven(a) {
			needed["target:"+a.intent.Target] = true
		}
	}
	w.targetsAhead(&frame{book: w.s.book}, w.s.book.Steps, "", func(t string) { needed["target:"+t] = true })
	var free []string
	for _, key := range slices.Sorted(maps.Keys(w.s.locks)) {
		if strings.HasPrefix(key, "target:") && !needed[key] {
			free = append(free, key)
		}
	}
	if len(free) > 0 {
		w.emit("", LocksGivenBack{Keys: free})
	}
}

// proven reports whether a check that proves the change of an attempt passed after it.
func (w *walker) proven(a *attempt) bool {
	change, _ := Find(w.s.book, a.path)
	if change == nil || change.ID == "" {
		return false
	}
	for path, st := range w.s.steps {
		n := len(st.judged)
		if n == 0 || st.judged[n-1].Result != Passes || st.judged[n-1].at.Before(a.at) || !visible(path, a.path) {
			continue
		}
		if check, _ := Find(w.s.book, path); check != nil && check.Proves == change.ID {
			return true
		}
	}
	return false
}
