package cli

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"strings"

	"github.com/spf13/cobra"

	"urgentis/api"
	"urgentis/core/runbook"
)

func (a *app) runbook() *cobra.Command {
	return noun(
		"runbook",
		"Runbooks",
		a.runbookCheck(),
		a.runbookFormat(),
		a.runbookPush(),
		a.runbookList(),
		a.runbookShow(),
		a.runbookGraph(),
		a.runbookTry(),
		a.runbookRehearse(),
		a.runbookSchema(),
	)
}

// files lists the runbooks that arguments name: files, or folders with .yaml files.
func files(args []string) ([]string, error) {
	var out []string
	for _, p := range args {
		i, err := os.Stat(p)
		if err != nil {
			return nil, usage("%s", err)
		}
		if !i.IsDir() {
			out = append(out, p)
			continue
		}
		found, err := filepath.Glob(filepath.Join(p, "*.yaml"))
		if err != nil {
			return nil, err
		}
		sort.Strings(found)
		out = append(out, found...)
	}
	if len(out) == 0 {
		return nil, usage("there is no .yaml file in %s", strings.Join(args, ", "))
	}
	return out, nil
}

// bookFile is a runbook read from a file.
type bookFile struct {
	path  string
	src   []byte
	book  *runbook.Book // nil where it has mistakes
	found runbook.Findings
}

// readBooks reads and checks runbooks, each alone and then with those it calls, where these are among them.
func readBooks(args []string) ([]*bookFile, error) {
	list, err := files(args)
	if err != nil {
		return nil, err
	}
	out := make([]*bookFile, len(list))
	named := map[string]*runbook.Book{}
	for i, f := range list {
		b := &bookFile{path: f}
		if b.src, err = os.ReadFile(f); err != nil {
			return nil, err
		}
		if b.book, b.found = runbook.Parse(b.src); b.book != nil {
			named[b.book.Name] = b.book
		}
		out[i] = b
	}
	for _, b := range out {
		if b.book == nil || len(b.book.Calls()) == 0 {
			continue
		}
		missing := false
		_, found := b.book.Link(func(name string) *runbook.Book {
			missing = missing || named[name] == nil
			return named[name]
		})
		if !missing {
			b.found = append(b.found, found...)
		}
	}
	return out, nil
}

// calleesFirst orders runbooks so that each comes after those that it calls; otherwise the order stays.
func calleesFirst(list []*bookFile) []*bookFile {
	var out []*bookFile
	var add func(*bookFile)
	seen := map[*bookFile]bool{}
	add = func(b *bookFile) {
		if seen[b] {
			return
		}
		seen[b] = true
		for _, name := range b.book.Calls() {
			if i := slices.IndexFunc(list, func(o *bookFile) bool { return o.book.Name == name }); i >= 0 {
				add(list[i])
			}
		}
		out = append(out, b)
	}
	for _, b := range list {
		add(b)
	}
	return out
}

func (a *app) runbookCheck() *cobra.Command {
	return verb(
		"check FILE…",
		"Check runbooks without a service: 0 sound, 1 mistakes",
		"urgentis runbook check examples/ferry/runbooks",
		cobra.MinimumNArgs(1),
		func(_ *cobra.Command, args []string) error {
			list, err := readBooks(args)
			if err != nil {
				return err
			}
			bad := 0
			all := map[string]runbook.Findings{}
			for _, b := range list {
				all[b.path] = b.found
				if b.found.Failed() {
					bad++
				}
				if a.output == "table" {
					a.say("%s", whole(b.found.Format(b.path, b.src)))
					if len(b.found) == 0 {
						a.say("%s: sound\n", b.path)
					}
				}
			}
			if a.output != "table" {
				if err := a.print(all, nil); err != nil {
					return err
				}
			}
			if bad > 0 {
				return fmt.Errorf("%d of %d runbooks have mistakes", bad, len(list))
			}
			return nil
		},
	)
}

func (a *app) runbookPush() *cobra.Command {
	return verb(
		"push FILE…",
		"Store runbooks; a changed text is a new revision",
		"urgentis runbook push berth-queue-backlog.yaml",
		cobra.MinimumNArgs(1),
		func(cmd *cobra.Command, args []string) error {
			list, err := readBooks(args)
			if err != nil {
				return err
			}
			cl, err := a.client()
			if err != nil {
				return err
			}
			bad := 0
			for _, b := range list {
				if b.found.Failed() {
					bad++
					// The mistakes are shown with their lines, which the service does not know.
					say(a.err, "%s", whole(b.found.Format(b.path, b.src)))
				}
			}
			if bad > 0 {
				return fmt.Errorf("%d of %d runbooks have mistakes; none was pushed", bad, len(list))
			}
			for _, b := range calleesFirst(list) {
				r, err := check(cl.PushRunbookWithResponse(cmd.Context(), api.RunbookText{Text: string(b.src)}))
				if err != nil {
					return fmt.Errorf("%s: %w", b.path, err)
				}
				for _, x := range r.JSON201.Findings {
					if x.Warning {
						say(a.err, "%s:%d: warning: %s\n", b.path, x.Line, x.Message)
					}
				}
				if err := a.print(r.JSON201, func() {
					a.say("%s is revision %d (%.12s).\n", r.JSON201.Name, r.JSON201.Number, r.JSON201.Revision)
				}); err != nil {
					return err
				}
			}
			return nil
		},
	)
}

func (a *app) runbookList() *cobra.Command {
	return verb(
		"list",
		"List runbooks",
		"urgentis runbook list",
		cobra.NoArgs,
		func(cmd *cobra.Command, _ []string) error {
			cl, err := a.client()
			if err != nil {
				return err
			}
			r, err := check(cl.ListRunbooksWithResponse(cmd.Context()))
			if err != nil {
				return err
			}
			return a.print(r.JSON200, func() {
				var rows [][]string
				for _, x := range *r.JSON200 {
					rows = append(
						rows,
						[]string{
							x.Name,
							x.Service,
							x.Owner,
							fmt.Sprint(x.Number),
							ago(x.PushedAt),
							strings.Join(x.Tags, ","),
							clip(x.Title, 50),
						},
					)
				}
				a.table(
					"No runbooks. Push one with: urgentis runbook push FILE",
					[]string{"name", "service", "owner", "rev", "pushed", "tags", "title"},
					rows,
				)
			})
		},
	)
}

func (a *app) runbookShow() *cobra.Command {
	return verb(
		"show NAME",
		"Show a runbook's text",
		"urgentis runbook show berth-queue-backlog",
		cobra.ExactArgs(1),
		func(cmd *cobra.Command, args []string) error {
			cl, err := a.client()
			if err != nil {
				return err
			}
			r, err := check(cl.GetRunbookWithResponse(cmd.Context(), args[0]))
			if err != nil {
				return err
			}
			return a.print(r.JSON200, func() { a.say("%s", whole(r.JSON200.Text)) })
		},
	)
}
