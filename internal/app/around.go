package app

import (
	"cmp"
	"context"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"urgentis/core/access"
	"urgentis/core/expr"
	"urgentis/core/incident"
	"urgentis/core/tell"
	"urgentis/internal/store"
)

// Around is what stands around an incident: how wide the trouble is, what happened before it, what it was like before.
type Around struct {
	// Wide are the services that are affected, that which went bad first first.
	Wide []incident.Affected
	// Before is what happened to the services around it, the newest first: from Since until it was opened, and what was
	// deployed from a day before until it was closed.
	Before []store.Mark
	Since  time.Time
	// Odd are readings of the service in which one target stands apart from its siblings.
	Odd []OddReading
	// Courses tell what was read last before it was opened, and last of all: whether it gets worse.
	Courses []ReadingCourse
	// Returns are earlier incidents that began with the very same alert, the newest first.
	Returns []store.PastIncident
	// Lately is how many of them ended within returnsWithin before it.
	Lately int
}

// OddReading is a reading in which a target stands apart.
type OddReading struct {
	expr.Odd
	Reading, Unit string
	At            time.Time
}

// ReadingCourse is how a reading moved since an incident was opened, at the target where it moved most.
type ReadingCourse struct {
	Reading, Target, Unit string
	// Then is what was read last before the opening, nil where nothing was; Now is what was read last.
	Then          *float64
	Now           float64
	ThenAt, NowAt time.Time
	// Says is better, worse, the same or other; "not to be had" where there is no then.
	Says string
	// Targets is how many targets gave it.
	Targets int
}

const (
	// maxCourses bounds how many readings are told.
	maxCourses = 12
	// beforeOpening is how long before an incident what happened is of interest.
	beforeOpening = 2 * time.Hour
	// returnsWithin is how long ago an incident may have ended to count as one that returned lately.
	returnsWithin = 30 * 24 * time.Hour
	// nearOpening is how far from an incident siblings are compared.
	nearOpening = 15 * time.Minute
)

// Around tells what stands around an incident.
func (a *App) Around(ctx context.Context, who *access.Principal, number int64) (*Around, error) {
	tx := a.store.In(ctx)
	i, err := a.seeIncident(tx, who, number)
	if err != nil {
		return nil, err
	}
	alerts, err := tx.AlertsOf(number)
	if err != nil {
		return nil, err
	}
	services := []string{i.Service}
	for _, x := range alerts {
		if x.Service != "" && !slices.Contains(services, x.Service) {
			services = append(services, x.Service)
		}
	}
	around, err := relations(tx, services)
	if err != nil {
		return nil, err
	}
	until := a.Now()
	if i.ClosedAt != nil {
		until = *i.ClosedAt
	}
	names := namesOf(around)
	things, count, err := tx.BadThings(names, i.OpenedAt, until)
	if err != nil {
		return nil, err
	}
	out := &Around{Wide: incident.Wide(around, things, count), Since: i.OpenedAt.Add(-beforeOpening)}
	if out.Before, err = tx.Marks(names, i.OpenedAt.Add(-lookBack), until); err != nil {
		return nil, err
	}
	out.Before = slices.DeleteFunc(out.Before, func(m store.Mark) bool {
		return m.What != "deployment" && (m.At.Before(out.Since) || !m.At.Before(i.OpenedAt))
	})
	out.Before = folded(out.Before)
	if out.Odd, err = oddReadings(tx, i.Service, i.OpenedAt.Add(-nearOpening), until); err != nil {
		return nil, err
	}
	if out.Courses, err = readingCourses(tx, i.Service, i.OpenedAt, until); err != nil {
		return nil, err
	}
	return out, out.findReturns(tx, i)
}

// relations are services and those near them.
func relations(tx *store.Tx, services []string) ([]incident.Relation, error) {
	all, err := tx.Services()
	if err != nil {
		return nil, err
	}
	needs := map[string][]string{}
	for _, s := range all {
		needs[s.Name] = s.DependsOn
	}
	return incident.Around(services, incident.NewDepends(needs)), nil
}

func namesOf(around []incident.Relation) []string {
	out := make([]string, len(around))
	for i, r := range around {
		out[i] = r.Service
	}
	return out
}

// oddReadings finds the targets of a service that stood apart in what was read last within a time.
func oddReadings(tx *store.Tx, service string, from, until time.Time) ([]OddReading, error) {
	if service == "" {
		return nil, nil
	}
	rows, err := tx.NewestWithin(service, from, until)
	if err != nil {
		return nil, err
	}
	var out []OddReading
	for len(rows) > 0 {
		n := slices.IndexFunc(rows, func(r store.SeriesNow) bool { return r.Name != rows[0].Name })
		if n < 0 {
			n = len(rows)
		}
		values := map[string]float64{}
		for _, r := range rows[:n] {
			values[r.Target] = *r.Value
		}
		for _, odd := range expr.OddOnes(values) {
			k := slices.IndexFunc(rows[:n], func(r store.SeriesNow) bool { return r.Target == odd.Target })
			out = append(out, OddReading{Odd: odd, Reading: rows[0].Name, Unit: rows[0].Unit, At: rows[k].At})
		}
		rows = rows[n:]
	}
	return out, nil
}

// readingCourses tells how the readings of a service moved since a time: those first that got worse.
func readingCourses(tx *store.Tx, service string, opened, until time.Time) ([]ReadingCourse, error) {
	if service == "" {
		return nil, nil
	}
	then, err := tx.NewestWithin(service, opened.Add(-lookBack), opened)
	if err != nil {
		return nil, err
	}
	now, err := tx.NewestWithin(service, opened, until)
	if err != nil {
		return nil, err
	}
	was := map[int64]store.SeriesNow{}
	for _, s := range then {
		was[s.ID] = s
	}
	most := map[string]*ReadingCourse{}
	moved := map[string]float64{}
	for _, s := range now {
		c := ReadingCourse{Reading: s.Name, Target: s.Target, Unit: s.Unit, Now: *s.Value, NowAt: s.At, Says: tell.Gone}
		by := 0.0
		if w, ok := was[s.ID]; ok {
			c.Then, c.ThenAt, c.Says = w.Value, w.At, tell.CompareNumbers(s.Good, *w.Value, *s.Value)
			by = math.Abs(*s.Value - *w.Value)
		}
		old := most[s.Name]
		if old != nil {
			c.Targets = old.Targets
		}
		if old == nil || by > moved[s.Name] {
			most[s.Name], moved[s.Name] = &c, by
		}
		most[s.Name].Targets++
	}
	out := make([]ReadingCourse, 0, len(most))
	for _, c := range most {
		out = append(out, *c)
	}
	order := []string{tell.Worse, tell.Other, tell.Gone, tell.Better, tell.Alike}
	slices.SortFunc(out, func(a, b ReadingCourse) int {
		return cmp.Or(cmp.Compare(slices.Index(order, a.Says), slices.Index(order, b.Says)),
			cmp.Compare(a.Reading, b.Reading))
	})
	return out[:min(len(out), maxCourses)], nil
}

// findReturns finds the incidents of the service that began with the same alert.
func (o *Around) findReturns(tx *store.Tx, i *store.Incident) (err error) {
	if o.Returns, err = tx.Returns(i); err != nil {
		return err
	}
	for _, p := range o.Returns {
		if i.OpenedAt.Sub(p.At) < returnsWithin {
			o.Lately++
		}
	}
	return nil
}

// maxMarked bounds over how long marks are given at once.
const maxMarked = 400 * 24 * time.Hour

// Marks lists what happened to a service, and to what it needs, between two times, the newest first.
func (a *App) Marks(
	ctx context.Context, who *access.Principal, service string, from, until time.Time,
) ([]store.Mark, error) {
	if err := access.Can(who, access.See, access.Object{Kind: "service", Name: service, Service: service}); err != nil {
		return nil, err
	}
	if !until.After(from) || until.Sub(from) > maxMarked {
		return nil, invalid("until", "until is after from, by %d days at most", int(maxMarked.Hours()/24))
	}
	tx := a.store.In(ctx)
	if known, err := tx.Service(service); err != nil {
		return nil, err
	} else if known == nil {
		return nil, named(store.ErrNotFound, "service %s", service)
	}
	around, err := relations(tx, []string{service})
	if err != nil {
		return nil, err
	}
	around = slices.DeleteFunc(around, func(r incident.Relation) bool { return r.Along == incident.NeededBy })
	list, err := tx.Marks(namesOf(around), from, until)
	return folded(list), err
}

// SaysOdd tells in a sentence how a target stands apart.
func (o OddReading) SaysOdd() string {
	others := fmt.Sprintf("the others from %s to %s", expr.Say(o.Low), expr.Say(o.High))
	if o.Low == o.High {
		others = "all others " + expr.Say(o.Low)
	}
	value := expr.Say(o.Value)
	if o.Unit != "" {
		value += " " + o.Unit
	}
	return fmt.Sprintf("%s: %s has %s, %s", o.Reading, o.Target, value, others)
}

// foldWithin is how close to one another the same things happen that are told as one.
const foldWithin = time.Minute

// folded tells the same thing that happened many times in a short while once, with how often; marks are the newest
// first.
func folded(marks []store.Mark) []store.Mark {
	type key struct{ what, service, title, by string }
	out := []store.Mark{}
	at := map[key]int{}
	times := map[int]int{}
	for _, m := range marks {
		k := key{m.What, m.Service, m.Title, m.By}
		if m.What == "setting" {
			k.title = ""
		}
		i, known := at[k]
		if m.What == "incident" || m.What == "deployment" || !known || out[i].At.Sub(m.At) > foldWithin {
			at[k] = len(out)
			times[len(out)] = 1
			out = append(out, m)
			continue
		}
		times[i]++
	}
	for i, n := range times {
		switch {
		case n > 1 && out[i].What == "setting":
			name, _, _ := strings.Cut(out[i].Title, ":")
			out[i].Title = fmt.Sprintf("%s and %d more updated", name, n-1)
		case n > 1:
			out[i].Title = fmt.Sprintf("%s, %d times", out[i].Title, n)
		}
	}
	return out
}
