package app

import (
	"cmp"
	"context"
	"fmt"
	"strings"

	"golang.org/x/time/rate"

	"urgentis/core/access"
	"urgentis/core/alert"
	"urgentis/core/doc"
	"urgentis/core/estate"
	"urgentis/core/reading"
	"urgentis/core/trigger"
	"urgentis/internal/intake"
	"urgentis/internal/store"
)

// Received is what became of what a source posted.
type Received struct {
	Taken []intake.Taken
	// Many says that the answer is a list: a list was posted, or a map made one of it.
	Many bool
	// Deployments are the ids of those that were reported in the place of alerts.
	Deployments []string
	// Unread is under which a payload was kept that could not be mapped, or not all of it; Finding says why.
	Unread, Finding string
}

// TakeAlerts keeps what a source posts, once it proved itself. It returns once all is on disk: as alerts, or where the
// source's map cannot read it, as a payload that nobody has read.
func (a *App) TakeAlerts(ctx context.Context, source string, proof Proof, p alert.Payload) (*Received, error) {
	s, err := a.proven(ctx, source, proof, p.Body)
	if err != nil {
		return nil, err
	}
	if s.Takes != alert.HTTP && s.Takes != "" {
		return nil, errUnproven
	}
	unpacked, err := p.Unpacked()
	if err != nil {
		return a.keepUnread(ctx, s, p, nil, err.Error(), &Received{Many: true})
	}
	return a.takePayload(ctx, s, unpacked)
}

// takePayload keeps what a source sent.
func (a *App) takePayload(ctx context.Context, s *alert.Source, p alert.Payload) (*Received, error) {
	switch s.Reports {
	case alert.OfDeployments:
		return a.takeDeployments(ctx, s, p)
	case alert.OfTickets:
		return a.takeTickets(ctx, s, p)
	}
	if s.Map != nil {
		return a.takeMapped(ctx, s, p)
	}
	header := func(name string) string {
		if strings.EqualFold(name, "Content-Type") {
			return p.ContentType
		}
		return p.Headers[strings.ToLower(name)]
	}
	reports, many, err := alert.Read(header, p.Body, now())
	if err != nil {
		return nil, invalid("alert", "%s", err)
	}
	if err := a.withinRate(s, len(reports)); err != nil {
		return nil, err
	}
	taken, err := a.intake.TakeAll(ctx, s.Name, reports)
	return &Received{Taken: taken, Many: many}, err
}

// TakeSample takes a payload for real as if its source had sent it now, in the name of whoever gives it.
func (a *App) TakeSample(ctx context.Context, who *access.Principal, name string, p alert.Payload) (*Received, error) {
	if err := administer(who, "source", name); err != nil {
		return nil, err
	}
	s, err := a.sourceToTry(ctx, name, "")
	if err != nil {
		return nil, err
	}
	out, err := a.takePayload(ctx, s, p)
	if err != nil {
		return nil, err
	}
	return out, a.tx(
		ctx,
		func(tx *store.Tx) error { return tx.Audit(who.Name, "source.sample", name, doc.Sum(p.Body)) },
	)
}

// withinRate refuses reports beyond what a source may send in a second; it may save up two seconds.
func (a *App) withinRate(s *alert.Source, n int) error {
	most := rate.Limit(cmp.Or(s.Rate, alert.DefaultRate))
	l, ok := a.rates.Get(s.Name)
	if !ok || l.Limit() != most {
		l = rate.NewLimiter(most, max(2*int(most), alert.MaxReports))
		a.rates.Add(s.Name, l)
	}
	if l.AllowN(now(), max(1, n)) {
		return nil
	}
	return &Error{Kind: Full, Code: "rate", Says: fmt.Sprintf(
		"%s sends more than its rate of %d a second; send it again in a second, or give its document a higher rate",
		s.Name, int(most))}
}

// mapOf reads what a source's document says. It is kept read.
func (a *App) mapOf(row *store.Source) (*alert.Source, error) {
	if row.Says == "" {
		return &alert.Source{Name: row.Name}, nil
	}
	if s, ok := a.maps.Get(row.Says); ok {
		return s, nil
	}
	s, err := sourceIn(row.Says)
	if err == nil {
		a.maps.Add(row.Says, s)
	}
	return s, err
}

// sourceIn reads the text of one source.
func sourceIn(text string) (*alert.Source, error) {
	docs, found := estate.Parse([]estate.File{{Name: "source", Text: text}})
	if estate.Failed(found) || len(docs) != 1 || docs[0].Source == nil {
		return nil, &Error{Kind: Unsound, Code: "documents", Says: "this is not the text of one source", Found: found}
	}
	return docs[0].Source, nil
}

// sorted parts what a map made into reports and the places of what could not be read, with the first reason.
func sorted(items []alert.Mapped) (reports []alert.Report, unread []int, finding string) {
	for i, m := range items {
		switch {
		case m.Unread != "":
			if unread = append(unread, i); finding == "" {
				finding = m.Unread
			}
		case !m.Ignored:
			reports = append(reports, m.Report)
		}
	}
	return reports, unread, finding
}

// takeMapped keeps what a map makes of a payload. What it cannot make is kept as it came.
func (a *App) takeMapped(ctx context.Context, s *alert.Source, p alert.Payload) (*Received, error) {
	items, err := s.Mapping(p, now())
	if err != nil {
		if err := a.withinRate(s, 1); err != nil {
			return nil, err
		}
		return a.keepUnread(ctx, s, p, nil, err.Error(), &Received{Many: true})
	}
	reports, unread, finding := sorted(items)
	out := &Received{Many: true, Taken: []intake.Taken{}}
	if err := a.withinRate(s, len(items)); err != nil {
		return nil, err
	}
	if len(reports) == 0 {
		// It reported, if nothing that anything is made of.
		if err := a.store.In(ctx).MarkSource(s.Name); err != nil {
			return nil, err
		}
	} else if out.Taken, err = a.intake.TakeMapped(ctx, s.Name, reports, p); err != nil {
		return nil, err
	}
	if len(unread) == 0 {
		return out, nil
	}
	if s.Each != nil {
		finding = fmt.Sprintf("item %d of %d: %s", unread[0]+1, len(items), finding)
	}
	return a.keepUnread(ctx, s, p, unread, finding, out)
}

func (a *App) keepUnread(
	ctx context.Context, s *alert.Source, p alert.Payload, items []int, finding string, out *Received,
) (*Received, error) {
	tx := a.store.In(ctx)
	finding = reading.Why(finding)
	// It is heard, if not understood.
	if err := tx.MarkSource(s.Name); err != nil {
		return nil, err
	}
	full, err := tx.UnreadFull(s.Name)
	if err != nil {
		return nil, err
	}
	if full {
		return nil, &Error{Kind: Full, Code: "unread", Says: fmt.Sprintf(
			"%s; %d payloads of %s wait to be read already: mend its map first", finding, store.MostUnread, s.Name)}
	}
	row := &store.Unread{
		ID: store.NewID("u"), Source: s.Name, At: now(), Finding: finding, Items: items, ContentType: p.ContentType,
		Headers: p.Headers, Query: p.Query, Body: p.Body,
	}
	if row.Items == nil {
		row.Items = []int{}
	}
	out.Unread, out.Finding = row.ID, finding
	return out, tx.AddUnread(row)
}

// UnreadPayloads lists the payloads that could not be mapped and that nobody has read since.
func (a *App) UnreadPayloads(ctx context.Context, who *access.Principal, source string) ([]store.Unread, error) {
	if err := administer(who, "source", source); err != nil {
		return nil, err
	}
	return a.store.In(ctx).Unread(source)
}

// ReadAgain maps a payload anew with the map as it is now. What is read then is taken, and the payload is unread no
// more; where it still cannot be read, that is said and it stays.
func (a *App) ReadAgain(ctx context.Context, who *access.Principal, id string) (*Received, error) {
	row, err := a.store.In(ctx).OneUnread(id)
	if err != nil {
		return nil, named(err, "unread payload %s", id)
	}
	if err := administer(who, "source", row.Source); err != nil {
		return nil, err
	}
	if row.ReadAt != nil {
		return nil, &Error{Kind: Conflict, Code: "read", Says: fmt.Sprintf("%s read it already", row.ReadBy)}
	}
	from, err := a.store.In(ctx).Source(row.Source)
	if err != nil {
		return nil, err
	}
	if from == nil {
		return nil, &Error{Kind: Missing, Code: "not-found", Says: "there is no source " + row.Source + " any more"}
	}
	reports, err := a.readReports(from, row)
	if err != nil {
		return nil, err
	}
	out := &Received{Many: true, Taken: []intake.Taken{}}
	if len(reports) > 0 {
		if out.Taken, err = a.intake.TakeMapped(ctx, row.Source, reports, row.Payload()); err != nil {
			return nil, err
		}
	}
	return out, a.tx(ctx, func(tx *store.Tx) error {
		if err := tx.MarkRead(id, who.Behind()); err != nil {
			return err
		}
		return tx.Audit(who.Name, "unread.read", id, row.Source)
	})
}

// readReports maps what of a payload could not be mapped before.
func (a *App) readReports(from *store.Source, row *store.Unread) ([]alert.Report, error) {
	s, err := a.mapOf(from)
	if err != nil {
		return nil, err
	}
	if s.Map == nil {
		return nil, invalid("unread", "the source %s has no map", row.Source)
	}
	items, err := s.Mapping(row.Payload(), row.At)
	if err != nil {
		return nil, invalid("unread", "it still cannot be read: %s", err)
	}
	wanted := map[int]bool{}
	for _, i := range row.Items {
		if wanted[i] = true; i >= len(items) {
			return nil, invalid("unread", "item %d was not read, and the map finds %d items now; mend its each",
				i+1, len(items))
		}
	}
	var out []alert.Report
	for i, m := range items {
		if len(wanted) > 0 && !wanted[i] {
			continue
		}
		if m.Unread != "" {
			return nil, invalid("unread", "item %d still cannot be read: %s", i+1, m.Unread)
		}
		if !m.Ignored {
			out = append(out, m.Report)
		}
	}
	return out, nil
}

// TriedSource is what a payload would become.
type TriedSource struct {
	Items []TriedItem
	// Finding says why nothing of it can be read; "" where something can.
	Finding string
}

// TriedItem is what one item of a payload would become, and what that would start.
type TriedItem struct {
	alert.Mapped
	Verdicts []trigger.Verdict
}

// TrySource tells what a payload would become and start, without any effect. text is a source's document to try in the
// place of the one that is there; "" for that.
func (a *App) TrySource(ctx context.Context, who *access.Principal, name, text string, p alert.Payload,
) (*TriedSource, error) {
	if err := administer(who, "source", name); err != nil {
		return nil, err
	}
	s, err := a.sourceToTry(ctx, name, text)
	if err != nil {
		return nil, err
	}
	if s.Map == nil {
		return nil, invalid("map", "the source %s has no map: it sends our own JSON or CloudEvents", name)
	}
	switch s.Reports {
	case alert.OfDeployments:
		return a.tryDeployments(s, p)
	case alert.OfTickets:
		return a.tryTickets(s, p)
	}
	out := &TriedSource{Items: []TriedItem{}}
	items, err := s.Mapping(p, now())
	if err != nil {
		out.Finding = err.Error()
		return out, nil
	}
	for _, m := range items {
		item := TriedItem{Mapped: m, Verdicts: []trigger.Verdict{}}
		if !m.Ignored && m.Unread == "" && m.Report.Severity != alert.Cleared {
			if item.Verdicts, err = a.intake.WouldStart(ctx, name, m.Report); err != nil {
				return nil, err
			}
		}
		out.Items = append(out.Items, item)
	}
	return out, nil
}

func (a *App) sourceToTry(ctx context.Context, name, text string) (*alert.Source, error) {
	if text != "" {
		return sourceIn(text)
	}
	row, err := a.store.In(ctx).Source(name)
	if err != nil {
		return nil, err
	}
	if row == nil {
		return nil, named(store.ErrNotFound, "source %s", name)
	}
	return a.mapOf(row)
}
