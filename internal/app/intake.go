package app

import (
	"cmp"
	"context"
	"fmt"
	"time"

	"golang.org/x/time/rate"

	"urgentis/core/access"
	"urgentis/core/alert"
	"urgentis/core/doc"
	"urgentis/core/estate"
	"urgentis/core/reading"
	"urgentis/core/source"
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
	// Unparsed is under which a payload was kept that could not be mapped, or not all of it; Finding says why.
	Unparsed, Finding string
}

// TakeAlerts keeps what a source posts, once it proved itself. It returns once all is on disk: as alerts, or where the
// source's map cannot read it, as a payload that nobody has read.
func (a *App) TakeAlerts(ctx context.Context, name string, proof Proof, p source.Payload) (*Received, error) {
	s, err := a.proven(ctx, name, proof, p.Body)
	if err != nil {
		return nil, err
	}
	if s.Takes != source.HTTP && s.Takes != "" {
		return nil, errUnproven
	}
	return a.takePayload(ctx, s, p)
}

// takePayload keeps what a source sent: as what it is, and what of it cannot be read as it came.
func (a *App) takePayload(ctx context.Context, s *source.Source, p source.Payload) (*Received, error) {
	r := s.Read(p, alert.HeardAt(a.Now()))
	if err := a.withinRate(s, len(r.Items)); err != nil {
		return nil, err
	}
	out := &Received{Many: r.Many || s.Reports != source.OfAlerts && s.Reports != "", Taken: []intake.Taken{}}
	if err := a.takeItems(ctx, s, p, r.Items, out); err != nil {
		return nil, err
	}
	if places, finding := r.Left(); finding != "" {
		return a.keepUnparsed(ctx, s, p, places, finding, out)
	}
	return out, nil
}

// takeItems takes what could be read of a payload.
func (a *App) takeItems(
	ctx context.Context, s *source.Source, p source.Payload, items []source.Item, out *Received,
) error {
	var alerts []intake.Item
	var deployments []intake.Deployment
	for _, x := range items {
		once := store.Once{Door: "in/" + s.Name, ID: x.ID, Digest: x.Digest}
		switch e := x.Event.(type) {
		case *source.Alert:
			alerts = append(alerts, intake.Item{Report: e.Report, Payload: &p, Once: onceAlert(s.Name, x)})
		case *source.Deployment:
			deployments = append(deployments, intake.Deployment{Deployment: *e, Once: once})
		case *source.TicketNews:
			if err := a.takeNews(ctx, s, *e, once); err != nil {
				return onceError(err)
			}
		}
	}
	var err error
	switch {
	case len(alerts) > 0:
		out.Taken, err = a.intake.TakeSent(ctx, s.Name, alerts)
		return err
	case len(deployments) > 0:
		out.Deployments, err = a.intake.Deployed(ctx, s.Name, deployments, p)
		return onceError(err)
	}
	// It reported, if nothing that an alert is made of.
	return a.store.In(ctx).MarkSource(s.Name)
}

// onceAlert is by what a sender names an alert. One that goes on under the same identity with something else says
// something new: a sender that gives always the same identity loses nothing by it.
func onceAlert(source string, x source.Item) store.Once {
	if x.ID == "" {
		return store.Once{}
	}
	return store.Once{Door: "alert/" + source, ID: x.ID + " " + x.Digest, Digest: x.Digest}
}

// TakeSample takes a payload for real as if its source had sent it now, in the name of whoever gives it.
func (a *App) TakeSample(ctx context.Context, who *access.Principal, name string, p source.Payload) (*Received, error) {
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
func (a *App) withinRate(s *source.Source, n int) error {
	most := rate.Limit(cmp.Or(s.Rate, source.DefaultRate))
	l, ok := a.rates.Get(s.Name)
	if !ok || l.Limit() != most {
		l = rate.NewLimiter(most, max(2*int(most), source.MaxItems))
		a.rates.Add(s.Name, l)
	}
	if l.AllowN(a.Now(), max(1, n)) {
		return nil
	}
	return &Error{Kind: Full, Code: "rate", Says: fmt.Sprintf(
		"%s sends more than its rate of %d a second; send it again in a second, or give its document a higher rate",
		s.Name, int(most))}
}

// mapOf reads what a source's document says. It is kept read.
func (a *App) mapOf(row *store.Source) (*source.Source, error) {
	if row.Says == "" {
		return &source.Source{Name: row.Name}, nil
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
func sourceIn(text string) (*source.Source, error) {
	docs, found := estate.Parse([]estate.File{{Name: "source", Text: text}})
	if estate.Failed(found) || len(docs) != 1 || docs[0].Source == nil {
		return nil, &Error{Kind: Unsound, Code: "documents", Says: "this is not the text of one source", Found: found}
	}
	return docs[0].Source, nil
}

// keepUnparsed keeps what of a payload could not be read, as it came.
func (a *App) keepUnparsed(
	ctx context.Context, s *source.Source, p source.Payload, items []int, finding string, out *Received,
) (*Received, error) {
	tx := a.store.In(ctx)
	row := a.unparsedRow(s, p, items, finding)
	// It is heard, if not understood.
	if err := tx.MarkSource(s.Name); err != nil {
		return nil, err
	}
	full, err := tx.FullOfUnparsed(s.Name)
	if err != nil {
		return nil, err
	}
	if len(full) > 0 {
		return nil, &Error{Kind: Full, Code: "unparsed", Says: fmt.Sprintf(
			"%s; as much of %s waits to be read already as is kept: mend its map first", row.Finding, s.Name)}
	}
	out.Unparsed, out.Finding = row.ID, row.Finding
	return out, tx.AddUnparsed(row)
}

// unparsedRow is a payload as it is kept of which all, or items, could not be read.
func (a *App) unparsedRow(s *source.Source, p source.Payload, items []int, finding string) *store.Unparsed {
	if items == nil {
		items = []int{}
	}
	return &store.Unparsed{
		ID: store.NewID("u"), Source: s.Name, At: a.Now(), Finding: reading.Why(finding), Items: items,
		ContentType: p.ContentType, Headers: p.Headers, Query: p.Query, Body: p.Body,
	}
}

// UnparsedPayloads lists the payloads that could not be mapped and that nobody has read since.
func (a *App) UnparsedPayloads(ctx context.Context, who *access.Principal, source string) ([]store.Unparsed, error) {
	if err := administer(who, "source", source); err != nil {
		return nil, err
	}
	return a.store.In(ctx).Unparsed(source)
}

// ReadAgain reads a payload anew with the document as it is now. What is read then is taken, and the payload is
// unparsed no more; where it still cannot be read, that is said and it stays.
func (a *App) ReadAgain(ctx context.Context, who *access.Principal, id string) (*Received, error) {
	row, err := a.store.In(ctx).OneUnparsed(id)
	if err != nil {
		return nil, named(err, "unparsed payload %s", id)
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
	s, items, err := a.readLeft(from, row)
	if err != nil {
		return nil, err
	}
	out := &Received{Many: true, Taken: []intake.Taken{}}
	if err := a.takeItems(ctx, s, row.Payload(), items, out); err != nil {
		return nil, err
	}
	return out, a.tx(ctx, func(tx *store.Tx) error {
		if err := tx.MarkRead(id, who.Behind()); err != nil {
			return err
		}
		return tx.Audit(who.Name, "unparsed.read", id, row.Source)
	})
}

// readLeft reads what of a payload could not be read before.
func (a *App) readLeft(from *store.Source, row *store.Unparsed) (*source.Source, []source.Item, error) {
	s, err := a.mapOf(from)
	if err != nil {
		return nil, nil, err
	}
	r := s.Read(row.Payload(), alert.HeardAt(row.At))
	if r.Unparsed != "" {
		return nil, nil, invalid("unparsed", "it still cannot be read: %s", r.Unparsed)
	}
	if len(row.Items) == 0 {
		row.Items = everyPlace(len(r.Items))
	}
	items := make([]source.Item, len(row.Items))
	for i, at := range row.Items {
		if at >= len(r.Items) {
			return nil, nil, invalid("unparsed", "item %d was not read, and the map finds %d items now; mend its each",
				at+1, len(r.Items))
		}
		if items[i] = r.Items[at]; items[i].Event == nil {
			return nil, nil, invalid("unparsed", "item %d still cannot be read: %s", at+1, items[i].Unparsed)
		}
	}
	return s, items, nil
}

func everyPlace(n int) []int {
	out := make([]int, n)
	for i := range out {
		out[i] = i
	}
	return out
}

// TriedSource is what a payload would become.
type TriedSource struct {
	Items []TriedItem
	// Finding says why nothing of it can be read; "" where something can.
	Finding string
}

// TriedItem is what one item of a payload would become, and what that would start.
type TriedItem struct {
	source.Item
	Verdicts []trigger.Verdict
	// Meant is the service that it probably means, where there is none of the name that it gives.
	Meant string
}

// SourceTry is a payload to try.
type SourceTry struct {
	// Text is a source's document to try in the place of the one that is there; "" for that.
	Text    string
	Payload source.Payload
	// At is when it would be heard; the zero time: now.
	At time.Time
}

// TrySource tells what a payload would become and start, without any effect.
func (a *App) TrySource(ctx context.Context, who *access.Principal, name string, try SourceTry) (*TriedSource, error) {
	if err := administer(who, "source", name); err != nil {
		return nil, err
	}
	s, err := a.sourceToTry(ctx, name, try.Text)
	if err != nil {
		return nil, err
	}
	at := alert.HeardAt(try.At)
	if at.IsZero() {
		at = alert.HeardAt(a.Now())
	}
	r := s.Read(try.Payload, at)
	services, err := a.store.In(ctx).Services()
	if err != nil {
		return nil, err
	}
	out := &TriedSource{Items: make([]TriedItem, len(r.Items)), Finding: r.Unparsed}
	for i, x := range r.Items {
		out.Items[i] = TriedItem{Item: x, Verdicts: []trigger.Verdict{}}
		service := ""
		switch e := x.Event.(type) {
		case *source.Alert:
			service = e.Service
			if e.Severity != alert.Cleared {
				out.Items[i].Verdicts, err = a.intake.WouldStart(ctx, name, e.Report, at)
			}
		case *source.Deployment:
			service = e.Service
			out.Items[i].Verdicts, err = a.intake.WouldStartOn(ctx, e)
		}
		if err != nil {
			return nil, err
		}
		out.Items[i].Meant = meant(services, service)
	}
	return out, nil
}

func (a *App) sourceToTry(ctx context.Context, name, text string) (*source.Source, error) {
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
