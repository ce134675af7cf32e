package intake

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"urgentis/core/alert"
	"urgentis/core/calendar"
	"urgentis/core/estate"
	"urgentis/core/expr"
	"urgentis/core/incident"
	"urgentis/core/runbook"
	"urgentis/core/trigger"
	"urgentis/internal/engine"
	"urgentis/internal/store"
)

// cache keeps what decides about alerts, as it was last pushed: triggers, calendars, mutes and joins.
type cache struct {
	mu      sync.Mutex
	version int64
	loaded  *loaded
}

// Which names a trigger: a runbook, and a start of it, or BesidePrefix and the name of a document beside it.
type Which struct{ Runbook, Start string }

// BesidePrefix stands before the name of a trigger that is a document of its own.
const BesidePrefix = "trigger/"

// Full is how a trigger is named to people and in records.
func (w Which) Full() string {
	if name, ok := strings.CutPrefix(w.Start, BesidePrefix); ok {
		return name
	}
	return w.Runbook + "/" + w.Start
}

type loaded struct {
	index     *trigger.Index
	books     map[string]*runbook.Book
	starts    map[Which]*trigger.Start
	order     []Which
	off       map[Which]store.SwitchedOff
	calendars map[string]*calendar.Calendar
	mutes     []*trigger.Mute
	mutesSay  map[string]string // their documents, by name
	joins     []*incident.Join
	depends   *incident.Depends
	firstLook map[string]string // by service: the runbook that looks first
}

// verdicts tells what starts, and where there are not too many triggers, why the others do not.
func (l *loaded) verdicts(snapshot map[string]any, c alert.Change) []trigger.Verdict {
	if len(l.order) <= maxExplained {
		return l.index.Explain(snapshot, c)
	}
	return l.index.Match(snapshot, c)
}

// heldBack says why a trigger does not start now whatever its condition says; "" where nothing keeps it. snapshot is
// nil for one that is not about an alert.
func (l *loaded) heldBack(w Which, snapshot map[string]any, now time.Time) string {
	if off, ok := l.off[w]; ok {
		return fmt.Sprintf("it is switched off by %s: %s", off.By, off.Because)
	}
	if h := l.starts[w].Hours; h != nil {
		c := l.calendars[h.Calendar]
		switch {
		case c == nil:
			return fmt.Sprintf("it starts only %s, and there is no such calendar", h.Only())
		case c.Inside(now) != h.Inside:
			return "it starts only " + h.Only()
		}
	}
	if m := l.muted(snapshot, now); m != nil {
		return fmt.Sprintf(
			"it is muted by %s until %s: %s",
			m.Name,
			m.Until.UTC().Format("2006-01-02 15:04 MST"),
			m.Because,
		)
	}
	return ""
}

// hoursBegin is when the hours of a trigger begin outside of which it is; the zero time where it is inside of
// them, is switched off, or they never begin.
func (l *loaded) hoursBegin(w Which, now time.Time) time.Time {
	h := l.starts[w].Hours
	if _, off := l.off[w]; off || h == nil {
		return time.Time{}
	}
	c := l.calendars[h.Calendar]
	if c == nil || c.Inside(now) == h.Inside {
		return time.Time{}
	}
	return c.Turn(now)
}

// muted gives the mute that covers an alert; nil without one.
func (l *loaded) muted(snapshot map[string]any, now time.Time) *trigger.Mute {
	if snapshot == nil {
		return nil
	}
	for _, m := range l.mutes {
		if m.Covers(snapshot, now) {
			return m
		}
	}
	return nil
}

func (c *cache) load(tx *store.Tx, e *engine.Engine, version int64) (*loaded, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.loaded != nil && c.version == version {
		return c.loaded, nil
	}
	l := &loaded{
		books: map[string]*runbook.Book{}, starts: map[Which]*trigger.Start{}, off: map[Which]store.SwitchedOff{},
		calendars: map[string]*calendar.Calendar{}, mutesSay: map[string]string{},
	}
	if err := l.readBooks(tx, e); err != nil {
		return nil, err
	}
	if err := l.readDocuments(tx, e); err != nil {
		return nil, err
	}
	if err := l.readDepends(tx); err != nil {
		return nil, err
	}
	off, err := tx.SwitchedOff()
	if err != nil {
		return nil, fmt.Errorf("read which triggers are switched off: %w", err)
	}
	for _, o := range off {
		l.off[Which{o.Runbook, o.Start}] = o
	}
	var all []trigger.Trigger
	for _, w := range l.order {
		if s := l.starts[w]; s.Alert != nil {
			all = append(all, trigger.Trigger{Runbook: w.Runbook, Name: w.Start, Start: s})
		}
	}
	l.index = trigger.New(all)
	c.version, c.loaded = version, l
	return l, nil
}

func (l *loaded) add(w Which, s *trigger.Start) {
	l.starts[w] = s
	l.order = append(l.order, w)
}

// readBooks reads the runbooks, and the starts that they bring along.
func (l *loaded) readBooks(tx *store.Tx, e *engine.Engine) error {
	rows, err := tx.Current()
	if err != nil {
		return fmt.Errorf("read runbooks: %w", err)
	}
	var bad []string
	for _, r := range rows {
		b, err := e.Book(tx.Context(), r.Revision)
		if errors.Is(err, engine.ErrUnsound) {
			bad = append(bad, err.Error())
			continue
		}
		if err != nil {
			return err // the database did not answer: nothing is known of the triggers, and that is not kept
		}
		l.books[r.Name] = b
		for i := range b.Starts {
			l.add(Which{r.Name, b.Starts[i].Name}, &b.Starts[i])
		}
	}
	if len(bad) > 0 {
		e.Log.Error("runbooks that this program cannot read do not start", "runbooks", strings.Join(bad, "; "))
	}
	return nil
}

// readDocuments reads what stands beside the runbooks.
func (l *loaded) readDocuments(tx *store.Tx, e *engine.Engine) error {
	rows, err := tx.DocumentsOf(estate.Trigger, estate.Calendar, estate.Mute, estate.Join)
	if err != nil {
		return fmt.Errorf("read documents: %w", err)
	}
	for _, r := range rows {
		docs, found := estate.Parse([]estate.File{{Name: r.Name, Text: r.Text}})
		if len(docs) != 1 {
			e.Log.Error(
				"a document cannot be read, and has no effect",
				"kind",
				r.Kind,
				"name",
				r.Name,
				"findings",
				found,
			)
			continue
		}
		switch d := docs[0]; d.Kind {
		case estate.Trigger:
			l.add(Which{d.Trigger.Runbook, BesidePrefix + d.Name}, &d.Trigger.Start)
		case estate.Calendar:
			l.calendars[d.Name] = d.Calendar
		case estate.Mute:
			l.mutes = append(l.mutes, d.Mute)
			l.mutesSay[d.Name] = r.Text
		case estate.Join:
			l.joins = append(l.joins, d.Join)
		case estate.Runbook, estate.Source:
		}
	}
	slices.SortStableFunc(l.joins, func(a, b *incident.Join) int { return a.Order - b.Order })
	return nil
}

// readDepends reads what services need of one another.
func (l *loaded) readDepends(tx *store.Tx) error {
	services, err := tx.Services()
	if err != nil {
		return fmt.Errorf("read services: %w", err)
	}
	needs := map[string][]string{}
	l.firstLook = map[string]string{}
	for _, s := range services {
		needs[s.Name] = s.DependsOn
		if s.FirstLook != "" {
			l.firstLook[s.Name] = s.FirstLook
		}
	}
	l.depends = incident.NewDepends(needs)
	return nil
}

// Explain tells what triggers would make of an alert as it is, n at most from the one at a place on, and whether there
// are more: for an installation with so many that alerts do not keep it; nothing where they do.
func (in *Intake) Explain(ctx context.Context, a *store.Alert, from, n int) ([]trigger.Verdict, bool, error) {
	l, err := in.loaded(ctx)
	if err != nil || len(l.order) <= maxExplained {
		return nil, false, err
	}
	return l.index.ExplainSome(a.Snapshot(), alert.New, from, n), from+n < l.index.Len(), nil
}

// Fits gives what tells whether a start of a runbook, one beside it too, is about an alert.
func (in *Intake) Fits(tx *store.Tx, runbook string) (func(snapshot map[string]any) bool, error) {
	l, err := in.loadedIn(tx)
	if err != nil {
		return nil, err
	}
	return func(snapshot map[string]any) bool {
		return slices.ContainsFunc(l.order, func(w Which) bool {
			if s := l.starts[w]; w.Runbook == runbook && s.Alert != nil {
				ok, err := s.Alert.Bool(&expr.Scope{Alert: snapshot})
				return err == nil && ok
			}
			return false
		})
	}, nil
}

// Listed is a trigger as it is now.
type Listed struct {
	Which
	Start *trigger.Start
	Off   *store.SwitchedOff // nil where it is on
}

// Triggers lists all triggers: those that come with runbooks, by name, and then those beside them.
func (in *Intake) Triggers(ctx context.Context) ([]Listed, error) {
	l, err := in.loaded(ctx)
	if err != nil {
		return nil, err
	}
	out := make([]Listed, len(l.order))
	for i, w := range l.order {
		out[i] = Listed{Which: w, Start: l.starts[w]}
		if off, ok := l.off[w]; ok {
			out[i].Off = &off
		}
	}
	return out, nil
}
