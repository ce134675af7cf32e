package app

import (
	"context"
	"fmt"
	"slices"
	"sync"

	"github.com/goccy/go-yaml"

	"urgentis/core/access"
	"urgentis/core/cases"
	"urgentis/core/estate"
	"urgentis/core/library"
)

// Shelved is a runbook of the library, and what is bound to it here.
type Shelved struct {
	*library.Runbook
	Cases int
	Bound []string
}

// Library lists the runbooks that ship with the program.
func (a *App) Library(ctx context.Context, who *access.Principal) ([]Shelved, error) {
	bound, err := a.bindings(ctx, who)
	if err != nil {
		return nil, err
	}
	all, err := shelf()
	if err != nil {
		return nil, err
	}
	out := make([]Shelved, len(all))
	for i, r := range all {
		out[i] = r
		out[i].Bound = bound[r.Book.Name]
	}
	return out, nil
}

// shelf is the library, read once: it does not change while the program runs.
var shelf = sync.OnceValues(func() ([]Shelved, error) {
	all, err := library.All()
	if err != nil {
		return nil, err
	}
	out := make([]Shelved, len(all))
	for i, r := range all {
		out[i] = Shelved{Runbook: r}
		if set, _ := cases.Parse([]byte(r.Cases)); set != nil {
			out[i].Cases = len(set.Cases)
		}
	}
	return out, nil
})

// LibraryRunbook is one of them.
func (a *App) LibraryRunbook(ctx context.Context, who *access.Principal, name string) (*Shelved, error) {
	bound, err := a.bindings(ctx, who)
	if err != nil {
		return nil, err
	}
	if _, err := library.Find(name); err != nil {
		return nil, &Error{Kind: Missing, Code: "library", Says: err.Error()}
	}
	all, err := shelf()
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(all, func(x Shelved) bool { return x.Book.Name == name })
	out := all[i]
	out.Bound = bound[name]
	return &out, nil
}

// bindings lists the bindings in use, by the runbook of the library.
func (a *App) bindings(ctx context.Context, who *access.Principal) (map[string][]string, error) {
	if _, err := see(who); err != nil {
		return nil, err
	}
	rows, err := a.store.In(ctx).DocumentsOf(estate.Binding)
	if err != nil {
		return nil, err
	}
	out := map[string][]string{}
	for _, row := range rows {
		var says struct{ Library string }
		if err := yaml.Unmarshal([]byte(row.Text), &says); err != nil {
			return nil, fmt.Errorf("read the binding %s: %w", row.Name, err) // it was sound when it was pushed
		}
		out[says.Library] = append(out[says.Library], row.Name)
	}
	return out, nil
}
