package app

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"urgentis/core/access"
	"urgentis/core/estate"
	"urgentis/core/incident"
	"urgentis/core/lookback"
	"urgentis/internal/engine"
	"urgentis/internal/scheduled"
	"urgentis/internal/store"
)

// LookedBack is a look into the past that stands in a record.
type LookedBack struct {
	incident.PastContent
	At    time.Time
	Actor string
}

// mostBack bounds how many looks into the past are taken at once for an incident.
const mostBack = 8

// LookBack asks outside stores what they have of a service around the beginning of an incident, and writes it into the
// record: by one look back that is named, or by all of the service.
func (a *App) LookBack(ctx context.Context, who *access.Principal, number int64, name string) ([]LookedBack, error) {
	tx := a.store.In(ctx)
	i, err := a.seeIncident(tx, who, number)
	if err != nil {
		return nil, err
	}
	if err := access.Can(who, access.Respond, ofIncident(i)); err != nil {
		return nil, err
	}
	list, err := lookBacks(tx, i.Service, name)
	if err != nil {
		return nil, err
	}
	if len(list) == 0 {
		return nil, &Error{
			Kind: Missing,
			Code: "lookback",
			Says: fmt.Sprintf("there is no look back %s for the service %s; "+
				"push a document that begins with urgentis: lookback/1", name, orNone(i.Service)),
		}
	}
	var out []LookedBack
	for _, l := range list {
		seen, err := a.lookBack(ctx, who, i, l)
		if err != nil {
			return out, err
		}
		out = append(out, *seen)
	}
	return out, nil
}

func orNone(s string) string {
	if s == "" {
		return "that is none"
	}
	return s
}

// lookBacks reads the looks back of a service, or the one of a name.
func lookBacks(tx *store.Tx, service, name string) ([]*lookback.LookBack, error) {
	docs, err := tx.DocumentsOf(estate.LookBack)
	if err != nil {
		return nil, err
	}
	var out []*lookback.LookBack
	for _, d := range docs {
		parsed, _ := estate.Parse([]estate.File{{Name: d.Name, Text: d.Text}})
		if len(parsed) != 1 || parsed[0].LookBack == nil {
			continue // it was sound when it was pushed; the page of documents says what is wrong with it now
		}
		if l := parsed[0].LookBack; l.Service == service && (name == "" || l.Name == name) && len(out) < mostBack {
			out = append(out, l)
		}
	}
	return out, nil
}

// lookBack takes one look into the past and writes it down.
func (a *App) lookBack(
	ctx context.Context, who *access.Principal, i *store.Incident, l *lookback.LookBack,
) (*LookedBack, error) {
	var over time.Time
	if i.ClosedAt != nil {
		over = *i.ClosedAt
	}
	seen := incident.PastContent{LookBack: l.Name, Title: l.Title, Onset: i.OpenedAt.UTC().Truncate(time.Second)}
	seen.From, seen.Until = l.Span(i.OpenedAt, over, a.Now())
	if err := a.looker.LookBack(ctx, l, &seen); errors.Is(err, scheduled.ErrBusy) {
		return nil, &Error{Kind: Conflict, Code: "busy", Says: err.Error()}
	} else if err != nil {
		return nil, err
	}
	at := a.Now()
	_, _, err := a.enter(ctx, who, i.Number, func(*engine.Sheet, *store.Incident) (store.NewEntry, error) {
		return store.NewEntry{At: at, Kind: incident.LookedBack, Actor: who.Name,
			Title: "Looked back: " + l.Title + saysSeen(&seen), Content: seen}, nil
	})
	return &LookedBack{PastContent: seen, At: at, Actor: who.Name}, err
}

// saysSeen tells what there was in a few words.
func saysSeen(s *incident.PastContent) string {
	var parts []string
	count := func(n int, one, many string) {
		switch {
		case n == 1:
			parts = append(parts, "1 "+one)
		case n > 1:
			parts = append(parts, fmt.Sprintf("%d %s", n, many))
		}
	}
	count(len(s.Series), "line", "lines")
	count(len(s.Shapes), "shape of log lines", "shapes of log lines")
	count(len(s.Missing), "thing missing", "things missing")
	if len(parts) == 0 {
		return " (nothing)"
	}
	return " (" + strings.Join(parts, ", ") + ")"
}

// LookedBack lists the looks into the past that stand in a record, the newest first; of each name the newest.
func (a *App) LookedBack(ctx context.Context, who *access.Principal, number int64) ([]LookedBack, error) {
	tx := a.store.In(ctx)
	if _, err := a.seeIncident(tx, who, number); err != nil {
		return nil, err
	}
	entries, err := tx.EntriesOf(number, 0, []string{string(incident.LookedBack)})
	if err != nil {
		return nil, err
	}
	out := []LookedBack{}
	known := map[string]bool{}
	for _, e := range slices.Backward(entries) {
		x := LookedBack{At: e.At, Actor: e.Actor}
		if e.Content == nil || json.Unmarshal([]byte(*e.Content), &x.PastContent) != nil || known[x.LookBack] {
			continue
		}
		known[x.LookBack] = true
		out = append(out, x)
	}
	return out, nil
}

// LookBacks lists the names of the looks into the past that an incident has.
func (a *App) LookBacks(ctx context.Context, who *access.Principal, number int64) ([]*lookback.LookBack, error) {
	tx := a.store.In(ctx)
	i, err := a.seeIncident(tx, who, number)
	if err != nil {
		return nil, err
	}
	return lookBacks(tx, i.Service, "")
}
