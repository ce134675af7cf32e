package flow

import (
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"
	"time"

	"urgentis/core/runbook"
	"urgentis/core/task"
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

// keyOf is the lock on a target: its address, so that one host under two names is one. What has no address is locked by
// its name.
func (s *State) keyOf(target, address string) string {
	if target == "" {
		return ""
	}
	if address == "" {
		for _, t := range s.Begun.Estate {
			if t.Name == target {
				address = t.Address
			}
		}
	}
	if address = strings.ToLower(strings.Trim(strings.TrimSpace(address), "[]")); address == "" {
		return "host:" + target
	}
	if ip, err := netip.ParseAddr(address); err == nil {
		address = ip.Unmap().String()
	}
	return "host:" + strings.TrimSuffix(address, ".")
}

// lockOn is the lock on the address that a leave gives for a target.
func (s *State) lockOn(facts []task.Facts, target string) string {
	for _, f := range facts {
		if f.Name == target {
			return s.keyOf(target, f.Address)
		}
	}
	return s.keyOf(target, "")
}

// Missing lists, sorted, those of some locks that this run does not hold.
func (s *State) Missing(keys ...string) []string {
	var out []string
	for _, k := range keys {
		if k != "" && !s.locks[k] {
			out = append(out, k)
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// keysAhead are the locks on the targets of what comes if all goes well, by the addresses as the run knows them.
func (w *walker) keysAhead() []string {
	var out []string
	add := func(target string) { out = append(out, w.s.keyOf(target, "")) }
	w.targetsAhead(&frame{book: w.s.book}, w.s.book.Steps, Place{}, add)
	return out
}

// wantLocks asks for locks. waits: they are asked for or waited for; else why says why they cannot be had.
func (w *walker) wantLocks(place Place, of string, keys []string) (why string, waits bool) {
	if x := w.s.step(place).awaits[of]; x != nil {
		until := x.since.Add(lockTime)
		on := w.s.HostOf(x.Key)
		if !w.now.Before(until) {
			return fmt.Sprintf("it waited %s for %s, which run %s holds", lockTime, on, x.Holder), false
		}
		if x.Circle {
			return fmt.Sprintf("run %s holds %s, and waits for what this run holds", x.Holder, on), false
		}
		// Asked again from time to time: a circle of waiting runs shows when the last of them waits.
		w.wake(minTime(until, w.now.Add(lockRetry)))
	}
	w.plan.WantLocks = append(w.plan.WantLocks, WantLocks{Place: place, Of: of, Keys: keys})
	return "", true
}

// HostOf names what a lock is on as people know it: the targets at its address.
func (s *State) HostOf(key string) string {
	var names []string
	for _, t := range s.Begun.Estate {
		if s.keyOf(t.Name, t.Address) == key {
			names = append(names, t.Name)
		}
	}
	if len(names) == 0 {
		return strings.TrimPrefix(key, "host:")
	}
	return strings.Join(names, ", ")
}

// targetsAhead adds the targets of the changes that will come if all goes well, as far as they can be named now: a run
// takes them with its first lock, all or none, so that two runs that touch the same targets in another order
// do not end up waiting for one another. What a reading must name first is locked when it is known.
func (w *walker) targetsAhead(f *frame, steps []*runbook.Step, in Place, add func(target string)) {
	for i, s := range steps {
		place := in.Step(i + 1)
		st := w.s.steps[place]
		if st == nil {
			st = &stepState{}
		}
		if st.skipped != nil {
			w.targetsAhead(f, s.Otherwise, place.List("otherwise"), add)
			continue
		}
		if s.When != nil && st.begun == nil {
			if ok, err := s.When.Bool(w.scope(f, place, "")); err != nil || !ok {
				continue
			}
		}
		w.aheadIn(f, s, place, st, add)
		w.targetsAhead(f, s.Passes.Steps, place.List("passes"), add)
		for _, b := range []struct {
			name  string
			steps []*runbook.Step
		}{{"fails", s.Fails.Steps}, {"unsure", s.Unsure.Steps}, {"on_error", s.OnError.Steps}} {
			if w.stepBegun(place.List(b.name).Step(1)) {
				w.targetsAhead(f, b.steps, place.List(b.name), add)
			}
		}
	}
}

// aheadIn adds what one step itself will touch.
func (w *walker) aheadIn(f *frame, s *runbook.Step, place Place, st *stepState, add func(target string)) {
	switch {
	case s.Verb == runbook.Change && (st.changed || st.done || st.trouble != nil):
	case s.Verb == runbook.UndoChange && !st.undone:
		for _, t := range w.s.inForce(w.s.ofStep(place, f.book.ByID(s.UndoOf))) {
			add(t.Target)
		}
	case s.Verb == runbook.Change && s.Do != nil:
		targets := []string{}
		if st.begun != nil {
			targets = st.begun.Targets
		} else if s.Where == nil || !s.Where.PickOne {
			targets, _ = w.targets(f, s.Where, place) //nolint:errcheck // what cannot be named yet is left for later
		}
		for _, t := range targets {
			add(t)
		}
	case s.Verb == runbook.Change:
		w.targetsAhead(f, s.Steps, place.List("do"), add)
	case s.Verb == runbook.Each:
		begun := st.each
		if begun == nil {
			items, err := w.items(f, s, place)
			if err != nil {
				return
			}
			begun = &EachBegun{Items: items}
		}
		for i := range begun.Items {
			g, prefix := w.itemFrame(f, s, place, begun, i)
			if item := w.s.steps[g.block]; item != nil && item.passed != nil {
				continue
			}
			w.targetsAhead(g, s.Steps, prefix, add)
		}
	case s.Verb == runbook.Together:
		for _, b := range s.Branches {
			g := *f
			g.block = place.Branch(b.Name)
			w.targetsAhead(&g, b.Steps, g.block, add)
		}
	case s.Verb == runbook.Call && st.call != nil && f.book.Callee(s.Callee) != nil:
		g := w.callFrame(f, s, place)
		w.targetsAhead(g, g.book.Steps, place.Call(), add)
	}
}

// stepBegun reports whether a step has begun in any way.
func (w *walker) stepBegun(place Place) bool {
	st := w.s.steps[place]
	return st != nil && (st.begun != nil || st.each != nil || st.call != nil || st.skipped != nil || st.done)
}

// giveBack gives back, while a person is asked, the locks on targets where all that this run changed is proven, undone
// or was not begun, that nothing to come will touch as far as it can be named now, and that no block around would undo.
// What must touch them after all takes them again.
func (w *walker) giveBack() {
	if on := w.s.WaitsOn(); w.s.ending != nil || w.s.cancel != nil || on != OnApproval && on != OnAnswer {
		return
	}
	needed := map[string]bool{}
	for _, t := range w.s.touchOrder {
		if t.Stands() && (t.Proof != Passes || w.mayBeUndone(t)) {
			needed[w.s.addressOf(t)] = true
		}
	}
	for _, k := range w.keysAhead() {
		needed[k] = true
	}
	var free []string
	for _, key := range slices.Sorted(maps.Keys(w.s.locks)) {
		if strings.HasPrefix(key, "host:") && !needed[key] {
			free = append(free, key)
		}
	}
	if len(free) > 0 {
		w.emit(Place{}, LocksGivenBack{Keys: free})
	}
}

// mayBeUndone reports whether a block around a touch that is not over would undo it where something in it goes wrong.
func (w *walker) mayBeUndone(t *Touch) bool {
	if w.s.book.OnError.Word == runbook.UndoWord {
		return true
	}
	for place, st := range w.s.steps {
		if st.done || st.callEnded != nil || place == t.Place || !t.Place.In(place) {
			continue
		}
		if s, _ := Find(w.s.book, place); s != nil && s.OnError.Word == runbook.UndoWord {
			return true
		}
	}
	return false
}
