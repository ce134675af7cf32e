package app

import (
	"context"
	"fmt"
	"slices"
	"time"

	"urgentis/core/access"
	"urgentis/core/calendar"
	"urgentis/core/estate"
	"urgentis/core/route"
	"urgentis/internal/engine"
	"urgentis/internal/store"
)

// OnCall is who of a team is on call at a moment, line by line, and when nobody will be.
type OnCall struct {
	Team   *route.Team
	Duties []calendar.Duty
	// Holes are the stretches of the next weeks in which nobody is on call in the first line.
	Holes []calendar.Duty
	// Twice are those in which one person is on call in two lines.
	Twice []calendar.Twice
}

// lookAhead is how far holes of a rota are looked for, and who is on call twice.
const lookAhead = 28 * 24 * time.Hour

// OnCallAt tells who is on call at a moment; team "" is every team.
func (a *App) OnCallAt(ctx context.Context, who *access.Principal, team string, at time.Time) ([]OnCall, error) {
	if _, err := see(who); err != nil {
		return nil, err
	}
	tx := a.store.In(ctx)
	docs, err := tx.Documents(estate.Team)
	if err != nil {
		return nil, err
	}
	var out []OnCall
	for _, d := range docs {
		if team != "" && d.Name != team {
			continue
		}
		t, in, err := a.engine.Team(tx, d.Name, at)
		if err != nil {
			return nil, err
		}
		if t == nil {
			continue // removed meanwhile
		}
		x := OnCall{Team: t, Duties: t.OnCall(at, in)}
		if t.Rota != nil {
			x.Holes = t.Rota.Holes(0, at, at.Add(lookAhead), in)
			x.Twice = t.Rota.Twice(at, at.Add(lookAhead), in)
		}
		out = append(out, x)
	}
	if team != "" && len(out) == 0 {
		return nil, named(store.ErrNotFound, "team %s", team)
	}
	return out, nil
}

// Duties lists who of a team is on call from one moment to another, by line.
func (a *App) Duties(
	ctx context.Context, who *access.Principal, team string, from, until time.Time,
) ([][]calendar.Duty, error) {
	if _, err := see(who); err != nil {
		return nil, err
	}
	if !until.After(from) || until.Sub(from) > maxDutiesAsked {
		return nil, invalid("until", "until is after from, by %d days at most", int(maxDutiesAsked.Hours()/24))
	}
	t, in, err := a.engine.Team(a.store.In(ctx), team, from)
	if err != nil {
		return nil, err
	}
	if t == nil || t.Rota == nil {
		return nil, named(store.ErrNotFound, "rota of team %s", team)
	}
	out := make([][]calendar.Duty, len(t.Rota.Lines))
	for line := range out {
		out[line] = t.Rota.Duties(line, from, until, in)
	}
	return out, nil
}

const maxDutiesAsked = 400 * 24 * time.Hour

// StandIns lists who stands in on a team's rota, now and later.
func (a *App) StandIns(ctx context.Context, who *access.Principal, team string) ([]store.StandIn, error) {
	if _, err := see(who); err != nil {
		return nil, err
	}
	return a.store.In(ctx).StandIns(team, a.Now())
}

// StandIn enters somebody who is on call instead of whoever a rota says.
func (a *App) StandIn(ctx context.Context, who *access.Principal, s store.StandIn) (*store.StandIn, error) {
	if err := access.Can(who, access.Respond, access.Object{Kind: "team", Name: s.Team}); err != nil {
		return nil, err
	}
	kept, err := a.standIn(ctx, who, s.Team, func(t *route.Team, _ []calendar.StandIn) ([]store.StandIn, error) {
		return []store.StandIn{s}, standable(t, s, a.Now())
	})
	if err != nil {
		return nil, err
	}
	return &kept[0], nil
}

// standIn enters stand-ins of a team together.
func (a *App) standIn(
	ctx context.Context, who *access.Principal, team string,
	wanted func(t *route.Team, in []calendar.StandIn) ([]store.StandIn, error),
) (list []store.StandIn, err error) {
	err = a.write(ctx, func(sheet *engine.Sheet) error {
		tx := sheet.Tx()
		t, in, err := a.engine.Team(tx, team, a.Now())
		if err != nil {
			return err
		}
		if list, err = wanted(t, in); err != nil {
			return err
		}
		if len(in)+len(list) > store.MostStandIns {
			return invalid("stand-ins", "%d stand-ins are kept already; take one back first", len(in))
		}
		for i := range list {
			s := &list[i]
			s.Team, s.EnteredBy = team, who.Behind()
			if err := tx.AddStandIn(s); err != nil {
				return err
			}
			if err := tx.Audit(who.Name, "team.stand-in", team, fmt.Sprintf("%s from %s until %s", s.Person,
				s.FromAt.UTC().Format(time.RFC3339), s.UntilAt.UTC().Format(time.RFC3339))); err != nil {
				return err
			}
		}
		sheet.Changed(store.Feed{Topic: "team", Ref: team})
		return nil
	})
	return list, err
}

// Swap is two duties that change hands.
type Swap struct {
	Line    int // from 0
	At, For time.Time
	Why     string
}

// Swap lets two duties of a team change hands: two stand-ins, which are removed together.
func (a *App) Swap(ctx context.Context, who *access.Principal, team string, s Swap) ([]store.StandIn, error) {
	if err := access.Can(who, access.Respond, access.Object{Kind: "team", Name: team}); err != nil {
		return nil, err
	}
	return a.standIn(ctx, who, team, func(t *route.Team, in []calendar.StandIn) ([]store.StandIn, error) {
		return swapped(t, in, s, a.Now())
	})
}

// swapped are the stand-ins of a swap.
func swapped(t *route.Team, in []calendar.StandIn, s Swap, now time.Time) ([]store.StandIn, error) {
	if t == nil || t.Rota == nil || s.Line >= len(t.Rota.Lines) {
		return nil, invalid("line", "the team has no line %d of a rota", s.Line+1)
	}
	var duties [2]calendar.Duty
	for i, at := range []time.Time{s.At, s.For} {
		d, ok := t.Rota.OnCall(s.Line, at, in)
		switch {
		case !ok:
			return nil, invalid([]string{"at", "for"}[i], "nobody is on call at %s; enter a stand-in instead",
				at.In(t.Rota.Zone).Format(time.RFC3339))
		case !d.Until.After(now):
			return nil, invalid(
				[]string{"at", "for"}[i],
				"the duty at %s is over",
				at.In(t.Rota.Zone).Format(time.RFC3339),
			)
		}
		if d.From.Before(now) {
			d.From = now
		}
		duties[i] = d
	}
	if duties[0].Person == duties[1].Person {
		return nil, invalid("for", "%s is on call at both times; there is nothing to swap", duties[0].Person)
	}
	name := store.NewID("swap")
	out := make([]store.StandIn, len(duties))
	for i, d := range duties {
		would := d.Instead
		if would == "" {
			would = d.Person
		}
		out[i] = store.StandIn{Line: s.Line, FromAt: d.From, UntilAt: d.Until, Person: duties[1-i].Person,
			InsteadOf: would, Why: s.Why, Swap: name}
		if err := standable(t, out[i], now); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// ReadCalendars reads the calendars of a team's rota now.
func (a *App) ReadCalendars(ctx context.Context, who *access.Principal, team string) (*OnCall, error) {
	if err := access.Can(who, access.Respond, access.Object{Kind: "team", Name: team}); err != nil {
		return nil, err
	}
	t, _, err := a.engine.Team(a.store.In(ctx), team, a.Now())
	switch {
	case err != nil:
		return nil, err
	case t == nil:
		return nil, named(store.ErrNotFound, "team %s", team)
	case len(t.Feeds) == 0:
		return nil, invalid("team", "the rota of %s is read from no calendar: first: {feed: https://…} in its document",
			team)
	}
	if err := a.teller.ReadFeeds(ctx, t, a.Now()); err != nil {
		return nil, err
	}
	list, err := a.OnCallAt(ctx, who, team, a.Now())
	if err != nil {
		return nil, err
	}
	return &list[0], nil
}

// standable refuses a stand-in that cannot be.
func standable(t *route.Team, s store.StandIn, now time.Time) error {
	switch {
	case t == nil:
		return named(store.ErrNotFound, "team %s", s.Team)
	case t.Rota == nil || s.Line >= len(t.Rota.Lines):
		return invalid("line", "the team %s has no line %d of a rota", s.Team, s.Line+1)
	case !s.UntilAt.After(s.FromAt) || !s.UntilAt.After(now):
		return invalid("until", "until is after from, and not over yet")
	case !slices.Contains(t.Members, s.Person):
		return invalid("person", "%s is no member of %s; its members are in its document", s.Person, s.Team)
	case s.InsteadOf != "" && !slices.Contains(t.Rota.People(), s.InsteadOf):
		return invalid("instead_of", "%s has no turn on the rota of %s", s.InsteadOf, s.Team)
	}
	return nil
}

// RemoveStandIn takes a stand-in back.
func (a *App) RemoveStandIn(ctx context.Context, who *access.Principal, team string, id int64) error {
	if err := access.Can(who, access.Respond, access.Object{Kind: "team", Name: team}); err != nil {
		return err
	}
	return a.write(ctx, func(sheet *engine.Sheet) error {
		if err := sheet.Tx().RemoveStandIn(team, id); err != nil {
			return named(err, "stand-in %d of team %s", id, team)
		}
		sheet.Changed(store.Feed{Topic: "team", Ref: team})
		return sheet.Tx().Audit(who.Name, "team.stand-in-back", team, fmt.Sprint(id))
	})
}

// HandOverShift lists what one shift of a team leaves to the next.
func (a *App) HandOverShift(ctx context.Context, who *access.Principal, team string) ([]store.OpenIncident, error) {
	if _, err := see(who); err != nil {
		return nil, err
	}
	return a.store.In(ctx).OpenOf(team)
}
