package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"strconv"
	"strings"

	"github.com/pmezard/go-difflib/difflib"
	"github.com/spf13/cobra"

	"urgentis/api"
	"urgentis/core/cases"
	"urgentis/core/library"
	"urgentis/core/runbook"
)

func (a *app) runbook() *cobra.Command {
	return noun(
		"runbook",
		"Runbooks",
		a.runbookCheck(),
		a.runbookFormat(),
		a.runbookRehearse(),
		a.runbookTry(),
		a.runbookTest(),
		a.runbookGraph(),
		a.runbookSchema(),
		a.runbookPush(),
		a.runbookList(),
		a.runbookShow(),
		a.runbookRevisions(),
		a.runbookCompare(),
		a.runbookRestore(),
		a.runbookRemove(),
	)
}

// files lists the runbooks that arguments name: files, or folders with .yaml files.
func files(args []string) ([]string, error) {
	var out []string
	for _, p := range args {
		if p == "-" {
			out = append(out, p)
			continue
		}
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
		out = append(out, slices.DeleteFunc(found, cases.IsFile)...)
	}
	if len(out) == 0 {
		return nil, usage("there is no .yaml file in %s", strings.Join(args, ", "))
	}
	return out, nil
}

// readFile reads a file; - is standard input.
func (a *app) readFile(name string) ([]byte, error) {
	if name == "-" {
		return io.ReadAll(io.LimitReader(a.in, runbook.MaxSize+1))
	}
	return os.ReadFile(name)
}

// bookFile is a runbook read from a file.
type bookFile struct {
	path  string
	src   []byte
	book  *runbook.Book // nil where it has errors
	found runbook.Findings
	// linked is the book with those that it calls; nil where missing, one of them, is not among what was read.
	linked  *runbook.Book
	missing string
}

// readBooks reads and checks runbooks (- is standard input), each alone and then with those it calls, where these are
// among them.
func (a *app) readBooks(args []string) ([]*bookFile, error) {
	list, err := files(args)
	if err != nil {
		return nil, err
	}
	out := make([]*bookFile, len(list))
	named := map[string]*runbook.Book{}
	for i, f := range list {
		b := &bookFile{path: f}
		if b.src, err = a.readFile(f); err != nil {
			return nil, err
		}
		if b.book, b.found = runbook.Parse(b.src); b.book != nil {
			b.linked = b.book
			named[b.book.Name] = b.book
		}
		out[i] = b
	}
	for _, b := range out {
		if b.book == nil || len(b.book.Calls()) == 0 {
			continue
		}
		missing := ""
		b.linked = nil
		linked, found := b.book.Link(func(name string) *runbook.Book {
			if named[name] == nil {
				missing = name
			}
			return named[name]
		})
		if b.missing = missing; missing == "" {
			b.found = append(b.found, found...)
			b.linked = linked
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

// checked is one runbook with what was found in it.
type checked struct {
	File     string           `json:"file"`
	Findings runbook.Findings `json:"findings"`
}

func (a *app) runbookCheck() *cobra.Command {
	c := verb("check FILE…", "Check runbooks without a service: 0 sound, 1 errors",
		"urgentis runbook check examples/ferry/runbooks\ngenerate | urgentis runbook check -", cobra.MinimumNArgs(1),
		func(_ *cobra.Command, args []string) error {
			list, err := a.readBooks(args)
			if err != nil {
				return err
			}
			estate, bad, warned := readEstate(), 0, false
			all := listOf[checked](nil)
			for _, b := range list {
				found := estate.against(b.book)
				warned = warned || len(found) > 0
				if estate == nil && b.book != nil {
					found = append(b.book.Unstated(), b.book.Looks(library.Reads(), nil)...)
				}
				b.found = append(b.found, found...)
				all.Items = append(all.Items, checked{b.path, append(runbook.Findings{}, b.found...)})
				if b.found.Failed() {
					bad++
				}
			}
			err = a.print(all, func() {
				for _, b := range list {
					a.say("%s", whole(b.found.Format(b.path, b.src)))
					if len(b.found) == 0 {
						a.say("%s: sound\n", b.path)
					}
				}
				if warned {
					a.say("The estate is that of %s, as it was %s.\n", estate.Server, ago(estate.At))
				}
			})
			if err == nil && bad > 0 {
				return fmt.Errorf("%d of %d runbooks have errors", bad, len(list))
			}
			return err
		})
	c.Long = "What a runbook names of the estate (its service, targets by their labels) is held against the estate " +
		"as it\n" +
		"was when one was last pushed, or checked with push --check, from here."
	return c
}

func (a *app) runbookPush() *cobra.Command {
	var only bool
	c := verb("push FILE…", "Store runbooks; a changed text is a new revision",
		"urgentis runbook push berth-queue-backlog.yaml\nurgentis runbook push examples/ferry/runbooks --check",
		cobra.MinimumNArgs(1), func(cmd *cobra.Command, args []string) error {
			list, err := a.readBooks(args)
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
					// The errors are shown with their lines, which the service does not know.
					say(a.err, "%s", whole(b.found.Format(b.path, b.src)))
				}
			}
			if bad > 0 {
				return fmt.Errorf("%d of %d runbooks have errors; none was pushed", bad, len(list))
			}
			defer rememberEstate(cmd.Context(), cl)
			out := listOf[api.RunbookDetail](nil)
			for _, b := range calleesFirst(list) {
				r, err := a.pushOne(cmd.Context(), cl, b, only)
				if err != nil {
					return err
				}
				out.Items = append(out.Items, *r)
			}
			return a.print(out, func() {
				for _, r := range out.Items {
					a.say("%s\n", pushed(r, only))
				}
			})
		})
	c.Flags().BoolVar(&only, "check", false, "check against the service's estate, and store nothing")
	return c
}

func (a *app) pushOne(ctx context.Context, cl *client, b *bookFile, only bool) (*api.RunbookDetail, error) {
	r, err := check(cl.PushRunbookWithResponse(ctx, api.RunbookText{Text: string(b.src), CheckOnly: only}))
	if err != nil {
		return nil, fmt.Errorf("%s: %w", b.path, err)
	}
	var found runbook.Findings
	for _, x := range r.JSON201.Findings {
		found = append(found, runbook.Finding{
			Line: x.Line, Column: x.Column, Warning: x.Warning, Message: x.Message, Meant: x.Meant,
		})
	}
	say(a.err, "%s", whole(found.Format(b.path, b.src)))
	return r.JSON201, nil
}

// pushed says what became of a text.
func pushed(r api.RunbookDetail, only bool) string {
	switch {
	case only:
		return r.Name + " is sound; nothing was stored."
	case r.Unchanged:
		return fmt.Sprintf("%s is unchanged: revision %d (%.12s) has this text.", r.Name, r.Number, r.Revision)
	}
	return fmt.Sprintf("%s is revision %d (%.12s).", r.Name, r.Number, r.Revision)
}

func (a *app) runbookList() *cobra.Command {
	var p api.ListRunbooksParams
	c := lister(a, "List runbooks", "urgentis runbook list\nurgentis runbook list --tag queues --text backlog",
		"No runbook is like that, or there are none. Push one with: urgentis runbook push FILE",
		[]string{"name", "service", "owner", "rev", "pushed", "tags", "title"},
		func(cmd *cobra.Command, cl *client) (*[]api.Runbook, error) {
			r, err := check(cl.ListRunbooksWithResponse(cmd.Context(), &p))
			return r.JSON200, err
		}, func(x api.Runbook) []string {
			return []string{
				x.Name, x.Service, x.Owner, fmt.Sprint(x.Number), ago(x.PushedAt), strings.Join(x.Tags, ","),
				clip(x.Title, 50),
			}
		})
	c.Flags().StringVar(&p.Service, "service", "", "only those of this `SERVICE`")
	c.Flags().StringVar(&p.Tag, "tag", "", "only those that have this `TAG`")
	c.Flags().StringVar(&p.Text, "text", "", "only those that have all these `WORDS` in their name, title, purpose, "+
		"harm, tags, service or owner")
	a.offersFlag(c, "service", serviceNames)
	return c
}

// revision reads a runbook: its newest revision, or that of a number.
func revision(ctx context.Context, cl *client, name string, number int) (*api.RunbookDetail, error) {
	if number == 0 {
		r, err := check(cl.GetRunbookWithResponse(ctx, name))
		return r.JSON200, err
	}
	r, err := check(cl.GetRevisionWithResponse(ctx, name, number))
	return r.JSON200, err
}

func (a *app) runbookShow() *cobra.Command {
	var number int
	c := verb("show NAME", "Show a runbook's text, of its newest revision or another",
		"urgentis runbook show berth-queue-backlog --revision 2", cobra.ExactArgs(1),
		a.asking(func(cmd *cobra.Command, cl *client, args []string) error {
			r, err := revision(cmd.Context(), cl, args[0], number)
			if err != nil {
				return err
			}
			return a.print(r, func() { a.say("%s", whole(r.Text)) })
		}))
	c.Flags().IntVar(&number, "revision", 0, "the `NUMBER` of a revision (the newest without it)")
	return a.offers(c, runbookNames)
}

func (a *app) runbookRevisions() *cobra.Command {
	c := verb("revisions NAME", "List the revisions of a runbook, the newest first",
		"urgentis runbook revisions berth-queue-backlog", cobra.ExactArgs(1),
		a.asking(func(cmd *cobra.Command, cl *client, args []string) error {
			r, err := check(cl.ListRevisionsWithResponse(cmd.Context(), args[0]))
			if err != nil {
				return err
			}
			return a.print(listOf(*r.JSON200), func() {
				var rows [][]string
				for _, x := range *r.JSON200 {
					rows = append(rows, []string{
						fmt.Sprint(
							x.Number,
						), x.Revision[:12], x.PushedBy, x.PushedAt.UTC().Format("2006-01-02 15:04"), clip(x.Title, 60),
					})
				}
				a.table("", []string{"rev", "digest", "pushed by", "at (UTC)", "title"}, rows)
			})
		}))
	return a.offers(c, runbookNames)
}

func (a *app) runbookCompare() *cobra.Command {
	c := verb(
		"compare NAME OLDER [NEWER]",
		"Show what changed between two revisions of a runbook",
		"urgentis runbook compare berth-queue-backlog 1\nurgentis runbook compare berth-queue-backlog 1 3",
		cobra.RangeArgs(2, 3),
		a.asking(func(cmd *cobra.Command, cl *client, args []string) error {
			var side [2]*api.RunbookDetail
			for i, word := range append(args[1:], "0")[:2] {
				n, err := strconv.Atoi(word)
				if err != nil || n < 0 {
					return usage("%q is no revision's number", word)
				}
				if side[i], err = revision(cmd.Context(), cl, args[0], n); err != nil {
					return err
				}
			}
			return a.compared(
				compareSide{side[0].Name, side[0].Number, side[0].Text},
				compareSide{side[1].Name, side[1].Number, side[1].Text},
			)
		}),
	)
	return a.offers(c, runbookNames)
}

// compareSide is one of two revisions that are compared.
type compareSide struct {
	name   string
	number int
	text   string
}

func (s compareSide) String() string { return fmt.Sprintf("%s revision %d", s.name, s.number) }

// compared prints what changed between two revisions.
func (a *app) compared(older, newer compareSide) error {
	diff, err := difflib.GetUnifiedDiffString(difflib.UnifiedDiff{
		A: difflib.SplitLines(older.text), B: difflib.SplitLines(newer.text), Context: 3,
		FromFile: older.String(), ToFile: newer.String(),
	})
	if err != nil {
		return err
	}
	return a.print(map[string]any{"older": older.number, "newer": newer.number, "diff": diff}, func() {
		if diff == "" {
			diff = "They are the same.\n"
		}
		a.say("%s", whole(diff))
	})
}

func (a *app) runbookRestore() *cobra.Command {
	c := doer(a, "restore NAME NUMBER", "Restore an older revision: its text becomes the newest one",
		"urgentis runbook restore berth-queue-backlog 2", cobra.ExactArgs(2),
		func(cmd *cobra.Command, cl *client, args []string) (any, string, error) {
			n, err := strconv.Atoi(args[1])
			if err != nil || n < 1 {
				return nil, "", usage("%q is no revision's number", args[1])
			}
			old, err := revision(cmd.Context(), cl, args[0], n)
			if err != nil {
				return nil, "", err
			}
			r, err := check(cl.PushRunbookWithResponse(cmd.Context(), api.RunbookText{Text: old.Text}))
			if err != nil {
				return nil, "", err
			}
			return r.JSON201, pushed(*r.JSON201, false), nil
		})
	return a.offers(c, runbookNames)
}

func (a *app) runbookRemove() *cobra.Command {
	c := remover(
		a,
		"Take a runbook out of use: it starts no more, its revisions stay",
		"urgentis runbook remove berth-queue-backlog",
		"It starts no more. Restore it with: urgentis runbook restore %s NUMBER",
		(*client).RemoveRunbookWithResponse,
	)
	return a.offers(c, runbookNames)
}
