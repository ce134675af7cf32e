package app

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"urgentis/core/access"
	"urgentis/core/expr"
	"urgentis/core/flow"
	"urgentis/core/incident"
	"urgentis/core/plain"
	"urgentis/core/tell"
	"urgentis/internal/engine"
	"urgentis/internal/scheduled"
	"urgentis/internal/store"
)

// Look is a look that a run of an incident took, and that can be taken again.
type Look struct {
	Run, Runbook, Path, ID, Title string
	Targets                       []string
	At                            time.Time
}

// Looks lists the looks of an incident that can be taken again, those of the newest run first.
func (a *App) Looks(ctx context.Context, who *access.Principal, number int64) ([]Look, error) {
	out := []Look{}
	err := a.eachRun(ctx, who, number, access.See, func(run *store.Run, s *flow.State) bool {
		for _, l := range tell.LooksTaken(s) {
			x := Look{
				Run: run.ID, Runbook: run.Runbook, Path: l.Place.String(), ID: l.Step.ID, Title: l.Step.Title, At: l.At,
			}
			for _, in := range l.Again {
				x.Targets = append(x.Targets, in.Target)
			}
			out = append(out, x)
		}
		return len(out) < maxLooks
	})
	return out, err
}

// maxLooks bounds how many looks of one incident are listed, and maxLookRuns of how many of its runs.
const (
	maxLooks    = 200
	maxLookRuns = 20
)

// eachRun goes through the runs of an incident that can be read, the newest first, until do says that it is enough.
func (a *App) eachRun(
	ctx context.Context, who *access.Principal, number int64, v access.Verb,
	do func(run *store.Run, s *flow.State) (more bool),
) error {
	tx := a.store.In(ctx)
	i, err := tx.Incident(number)
	if err != nil {
		return named(err, "incident %d", number)
	}
	if err := access.Can(who, v, ofIncident(i)); err != nil {
		return err
	}
	scope, err := see(who)
	if err != nil {
		return err
	}
	runs, err := tx.Runs(scope, store.WhichRuns{Incident: number}, store.Place{}, maxLookRuns)
	if err != nil {
		return err
	}
	for n := range runs {
		s, err := a.engine.Read(ctx, runs[n].ID)
		if err != nil {
			a.log.Warn("read a run for its looks", "run", runs[n].ID, "error", err)
			continue
		}
		if !do(&runs[n], s) {
			return nil
		}
	}
	return nil
}

// Looked is a look that was taken again, then and now.
type Looked struct {
	Look
	Compared []tell.Compared
	Entry    *store.Entry
}

// LookAgain takes a look of an incident again, by its id or its place, of the newest run that took it or of the one
// that is named, and writes into the record how it is now against then.
func (a *App) LookAgain(
	ctx context.Context, who *access.Principal, number int64, step, ofRun string,
) (*Looked, error) {
	var found *tell.LookTaken
	var run *store.Run
	var state *flow.State
	err := a.eachRun(ctx, who, number, access.Respond, func(r *store.Run, s *flow.State) bool {
		if ofRun != "" && r.ID != ofRun {
			return true
		}
		for _, l := range tell.LooksTaken(s) {
			if l.Named(step) {
				found, run, state = l, r, s
				return false
			}
		}
		return true
	})
	if err != nil {
		return nil, err
	}
	if found == nil {
		return nil, &Error{
			Kind: Missing,
			Code: "look",
			Says: fmt.Sprintf("no run of incident %d took a look %s that can be "+
				"taken again", number, step),
		}
	}
	now, err := a.looker.TakeAgain(ctx, state, run.ID, found)
	if errors.Is(err, scheduled.ErrBusy) {
		return nil, &Error{Kind: Conflict, Code: "busy", Says: err.Error()}
	}
	if err != nil {
		return nil, err
	}
	out := &Looked{Look: Look{Run: run.ID, Runbook: run.Runbook, Path: found.Place.String(), ID: found.Step.ID,
		Title: found.Step.Title, At: found.At}, Compared: found.Compare(now)}
	_, out.Entry, err = a.enter(ctx, who, number, func(*engine.Sheet, *store.Incident) (store.NewEntry, error) {
		return comparedEntry(who, out, a.Now()), nil
	})
	return out, err
}

// comparedEntry is what the record holds of a look that was taken again.
func comparedEntry(who *access.Principal, l *Looked, at time.Time) store.NewEntry {
	count := map[string]int{}
	var lines []string
	content := incident.ComparedContent{Since: l.At}
	for n, c := range l.Compared {
		if count[c.Says]++; n >= maxComparedKept {
			continue
		}
		lines = append(lines, saysCompared(c))
		content.Compared = append(content.Compared, incident.Compared{Target: c.Target, Reading: c.Name, Unit: c.Unit,
			Then: c.Then, Now: c.Now, Says: c.Says, Missing: c.Missing})
	}
	if more := len(l.Compared) - maxComparedKept; more > 0 {
		lines = append(lines, fmt.Sprintf("and %d more", more))
	}
	var sums []string
	for _, says := range []string{tell.Worse, tell.Better, tell.Other, tell.Alike, tell.Gone} {
		if count[says] > 0 {
			sums = append(sums, fmt.Sprintf("%d %s", count[says], says))
		}
	}
	content.Text = strings.Join(lines, "\n")
	return store.NewEntry{
		At: at, Kind: incident.LookedAgain, Actor: who.Name, Run: l.Run, Step: l.Path,
		Title:   l.Title + ": " + strings.Join(sums, ", "),
		Content: content,
	}
}

// maxComparedKept bounds how many comparisons stand in the record; all are counted.
const maxComparedKept = 200

// maxCompared bounds how much of a value stands in a line.
const maxCompared = 120

// saysCompared is one reading then and now, in a line.
func saysCompared(c tell.Compared) string {
	on := c.Name
	if c.Target != "" {
		on += " on " + c.Target
	}
	if c.Says == tell.Gone {
		return strings.TrimSuffix(fmt.Sprintf("%s: not to be had now: %s", on, c.Missing), ": ")
	}
	then := "nothing"
	if c.Then != nil {
		then = short(c.Then)
	}
	return strings.TrimSpace(fmt.Sprintf("%s: %s → %s %s", on, then, short(c.Now), c.Unit)) + " (" + c.Says + ")"
}

func short(v any) string {
	text := []rune(plain.Line(expr.Say(v)))
	if len(text) == 0 {
		return "empty"
	}
	if len(text) > maxCompared {
		return string(text[:maxCompared]) + "…"
	}
	return string(text)
}
