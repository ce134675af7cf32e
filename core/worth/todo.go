package worth

import (
	"fmt"

	"urgentis/core/plain"
)

// Says is the report in one sentence.
func (r *Report) Says() string {
	if r.Incidents == 0 {
		return "No incident was closed"
	}
	saved := "Nothing known to be saved"
	if r.Saved.Saved > 0 {
		saved = plain.Lasted(r.Saved.Saved) + " saved, as authors estimate"
	}
	return fmt.Sprintf("%s; %d of %s needed nobody", saved, r.Alone.N, many(r.Incidents, "incident"))
}

// ToDo is something that somebody should look at, and the figure that says so.
type ToDo struct {
	Title, Says string
	Figure, Of  string
	Incidents   int
}

// From how many of a kind on something is to do: fewer may be chance.
const (
	leastFalse     = 3
	leastNoRunbook = 2
)

// toDo lists sources most of whose incidents are false alarms, what no runbook starts for, and runbooks that do badly.
func (r *Report) toDo() []ToDo {
	var out []ToDo
	for _, s := range r.Sources {
		if s.FalseAlarms >= leastFalse && 2*s.FalseAlarms > s.N {
			out = append(out, ToDo{"Look at the limits of " + s.Title,
				fmt.Sprintf("%d of %s were false alarms", s.FalseAlarms, many(s.N, "incident")), OfFalseAlarm, s.Of,
				s.FalseAlarms})
		}
	}
	for _, n := range r.NoRunbook {
		if n.N >= leastNoRunbook {
			out = append(out, ToDo{"No runbook starts for " + n.Title, "people were needed on " + many(n.N, "incident"),
				OfNoRunbook, n.Of, n.N})
		}
	}
	for _, b := range r.Runbooks {
		if b.Verdict != "" {
			out = append(out, ToDo{b.Name + ": " + b.Verdict, b.Says, OfRunbook, b.Name, b.Incidents})
		}
	}
	return out
}
