package flow

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"urgentis/core/leave"
	"urgentis/core/runbook"
)

// The world of these tests holds a number on each host. A change adds to it and its undo takes that off again, however
// often either is carried out; its end is seen, is not seen, or is told late. What the run says at its end must be true
// of these numbers.
// earth is the world: what is on its hosts, what is allowed, and what time it is.
type earth struct {
	t       *rapid.T
	now     time.Time
	number  map[string]int // by address
	ensured map[string]bool
	stance  leave.Stance
	halted  bool
	key     map[string]string // the host key of each address
	reason  int64
	holder  map[string]string // of locks
	ran     map[string]int    // how often something was carried out, by run, place, target and purpose
	yes     map[string]leave.Proposal
	until   map[string]time.Time
	within  map[string]time.Duration
	faults  int
	secret  int           // the version of the secret
	file    int           // the version of the file in the store
	jobs    int           // that other systems began
	looks   time.Duration // what a look takes
	jumps   int           // how often time went on, or a clock stepped, while nobody did anything
	clock   time.Duration // how much the clock of the instance that plans is off
}

func (w *earth) draw(label string, n int) int { return rapid.IntRange(0, n-1).Draw(w.t, label) }

var addresses = map[string]string{"g1": "10.0.0.1", "g2": "10.0.0.2", "g3": "10.0.0.3", "alias": "10.0.0.2"}

// turn lets something happen in the world between the steps of runs.
func (w *earth) turn(runs []*mission) {
	for _, p := range runs {
		// The second in which nobody looks after a job is short: what could make the run forget it happens then.
		switch {
		case !p.adrift() || w.draw("adrift", 3) != 0:
		case w.draw("clears", 2) == 0:
			p.fact(Event{Body: AlertChanged{State: "cleared", Cleared: true}})
		default:
			w.jumps++
			w.now = w.now.Add(3 * time.Hour)
		}
	}
	switch w.draw("turn", 60) {
	case 0:
		w.stance = []leave.Stance{leave.Ask, leave.Act, leave.Act, leave.Suggest}[w.draw("stance", 4)]
	case 1:
		if w.halted = !w.halted; !w.halted {
			for _, p := range runs {
				if p.end == nil && p.m != nil && p.stored == len(p.log) {
					p.fact(Event{Body: Resumed{By: "mara"}})
				}
			}
		}
	case 2:
		w.key[addresses[[]string{"g1", "g2", "g3"}[w.draw("host", 3)]]] += "x"
	case 3:
		w.reason = int64(w.draw("reason", 2) + 2)
	case 4:
		w.jumps++
		w.now = w.now.Add(time.Duration(w.draw("hours", 9)) * time.Hour)
	case 5:
		w.jumps++
		w.clock = time.Duration(w.draw("off", 3)-1) * time.Hour
	case 6, 7:
		p := runs[w.draw("run", len(runs))]
		if p.end == nil && p.m != nil && p.stored == len(p.log) && w.draw("cancels", 6) == 0 {
			p.fact(Event{Body: CancelAsked{By: "mara", Undo: w.draw("undo", 2) == 0}})
		}
	case 8:
		p := runs[w.draw("run", len(runs))]
		if p.end == nil && p.m != nil && p.stored == len(p.log) {
			p.fact(Event{Body: AlertChanged{State: "cleared", Cleared: true}})
		}
	case 9:
		runs[w.draw("run", len(runs))].thaw()
	case 10:
		w.secret++
	case 11:
		w.file++
	}
}

// feed is the file of the store as leave names it.
func (w *earth) feed() string { return fmt.Sprintf("%064x %d", w.file, 10) }

// turnsBetween lets the world change between two questions of one plan, by what no run is told of.
func (w *earth) turnsBetween() {
	switch w.draw("between", 40) {
	case 0:
		w.stance = []leave.Stance{leave.Ask, leave.Act, leave.Suggest}[w.draw("stance", 3)]
	case 1:
		w.key[addresses[[]string{"g1", "g2", "g3"}[w.draw("host", 3)]]] += "x"
	case 2:
		w.secret++
	case 3:
		w.file++
	}
}

// interval is what a line of the last sentence says that is on a host of what a change adds.
func interval(says string, n int) (low, high int) {
	for _, x := range []struct {
		with      string
		low, high int
	}{
		{"done, twice", 2 * n, 2 * n}, {"done in part", 0, n}, {"done", n, n}, {"undone", 0, 0},
		{"not begun", 0, 0},
	} {
		if strings.HasPrefix(says, x.with) {
			return x.low, x.high
		}
	}
	return 0, n
}

// TestTheLastSentenceIsTrue plays generated runbooks in such a world, two runs at a time, and wants the number on each
// host at the end to be what the runs say in their last sentences; nothing begun without what it takes; and nothing
// carried out more often than somebody let it.
func TestTheLastSentenceIsTrue(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		w := &earth{
			t: t, now: time.Date(2031, 3, 1, 2, 0, 0, 0, time.UTC), number: map[string]int{},
			ensured: map[string]bool{},
			secret:  1,
			stance:  leave.Act, key: map[string]string{"10.0.0.1": "k", "10.0.0.2": "k", "10.0.0.3": "k"}, reason: 3,
			holder: map[string]string{}, ran: map[string]int{},
			yes: map[string]leave.Proposal{}, until: map[string]time.Time{}, within: map[string]time.Duration{},
			faults: rapid.IntRange(0, 5).Draw(t, "faults"),
			looks:  rapid.SampledFrom([]time.Duration{0, 0, 0, 70 * time.Second}).Draw(t, "looks"),
		}
		var runs []*mission
		adds := map[string]int{}
		src := ""
		for i := range 2 {
			a := &scribe{t: t, adds: map[string]int{}}
			a.n = 10 * i // what one run adds is told from what the other does
			src = a.book()
			for k, v := range a.adds {
				adds[fmt.Sprint(i, k)] = v
			}
			b, found := runbook.Parse([]byte(src))
			if found.Failed() {
				t.Skip("the checker refuses it")
			}
			runs = append(runs, newMission(w, fmt.Sprint("r", i), b, src))
		}
		for n := 0; slices.ContainsFunc(runs, func(p *mission) bool { return p.end == nil }); n++ {
			require.Less(t, n, 4000, "it does not end:\n%s\n%s\n%s\n%s", runs[0].source, runs[0].told(), runs[1].source,
				runs[1].told())
			w.turn(runs)
			moved, wake := false, time.Time{}
			for _, p := range runs {
				if p.end != nil {
					continue
				}
				did, at := p.step()
				moved = moved || did
				if !at.IsZero() && (wake.IsZero() || at.Before(wake)) {
					wake = at
				}
			}
			if !moved {
				w.jumps++
				w.now = later(w.now.Add(time.Second), wake.Add(-w.clock))
				w.halted = w.halted && n < 3000
			}
		}
		for _, p := range runs {
			for p.thaw() {
			}
		}
		for host, at := range map[string]string{"g1": "10.0.0.1", "g2": "10.0.0.2", "g3": "10.0.0.3"} {
			low, high, said := 0, 0, ""
			for i, p := range runs {
				for _, l := range p.end.Changes {
					require.NotContains(t, l.Says, "it may still run", "a job is left alone:\n%s\n%s", p.source, p.told())
					for _, on := range l.Targets {
						if addresses[on] == at {
							a, b := interval(l.Says, adds[fmt.Sprint(i, l.Title)])
							low, high = low+a, high+b
							said += fmt.Sprintf("%s: %s\n", p.id, l)
						}
					}
				}
			}
			require.True(t, low <= w.number[at] && w.number[at] <= high, "on %s are %d, said is %d to %d:\n%s\n%s\n%s\n%s\n%s",
				host, w.number[at], low, high, said, runs[0].source, runs[0].told(), runs[1].source, runs[1].told())
		}
		for what, n := range w.ran {
			p := runs[int(what[1]-'0')]
			require.LessOrEqual(t, n, 1+p.agains(what), "%s was carried out %d times\n%s\n%s", what, n, p.source, p.told())
		}
	})
}
