package app

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"urgentis/core/access"
	"urgentis/core/runbook"
	"urgentis/internal/engine"
	"urgentis/internal/store"
)

// Runbook is a revision of a runbook, and what it says. Book is empty where this program cannot read the text.
type Runbook struct {
	store.Revision
	Book     *runbook.Book
	Findings runbook.Findings
	// Unchanged says, of a push, that the newest revision has this text already.
	Unchanged bool
}

// WhichRunbooks narrows a list of runbooks; what is "" narrows nothing. Text are words that all stand in what a runbook
// says of itself.
type WhichRunbooks struct{ Service, Tag, Text string }

func (w WhichRunbooks) has(r *Runbook) bool {
	if w.Service != "" && r.Service != w.Service || w.Tag != "" && !slices.Contains(r.Tags, w.Tag) {
		return false
	}
	said := strings.ToLower(strings.Join(append([]string{r.Name, r.Title, r.About, r.Service, r.Owner, r.Book.Harm},
		r.Tags...), " "))
	return !slices.ContainsFunc(strings.Fields(strings.ToLower(w.Text)), func(word string) bool {
		return !strings.Contains(said, word)
	})
}

// Runbooks lists the newest revision of each runbook.
func (a *App) Runbooks(ctx context.Context, who *access.Principal, which WhichRunbooks) ([]Runbook, error) {
	scope, err := see(who)
	if err != nil {
		return nil, err
	}
	list, err := a.store.In(ctx).Runbooks(scope)
	if err != nil {
		return nil, err
	}
	out := make([]Runbook, 0, len(list))
	for _, r := range list {
		b, err := a.engine.Book(ctx, r.Revision)
		if err != nil {
			b = &runbook.Book{}
		}
		if one := (Runbook{Revision: r, Book: b}); which.has(&one) {
			out = append(out, one)
		}
	}
	return out, nil
}

// Runbook reads the newest revision of a runbook.
func (a *App) Runbook(ctx context.Context, who *access.Principal, name string) (*Runbook, error) {
	row, err := a.store.In(ctx).Newest(name)
	if err != nil {
		return nil, named(err, "runbook %s", name)
	}
	if err := access.Can(who, access.See, access.Object{Kind: "runbook", Name: name,
		Service: row.Service}); err != nil {
		return nil, err
	}
	b, found := runbook.Parse([]byte(row.Text))
	if b == nil {
		b = &runbook.Book{}
	}
	return &Runbook{Revision: *row, Book: b, Findings: found}, nil
}

// Book gives the newest revision of a runbook, read.
func (a *App) Book(ctx context.Context, who *access.Principal, name string) (*runbook.Book, error) {
	b, err := a.newest(ctx, name)
	if err != nil {
		return nil, err
	}
	return b, access.Can(who, access.See, access.Object{Kind: "runbook", Name: name, Service: b.Service})
}

// unsound refuses a text with mistakes.
func unsound(found runbook.Findings) *Error {
	return &Error{Kind: Unsound, Code: "runbook", Says: "the runbook has errors: " + found.Error(), Findings: found}
}

// parsed checks a text.
func parsed(text string) (*runbook.Book, runbook.Findings, error) {
	b, found := runbook.Parse([]byte(text))
	if b == nil {
		return nil, nil, unsound(found)
	}
	return b, found, nil
}

// CheckRunbook checks a text by itself and against the estate as it is, and stores nothing.
func (a *App) CheckRunbook(ctx context.Context, who *access.Principal, text string) (*Runbook, error) {
	b, found, err := parsed(text)
	if err != nil {
		return nil, err
	}
	if err := access.Can(who, access.Write, access.Object{Kind: "runbook", Name: b.Name,
		Service: b.Service}); err != nil {
		return nil, err
	}
	more, err := a.estateFindings(ctx, b)
	if err != nil {
		return nil, err
	}
	if more.Failed() {
		return nil, unsound(more)
	}
	tags := b.Tags
	if tags == nil {
		tags = []string{}
	}
	row := store.Revision{
		Name: b.Name, Title: b.Title, Owner: b.Owner, Service: b.Service, About: b.About, Tags: tags,
		Revision: b.Revision, Text: text,
	}
	return &Runbook{Revision: row, Book: b, Findings: append(found, more...)}, nil
}

// PushRunbook stores a text as the next revision of its runbook; the same text again is no new one.
func (a *App) PushRunbook(ctx context.Context, who *access.Principal, text string) (*Runbook, error) {
	checked, err := a.CheckRunbook(ctx, who, text)
	if err != nil {
		return nil, err
	}
	return checked, a.tx(ctx, func(tx *store.Tx) error {
		before, err := tx.Newest(checked.Name)
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return err
		}
		was := ""
		if before != nil {
			was = before.Text
		}
		if err := mayUseSecrets(who, checked.Book, was); err != nil {
			return err
		}
		row, err := tx.PushRunbook(checked.Book, text, who.Behind())
		if err != nil {
			return err
		}
		checked.Revision, checked.Unchanged = *row, before != nil && before.Number == row.Number
		return nil
	})
}

// mayUseSecrets asks for an administrator where a text hands out secrets that the one before did not hand out, or not
// so: whoever may write texts could send them anywhere otherwise. was is the text before; "" for none.
func mayUseSecrets(who *access.Principal, b *runbook.Book, was string) error {
	var before *runbook.Book
	if was != "" {
		before, _ = runbook.Parse([]byte(was)) // one that cannot be read any more used none
	}
	return usesNew(who, b, before)
}

// usesNew is that for runbooks that were read.
func usesNew(who *access.Principal, b, before *runbook.Book) error {
	uses := b.NewUses(before)
	if len(uses) == 0 || administer(who, "secret", uses[0].Secrets[0]) == nil {
		return nil
	}
	return &Error{Kind: Denied, Code: "secrets", Says: fmt.Sprintf(
		"line %d hands out the secret %s, which the text before did not, or not so: an administrator must push it",
		uses[0].Line, uses[0].Secrets[0])}
}

// RemoveRunbook takes a runbook out of use: it starts no more. Runs that are under way go on, and its revisions stay.
func (a *App) RemoveRunbook(ctx context.Context, who *access.Principal, name string) error {
	return a.tx(ctx, func(tx *store.Tx) error {
		row, err := tx.Newest(name)
		if err != nil {
			return named(err, "runbook %s", name)
		}
		object := access.Object{Kind: "runbook", Name: name, Service: row.Service}
		if err := access.Can(who, access.Write, object); err != nil {
			return err
		}
		if err := tx.RemoveRunbook(name, row.Service); err != nil {
			return err
		}
		return tx.Audit(who.Name, "runbook.remove", name, row.Revision[:12])
	})
}

// Revisions lists the revisions of a runbook, newest first, also of one that was removed.
func (a *App) Revisions(ctx context.Context, who *access.Principal, name string) ([]Runbook, error) {
	list, err := a.store.In(ctx).Revisions(name)
	if err == nil && len(list) == 0 {
		err = store.ErrNotFound
	}
	if err != nil {
		return nil, named(err, "runbook %s", name)
	}
	object := access.Object{Kind: "runbook", Name: name, Service: list[0].Service}
	if err := access.Can(who, access.See, object); err != nil {
		return nil, err
	}
	out := make([]Runbook, len(list))
	for i, r := range list {
		out[i] = Runbook{Revision: r, Book: &runbook.Book{}}
	}
	return out, nil
}

// RevisionOf reads one revision of a runbook.
func (a *App) RevisionOf(ctx context.Context, who *access.Principal, name string, number int) (*Runbook, error) {
	row, err := a.store.In(ctx).RevisionOf(name, number)
	if err != nil {
		return nil, named(err, "revision %d of runbook %s", number, name)
	}
	object := access.Object{Kind: "runbook", Name: name, Service: row.Service}
	if err := access.Can(who, access.See, object); err != nil {
		return nil, err
	}
	b, found := runbook.Parse([]byte(row.Text))
	if b == nil {
		b = &runbook.Book{}
	}
	return &Runbook{Revision: *row, Book: b, Findings: found}, nil
}

// estateFindings tells what only the service knows of a runbook: whether its selectors select anything, its secrets are
// set, and what it calls is there.
func (a *App) estateFindings(ctx context.Context, b *runbook.Book) (runbook.Findings, error) {
	tx := a.store.In(ctx)
	services, err := tx.Services()
	if err != nil {
		return nil, err
	}
	targets, err := tx.TargetsOf(b.Service)
	if err != nil {
		return nil, err
	}
	estate := runbook.Estate{}
	for _, s := range services {
		estate.Services = append(estate.Services, s.Name)
	}
	for _, t := range targets {
		estate.Targets = append(estate.Targets, runbook.EstateTarget{
			Name: t.Name, Labels: t.Labels, CannotWrite: t.LookCannotWrite,
		})
	}
	if estate.Reads, err = a.engine.Reads(tx); err != nil {
		return nil, err
	}
	found := b.Against(estate)
	warn := func(st *runbook.Step, format string, args ...any) {
		found = append(
			found,
			runbook.Finding{Line: st.Line, Column: 1, Warning: true, Message: fmt.Sprintf(format, args...)},
		)
	}
	for _, st := range b.Everything() {
		versions, err := tx.SecretVersions(st.Secrets())
		if err != nil {
			return nil, err
		}
		for _, n := range st.Secrets() {
			if versions[n] == 0 {
				warn(st, "the secret %s is not set", n)
			}
		}
	}
	_, linked, err := a.engine.Pretend(ctx, engine.Start{Book: b})
	var missing runbook.Findings
	switch {
	case errors.As(err, &missing):
		found = append(found, missing...)
	case err != nil:
		return nil, err
	case linked == nil:
		return nil, errors.New("the runbook cannot be linked")
	}
	return found, nil
}
