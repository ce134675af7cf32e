package app

import (
	"bytes"
	"compress/gzip"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"urgentis/core/access"
	"urgentis/core/flow"
	"urgentis/core/incident"
	"urgentis/core/tell"
	"urgentis/core/trigger"
	"urgentis/internal/engine"
	"urgentis/internal/intake"
	"urgentis/internal/store"
)

// Alerts lists alerts, newest first, and says whether there are more.
func (a *App) Alerts(
	ctx context.Context,
	who *access.Principal,
	which store.WhichAlerts,
	p Page,
) ([]store.Alert, bool, error) {
	scope, err := see(who)
	if err != nil {
		return nil, false, err
	}
	list, err := a.store.In(ctx).Alerts(scope, which, p.From, p.Limit+1)
	list, more := pageOf(list, p.Limit)
	return list, more, err
}

// Alert is one alert, with why each runbook started or did not.
func (a *App) Alert(ctx context.Context, who *access.Principal, id string) (*Alert, error) {
	row, err := a.visibleAlert(ctx, who, id)
	if err != nil {
		return nil, err
	}
	out := &Alert{Alert: *row}
	services, err := a.store.In(ctx).Services()
	if err != nil {
		return nil, err
	}
	out.Meant = meant(services, row.Service)
	if out.Payload, err = a.store.In(ctx).PayloadOf(id); err != nil && !errors.Is(err, store.ErrNotFound) {
		return nil, err
	}
	if out.Verdicts, out.More, err = a.verdicts(ctx, row, 0, PageOfVerdicts); err != nil {
		return nil, err
	}
	return out, nil
}

// PageOfVerdicts is of how many triggers an alert itself tells at once.
const PageOfVerdicts = 200

// AlertTriggers tells of an alert what came of triggers, limit at most from the one at a place on, and says whether
// there are more. What started stands on the first page.
func (a *App) AlertTriggers(
	ctx context.Context, who *access.Principal, id string, from, limit int,
) ([]trigger.Verdict, bool, error) {
	row, err := a.visibleAlert(ctx, who, id)
	if err != nil {
		return nil, false, err
	}
	return a.verdicts(ctx, row, from, limit)
}

func (a *App) visibleAlert(ctx context.Context, who *access.Principal, id string) (*store.Alert, error) {
	row, err := a.store.In(ctx).Alert(id)
	if err != nil {
		return nil, named(err, "alert %s", id)
	}
	return row, access.Can(who, access.See, access.Object{Kind: "alert", Name: id, Service: row.Service})
}

// verdicts gives what an alert keeps of what came of triggers, and after that what those would make of it now of which
// it keeps nothing.
func (a *App) verdicts(
	ctx context.Context, row *store.Alert, from, limit int,
) (out []trigger.Verdict, more bool, err error) {
	kept, err := a.became(ctx, row)
	if err != nil {
		return nil, false, err
	}
	is := map[intake.Which]bool{}
	for _, v := range kept {
		is[intake.Which{Runbook: v.Runbook, Start: v.Name}] = true
	}
	if out = []trigger.Verdict{}; from == 0 {
		out = append(out, kept...)
	}
	others, more, err := a.intake.Explain(ctx, row, from, limit)
	for _, v := range others {
		if !is[intake.Which{Runbook: v.Runbook, Start: v.Name}] {
			v.Started = false
			out = append(out, v)
		}
	}
	return out, more, err
}

// became tells what came of triggers for an alert: as it was raised or changed, and at each report since.
func (a *App) became(ctx context.Context, row *store.Alert) ([]trigger.Verdict, error) {
	var out []trigger.Verdict
	if err := json.Unmarshal(row.Verdicts, &out); err != nil {
		return nil, err
	}
	fired, err := a.store.In(ctx).LastFirings(row.ID)
	if err != nil {
		return nil, err
	}
	for _, f := range fired { // of one trigger that which began a run comes last
		i := slices.IndexFunc(out, func(v trigger.Verdict) bool { return v.Runbook == f.Runbook && v.Name == f.Start })
		if i < 0 {
			i = len(out)
			out = append(out, trigger.Verdict{Runbook: f.Runbook, Name: f.Start})
		}
		switch v := &out[i]; {
		case f.Result == store.FiredStarted:
			v.Started, v.Run, v.Error = true, f.Run, ""
		case !v.Started && !v.Waits():
			v.Error = f.Why
		}
	}
	return out, nil
}

// Alert is an alert with what it started, and what was sent when it last changed.
type Alert struct {
	store.Alert
	// Verdicts are the first of what came of triggers; More says that there are others.
	Verdicts []trigger.Verdict
	More     bool
	Payload  *store.Payload // nil where none is kept: nobody sent it, or it is long ago
	// Meant is the service that its sender probably means, where there is none of the name that it gives.
	Meant string
}

// meant is the service that a name probably means that is none: one that differs only in capitals; "" where there is
// none such, or the name is one.
func meant(services []store.Service, name string) string {
	is := ""
	for _, s := range services {
		switch {
		case s.Name == name:
			return ""
		case strings.EqualFold(s.Name, name):
			is = s.Name
		}
	}
	return is
}

// Head is the head of an incident with the strip of it.
type Head struct {
	store.Incident
	Strip incident.Strip
}

// Incidents lists incidents before a number, newest first, and says whether there are more; 0: from the newest.
func (a *App) Incidents(
	ctx context.Context,
	who *access.Principal,
	which store.WhichIncidents, before int64, limit int) ([]Head, bool, error) {
	scope, err := see(who)
	if err != nil {
		return nil, false, err
	}
	tx := a.store.In(ctx)
	list, err := tx.Incidents(scope, which, before, limit+1)
	if err != nil {
		return nil, false, err
	}
	list, more := pageOf(list, limit)
	out := make([]Head, len(list))
	for n, i := range list {
		// Records of many entries are drawn from their newest part only.
		entries, err := tx.EntriesOf(i.Number, i.Entries-200, incident.OfTheStrip())
		if err != nil {
			return nil, false, err
		}
		out[n] = headOf(i, entries, a.Now())
	}
	return out, more, nil
}

func headOf(i store.Incident, entries []store.Entry, now time.Time) Head {
	list := make([]incident.Entry, len(entries))
	for n, e := range entries {
		list[n] = incident.Entry{
			Seq: e.Seq, At: e.At.UTC(), Kind: incident.Kind(e.Kind), Actor: e.Actor, Run: e.Run, Step: e.Step,
			Title: e.Title,
		}
		if e.Content != nil {
			list[n].Content = json.RawMessage(*e.Content)
		}
	}
	var closed time.Time
	if i.ClosedAt != nil {
		closed = i.ClosedAt.UTC()
	}
	return Head{Incident: i, Strip: incident.Draw(list, i.OpenedAt.UTC(), closed, now)}
}

// Incident is one record with all that belongs to it.
type Incident struct {
	Head
	Entries   []store.Entry
	Alerts    []store.Alert
	Runs      []store.Run
	Gates     []Gate
	Questions []Question
	// Deployments are what was changed of its services shortly before, and meanwhile.
	Deployments []store.Deployment
	// Tickets are its tickets at ticket desks.
	Tickets []store.Ticket
	// Harm is whom it harms, as the service says it; "" where it does not.
	Harm string
	// HandedOver is what somebody needs who takes over, while a person is waited for; nil otherwise.
	HandedOver *HandedOver
}

// HandedOver is what a run left that ended without closing the incident.
type HandedOver struct {
	*tell.HandOverBrief
	Run  store.Run
	Harm string
	// Before tells how runs of the runbook ended.
	Before store.RunsBefore
}

// handedOver finds the newest run that left the incident to people.
func (a *App) handedOver(tx *store.Tx, i *Incident) (*HandedOver, error) {
	var last *store.Run
	for n := range i.Runs {
		if r := &i.Runs[n]; r.EndedAt != nil && (last == nil || r.EndedAt.After(*last.EndedAt)) {
			last = r
		}
	}
	if last == nil || i.Incident.State != "open" || i.Incident.WaitingOn != "person" {
		return nil, nil
	}
	log, err := tx.Log(last.ID, 0)
	if err != nil || len(log) == 0 {
		return nil, err
	}
	book, err := a.engine.BookOf(tx.Context(), log)
	if err != nil {
		return nil, err
	}
	b, err := tell.BriefOfHandOver(book, log)
	if err != nil || b == nil {
		return nil, err
	}
	out := &HandedOver{HandOverBrief: b, Run: *last, Harm: b.Harm}
	out.Ended.To = a.engine.NameOf(tx, out.Ended.To, *last.EndedAt)
	if out.Harm == "" {
		if out.Harm, err = harmOf(tx, book.Service); err != nil {
			return nil, err
		}
	}
	for _, e := range log {
		if g, ok := e.Body.(flow.GateRaised); ok {
			if err := addTaken(tx, g.Gate, b.Grounds); err != nil {
				return nil, err
			}
		}
	}
	out.Before, err = tx.RunsBeforeOf(last.Runbook, last.ID)
	return out, err
}

// maxEntries bounds how many entries of a record are read at once.
const maxEntries = 1000

// Incident reads one record with all that belongs to it.
func (a *App) Incident(ctx context.Context, who *access.Principal, number int64) (*Incident, error) {
	return a.IncidentWith(ctx, who, number, true)
}

// IncidentWith is Incident with its record, or without it.
func (a *App) IncidentWith(ctx context.Context, who *access.Principal, number int64, record bool) (*Incident, error) {
	tx := a.store.In(ctx)
	row, err := a.seeIncident(tx, who, number)
	if err != nil {
		return nil, err
	}
	out := &Incident{}
	if !record {
		strip, err := a.stories.Strip(tx, row, a.Now())
		if err != nil {
			return nil, err
		}
		out.Head = Head{Incident: *row, Strip: strip}
	} else if err := out.read(tx, row, a.Now()); err != nil {
		return nil, err
	}
	if out.Alerts, err = tx.AlertsOf(number); err != nil {
		return nil, err
	}
	if out.Runs, err = tx.RunsOf(number); err != nil {
		return nil, err
	}
	gates, err := tx.OpenGatesOf(number)
	if err != nil {
		return nil, err
	}
	if out.Gates, err = a.showGates(ctx, who, gates); err != nil {
		return nil, err
	}
	questions, err := tx.OpenQuestionsOf(number)
	if err != nil {
		return nil, err
	}
	if out.Questions, err = a.showQuestions(ctx, who, questions); err != nil {
		return nil, err
	}
	if out.HandedOver, err = a.handedOver(tx, out); err != nil {
		// The record has it all the same.
		a.log.Error("tell what somebody needs who takes over", "incident", number, "error", err)
	}
	if out.Tickets, err = tx.TicketsOf(number); err != nil {
		return nil, err
	}
	if out.Harm, err = a.harmOfIncident(ctx, tx, out); err != nil {
		return nil, err
	}
	out.Deployments, err = a.deploymentsOf(tx, out)
	return out, err
}

// read reads the record of an incident, and draws its head.
func (i *Incident) read(tx *store.Tx, row *store.Incident, now time.Time) error {
	for after := int64(0); after < row.Entries; {
		page, err := tx.Entries(row.Number, after, maxEntries)
		if err != nil {
			return err
		}
		if len(page) == 0 {
			break
		}
		i.Entries = append(i.Entries, page...)
		after = page[len(page)-1].Seq
	}
	i.Head = headOf(*row, i.Entries, now)
	return nil
}

func (a *App) seeIncident(tx *store.Tx, who *access.Principal, number int64) (*store.Incident, error) {
	row, err := tx.Incident(number)
	if err != nil {
		return nil, named(err, "incident %d", number)
	}
	return row, access.Can(who, access.See, ofIncident(row))
}

func ofIncident(i *store.Incident) access.Object {
	return access.Object{Kind: "incident", Name: strconv.FormatInt(i.Number, 10), Service: i.Service}
}

// Entries reads the entries of a record after a number, at most 1000.
func (a *App) Entries(ctx context.Context, who *access.Principal, number, after int64) ([]store.Entry, error) {
	tx := a.store.In(ctx)
	if _, err := a.seeIncident(tx, who, number); err != nil {
		return nil, err
	}
	return tx.Entries(number, after, maxEntries)
}

// Verified is whether a record is whole.
type Verified struct {
	Whole   bool
	Says    string
	Entries int64
}

// Verify checks the chain of a record.
func (a *App) Verify(ctx context.Context, who *access.Principal, number int64) (Verified, error) {
	if _, err := a.seeIncident(a.store.In(ctx), who, number); err != nil {
		return Verified{}, err
	}
	n, err := a.store.Verify(ctx, number)
	var broken *store.Broken
	switch {
	case errors.As(err, &broken):
		return Verified{Says: broken.Reason, Entries: n}, nil
	case err != nil:
		return Verified{}, err
	}
	return Verified{true, fmt.Sprintf("the record is whole: %d entries, each sealed to the one before", n), n}, nil
}

// enter appends an entry to a record by the hand of a person. alter may change the incident.
func (a *App) enter(ctx context.Context, who *access.Principal, number int64,
	alter func(s *engine.Sheet, i *store.Incident) (store.NewEntry, error),
) (i *store.Incident, row *store.Entry, err error) {
	err = a.write(ctx, func(s *engine.Sheet) error {
		if i, err = s.Incident(number); err != nil {
			return named(err, "incident %d", number)
		}
		if err := access.Can(who, access.Respond, ofIncident(i)); err != nil {
			return err
		}
		entry, err := alter(s, i)
		if err != nil {
			return err
		}
		if err := s.RecordWriter.Write(i, entry); err != nil {
			return err
		}
		row = s.Last()
		s.Changed(
			store.Feed{Topic: "incident", Ref: strconv.FormatInt(number, 10), Incident: &number, Service: i.Service},
		)
		return s.Tx().Audit(who.Name, string(entry.Kind), fmt.Sprintf("incident %d", number), "")
	})
	return i, row, err
}

// AddNote writes a person's note into a record; outward is one for others than those who work on it.
func (a *App) AddNote(ctx context.Context, who *access.Principal, number int64, text string, outward bool,
) (*store.Entry, error) {
	kind, title := incident.Note, "Note"
	if outward {
		kind, title = incident.Outward, "For others"
	}
	_, row, err := a.enter(ctx, who, number, func(_ *engine.Sheet, i *store.Incident) (store.NewEntry, error) {
		i.Say(text)
		return store.NewEntry{
			At: a.Now(), Kind: kind, Actor: who.Name, Title: title, Content: incident.NoteContent{Text: text},
		}, nil
	})
	return row, err
}

// CloseIncident closes an incident on which no run works any more.
func (a *App) CloseIncident(ctx context.Context, who *access.Principal, number int64, outcome, because string,
) (i *store.Incident, err error) {
	err = a.write(ctx, func(s *engine.Sheet) error {
		if i, err = s.Incident(number); err != nil {
			return named(err, "incident %d", number)
		}
		if err := access.Can(who, access.Respond, ofIncident(i)); err != nil {
			return err
		}
		if i.State != "open" {
			return &Error{Kind: Conflict, Code: "not-open", Says: "the incident is closed already"}
		}
		active, err := s.Tx().Working(i.Number, "")
		if err != nil {
			return err
		}
		if active > 0 {
			return &Error{Kind: Conflict, Code: "run-active", Says: "a runbook still works on it; let it end first"}
		}
		still, err := a.leaves(s.Tx(), i)
		if err != nil {
			return err
		}
		if err := s.Tx().SettleHandOvers(i.Number, who.Name); err != nil {
			return err
		}
		err = s.Close(i, engine.Closing{Outcome: outcome, Because: because, By: who.Name, At: a.Now(),
			TellSources: true, Content: incident.ClosedContent{Still: still}})
		if err != nil {
			return err
		}
		return s.Tx().Audit(who.Name, string(incident.Closed), fmt.Sprintf("incident %d", number), "")
	})
	return i, err
}

// leaves tells what a person closes who closes an incident: the open alerts for which nothing was enough.
func (a *App) leaves(tx *store.Tx, i *store.Incident) (list []string, err error) {
	open, more, err := tx.Unsettled(i.Number)
	if err != nil || len(open) == 0 {
		return nil, err
	}
	for _, u := range open[:min(len(open), mostLeft)] {
		list = append(list, fmt.Sprintf("%s (%s): %s", u.Summary, u.Severity, u.Why))
	}
	if n := len(open) + more - len(list); n > 0 {
		list = append(list, fmt.Sprintf("%d more alerts", n))
	}
	return list, nil
}

// mostLeft bounds how many open alerts are named that a person closes with an incident.
const mostLeft = 20

// Artifact is the whole of an output.
func (a *App) Artifact(ctx context.Context, who *access.Principal, id string) ([]byte, error) {
	if _, err := see(who); err != nil {
		return nil, err
	}
	row, err := a.store.In(ctx).Artifact(id)
	if err != nil {
		return nil, named(err, "output %s", id)
	}
	z, err := gzip.NewReader(bytes.NewReader(row.Body))
	if err != nil {
		return nil, err
	}
	return io.ReadAll(z)
}
