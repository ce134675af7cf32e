package incident

import (
	"fmt"
	"strings"
	"time"
)

// Fate is how a change went, as it stood when its run was over.
type Fate string

// The fates, from the one that is best known to the worst.
const (
	Proven    Fate = "proven"     // a check found that it helped
	Done      Fate = "done"       // nothing says whether it helped
	NotHelped Fate = "not-helped" // a check found that it did not help
	Undone    Fate = "undone"
	Failed    Fate = "failed"
	Unknown   Fate = "unknown" // nobody knows whether it happened
)

// Fates lists them in that order.
var Fates = []Fate{Proven, Done, NotHelped, Undone, Failed, Unknown}

var fateSays = map[Fate]string{
	Proven: "proved", Done: "done, not proved", NotHelped: "did not help", Undone: "undone",
	Failed: "failed", Unknown: "of unknown outcome",
}

// Says is the fate in words.
func (f Fate) Says() string { return fateSays[f] }

// Went is how a change of a run went. Step is the step of its runbook, by its id or its place in the text.
type Went struct {
	Runbook, Step, Title string
	Fate                 Fate
	Targets              int // on how many targets it was begun
}

// History is how a step went before.
type History struct {
	Here      map[Fate]int // on this service
	Elsewhere map[Fate]int // on other services
	Last      *LastTime    // on this service, or elsewhere where it was never done here; nil: it was never done
}

// LastTime is when a step was done last.
type LastTime struct {
	At       time.Time
	Fate     Fate
	Service  string
	Incident int64 // 0 without one
	Run      string
}

// Says tells in a line how a step went before on a service.
func (h History) Says(service string) string {
	here, elsewhere := total(h.Here), total(h.Elsewhere)
	switch {
	case here+elsewhere == 0:
		return "Never done on this service."
	case here == 0:
		return fmt.Sprintf("Never done on %s; on other services %s.", service, tally(h.Elsewhere))
	case elsewhere == 0:
		return fmt.Sprintf("On %s: %s.", service, tally(h.Here))
	}
	return fmt.Sprintf("On %s: %s; on other services %s.", service, tally(h.Here), tally(h.Elsewhere))
}

func total(of map[Fate]int) (n int) {
	for _, x := range of {
		n += x
	}
	return n
}

// tally says how often, and how: "3 times, 2 proven, 1 undone".
func tally(of map[Fate]int) string {
	n := total(of)
	out := fmt.Sprintf("%d times", n)
	if n == 1 {
		out = "once"
	}
	var how []string
	for _, f := range Fates {
		switch x := of[f]; {
		case x == n && n == 1:
			return out + ", " + f.Says()
		case x == n:
			return out + ", each " + f.Says()
		case x > 0:
			how = append(how, fmt.Sprintf("%d %s", x, f.Says()))
		}
	}
	return out + ": " + strings.Join(how, ", ")
}
