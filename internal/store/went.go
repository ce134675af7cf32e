package store

import (
	"fmt"
	"time"

	"urgentis/core/incident"
)

// Went is how a change of a run went, as the run ended.
type Went struct {
	Run, Step, Title, Runbook, Service string
	Incident                           *int64
	At                                 time.Time
	Fate                               string
	Targets                            int
}

// RunsBefore is how runs of a runbook ended before one.
type RunsBefore struct{ Closed, HandedOver, Others int }

// Says tells it in a line.
func (r RunsBefore) Says() string {
	n := r.Closed + r.HandedOver + r.Others
	if n == 0 {
		return "The runbook never ran before."
	}
	return fmt.Sprintf("Of the %d last runs of the runbook %d said how what they were begun for ended, %d were handed "+
		"over.", n, r.Closed, r.HandedOver)
}

// RunsBeforeOf tells how the last runs of a runbook ended, of the last hundred that are over, but for one.
func (tx *Tx) RunsBeforeOf(runbook, but string) (RunsBefore, error) {
	list, err := scan[RunsBefore](tx, `select count(*) filter (where state = 'done' and ended_it) as closed,
			count(*) filter (where state = 'handed-over') as handed_over,
			count(*) filter (where state <> 'handed-over' and not (state = 'done' and ended_it)) as others
		from (select state, exists (select from treats t where t.run = run.id and t.outcome <> '') as ended_it
			from run where runbook = ? and id <> ? and ended_at is not null
			order by begun_at desc limit 100) r`, runbook, but)
	if err != nil || len(list) == 0 {
		return RunsBefore{}, err
	}
	return list[0], nil
}

// mostRemembered bounds how many times of a step are looked back at.
const mostRemembered = 1000

// WentBefore tells how a step went before, on a service and on others; of the last thousand times.
func (tx *Tx) WentBefore(runbook, step, service string) (incident.History, error) {
	type row struct {
		Fate string
		Here bool
		N    int
	}
	out := incident.History{Here: map[incident.Fate]int{}, Elsewhere: map[incident.Fate]int{}}
	rows, err := scan[row](tx, `select fate, service = ? as here, count(*) as n
		from (select fate, service from went where runbook = ? and step = ? order by at desc limit ?) w
		group by fate, here`, service, runbook, step, mostRemembered)
	if err != nil {
		return out, fmt.Errorf("read how a step went before: %w", err)
	}
	for _, r := range rows {
		if r.Here {
			out.Here[incident.Fate(r.Fate)] = r.N
		} else {
			out.Elsewhere[incident.Fate(r.Fate)] = r.N
		}
	}
	last, err := scan[Went](tx, `select * from went where runbook = ? and step = ?
		order by service = ? desc, at desc limit 1`, runbook, step, service)
	if err != nil || len(last) == 0 {
		return out, err
	}
	l := last[0]
	out.Last = &incident.LastTime{At: l.At.UTC(), Fate: incident.Fate(l.Fate), Service: l.Service, Run: l.Run}
	if l.Incident != nil {
		out.Last.Incident = *l.Incident
	}
	return out, nil
}
