package worth

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"time"

	"urgentis/core/incident"
	"urgentis/core/plain"
)

// What figures count. Some are of something: an outcome, a service, a month, a source, a runbook, a signal.
const (
	OfAll        = "closed"
	OfEvidence   = "evidence" // how long until evidence was whole
	OfDecision   = "decision" // from being asked to the decision
	OfRecovery   = "recovery"
	OfAlone      = "without-people" // nobody acted, nobody was called, and it was not over by itself
	OfAssisted   = "assisted"       // people acted, and a runbook ended well
	OfSaved      = "saved"
	OfCameBack   = "came-back"
	OfOutcome    = "outcome"
	OfService    = "service"
	OfMonth      = "month"
	OfSource     = "source"
	OfFalseAlarm = "false-alarm" // of a source
	OfRunbook    = "runbook"
	OfHelped     = "helped" // by a runbook
	OfNoRunbook  = "no-runbook"
)

// Figures lists them all.
var Figures = []string{OfAll, OfEvidence, OfDecision, OfRecovery, OfAlone, OfAssisted, OfSaved, OfCameBack, OfOutcome,
	OfService, OfMonth, OfSource, OfFalseAlarm, OfRunbook, OfHelped, OfNoRunbook}

// counts are the rules of what each figure counts.
var counts = map[string]func(f *Facts, of string) bool{
	OfAll:      func(*Facts, string) bool { return true },
	OfEvidence: func(f *Facts, _ string) bool { return !f.Evidence.IsZero() },
	OfDecision: func(f *Facts, _ string) bool { return !f.Decided.IsZero() },
	OfRecovery: func(f *Facts, _ string) bool { return !f.Recovered.IsZero() },
	OfAlone: func(f *Facts, _ string) bool {
		return len(f.People) == 0 && f.Called == 0 && f.Outcome != incident.ClearedItself
	},
	OfAssisted: func(f *Facts, _ string) bool { return len(f.People)+f.Called > 0 && f.helped("") },
	OfSaved:    func(f *Facts, _ string) bool { return f.Saved() > 0 },
	OfCameBack: func(f *Facts, _ string) bool { return f.CameBack },
	OfOutcome:  func(f *Facts, of string) bool { return f.Outcome == of },
	OfService:  func(f *Facts, of string) bool { return f.Service == of },
	OfMonth:    func(f *Facts, of string) bool { return month(f) == of },
	OfSource:   func(f *Facts, of string) bool { return f.Source == of },
	OfFalseAlarm: func(f *Facts, of string) bool {
		return f.Source != "" && (of == "" || f.Source == of) && f.Outcome == incident.FalseAlarm
	},
	OfRunbook: func(f *Facts, of string) bool { return f.ran(of) },
	OfHelped:  func(f *Facts, of string) bool { return f.helped(of) },
	OfNoRunbook: func(f *Facts, of string) bool {
		return slices.ContainsFunc(f.NoRunbook, func(s Signal) bool { return s.String() == of })
	},
}

// Counted lists the incidents that a figure counts, in their order. Of is what it is of, where it is of something.
func Counted(list []Facts, figure, of string) []Facts {
	counts := counts[figure]
	if counts == nil {
		return nil
	}
	var out []Facts
	for i := range list {
		if counts(&list[i], of) {
			out = append(out, list[i])
		}
	}
	return out
}

// String names a signal as figures do: SOURCE, or SOURCE: SIGNAL.
func (s Signal) String() string {
	if s.Signal == "" {
		return s.Source
	}
	return s.Source + ": " + s.Signal
}

func month(f *Facts) string { return f.Closed.UTC().Format("2006-01") }

// Well reports whether an outcome is one that a runbook is there for.
func Well(outcome string) bool {
	return outcome == incident.Repaired || outcome == incident.Mitigated || outcome == incident.FalseAlarm
}

// Saved is what the runbooks saved that ended well on it, as their authors estimate; nothing where it came back.
func (f *Facts) Saved() time.Duration {
	var sum time.Duration
	for _, r := range f.Runs {
		if Well(r.Outcome) && !f.CameBack {
			sum += r.Saves
		}
	}
	return sum
}

func (f *Facts) ran(runbook string) bool {
	return slices.ContainsFunc(f.Runs, func(r Run) bool { return r.Runbook == runbook })
}

// helped reports whether a run of a runbook, "" of any, ended well and it did not come back.
func (f *Facts) helped(runbook string) bool {
	return !f.CameBack && slices.ContainsFunc(f.Runs, func(r Run) bool {
		return (runbook == "" || r.Runbook == runbook) && Well(r.Outcome)
	})
}

// Spread is how long something took, over the incidents of which it is known.
type Spread struct {
	Figure      string
	Title       string
	Median, P90 time.Duration
	Of          int
}

// Says tells a spread in words.
func (s Spread) Says() string {
	if s.Of == 0 {
		return "not known of any incident"
	}
	return fmt.Sprintf("median %s, 9 of 10 within %s, of %s", plain.Lasted(s.Median), plain.Lasted(s.P90),
		many(s.Of, "incident"))
}

// Count is how many incidents something is true of, and of how many that is a share.
type Count struct {
	Figure, Of string
	Title      string
	N, All     int
	Saved      time.Duration
}

// Group is what the report says of a part of its incidents.
type Group struct {
	Count
	Evidence, Decision, Recovery Spread
	Alone, Assisted              int
	FalseAlarms, CameBack        int
}

// Known is a runbook that there is, as it is since a time.
type Known struct {
	Name  string
	Since time.Time
}

// Runbook is how one did.
type Runbook struct {
	known              time.Duration // since when it is as it is
	Name               string
	Incidents, Helped  int
	HandedOver, Failed int
	CameBack           int
	Saved              time.Duration
	Verdict            string // Fails, HelpsNoLonger, NotStarted or ""
	Says               string
	Last               time.Time
	recent, before     [2]int // helped, all: of the last 30 days, of the 90 days before
}

// What is said of a runbook that does badly.
const (
	Fails         = "fails"
	HelpsNoLonger = "helps no longer"
	NotStarted    = "not started"
)

// Report counts the facts of a time.
type Report struct {
	From, Until time.Time
	Incidents   int
	Spreads     []Spread
	Alone       Count
	CameBack    Count
	FalseAlarms Count
	Saved       Count
	Outcomes    []Count
	Months      []Group
	Services    []Group
	Sources     []Group
	Runbooks    []Runbook
	NoRunbook   []Count
	ToDo        []ToDo
}

// How far back a runbook is judged.
const (
	recentDays = 30
	olderDays  = 90
)

// Looked is how far before the end of a report facts are wanted, so that runbooks can be judged.
const Looked = (recentDays + olderDays) * 24 * time.Hour

// Make reports on the incidents that were closed from a time until another one. The list may hold older ones, by which
// runbooks are judged; runbooks are those that there are.
func Make(list []Facts, runbooks []Known, from, until time.Time) *Report {
	var in []Facts
	for _, f := range list {
		if !f.Closed.Before(from) && f.Closed.Before(until) {
			in = append(in, f)
		}
	}
	r := &Report{From: from, Until: until, Incidents: len(in), Spreads: spreads(in)}
	r.Alone = count(in, OfAlone, "", "without people")
	r.CameBack = count(in, OfCameBack, "", "came back within a day")
	r.FalseAlarms = count(in, OfFalseAlarm, "", "false alarms")
	r.Saved = count(in, OfSaved, "", "saved by runbooks, as their authors estimate")
	for _, o := range incident.Outcomes {
		if c := count(in, OfOutcome, o, o); c.N > 0 {
			r.Outcomes = append(r.Outcomes, c)
		}
	}
	slices.SortStableFunc(r.Outcomes, func(a, b Count) int { return cmp.Compare(b.N, a.N) })
	r.Months = groups(in, OfMonth, month)
	r.Services = most(groups(in, OfService, func(f *Facts) string { return f.Service }))
	r.Sources = most(groups(in, OfSource, func(f *Facts) string { return f.Source }))
	r.Runbooks = judge(list, in, runbooks, until)
	r.NoRunbook = without(in)
	r.ToDo = r.toDo()
	return r
}

func many(n int, of string) string {
	if n == 1 {
		return "1 " + of
	}
	return fmt.Sprintf("%d %ss", n, of)
}

func count(list []Facts, figure, of, title string) Count {
	found := Counted(list, figure, of)
	c := Count{Figure: figure, Of: of, Title: title, N: len(found), All: len(list)}
	for i := range found {
		c.Saved += found[i].Saved()
	}
	return c
}

// took is how long each figure took on an incident that it counts.
var took = []struct {
	figure, title string
	long          func(*Facts) time.Duration
}{
	{OfEvidence, "until evidence was whole", func(f *Facts) time.Duration { return f.Evidence.Sub(f.Opened) }},
	{OfDecision, "from being asked to the decision", func(f *Facts) time.Duration { return f.Decided.Sub(f.Asked) }},
	{OfRecovery, "until it had recovered", func(f *Facts) time.Duration { return f.Recovered.Sub(f.Opened) }},
}

func spreads(list []Facts) []Spread {
	out := make([]Spread, len(took))
	for i, t := range took {
		var all []time.Duration
		for _, f := range Counted(list, t.figure, "") {
			all = append(all, max(0, t.long(&f)))
		}
		out[i] = spread(all)
		out[i].Figure, out[i].Title = t.figure, t.title
	}
	return out
}

// spread gives the median, and what nine of ten do not exceed (nearest rank).
func spread(all []time.Duration) Spread {
	n := len(all)
	if n == 0 {
		return Spread{}
	}
	slices.Sort(all)
	return Spread{
		Median: (all[(n-1)/2] + all[n/2]) / 2,
		P90:    all[max(0, int(math.Ceil(0.9*float64(n)))-1)],
		Of:     n,
	}
}

func groups(list []Facts, figure string, of func(*Facts) string) []Group {
	parts := map[string][]Facts{}
	var names []string
	for i := range list {
		name := of(&list[i])
		if name == "" {
			continue
		}
		if parts[name] == nil {
			names = append(names, name)
		}
		parts[name] = append(parts[name], list[i])
	}
	slices.Sort(names)
	out := make([]Group, len(names))
	for i, name := range names {
		part := parts[name]
		s := spreads(part)
		out[i] = Group{
			Count: count(part, figure, name, name), Evidence: s[0], Decision: s[1], Recovery: s[2],
			Alone: len(Counted(part, OfAlone, "")), Assisted: len(Counted(part, OfAssisted, "")),
			FalseAlarms: len(Counted(part, OfFalseAlarm, "")), CameBack: len(Counted(part, OfCameBack, "")),
		}
		out[i].All = len(list)
	}
	return out
}

// most orders groups by how many incidents they have.
func most(list []Group) []Group {
	slices.SortStableFunc(list, func(a, b Group) int { return cmp.Compare(b.N, a.N) })
	return list
}

func without(list []Facts) []Count {
	var names []string
	for _, f := range list {
		for _, s := range f.NoRunbook {
			if !slices.Contains(names, s.String()) {
				names = append(names, s.String())
			}
		}
	}
	slices.Sort(names)
	out := make([]Count, len(names))
	for i, n := range names {
		out[i] = count(list, OfNoRunbook, n, n)
	}
	slices.SortStableFunc(out, func(a, b Count) int { return cmp.Compare(b.N, a.N) })
	return out
}
