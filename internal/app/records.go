package app

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"urgentis/core/access"
	"urgentis/core/alert"
	"urgentis/core/incident"
	"urgentis/core/plain"
	"urgentis/core/story"
	"urgentis/internal/engine"
	"urgentis/internal/store"
)

// NewIncident is an incident that a person opens.
type NewIncident struct{ Title, Service, Severity string }

// OpenIncident opens an incident by hand. Alerts of its service join it as if an alert had opened it, and what starts
// as an incident is opened starts.
func (a *App) OpenIncident(ctx context.Context, who *access.Principal, n NewIncident) (*store.Incident, error) {
	if err := access.Can(who, access.Respond, access.Object{Kind: "incident", Service: n.Service}); err != nil {
		return nil, err
	}
	if n.Title = strings.TrimSpace(n.Title); n.Title == "" {
		return nil, invalid("title", "the incident needs a title")
	}
	if alert.Worth(n.Severity) < 1 {
		return nil, invalid("severity", "severity must be critical, major, minor or warning")
	}
	at := a.Now()
	i := &store.Incident{
		Title:      n.Title,
		SeverityAt: &at,
		WantedAt:   &at,
		Service:    n.Service,
		Severity:   n.Severity,
		TitleBy:    who.Name,
		SeverityBy: who.Name,
		Holder:     who.Behind(),
	}
	i.HeldAt = &at
	return i, a.intake.OpenByHand(ctx, i, who.Name, func(tx *store.Tx) error {
		return tx.Audit(who.Name, "incident.open", fmt.Sprintf("incident %d", i.Number), n.Title)
	})
}

// Hold makes somebody the holder of an incident: whoever takes it, or whom it is reassigned to; "" gives it back. Who
// takes it has what was there by then. Who is handed it has nothing yet: they are called until they take it, and then
// others. What is given back is anybody's again.
func (a *App) Hold(
	ctx context.Context,
	who *access.Principal,
	number int64,
	to, because string,
) (*store.Incident, error) {
	i, _, err := a.enter(ctx, who, number, func(s *engine.Sheet, i *store.Incident) (store.NewEntry, error) {
		if i.State != "open" {
			return store.NewEntry{}, &Error{Kind: Conflict, Code: "not-open", Says: "the incident is closed"}
		}
		if err := a.mayHold(s.Tx(), who, to); err != nil {
			return store.NewEntry{}, err
		}
		at, was := a.Now(), i.Holder
		i.Holder, i.HeldAt, i.Former = to, &at, ""
		title := "Handed on to " + to
		switch to {
		case "":
			title, i.HeldAt = "Nobody holds it any more", nil
			s.MayEnd(i)
		case who.Behind():
			title = "Taken by " + to
		default:
			i.HeldAt, i.Former = nil, cmp.Or(was, who.Behind())
			if err := s.Reassigned(i, who.Name, because); err != nil {
				return store.NewEntry{}, err
			}
		}
		return store.NewEntry{At: at, Kind: incident.Held, Actor: who.Name, Title: title,
			Content: incident.HeadContent{Holder: &to, Was: was, Because: because}}, nil
	})
	return i, err
}

// mayHold refuses to hand an incident to somebody who is not there, or may do nothing about it.
func (a *App) mayHold(tx *store.Tx, who *access.Principal, to string) error {
	if to == "" || to == who.Behind() {
		return nil
	}
	p, err := tx.Person(to)
	switch {
	case err != nil:
		return err
	case p == nil:
		return invalid("holder", "there is nobody named %s", to)
	}
	if err := access.Can(access.PersonWith(p.Name, p.Roles), access.Respond, access.Installation); err != nil {
		return invalid("holder", "%s may not answer for an incident: that needs the role %s", to, access.Responder)
	}
	return nil
}

// EditIncident sets title and severity by hand: they follow the worst alert no more. "" leaves one as it is; "auto"
// lets the severity follow the alerts again.
func (a *App) EditIncident(ctx context.Context, who *access.Principal, number int64, title, severity string,
) (*store.Incident, error) {
	if severity != "" && severity != auto && alert.Worth(severity) < 1 {
		return nil, invalid("severity", "severity must be critical, major, minor or warning, or auto")
	}
	if title == "" && severity == "" {
		return nil, invalid("title", "say what is to be altered: the title or the severity")
	}
	i, _, err := a.enter(ctx, who, number, func(s *engine.Sheet, i *store.Incident) (store.NewEntry, error) {
		content := incident.HeadContent{TitleWas: i.Title, SeverityWas: i.Severity}
		if title != "" {
			i.Title, i.TitleBy = title, who.Name
		}
		switch severity {
		case "":
		case auto:
			i.SeverityBy = ""
			worst, err := s.Tx().WorstAlert(number)
			if err != nil {
				return store.NewEntry{}, err
			}
			if worst != nil {
				i.Severity = worst.Severity
			}
		default:
			at := a.Now()
			i.Severity, i.SeverityBy, i.SeverityAt = severity, who.Name, &at
		}
		content.Title, content.Severity = i.Title, i.Severity
		return store.NewEntry{At: a.Now(), Kind: incident.Retitled, Actor: who.Name,
			Title: fmt.Sprintf("Now %s: %s", i.Severity, i.Title), Content: content}, nil
	})
	return i, err
}

// auto is a severity that follows the alerts.
const auto = "auto"

// Reopen opens an incident again by hand.
func (a *App) Reopen(
	ctx context.Context,
	who *access.Principal,
	number int64,
	because string,
) (*store.Incident, error) {
	i, _, err := a.enter(ctx, who, number, func(s *engine.Sheet, i *store.Incident) (store.NewEntry, error) {
		switch {
		case i.MergedInto != nil:
			return store.NewEntry{}, &Error{Kind: Conflict, Code: "merged", Says: fmt.Sprintf(
				"it is part of incident %d; split that instead", *i.MergedInto)}
		case i.State == "open":
			return store.NewEntry{}, &Error{Kind: Conflict, Code: "open", Says: "the incident is open"}
		}
		if err := s.OpenAgain(i, "person"); err != nil {
			return store.NewEntry{}, err
		}
		open, err := s.Tx().HasOpen(number)
		if err != nil {
			return store.NewEntry{}, err
		}
		if at := a.Now(); !open {
			i.WantedAt = &at
		}
		return store.NewEntry{At: a.Now(), Kind: incident.Reopened, Actor: who.Name, Title: "Open again: " + because,
			Content: incident.HeadContent{Because: because}}, nil
	})
	return i, err
}

// Merge makes an incident part of another one: its alerts go there, it is closed, and its record stays and says where
// to look on. What would join it joins the other one.
func (a *App) Merge(
	ctx context.Context,
	who *access.Principal,
	from, into int64,
	because string,
) (*store.Incident, error) {
	if from == into {
		return nil, invalid("into", "an incident cannot be part of itself")
	}
	var out *store.Incident
	merge := func(s *engine.Sheet) error {
		if _, err := s.Tx().LockAlerts(from, nil); err != nil {
			return err
		}
		two, err := a.both(s, who, from, into)
		if err != nil {
			return err
		}
		f, i := two[from], two[into]
		if f.State != "open" || i.State != "open" {
			return &Error{Kind: Conflict, Code: "not-open", Says: "both incidents must be open"}
		}
		active, err := s.Tx().Working(from, "")
		if err != nil {
			return err
		}
		there, err := s.Tx().Working(into, "")
		if err != nil {
			return err
		}
		if active > 0 {
			says := fmt.Sprintf("a runbook still works on incident %d: let it end or cancel it first", from)
			if there == 0 {
				says += fmt.Sprintf(", or merge %d into %d", into, from)
			}
			return &Error{Kind: Conflict, Code: "run-active", Says: says}
		}
		out = i
		return a.merge(s, who, f, i, because)
	}
	// Whoever takes in alerts of it meanwhile locks the same rows in other orders.
	err := a.write(ctx, merge)
	for range mergeAgain {
		if !store.Raced(err) {
			break
		}
		err = a.write(ctx, merge)
	}
	return out, err
}

// mergeAgain bounds how often a merge is begun anew that met alerts which were taken in at the same moment.
const mergeAgain = 20

// both locks two incidents in the order of their numbers, and asks for the right to each.
func (a *App) both(s *engine.Sheet, who *access.Principal, x, y int64) (map[int64]*store.Incident, error) {
	out := map[int64]*store.Incident{}
	for _, n := range []int64{min(x, y), max(x, y)} {
		i, err := s.Incident(n)
		if err != nil {
			return nil, named(err, "incident %d", n)
		}
		if err := access.Can(who, access.Respond, ofIncident(i)); err != nil {
			return nil, err
		}
		out[n] = i
	}
	return out, nil
}

func (a *App) merge(
	s *engine.Sheet,
	who *access.Principal,
	f, i *store.Incident,
	because string,
) error {
	at := a.Now()
	ids, err := s.Tx().MergeInto(f.Number, i.Number)
	if err != nil {
		return err
	}
	if err := s.Tx().MoveHandOvers(f.Number, i.Number); err != nil {
		return err
	}
	f.MergedInto, f.Alerts = &i.Number, 0
	i.Alerts += int64(len(ids))
	i.Say(f.Title)
	if i.SeverityBy == "" && alert.Worth(f.Severity) > alert.Worth(i.Severity) {
		i.Severity = f.Severity
	}
	about := incident.ClosedContent{From: f.Number, Into: i.Number, Alerts: ids, Because: because}
	err = s.Close(f, engine.Closing{Outcome: "merged", Because: fmt.Sprintf("part of incident %d", i.Number),
		By: who.Name, At: at, Kind: incident.Merged, Content: about,
		Says: fmt.Sprintf("Part of incident %d from here on: %s", i.Number, i.Title)})
	if err != nil {
		return err
	}
	err = s.RecordWriter.Write(i, store.NewEntry{At: at, Kind: incident.Merged, Actor: who.Name,
		Title: fmt.Sprintf("Incident %d is part of this one: %s", f.Number, f.Title), Content: about})
	if err != nil {
		return err
	}
	a.fed(s, f, i)
	return s.Tx().Audit(who.Name, "incident.merge", fmt.Sprintf("incident %d", f.Number), fmt.Sprint("into ", i.Number))
}

// fed tells that incidents changed.
func (a *App) fed(s *engine.Sheet, list ...*store.Incident) {
	for _, i := range list {
		s.Changed(store.Feed{Topic: "incident", Ref: fmt.Sprint(i.Number), Incident: &i.Number, Service: i.Service})
	}
}

// Split takes alerts out of an incident into one of their own.
func (a *App) Split(ctx context.Context, who *access.Principal, number int64, alerts []string, because string,
) (*store.Incident, error) {
	if len(alerts) == 0 {
		return nil, invalid("alerts", "say which alerts are another matter")
	}
	var out *store.Incident
	err := a.write(ctx, func(s *engine.Sheet) error {
		moved, err := s.Tx().LockAlerts(number, alerts)
		if err != nil {
			return err
		}
		i, err := s.Incident(number)
		if err != nil {
			return named(err, "incident %d", number)
		}
		if err := access.Can(who, access.Respond, ofIncident(i)); err != nil {
			return err
		}
		for _, id := range alerts {
			if !slices.ContainsFunc(moved, func(m store.Alert) bool { return m.ID == id }) {
				return invalid("alerts", "incident %d has no alert %s", number, id)
			}
		}
		if int64(len(moved)) >= i.Alerts {
			return invalid("alerts", "these are all alerts of incident %d: nothing would be left in it", number)
		}
		out, err = a.split(s, who, i, moved, because)
		return err
	})
	return out, err
}

func (a *App) split(s *engine.Sheet, who *access.Principal, i *store.Incident, moved []store.Alert, because string,
) (*store.Incident, error) {
	at := a.Now()
	worst := slices.MaxFunc(
		moved,
		func(x, y store.Alert) int { return alert.Worth(x.Severity) - alert.Worth(y.Severity) },
	)
	out := &store.Incident{Title: worst.Summary, State: "open", WaitingOn: "person", Severity: worst.Severity,
		Service: worst.Service, OpenedAt: at, Alerts: int64(len(moved))}
	if err := s.Open(out); err != nil {
		return nil, err
	}
	// The heads first: an alert refers to its incident.
	ids := make([]string, len(moved))
	for n, m := range moved {
		ids[n] = m.ID
		out.Say(m.Summary)
	}
	i.Alerts -= int64(len(moved))
	about := incident.HeadContent{From: i.Number, Into: out.Number, Alerts: ids, Because: because}
	err := s.RecordWriter.Write(i, store.NewEntry{At: at, Kind: incident.Split, Actor: who.Name,
		Title: fmt.Sprintf("%d alerts are another matter: incident %d", len(moved), out.Number), Content: about})
	if err != nil {
		return nil, err
	}
	err = s.RecordWriter.Write(out, store.NewEntry{At: at, Kind: incident.Split, Actor: who.Name,
		Title: fmt.Sprintf("Taken out of incident %d: %s", i.Number, i.Title), Content: about})
	if err != nil {
		return nil, err
	}
	if err := s.Tx().SplitInto(ids, out.Number); err != nil {
		return nil, err
	}
	a.fed(s, i, out)
	return out, s.Tx().
		Audit(who.Name, "incident.split", fmt.Sprintf("incident %d", i.Number), fmt.Sprint("into ", out.Number))
}

// AddLink puts a link to a record.
func (a *App) AddLink(
	ctx context.Context,
	who *access.Principal,
	number int64,
	name, url string,
) (*store.Attachment, error) {
	if err := web("url", url); err != nil {
		return nil, err
	}
	row := &store.Attachment{ID: store.NewID("f"), Incident: number, Kind: store.LinkAttached, Name: name, URL: url,
		AddedBy: who.Behind(), AddedAt: a.Now()}
	_, _, err := a.enter(ctx, who, number, func(s *engine.Sheet, i *store.Incident) (store.NewEntry, error) {
		i.Say(name)
		return store.NewEntry{At: row.AddedAt, Kind: incident.Attached, Actor: who.Name, Title: "Link: " + name,
			Content: incident.FileContent{Name: name, URL: url}}, s.Tx().AddAttachment(row)
	})
	return row, err
}

// AddFile puts a file to a record as it is read. It is there once all of it is.
func (a *App) AddFile(ctx context.Context, who *access.Principal, number int64, name, kind string, r io.Reader,
) (*store.Attachment, error) {
	if name = strings.TrimSpace(plain.Line(name)); name == "" || len(name) > 200 {
		return nil, invalid("name", "a file needs a name of up to 200 bytes")
	}
	tx := a.store.In(ctx)
	i, err := a.seeIncident(tx, who, number)
	if err != nil {
		return nil, err
	}
	if err := access.Can(who, access.Respond, ofIncident(i)); err != nil {
		return nil, err
	}
	// The record is not locked while the file comes in.
	return a.keepFile(ctx, store.Attachment{Incident: number, Kind: store.FileAttached, Name: name, Type: kind,
		AddedBy: who.Behind()}, r, func(ctx context.Context, whole *store.Attachment) error {
		return a.enterFile(ctx, who, number, whole)
	})
}

// keepFile keeps a file as it is read, and has it entered once it is whole. What does not come in whole is dropped.
func (a *App) keepFile(ctx context.Context, row store.Attachment, r io.Reader,
	enter func(context.Context, *store.Attachment) error,
) (*store.Attachment, error) {
	row.ID, row.AddedAt = store.NewID("f"), a.Now()
	f, err := a.store.In(ctx).NewFile(row)
	if errors.Is(err, store.ErrFilesFull) {
		return nil, &Error{Kind: Conflict, Code: "full", Says: err.Error()}
	}
	if err != nil {
		return nil, err
	}
	var whole *store.Attachment
	switch n, failed := io.Copy(f, r); {
	case errors.Is(failed, store.ErrTooLarge):
		err = &Error{Kind: Invalid, Code: "too-large", Says: failed.Error()}
	case f.Failed() != nil:
		err = f.Failed()
	case failed != nil:
		err = invalid("body", "the file broke off after %d bytes: %s", n, failed)
	default:
		if whole, err = f.Done(); err == nil {
			err = enter(ctx, whole)
		}
	}
	if err != nil {
		return nil, errors.Join(err, a.store.In(context.WithoutCancel(ctx)).DropAttachment(row.ID))
	}
	return whole, nil
}

func (a *App) enterFile(ctx context.Context, who *access.Principal, number int64, row *store.Attachment) error {
	_, _, err := a.enter(ctx, who, number, func(s *engine.Sheet, i *store.Incident) (store.NewEntry, error) {
		i.Say(row.Name)
		return store.NewEntry{At: a.Now(), Kind: incident.Attached, Actor: who.Name, Title: "File: " + row.Name,
			Content: incident.FileContent{Name: row.Name, Size: row.Size, Digest: row.Digest, ID: row.ID},
		}, s.Tx().SaveAttachment(row)
	})
	return err
}

// Attachments lists the files and links of a record.
func (a *App) Attachments(ctx context.Context, who *access.Principal, number int64) ([]store.Attachment, error) {
	tx := a.store.In(ctx)
	if _, err := a.seeIncident(tx, who, number); err != nil {
		return nil, err
	}
	return tx.Attachments(number)
}

// File gives a file of a record, and what reads it piece by piece.
func (a *App) File(
	ctx context.Context,
	who *access.Principal,
	number int64,
	id string,
) (*store.Attachment, io.Reader, error) {
	tx := a.store.In(ctx)
	if _, err := a.seeIncident(tx, who, number); err != nil {
		return nil, nil, err
	}
	row, err := tx.Attachment(id)
	if err == nil && (row.Incident != number || row.Kind != store.FileAttached) {
		err = store.ErrNotFound
	}
	if err != nil {
		return nil, nil, named(err, "file %s of incident %d", id, number)
	}
	return row, tx.Pieces(id), nil
}

// Export gives a record so that others can check it: its head, and every entry as it is sealed.
func (a *App) Export(ctx context.Context, who *access.Principal, number int64) (*incident.Export, error) {
	i, err := a.Incident(ctx, who, number)
	if err != nil {
		return nil, err
	}
	out := &incident.Export{Head: incident.ExportHead{
		Format: incident.ExportFormat, Incident: fmt.Sprint(number), Title: i.Title, Service: i.Service,
		Severity: i.Severity,
		State:    i.State, OpenedAt: i.OpenedAt.UTC(), Entries: i.Head.Entries, LastHash: i.LastHash,
		ExportedAt: a.Now(),
	}}
	for _, e := range i.Entries {
		if e.Seq <= i.Head.Entries { // what was written meanwhile is not in its head
			out.Entries = append(out.Entries, e.Sealed())
		}
	}
	return out, nil
}

// Report gives a record for people to read.
func (a *App) Report(ctx context.Context, who *access.Principal, number int64) (*story.Report, error) {
	i, err := a.Incident(ctx, who, number)
	if err != nil {
		return nil, err
	}
	files, err := a.Attachments(ctx, who, number)
	if err != nil {
		return nil, err
	}
	r := &story.Report{
		Number: number, Title: i.Title, Service: i.Service, Severity: i.Severity, State: i.State, Outcome: i.Outcome,
		Because: i.Because, Holder: i.Holder, OpenedAt: i.OpenedAt.UTC(), Harm: i.Harm, Strip: i.Strip,
		AllAlerts: i.Head.Alerts,
		Link:      fmt.Sprintf("%s/incidents/%d", a.link, number),
	}
	if i.ClosedAt != nil {
		r.ClosedAt = i.ClosedAt.UTC()
	}
	entries := make([]incident.Entry, len(i.Entries))
	for n := range i.Entries {
		entries[n] = i.Entries[n].Sealed()
	}
	r.Take(entries)
	for _, x := range i.Alerts {
		r.Alerts = append(r.Alerts, story.ReportAlert{Severity: x.Severity, State: x.State, Summary: x.Summary,
			Source: x.Source, Times: x.Count, First: x.FirstAt.UTC(), Last: x.LastAt.UTC()})
	}
	for _, x := range i.Runs {
		ended := time.Time{}
		if x.EndedAt != nil {
			ended = x.EndedAt.UTC()
		}
		r.Runs = append(
			r.Runs,
			story.ReportRun{Runbook: x.Title, State: x.State, By: x.StartedBy, Because: x.Because,
				Begun: x.BegunAt.UTC(), Ended: ended},
		)
	}
	for _, f := range files {
		r.Files = append(
			r.Files,
			story.ReportFile{Name: f.Name, URL: f.URL, Size: f.Size, Digest: f.Digest, By: f.AddedBy},
		)
	}
	return r, nil
}
