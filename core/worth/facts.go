package worth

import (
	"slices"
	"strings"
	"time"

	"urgentis/core/incident"
)

// Facts are what the record of one incident that is over says in figures. A zero time is of what did not happen, or is
// not known.
type Facts struct {
	Number   int64     `json:"number"`
	Title    string    `json:"title"`
	Service  string    `json:"service"`
	Severity string    `json:"severity"`
	Outcome  string    `json:"outcome"`
	Opened   time.Time `json:"opened"`
	Closed   time.Time `json:"closed"`
	// Source, Key and Signal are of its first alert.
	Source string `json:"source,omitempty"`
	Key    string `json:"key,omitempty"`
	Signal string `json:"signal,omitempty"`
	// Evidence is when the first look was taken that missed nothing. Asked is when somebody was first asked who then
	// decided, at Decided. Changed is when the first change began.
	Evidence time.Time `json:"evidence,omitzero"`
	Asked    time.Time `json:"asked,omitzero"`
	Decided  time.Time `json:"decided,omitzero"`
	Changed  time.Time `json:"changed,omitzero"`
	// Recovered is when its last change was proved, or all of its alerts were over; Proved says that a proof is among
	// it.
	Recovered time.Time `json:"recovered,omitzero"`
	Proved    bool      `json:"proved,omitempty"`
	// Waited is how long it waited for people's decisions, all of them together.
	Waited time.Duration `json:"waited,omitempty"`
	// People are who did something on it, Called how often somebody was called.
	People []string `json:"people,omitempty"`
	Called int      `json:"called,omitempty"`
	Runs   []Run    `json:"runs,omitempty"`
	// NoRunbook are its alerts for which no runbook started by itself.
	NoRunbook []Signal `json:"no_runbook,omitempty"`
	// CameBack says that its first alert was raised again within a day of its end. No record of its own says it.
	CameBack bool `json:"came_back,omitempty"`
}

// Run is a run that worked on it.
type Run struct {
	ID       string `json:"id"`
	Runbook  string `json:"runbook"`
	Revision string `json:"revision"`
	// Outcome is the one that it said, or handed-over, failed, cancelled; "" for none.
	Outcome string `json:"outcome,omitempty"`
	// Saves is what its author estimates that a person needs to do it by hand; no record of an incident says it.
	Saves time.Duration `json:"saves,omitempty"`
}

// Signal is what a source reports, without what it is about.
type Signal struct {
	Source string `json:"source"`
	Signal string `json:"signal,omitempty"`
}

// Gather takes the entries of one record, in their order, and makes facts of them.
type Gather struct {
	facts    Facts
	asked    map[string]time.Time // by gate or question
	open     map[string]bool      // alerts
	alerts   map[string]bool
	last     incident.AlertContent
	cleared  time.Time // since when all alerts are over
	proved   time.Time // the last change, if it is
	unproved bool      // a change began since the last proof
	over     bool
}

// NewGather begins with what the head of the record says.
func NewGather(head Facts) *Gather {
	return &Gather{facts: head, asked: map[string]time.Time{}, open: map[string]bool{}, alerts: map[string]bool{}}
}

// person is whether an entry's actor is a person or a token of one, and no part of the service.
func person(actor string) bool {
	return actor != "" && actor != "urgentis" && !strings.Contains(actor, ":")
}

// Add takes an entry. What came after the end is about it, and no part of it.
func (g *Gather) Add(e *incident.Entry) {
	switch e.Kind {
	case incident.Closed:
		g.over = true
	case incident.Reopened:
		g.over = false
	}
	if g.over {
		return
	}
	if person(e.Actor) && !slices.Contains(g.facts.People, e.Actor) {
		g.facts.People = append(g.facts.People, e.Actor)
	}
	switch c := e.Read().(type) {
	case incident.AlertContent:
		g.alert(e, c)
	case incident.AttemptContent:
		if e.Kind == incident.LookTaken && len(c.Missing) == 0 {
			first(&g.facts.Evidence, e.At)
		}
	case incident.IntentContent:
		if e.Kind == incident.ChangeBegun {
			first(&g.facts.Changed, e.At)
			g.unproved = true
		}
	case incident.JudgedContent:
		if e.Kind == incident.CheckPasses && c.Proves != "" {
			g.proved, g.unproved = e.At, false
		}
	case incident.PeopleContent:
		if e.Kind == incident.CalledOut {
			g.facts.Called++
		}
	default:
		g.decisions(e)
		g.runs(e)
	}
}

func first(at *time.Time, now time.Time) {
	if at.IsZero() {
		*at = now
	}
}

func (g *Gather) alert(e *incident.Entry, c incident.AlertContent) {
	switch e.Kind {
	case incident.AlertRaised, incident.AlertJoined, incident.AlertWorse:
		if len(g.alerts) == 0 {
			g.facts.Source, g.facts.Key, g.facts.Signal = c.Source, c.Key, c.Labels["signal"]
		}
		g.alerts[c.ID], g.open[c.ID], g.cleared, g.last = true, true, time.Time{}, c
	case incident.AlertCleared:
		delete(g.open, c.ID)
		if len(g.open) == 0 {
			g.cleared = e.At
		}
	}
}

func (g *Gather) decisions(e *incident.Entry) {
	switch c := e.Read().(type) {
	case incident.GateContent:
		g.asked[c.Gate] = e.At
	case incident.QuestionContent:
		g.asked[c.Question] = e.At
	case incident.DecidedContent:
		if e.Kind == incident.GateApproved || e.Kind == incident.GateRefused {
			g.decided(e, c.Gate)
		}
	case incident.AnswerContent:
		if e.Kind == incident.QuestionAnswered {
			g.decided(e, c.Question)
		}
	}
}

// decided notes a decision, if a person gave it.
func (g *Gather) decided(e *incident.Entry, of string) {
	asked, was := g.asked[of]
	if !was || !person(e.Actor) {
		return
	}
	delete(g.asked, of)
	g.facts.Waited += e.At.Sub(asked)
	if g.facts.Decided.IsZero() {
		g.facts.Asked, g.facts.Decided = asked, e.At
	}
}

func (g *Gather) runs(e *incident.Entry) {
	switch c := e.Read().(type) {
	case incident.BegunContent:
		if e.Kind == incident.RunBegun {
			g.facts.Runs = append(g.facts.Runs, Run{ID: e.Run, Runbook: c.Runbook, Revision: c.Revision})
			if person(c.StartedBy) && !slices.Contains(g.facts.People, c.StartedBy) {
				g.facts.People = append(g.facts.People, c.StartedBy)
			}
		}
	case incident.EndedContent:
		switch e.Kind {
		case incident.RunEnded:
			g.ended(e.Run, c.Outcome)
		case incident.RunHandedOver:
			g.ended(e.Run, HandedOver)
		}
	case incident.RunContent:
		switch e.Kind {
		case incident.RunFailed, incident.RunQuarantined:
			g.ended(e.Run, Failed)
		case incident.RunCancelled:
			g.ended(e.Run, Cancelled)
		case incident.NothingStarted:
			s := Signal{g.last.Source, g.last.Labels["signal"]}
			if s.Source != "" && !slices.Contains(g.facts.NoRunbook, s) {
				g.facts.NoRunbook = append(g.facts.NoRunbook, s)
			}
		}
	}
}

// How runs end that say no outcome.
const (
	HandedOver = "handed-over"
	Failed     = "failed"
	Cancelled  = "cancelled"
)

func (g *Gather) ended(run, how string) {
	for i := range g.facts.Runs {
		if g.facts.Runs[i].ID == run {
			g.facts.Runs[i].Outcome = how
		}
	}
}

// Facts are what was gathered.
func (g *Gather) Facts() Facts {
	f := g.facts
	f.NoRunbook = slices.Clone(f.NoRunbook)
	if f.Outcome == incident.NotRepaired || f.Outcome == incident.FalseAlarm || f.Outcome == "" {
		return f
	}
	proof := g.proved
	if g.unproved {
		proof = time.Time{}
	}
	f.Recovered = proof
	switch {
	case len(g.alerts) > 1 && len(g.open) > 0:
		f.Recovered = time.Time{} // the proof of one change says nothing of another alert
	case proof.IsZero(), len(g.alerts) > 1 && g.cleared.After(proof):
		f.Recovered = g.cleared
	}
	f.Proved = !proof.IsZero() && !f.Recovered.IsZero()
	return f
}
