package incident

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"
)

// Outcomes are how an incident can end, the one first that counts most where several of its alerts ended differently.
var Outcomes = []string{NotRepaired, Mitigated, RepairedByHand, Repaired, ClearedItself, FalseAlarm}

// The outcomes.
const (
	NotRepaired    = "not-repaired"
	Mitigated      = "mitigated"
	RepairedByHand = "repaired-by-hand"
	Repaired       = "repaired"
	ClearedItself  = "cleared-itself"
	FalseAlarm     = "false-alarm"
)

// Now is an incident as it is judged whether it ends. All of it was read in one transaction.
type Now struct {
	// Working are the runs that are under way, as people name them.
	Working []string
	// Unsettled are open alerts that nothing was enough for, the worst first; More is how many there are besides.
	Unsettled []Unsettled
	More      int
	HandOvers []HandOver
	// Holder has it; "" for nobody.
	Holder string
	// Treated are how its alerts, or the incident itself, were treated by runs that said how it ended.
	Treated []Treated
	// Untreated reports whether an alert of it is over that no run treated.
	Untreated bool
	// Quiet says that all its alerts have been over for a while.
	Quiet bool
}

// Unsettled is an open alert that nothing was enough for.
type Unsettled struct {
	Alert, Summary, Severity string
	Why                      Why
	MutedUntil               time.Time // planned work; zero for none
}

// Why is why an open alert is unsettled.
type Why string

// The reasons.
const (
	NoRunWorked   Why = "no runbook worked on it"
	WorseSince    Why = "worse since"
	ReportedSince Why = "reported again since"
	StartPending  Why = "a runbook may start for it yet"
)

// HandOver is a run that left its matter to people, who have not said that they have done with it.
type HandOver struct {
	Run, Runbook, To, State string
	At                      time.Time
}

// Treated is how a run said that what it was begun for ended.
type Treated struct {
	Outcome, Because, Run string
}

// End is what follows of an incident.
type End struct {
	// Outcome ends it; "" where it stays open.
	Outcome, Because string
	// Open are all reasons for which it stays open, in words.
	Open []string
	// Works says that a run is under way, Muted that nothing but planned work keeps it open.
	Works, Muted bool
	// Kept is who has it and is to close it; "" where it is no such reason.
	Kept string
}

// Ends tells whether an incident is over: where all that is open in it is over or judged, nobody was handed any of it,
// and nobody has taken it. What counts most of how its alerts ended is how it ends.
func Ends(n Now) End {
	var e End
	for _, run := range n.Working {
		e.Open = append(e.Open, run+" still works")
	}
	e.Works = len(n.Working) > 0
	e.unsettled(n)
	for _, h := range n.HandOvers {
		if h.To == "" {
			e.Open = append(e.Open, fmt.Sprintf("%s ended as %s at %s", h.Runbook, h.State, clock(h.At)))
		} else {
			e.Open = append(e.Open, fmt.Sprintf("handed over to %s at %s", h.To, clock(h.At)))
		}
	}
	if n.Holder != "" {
		e.Open, e.Kept = append(e.Open, n.Holder+" has it and closes it"), n.Holder
	}
	if len(e.Open) > 0 || len(n.Treated) == 0 && !n.Quiet {
		return e
	}
	worst := Treated{Outcome: ClearedItself, Because: "all its alerts are over, and nobody has it"}
	if len(n.Treated) > 0 {
		first := slices.MinFunc(n.Treated, func(a, b Treated) int {
			return cmp.Compare(weight(a.Outcome), weight(b.Outcome))
		})
		if !n.Untreated || weight(first.Outcome) <= weight(ClearedItself) {
			worst = first
		}
	}
	e.Outcome, e.Because = worst.Outcome, worst.Because
	return e
}

// mostNamed bounds how many alerts are named that keep an incident open.
const mostNamed = 3

func (e *End) unsettled(n Now) {
	if len(n.Unsettled) == 0 {
		return
	}
	muted := func(u Unsettled) bool { return !u.MutedUntil.IsZero() }
	left := slices.DeleteFunc(slices.Clone(n.Unsettled), muted)
	if len(left) == 0 && n.More == 0 {
		last := slices.MaxFunc(n.Unsettled, func(a, b Unsettled) int { return a.MutedUntil.Compare(b.MutedUntil) })
		e.Muted = true
		e.Open = append(e.Open, "planned work until "+clock(last.MutedUntil))
		return
	}
	for _, u := range left[:min(mostNamed, len(left))] {
		e.Open = append(e.Open, fmt.Sprintf("%s is open (%s): %s", u.Summary, u.Severity, u.Why))
	}
	if more := len(left) + n.More - min(mostNamed, len(left)); more > 0 {
		e.Open = append(e.Open, fmt.Sprintf("%d more alerts are open", more))
	}
}

// Says tells in a line why it stays open.
func (e End) Says() string { return strings.Join(e.Open, "; ") }

// weight is how much an outcome counts, the smallest most.
func weight(outcome string) int {
	if i := slices.Index(Outcomes, outcome); i >= 0 {
		return i
	}
	return len(Outcomes)
}

func clock(at time.Time) string { return at.UTC().Format("15:04 MST") }
