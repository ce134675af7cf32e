package app

import (
	"context"
	"fmt"
	"strings"
	"time"

	"urgentis/core/access"
	"urgentis/core/incident"
	"urgentis/internal/engine"
	"urgentis/internal/store"
)

// FollowUps lists what is left to do, what is due first first.
func (a *App) FollowUps(
	ctx context.Context, who *access.Principal, which store.WhichFollowUps,
) ([]store.FollowUp, error) {
	scope, err := see(who)
	if err != nil {
		return nil, err
	}
	return a.store.In(ctx).FollowUps(scope, which)
}

// Following is what is to be altered of a follow-up; nil leaves something as it is.
type Following struct {
	Text, Owner, State *string
	Due                *time.Time
	Because            string
}

// AddFollowUp writes down what is left to do after an incident, open or closed.
func (a *App) AddFollowUp(
	ctx context.Context, who *access.Principal, number int64, x Following,
) (*store.FollowUp, error) {
	row := &store.FollowUp{
		ID: store.NewID("f"), Incident: number, State: incident.FollowUpOpen, At: a.Now(),
	}
	_, _, err := a.enter(ctx, who, number, func(s *engine.Sheet, i *store.Incident) (store.NewEntry, error) {
		scope := access.ScopeOf(who)
		old, err := s.Tx().FollowUps(scope, store.WhichFollowUps{Incident: number})
		if err != nil {
			return store.NewEntry{}, err
		}
		if len(old) >= store.MostFollowUps {
			return store.NewEntry{}, invalid("follow-ups", "an incident has %d follow-ups at most", store.MostFollowUps)
		}
		row.Service, row.By = i.Service, who.Name
		return a.follow(s, who, row, x)
	})
	return row, err
}

// EditFollowUp alters what is left to do, says that it is done, or drops it.
func (a *App) EditFollowUp(
	ctx context.Context, who *access.Principal, number int64, id string, x Following,
) (row *store.FollowUp, err error) {
	_, _, err = a.enter(ctx, who, number, func(s *engine.Sheet, _ *store.Incident) (store.NewEntry, error) {
		if row, err = s.Tx().FollowUp(id); err != nil || row.Incident != number {
			return store.NewEntry{}, named(store.ErrNotFound, "follow-up %s of incident %d", id, number)
		}
		return a.follow(s, who, row, x)
	})
	return row, err
}

// follow alters a follow-up, and gives the entry that says how it stands from then on.
func (a *App) follow(s *engine.Sheet, who *access.Principal, row *store.FollowUp, x Following) (store.NewEntry, error) {
	if x.Text != nil {
		row.Text = strings.TrimSpace(*x.Text)
	}
	if x.Owner != nil {
		row.Owner = strings.TrimSpace(*x.Owner)
	}
	if x.Due != nil {
		row.Due = x.Due
		if x.Due.IsZero() {
			row.Due = nil
		}
	}
	if x.State != nil && *x.State != row.State {
		row.State, row.SettledBy, row.SettledAt = *x.State, "", nil
		if row.State != incident.FollowUpOpen {
			now := a.Now()
			row.SettledBy, row.SettledAt = who.Name, &now
		}
	}
	if row.Text == "" {
		return store.NewEntry{}, invalid("text", "say what is left to do")
	}
	if err := s.Tx().SaveFollowUp(row); err != nil {
		return store.NewEntry{}, err
	}
	c := incident.FollowUpContent{
		ID: row.ID, Text: row.Text, Owner: row.Owner, State: row.State, Because: strings.TrimSpace(x.Because),
	}
	if row.Due != nil {
		c.Due = row.Due.UTC()
	}
	return store.NewEntry{
		At: a.Now(), Kind: incident.FollowUpSet, Actor: who.Name, Title: "Follow-up " + row.State, Content: c,
	}, nil
}

// State writes down in a person's words what caused an incident, or whom it harms; "" takes them back.
func (a *App) State(ctx context.Context, who *access.Principal, number int64, field, text string,
) (*store.Incident, error) {
	text = strings.TrimSpace(text)
	i, _, err := a.enter(ctx, who, number, func(_ *engine.Sheet, i *store.Incident) (store.NewEntry, error) {
		of := map[string]*string{incident.FieldCause: &i.Cause, incident.FieldHarm: &i.Harm}[field]
		if of == nil {
			return store.NewEntry{}, invalid("field", "only cause and harm can be stated")
		}
		was := *of
		*of = text
		i.Say(text)
		return store.NewEntry{
			At: a.Now(), Kind: incident.Stated, Actor: who.Name, Title: fmt.Sprintf("States the %s", field),
			Content: incident.StatedContent{Field: field, Text: text, Was: was},
		}, nil
	})
	return i, err
}
