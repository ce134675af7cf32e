package cli

import (
	"context"
	"encoding/json"
	"os"
	"path/filepath"
	"time"

	"urgentis/api"
	"urgentis/core/estate"
	"urgentis/core/library"
	"urgentis/core/reads"
	"urgentis/core/runbook"
)

// remembered is the estate as a service had it, kept so that runbooks can be checked against it without one.
type remembered struct {
	At       time.Time                         `json:"at"`
	Server   string                            `json:"server"`
	Services []string                          `json:"services"`
	Targets  map[string][]runbook.EstateTarget `json:"targets"` // by service
	// Readers is what was known there to only read, beside what every program knows.
	Readers reads.Extension `json:"readers"`
}

func estateFile() (string, error) {
	dir, err := os.UserCacheDir()
	if err != nil {
		return "", err
	}
	return filepath.Join(dir, "urgentis", "estate.json"), nil
}

// readEstate reads what was remembered last; nil where nothing was.
func readEstate() *remembered {
	file, err := estateFile()
	if err != nil {
		return nil
	}
	b, err := os.ReadFile(file)
	var e remembered
	if err != nil || json.Unmarshal(b, &e) != nil {
		return nil
	}
	return &e
}

// rememberEstate asks the service for its estate and keeps it. What fails is left as it was: nothing depends on it.
func rememberEstate(ctx context.Context, cl *client) {
	services, err := check(cl.ListServicesWithResponse(ctx))
	if err != nil {
		return
	}
	targets, err := check(cl.ListTargetsWithResponse(ctx))
	if err != nil {
		return
	}
	e := remembered{At: time.Now().UTC(), Server: cl.kept.Server, Targets: map[string][]runbook.EstateTarget{}}
	for _, s := range *services.JSON200 {
		e.Services = append(e.Services, s.Name)
	}
	for _, t := range *targets.JSON200 {
		e.Targets[t.Service] = append(e.Targets[t.Service], runbook.EstateTarget{
			Name: t.Name, Labels: t.Labels, CannotWrite: t.LookCannotWrite,
		})
	}
	e.Readers = readersOf(ctx, cl)
	file, err := estateFile()
	if err != nil {
		return
	}
	b, err := json.Marshal(e)
	if err == nil && os.MkdirAll(filepath.Dir(file), 0o700) == nil {
		os.WriteFile(file, b, 0o600) //nolint:errcheck // see above
	}
}

// against holds a runbook against the estate that is remembered.
func (e *remembered) against(b *runbook.Book) runbook.Findings {
	if e == nil || b == nil {
		return nil
	}
	known := library.Reads().Clone()
	if known.Extend(&e.Readers) != nil {
		known = library.Reads() // of a newer program
	}
	return b.Against(runbook.Estate{Services: e.Services, Targets: e.Targets[b.Service], Reads: known})
}

// readersOf reads what a service knows to only read.
func readersOf(ctx context.Context, cl *client) (out reads.Extension) {
	list, err := check(cl.ListDocumentsWithResponse(ctx, &api.ListDocumentsParams{Kind: api.DocumentKindReader}))
	if err != nil {
		return out
	}
	for _, d := range *list.JSON200 {
		r, err := check(cl.GetDocumentWithResponse(ctx, api.Kind(estate.Reader), d.Name, nil))
		if err != nil {
			continue
		}
		docs, _ := estate.Parse([]estate.File{{Name: d.Name, Text: r.JSON200.Text}})
		for _, x := range docs {
			if x.Reader != nil {
				out.Forms = append(out.Forms, x.Reader.Forms...)
				out.Scripts = append(out.Scripts, x.Reader.Scripts...)
			}
		}
	}
	return out
}
