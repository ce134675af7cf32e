package app

import (
	"context"

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
	all, err := library.All()
	if err != nil {
		return nil, err
	}
	out := make([]Shelved, len(all))
	for i, r := range all {
		out[i] = shelved(r, bound)
	}
	return out, nil
}

// LibraryRunbook is one of them.
func (a *App) LibraryRunbook(ctx context.Context, who *access.Principal, name string) (*Shelved, error) {
	bound, err := a.bindings(ctx, who)
	if err != nil {
		return nil, err
	}
	r, err := library.Find(name)
	if err != nil {
		return nil, &Error{Kind: Missing, Code: "library", Says: err.Error()}
	}
	out := shelved(r, bound)
	return &out, nil
}

func shelved(r *library.Runbook, bound map[string][]string) Shelved {
	out := Shelved{Runbook: r, Bound: bound[r.Book.Name]}
	if set, _ := cases.Parse([]byte(r.Cases)); set != nil {
		out.Cases = len(set.Cases)
	}
	return out
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
		docs, _ := estate.Parse([]estate.File{{Name: row.Name, Text: row.Text}})
		for _, d := range docs {
			if d.Binding != nil {
				out[d.Binding.Library] = append(out[d.Binding.Library], d.Name)
			}
		}
	}
	return out, nil
}
