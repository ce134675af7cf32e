package app

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"urgentis/core/access"
	"urgentis/core/flow"
	"urgentis/core/incident"
	"urgentis/core/links"
	"urgentis/core/tell"
	"urgentis/internal/store"
)

// Standing is how bad an incident is, and whom it harms.
type Standing struct {
	// Harm is who suffers, in the words of a runbook or of the service; "" where its author wrote none. Owner is the
	// team who could.
	Harm, Owner string
	// Derived is what tells of harm besides: objectives that are missed, and what needs the service and is in trouble.
	Derived []string
	// Links are pages outside of its service and of the runbooks that worked on it, filled in for its time.
	Links []links.Link
	// Reading is how its leading reading stands; nil where nothing that was read tells.
	Reading *tell.Standing
	// Run took the leading reading, and can take it again; "" for none.
	Run string
	// Old says that the reading is too old to be that of now.
	Old bool
	// Lines is the reading over time of the worst targets; From and Until bound it.
	Lines       []Course
	From, Until time.Time
}

const (
	// beforeStanding is how long before an incident a leading reading is shown at the least, and atLeast how long in
	// all.
	beforeStanding, atLeast = 5 * time.Minute, 10 * time.Minute
	// mostLines bounds of how many targets it is shown over time, standingPoints in how many points.
	mostLines, standingPoints = 12, 240
	// lately is how far back it is read at full resolution, in stretches of latelyStep.
	lately, latelyStep = 12 * time.Minute, time.Second
	// mostDerived bounds what is told of harm where its author says nothing.
	mostDerived = 5
)

// Standing tells how bad an incident is, and whom it harms.
func (a *App) Standing(ctx context.Context, who *access.Principal, number int64) (*Standing, error) {
	tx := a.store.In(ctx)
	i, err := a.seeIncident(tx, who, number)
	if err != nil {
		return nil, err
	}
	runs, err := tx.RunsOf(number)
	if err != nil {
		return nil, err
	}
	out := &Standing{Until: a.Now()}
	if i.ClosedAt != nil {
		out.Until = *i.ClosedAt
	}
	if out.Harm, err = a.harmOfIncident(ctx, tx, &Incident{Head: Head{Incident: *i}, Runs: runs}); err != nil {
		return nil, err
	}
	if s, err := tx.Service(i.Service); err != nil {
		return nil, err
	} else if s != nil {
		out.Owner = s.Owner
	}
	bad, err := a.missed(tx, i.Service)
	if err != nil {
		return nil, err
	}
	if out.Derived, err = derivedOf(tx, i, bad, out.Until); err != nil {
		return nil, err
	}
	if out.Links, err = a.linksOf(ctx, tx, i, runs, out.Until); err != nil {
		return nil, err
	}
	lead, changed, err := a.leadingOf(ctx, tx, out, runs)
	if err != nil {
		// How bad it is stands in the record all the same.
		a.log.Error("tell how an incident stands", "incident", number, "error", err)
	}
	if lead == nil {
		lead = leadingOfObjective(bad)
	}
	if lead == nil || i.Service == "" {
		return out, nil
	}
	return out, a.standingOf(tx, out, *lead, i, changed)
}

// linksOf lists the pages outside of an incident's service and runbooks, each once.
func (a *App) linksOf(
	ctx context.Context, tx *store.Tx, i *store.Incident, runs []store.Run, until time.Time,
) ([]links.Link, error) {
	var list []links.Link
	s, err := tx.Service(i.Service)
	if err != nil {
		return nil, err
	}
	if s != nil {
		list = s.Links
	}
	for n := range runs {
		if book, err := a.engine.Book(ctx, runs[n].Revision); err == nil {
			list = slices.Concat(list, book.Links)
		}
	}
	out := a.filled(list, links.Sight{Service: i.Service, Incident: i.Number, From: i.OpenedAt, Until: until})
	slices.SortStableFunc(out, func(x, y links.Link) int { return strings.Compare(x.Title, y.Title) })
	return slices.Compact(out), nil
}

// leadingOf picks the leading reading, of a run that is not over if there is one, and tells when its newest change was
// begun.
func (a *App) leadingOf(
	ctx context.Context, tx *store.Tx, out *Standing, runs []store.Run,
) (*tell.Leading, time.Time, error) {
	var changed time.Time
	runs = slices.Clone(runs)
	slices.SortStableFunc(runs, func(x, y store.Run) int {
		over := func(r store.Run) int {
			if r.EndedAt == nil {
				return 0
			}
			return 1
		}
		return cmp.Or(over(x)-over(y), y.BegunAt.Compare(x.BegunAt))
	})
	const most = 3
	for _, r := range runs[:min(len(runs), most)] {
		log, err := tx.Log(r.ID, 0)
		if err != nil {
			return nil, changed, err
		}
		book, err := a.engine.BookOf(ctx, log)
		if err != nil {
			return nil, changed, err
		}
		for _, e := range log {
			if in, ok := e.Body.(flow.Intent); ok && in.Touches() && e.At.After(changed) {
				changed = e.At
			}
		}
		lead, err := tell.LeadingOf(book, log)
		if err != nil || lead != nil {
			out.Run = r.ID
			return lead, changed, err
		}
	}
	return nil, changed, nil
}

// missed lists the objectives of a service that are missed now: their budget is spent, or burns too fast.
func (a *App) missed(tx *store.Tx, service string) ([]Objective, error) {
	if service == "" {
		return nil, nil
	}
	rows, err := tx.ListObjectives(access.Scope{All: true}, service)
	if err != nil {
		return nil, err
	}
	var out []Objective
	for n := range rows {
		o := standsAt(tx, &rows[n])
		if o.missed() {
			out = append(out, o)
		}
	}
	return out, nil
}

// leadingOfObjective is the reading that the first of the objectives is about that names a limit.
func leadingOfObjective(bad []Objective) *tell.Leading {
	for _, o := range bad {
		if o.Holds == nil {
			continue
		}
		if limits := o.Holds.Limits(nil); len(limits) > 0 {
			l := &limits[0]
			return &tell.Leading{Reading: l.Reading, Wanted: l, Good: tell.GoodOf(l)}
		}
	}
	return nil
}

// derivedOf lists what tells of harm besides the words of an author.
func derivedOf(tx *store.Tx, i *store.Incident, bad []Objective, until time.Time) ([]string, error) {
	var out []string
	for _, o := range bad {
		for _, x := range o.Alerts(o.Budget) {
			if x.On && !x.Blind {
				out = append(out, x.Summary)
				break
			}
		}
	}
	if i.Service == "" {
		return out, nil
	}
	around, err := relations(tx, []string{i.Service})
	if err != nil {
		return nil, err
	}
	around = slices.DeleteFunc(around, func(r incident.Relation) bool { return r.Along != incident.NeededBy })
	things, count, err := tx.BadThings(namesOf(around), i.OpenedAt, until)
	if err != nil {
		return nil, err
	}
	for _, w := range incident.Wide(around, things, count) {
		stands := slices.DeleteFunc(w.Things, func(t incident.BadThing) bool { return t.Over && i.ClosedAt == nil })
		if len(stands) > 0 {
			out = append(out, fmt.Sprintf("%s needs it and is in trouble: %s (incident %d)", w.Service,
				strings.TrimRight(stands[0].Summary, "."), stands[0].Incident))
		}
	}
	if more := len(out) - mostDerived; more > 0 {
		out = append(out[:mostDerived], fmt.Sprintf("and %d more", more))
	}
	return out, nil
}

// standingOf adds how the leading reading stands, and how it went.
func (a *App) standingOf(
	tx *store.Tx, out *Standing, lead tell.Leading, i *store.Incident, changed time.Time,
) error {
	began, err := beganLast(tx, i)
	if err != nil {
		return err
	}
	if began.After(i.OpenedAt) && changed.Before(began) {
		changed = began // what was so before it began again is of another trouble
	}
	length := max(out.Until.Sub(began), atLeast)
	out.From = began.Add(-max(beforeStanding, length/5))
	newest, err := namedWithin(tx, i.Service, lead.Reading, out.From, out.Until)
	if err != nil || len(newest) == 0 {
		return err
	}
	then, err := namedWithin(tx, i.Service, lead.Reading, began.Add(-nearOpening), began)
	if err != nil {
		return err
	}
	was := map[int64]tell.Point{}
	for _, s := range then {
		was[s.ID] = pointOf(s)
	}
	lead.Unit = cmp.Or(lead.Unit, newest[0].Unit)
	slices.SortStableFunc(newest, func(x, y store.SeriesNow) int {
		switch p, q := pointOf(x), pointOf(y); {
		case lead.Worse(p.Value, q.Value):
			return -1
		case lead.Worse(q.Value, p.Value):
			return 1
		}
		return 0
	})
	if err := out.readLines(tx, newest[:min(len(newest), mostLines)]); err != nil {
		return err
	}
	recent, err := tx.Points([]int64{newest[0].ID}, out.Until.Add(-lately), out.Until, latelyStep)
	if err != nil {
		return err
	}
	lines := make([]tell.Line, len(newest))
	for n, s := range newest {
		l := &lines[n]
		l.Target = s.Target
		if p, ok := was[s.ID]; ok {
			l.Points = append(l.Points, p)
		}
		// Of what is put together in stretches the newest stands as it was taken.
		p, stretch := pointOf(s), out.stretch()
		if n == 0 {
			stretch = latelyStep
			l.Add(numbersOf(s.Target, out.Lines[n].Points, out.Until.Add(-lately))...)
			l.Add(numbersOf(s.Target, recent, p.At.Add(-stretch))...)
		} else if n < len(out.Lines) {
			l.Add(numbersOf(s.Target, out.Lines[n].Points, p.At.Add(-stretch))...)
		}
		l.Add(p)
	}
	if out.Reading = tell.StandingOf(lead, lines, began.UTC(), changed); out.Reading != nil && i.ClosedAt == nil {
		out.Old = out.Reading.Old(a.Now())
	}
	return nil
}

// beganLast is when an incident was opened, or was opened again last.
func beganLast(tx *store.Tx, i *store.Incident) (time.Time, error) {
	list, err := tx.EntriesOf(i.Number, 0, []string{string(incident.Reopened)})
	if err != nil || len(list) == 0 {
		return i.OpenedAt, err
	}
	return list[len(list)-1].At, nil
}

func namedWithin(tx *store.Tx, service, name string, from, until time.Time) ([]store.SeriesNow, error) {
	rows, err := tx.NewestWithin(service, from, until)
	return slices.DeleteFunc(rows, func(s store.SeriesNow) bool { return s.Name != name }), err
}

func pointOf(s store.SeriesNow) tell.Point {
	return tell.Point{At: s.At.UTC(), Target: s.Target, Value: *s.Value}
}

// stretch is how much of the time stands in one point.
func (s *Standing) stretch() time.Duration {
	return max(s.Until.Sub(s.From)/standingPoints, time.Second).Truncate(time.Second)
}

// readLines reads series over the time.
func (s *Standing) readLines(tx *store.Tx, list []store.SeriesNow) error {
	s.Lines = make([]Course, len(list))
	ids := make([]int64, len(list))
	at := map[int64]*Course{}
	for n, x := range list {
		s.Lines[n].SeriesNow, ids[n], at[x.ID] = x, x.ID, &s.Lines[n]
	}
	points, err := tx.Points(ids, s.From.Truncate(time.Second), s.Until, s.stretch())
	for _, p := range points {
		c := at[p.Series]
		c.Points = append(c.Points, p)
	}
	return err
}

// numbersOf are the numbers of what was stored before a time.
func numbersOf(target string, points []store.Point, before time.Time) []tell.Point {
	var out []tell.Point
	for _, p := range points {
		if p.Value != nil && p.At.Before(before) {
			out = append(out, tell.Point{At: p.At.UTC(), Target: target, Value: *p.Value})
		}
	}
	return out
}
