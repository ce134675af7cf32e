package app

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"urgentis/core/access"
	"urgentis/core/doc"
	"urgentis/core/estate"
	"urgentis/core/objective"
	"urgentis/core/route"
	"urgentis/core/runbook"
	"urgentis/core/trigger"
	"urgentis/internal/store"
)

// Pushing is what somebody wants configured.
type Pushing struct {
	Files []estate.File
	// Prune removes what came from the same origin and is not among the files.
	Prune bool
	// Check compares and changes nothing.
	Check bool
	// Expect is the plan that was shown; where another one would be carried out now, nothing is. "" is any.
	Expect string
	// Message and Commit say why, and of which state of the texts.
	Message, Commit string
	// Origin names where the texts are kept: a folder, a repository; "" for nowhere.
	Origin string
}

// Pushed is what a push does, or did.
type Pushed struct {
	Steps []estate.Step
	// Plan names the plan; see Pushing.Expect.
	Plan  string
	Found []estate.Found
	// Push is the number of the push that was carried out; 0 where nothing was.
	Push int64
}

// Push compares documents with what is there, and makes it so in one transaction. Of several who push at once, each
// compares with what the other left.
func (a *App) Push(ctx context.Context, who *access.Principal, p Pushing) (*Pushed, error) {
	if _, err := see(who); err != nil {
		return nil, err
	}
	want, found := estate.Parse(p.Files)
	if estate.Failed(found) {
		return nil, mistaken(found)
	}
	if p.Prune && len(want) == 0 {
		return nil, &Error{
			Kind: Invalid,
			Code: "nothing-wanted",
			Says: "there is no document in what was sent, so that pruning would remove all that came from " + p.Origin +
				"; nothing was changed",
		}
	}
	out := &Pushed{Found: found}
	err := a.tx(ctx, func(tx *store.Tx) error {
		if err := tx.LockDocuments(); err != nil {
			return err
		}
		if err := a.plan(tx, p, want, out); err != nil {
			return err
		}
		for _, s := range out.Steps {
			if err := mayPush(who, s.Kind, s.Name, s.Document); s.What != estate.Same && err != nil {
				return err
			}
			if err := mayHandOut(tx, who, s); err != nil {
				return err
			}
		}
		if p.Expect != "" && p.Expect != out.Plan {
			return &Error{
				Kind: Stale,
				Code: "plan",
				Says: "what is there changed since the plan was shown; look at it again",
			}
		}
		if err := a.carryOut(tx, who, p, out); err != nil {
			return err
		}
		if p.Check {
			return errOnlyChecked
		}
		return nil
	})
	if errors.Is(err, errOnlyChecked) {
		out.Push, err = 0, nil
	}
	if err != nil {
		return nil, err
	}
	return out, nil
}

// errOnlyChecked takes back what was done only to see whether it can be.
var errOnlyChecked = errors.New("it was only checked")

// mistaken refuses documents with mistakes, and names the first.
func mistaken(found []estate.Found) *Error {
	says := "the documents have errors"
	if i := slices.IndexFunc(found, func(f estate.Found) bool { return !f.Warning }); i >= 0 {
		says = fmt.Sprintf("%s: %s line %d: %s", says, found[i].File, found[i].Line, found[i].Sentence())
	}
	return &Error{Kind: Unsound, Code: "documents", Says: says, Found: found}
}

// plan compares what is wanted with what is there now.
func (a *App) plan(tx *store.Tx, p Pushing, want []*estate.Document, out *Pushed) error {
	all, err := tx.Documents("")
	if err != nil {
		return err
	}
	wanted := map[string]bool{}
	for _, d := range want {
		wanted[string(d.Kind)+" "+d.Name] = true
	}
	var have []estate.Have
	for _, d := range all {
		key := string(d.Kind) + " " + d.Name
		// What another origin keeps is not this one's to remove.
		if wanted[key] || p.Origin != "" && d.Origin == p.Origin {
			have = append(have, estate.Have{
				Kind: d.Kind, Name: d.Name, Text: d.Text, Digest: d.Digest, Number: d.Number, Origin: d.Origin})
		}
	}
	out.Steps = estate.Plan(have, want, p.Origin, p.Prune && p.Origin != "")
	out.Plan = version(out.Steps)
	return nil
}

// mayPush asks for the right to write a document of a kind. d is nil for one that is removed.
func mayPush(who *access.Principal, kind estate.Kind, name string, d *estate.Document) error {
	if kind == estate.Runbook {
		o := access.Object{Kind: "runbook", Name: name}
		if d != nil {
			o.Service = d.Runbook.Service
		}
		return access.Can(who, access.Write, o)
	}
	if kind == estate.Binding {
		o := access.Object{Kind: "runbook", Name: name}
		if d != nil {
			o.Service = d.Binding.Service
		}
		return access.Can(who, access.Write, o)
	}
	if kind == estate.Watch || kind == estate.Objective || kind == estate.LookBack {
		o := access.Object{Kind: string(kind), Name: name}
		switch {
		case d == nil:
		case d.Watch != nil:
			o.Service = d.Watch.Service
		case d.LookBack != nil:
			o.Service = d.LookBack.Service
		default:
			o.Service = d.Objective.Service
		}
		return access.Can(who, access.Write, o)
	}
	return administer(who, string(kind), name)
}

// mayHandOut judges what a step of a plan newly hands out of secrets.
func mayHandOut(tx *store.Tx, who *access.Principal, s estate.Step) error {
	if s.Document == nil || s.What == estate.Same || s.What == estate.Moved {
		return nil
	}
	var was string
	switch d, err := tx.Document(s.Kind, s.Name); {
	case err == nil:
		was = d.Text
	case !errors.Is(err, store.ErrNotFound):
		return err
	}
	old := &estate.Document{}
	if docs, _ := estate.Parse([]estate.File{{Name: s.Name, Text: was}}); len(docs) > 0 {
		old = docs[0]
	}
	switch d := s.Document; {
	case d.Runbook != nil:
		return mayUseSecrets(who, d.Runbook, was)
	case d.Watch != nil && old.Watch != nil:
		return usesNew(who, d.Watch.Looks, old.Watch.Looks)
	case d.Watch != nil:
		return usesNew(who, d.Watch.Looks, nil)
	case d.LookBack != nil && old.LookBack != nil:
		return usesNew(who, d.LookBack.Looks, old.LookBack.Looks)
	case d.LookBack != nil:
		return usesNew(who, d.LookBack.Looks, nil)
	}
	return nil
}

// carryOut does the steps of a plan.
func (a *App) carryOut(tx *store.Tx, who *access.Principal, p Pushing, out *Pushed) error {
	push := &store.Push{By: who.Behind(), Message: p.Message, Commit: p.Commit, Origin: p.Origin}
	if err := tx.AddPush(push); err != nil {
		return err
	}
	for _, s := range out.Steps {
		if s.What == estate.Same {
			continue
		}
		if err := a.carryOutOne(tx, who, push, s); err != nil {
			return fmt.Errorf("%s %s: %w", s.Kind, s.Name, err)
		}
		if err := tx.Audit(who.Name, string(s.Kind)+"."+s.What, s.Name, p.Message); err != nil {
			return err
		}
	}
	out.Push = push.ID
	return a.checkPushed(tx, out)
}

// checkPushed says what is wrong with the runbooks that were pushed, now that all of the push is there: what they
// select, call and use.
func (a *App) checkPushed(tx *store.Tx, out *Pushed) error {
	for _, s := range out.Steps {
		if s.Document == nil || s.What == estate.Same || s.What == estate.Moved {
			continue
		}
		found, err := a.findings(tx, s.Document)
		if err != nil {
			return err
		}
		out.Found = append(out.Found, s.Document.Found(found)...)
	}
	if estate.Failed(out.Found) {
		return mistaken(out.Found)
	}
	return nil
}

// findings says what is wrong with one document, now that all others are there.
func (a *App) findings(tx *store.Tx, d *estate.Document) (doc.Findings, error) {
	var starts []trigger.Start
	var found doc.Findings
	switch {
	case d.Team != nil:
		return teamFindings(tx, d.Team)
	case d.Route != nil:
		return a.routeFindings(tx, d.Route)
	case d.LookBack != nil:
		return a.estateFindings(tx.Context(), d.LookBack.Looks)
	case d.Watch != nil:
		found, err := a.estateFindings(tx.Context(), d.Watch.Looks)
		return d.Watch.Found(found), err
	case d.Objective != nil:
		return objectiveFindings(tx, d.Objective)
	case d.Runbook != nil:
		var err error
		if found, err = a.estateFindings(tx.Context(), d.Runbook); err != nil {
			return nil, err
		}
		starts = d.Runbook.Starts
	case d.Trigger != nil:
		if _, err := tx.Newest(d.Trigger.Runbook); errors.Is(err, store.ErrNotFound) {
			return doc.Findings{{Line: 1, Column: 1, Message: "there is no runbook " + d.Trigger.Runbook}}, nil
		} else if err != nil {
			return nil, err
		}
		book, err := a.newestIn(tx, d.Trigger.Runbook)
		if err != nil {
			return nil, err
		}
		for _, says := range book.WrongInputs(&d.Trigger.Start) {
			found = append(found, doc.Finding{Line: 1, Column: 1, Message: says})
		}
		starts = []trigger.Start{d.Trigger.Start}
	}
	for _, s := range starts {
		if s.Hours == nil {
			continue
		}
		if _, err := tx.Document(estate.Calendar, s.Hours.Calendar); errors.Is(err, store.ErrNotFound) {
			found = append(found, doc.Finding{Line: max(1, s.Line), Column: 1,
				Message: "there is no calendar " + s.Hours.Calendar})
		} else if err != nil {
			return nil, err
		}
	}
	return found, nil
}

// teamFindings warns of what a team names that is not there.
func teamFindings(tx *store.Tx, t *route.Team) (doc.Findings, error) {
	found, err := strangers(tx, t)
	if err != nil || t.Room == "" {
		return found, err
	}
	more, err := missingTold(tx, []string{"room/" + t.Room})
	return append(found, more...), err
}

// routeFindings says what a route names that is not there.
func (a *App) routeFindings(tx *store.Tx, r *route.Route) (doc.Findings, error) {
	found, err := missingTold(tx, r.Tell)
	if err != nil || r.Hours == "" {
		return found, err
	}
	_, err = tx.Document(estate.Calendar, r.Hours)
	if errors.Is(err, store.ErrNotFound) {
		return append(found, doc.Finding{Line: 1, Column: 1, Message: "there is no calendar " + r.Hours}), nil
	}
	return found, err
}

// objectiveFindings warns of an objective that nothing can be known of yet.
func objectiveFindings(tx *store.Tx, o *objective.Objective) (doc.Findings, error) {
	warn := func(says string) (doc.Findings, error) {
		return doc.Findings{{Line: 1, Column: 1, Warning: true, Message: says}}, nil
	}
	if service, err := tx.Service(o.Service); err != nil {
		return nil, err
	} else if service == nil {
		return warn("there is no service " + o.Service)
	}
	known, err := tx.SampledTargets(o.Service, o.Readings)
	if err == nil && len(known) == 0 {
		return warn("nothing was read yet of " + strings.Join(o.Readings, ", ") + " of the service " + o.Service +
			": a watch or a runbook must read it")
	}
	return nil, err
}

// missingTold warns of those who are told and are not there yet.
func missingTold(tx *store.Tx, words []string) (doc.Findings, error) {
	var found doc.Findings
	for _, w := range words {
		kind, name := estate.Connection, cmp.Or(route.Room(w), route.Connection(w))
		if name == "" {
			kind = estate.Team
			name, _ = route.TeamOf(w)
		}
		var err error
		if p := route.PersonOf(w); p != "" {
			var row *store.Person
			if row, err = tx.Person(p); err == nil && row == nil {
				err = store.ErrNotFound
			}
		} else {
			var row *store.Document
			if row, err = tx.Document(kind, name); err == nil && route.Connection(w) != "" && !carries(row.Text) {
				found = append(found, doc.Finding{Line: 1, Column: 1, Warning: true, Message: w +
					" cannot be told by itself: that can be rooms, webhooks and logs"})
			}
		}
		if errors.Is(err, store.ErrNotFound) {
			found = append(found, doc.Finding{Line: 1, Column: 1, Warning: true, Message: w + " is not there: " +
				"nobody is told by it"})
		} else if err != nil {
			return nil, err
		}
	}
	return found, nil
}

// strangers warns of members of a team who cannot sign in: nobody would reach them.
func strangers(tx *store.Tx, t *route.Team) (doc.Findings, error) {
	people, err := tx.People()
	if err != nil {
		return nil, err
	}
	var found doc.Findings
	for _, m := range t.Members {
		if !slices.ContainsFunc(people, func(p store.Person) bool { return p.Name == m }) {
			found = append(found, doc.Finding{Line: 1, Column: 1, Warning: true,
				Message: m + " cannot sign in: add them with urgentis person add " + m})
		}
	}
	return found, nil
}

// newestIn reads the newest revision of a runbook as a transaction sees it.
func (a *App) newestIn(tx *store.Tx, name string) (*runbook.Book, error) {
	rev, err := tx.Newest(name)
	if err != nil {
		return nil, err
	}
	book, found := runbook.Parse([]byte(rev.Text))
	if book == nil {
		return nil, &Error{
			Kind:     Unsound,
			Code:     "runbook",
			Says:     "the runbook " + name + " has errors",
			Findings: found,
		}
	}
	return book, nil
}

// RemoveDocument takes one document out of use, wherever it was pushed from; of a binding, the runbook that it makes
// too.
func (a *App) RemoveDocument(ctx context.Context, who *access.Principal, kind estate.Kind, name string) error {
	if err := mayPush(who, kind, name, nil); err != nil {
		return err
	}
	return a.tx(ctx, func(tx *store.Tx) error {
		if err := tx.LockDocuments(); err != nil {
			return err
		}
		push := &store.Push{By: who.Behind(), Message: "document remove"}
		if err := tx.AddPush(push); err != nil {
			return err
		}
		if err := a.removeOne(tx, who, push, kind, name); err != nil || kind != estate.Binding {
			return err
		}
		err := a.removeOne(tx, who, push, estate.Runbook, name)
		if IsMissing(err) {
			return nil
		}
		return err
	})
}

// removeOne takes one document out of use.
func (a *App) removeOne(tx *store.Tx, who *access.Principal, push *store.Push, kind estate.Kind, name string) error {
	if err := mayPush(who, kind, name, nil); err != nil {
		return err
	}
	if _, err := tx.Document(kind, name); err != nil {
		return named(err, "%s %s", kind, name)
	}
	if err := a.carryOutOne(tx, who, push, estate.Step{Kind: kind, Name: name, What: estate.Removed}); err != nil {
		return err
	}
	return tx.Audit(who.Name, string(kind)+"."+estate.Removed, name, push.Message)
}

// carryOutOne does one step of a plan.
func (a *App) carryOutOne(tx *store.Tx, who *access.Principal, push *store.Push, s estate.Step) error {
	switch {
	case s.What == estate.Moved:
		return tx.SetOrigin(s.Kind, s.Name, push.Origin)
	case s.What == estate.Removed && s.Kind == estate.Runbook:
		row, err := tx.Newest(s.Name)
		if err != nil {
			return err
		}
		return tx.RemoveRunbook(s.Name, row.Service)
	case s.What == estate.Removed && s.Kind == estate.Source:
		return removeSource(tx, s.Name)
	case s.What == estate.Removed:
		if err := a.removeWork(tx, s); err != nil {
			return err
		}
		return tx.RemoveDocument(s.Kind, s.Name)
	case s.Kind == estate.Runbook:
		if _, err := tx.PushRunbook(s.Document.Runbook, s.Document.Text, who.Behind()); err != nil {
			return err
		}
		return tx.SetOrigin(s.Kind, s.Name, push.Origin)
	}
	before, err := tx.Document(s.Kind, s.Name)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return err
	}
	if err := tx.PushDocument(push, s.Document); err != nil {
		return err
	}
	switch s.Kind {
	case estate.Source:
		return tx.SetSourceText(s.Name, s.Document.Text)
	case estate.Watch:
		return tx.SetScheduled(s.Document.Watch)
	case estate.Objective:
		o := s.Document.Objective
		was := parsedObjective(before)
		return tx.SetObjective(o.Name, o.Service, was != nil && !o.MeasuredAs(was))
	}
	return nil
}

// removeWork ends what is done for a document by itself.
func (a *App) removeWork(tx *store.Tx, s estate.Step) error {
	switch s.Kind {
	case estate.Watch:
		return tx.RemoveScheduled(s.Name)
	case estate.Objective:
		return tx.RemoveObjective(s.Name)
	}
	return nil
}

// parsedObjective is what a document of an objective says; nil where there is none, or it cannot be read any more.
func parsedObjective(d *store.Document) *objective.Objective {
	if d == nil {
		return nil
	}
	docs, _ := estate.Parse([]estate.File{{Name: d.Name, Text: d.Text}})
	if len(docs) != 1 {
		return nil
	}
	return docs[0].Objective
}

// Documents lists the documents in use; kind "" is every kind.
func (a *App) Documents(ctx context.Context, who *access.Principal, kind string) ([]store.Document, error) {
	if _, err := see(who); err != nil {
		return nil, err
	}
	return a.store.In(ctx).Documents(estate.Kind(kind))
}

// Document reads a revision of a document; number 0 is the newest in use.
func (a *App) Document(ctx context.Context, who *access.Principal, kind, name string, number int,
) (*store.Document, error) {
	if _, err := see(who); err != nil {
		return nil, err
	}
	if number == 0 {
		d, err := a.store.In(ctx).Document(estate.Kind(kind), name)
		return d, named(err, "%s %s", kind, name)
	}
	d, err := a.store.In(ctx).DocumentRevision(estate.Kind(kind), name, number)
	return d, named(err, "revision %d of %s %s", number, kind, name)
}

// DocumentRevisions lists the revisions of a document, newest first.
func (a *App) DocumentRevisions(ctx context.Context, who *access.Principal, kind, name string,
) ([]store.Document, error) {
	if _, err := see(who); err != nil {
		return nil, err
	}
	list, err := a.store.In(ctx).DocumentRevisions(estate.Kind(kind), name)
	if err == nil && len(list) == 0 {
		err = store.ErrNotFound
	}
	return list, named(err, "%s %s", kind, name)
}

// carries reports whether the text of a connection is of one that can be told by itself.
func carries(text string) bool {
	docs, _ := estate.Parse([]estate.File{{Name: "connection", Text: text}})
	return len(docs) == 1 && docs[0].Connection != nil && docs[0].Connection.Is().NamedBy("connection")
}
