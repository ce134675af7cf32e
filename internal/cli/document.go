package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"urgentis/api"
	"urgentis/core/cases"
	"urgentis/core/doc"
	"urgentis/core/estate"
	"urgentis/core/plain"
)

// push compares documents with what the service has, shows that, asks, and makes it so.
func (a *app) push() *cobra.Command {
	var ask api.NewPush
	var yes bool
	c := verb(
		"push PATH...",
		"Make what is configured as the documents of files and folders say; the changes are shown first",
		"urgentis push harbour/ --message \"two sources more\"\nurgentis push harbour/ --prune --check",
		cobra.MinimumNArgs(1),
		a.asking(func(cmd *cobra.Command, cl *client, args []string) error {
			var err error
			if ask.Files, err = documentFiles(args); err != nil {
				return err
			}
			if ask.Origin == "" {
				ask.Origin = originOf(args)
			}
			if err := a.sound(ask.Files); err != nil {
				return err
			}
			return a.pushDocuments(cmd.Context(), cl, ask, yes)
		}),
	)
	f := c.Flags()
	f.BoolVar(&ask.Check, "check", false, "show the changes and make none; ends with 6 where there are some")
	f.BoolVar(&ask.Prune, "prune", false, "remove what was pushed from here and is here no more")
	f.BoolVar(&yes, "yes", false, "do not ask")
	f.StringVar(&ask.Message, "message", "", "`WHY`, for the record")
	f.StringVar(&ask.Commit, "commit", "", "the `COMMIT` of the texts, for the record")
	f.StringVar(
		&ask.Origin,
		"origin",
		"",
		"the `NAME` of the place where the texts are kept (default: the first folder's)",
	)
	return c
}

// pushDocuments shows what would be changed, asks, and has it done as it was shown.
func (a *app) pushDocuments(ctx context.Context, cl *client, ask api.NewPush, yes bool) error {
	shown := ask
	shown.Check = true
	r, err := check(cl.PushWithResponse(ctx, shown))
	if err != nil {
		return err
	}
	changes := slices.DeleteFunc(
		slices.Clone(r.JSON200.Steps),
		func(s api.PushStep) bool { return s.What == api.PushStepWhatSame },
	)
	a.showFound(ask.Files, r.JSON200.Findings)
	if ask.Check || len(changes) == 0 {
		if err := a.print(r.JSON200, func() { a.steps(changes) }); err != nil {
			return err
		}
		if len(changes) > 0 {
			return &failure{code: exitChanges, err: errors.New("there are changes; nothing was changed")}
		}
		return nil
	}
	if a.output == "table" {
		a.steps(changes)
	}
	if !yes && !a.agreed("Do it?") {
		return usage("nothing was changed; say yes, or --yes")
	}
	ask.Expect = r.JSON200.Plan
	if r, err = check(cl.PushWithResponse(ctx, ask)); err != nil {
		return err
	}
	return a.print(r.JSON200, func() { a.say("Done, as push %d.\n", r.JSON200.Push) })
}

// showFound shows what the service found in documents, at its lines.
func (a *app) showFound(files []api.PushFile, found []api.Finding) {
	list := make([]estate.Found, len(found))
	for i, f := range found {
		list[i] = estate.Found{File: f.File, Finding: doc.Finding{
			Line: f.Line, Column: f.Column, Message: f.Message, Meant: f.Meant, Warning: f.Warning}}
	}
	a.tellFound(files, list)
}

func (a *app) tellFound(files []api.PushFile, found []estate.Found) {
	for _, f := range files {
		var here doc.Findings
		for _, x := range found {
			if x.File == f.Name {
				here = append(here, x.Finding)
			}
		}
		if len(here) > 0 {
			fmt.Fprint(a.err, plain.Text(here.Format(f.Name, []byte(f.Text))))
		}
	}
}

// agreed asks a person who is there.
func (a *app) agreed(question string) bool {
	if !a.isTTY {
		return false
	}
	fmt.Fprint(a.err, question+" [y/N] ")
	line, err := bufio.NewReader(a.in).ReadString('\n')
	return err == nil && slices.Contains([]string{"y", "yes"}, strings.ToLower(strings.TrimSpace(line)))
}

// steps prints what a push changes.
func (a *app) steps(changes []api.PushStep) {
	if len(changes) == 0 {
		a.say("Nothing to do.\n")
		return
	}
	for _, s := range changes {
		a.say("%-8s %s %s\n", string(s.What), string(s.Kind), a.paint(bold, s.Name))
		if s.KeptAt != "" {
			a.say("           was kept at %s\n", s.KeptAt)
		}
		for _, f := range s.Fields {
			a.say("           %s\n", f)
		}
		if s.What == api.PushStepWhatChanged && len(s.Fields) == 0 {
			a.say("           only its form\n")
		}
	}
}

// documentFiles reads the YAML files that paths name: files, and folders with all below them.
func documentFiles(paths []string) ([]api.PushFile, error) {
	var out []api.PushFile
	for _, p := range paths {
		err := filepath.WalkDir(p, func(path string, d fs.DirEntry, err error) error {
			if err != nil {
				return err
			}
			if d.IsDir() && path != p && strings.HasPrefix(d.Name(), ".") {
				return filepath.SkipDir
			}
			ext := filepath.Ext(path)
			if d.IsDir() || path != p && (ext != ".yaml" && ext != ".yml" || cases.IsFile(path)) {
				return nil
			}
			b, err := os.ReadFile(path)
			out = append(out, api.PushFile{Name: path, Text: string(b)})
			return err
		})
		if err != nil {
			return nil, usage("%s", err)
		}
	}
	if len(out) == 0 {
		return nil, usage("there is no .yaml file in %s", strings.Join(paths, ", "))
	}
	return out, nil
}

// originOf names where texts are kept: by the first path's folder.
func originOf(paths []string) string {
	p, err := filepath.Abs(paths[0])
	if err != nil {
		return paths[0]
	}
	if i, err := os.Stat(p); err == nil && !i.IsDir() {
		p = filepath.Dir(p)
	}
	return filepath.Base(p)
}

// sound checks documents here, where the lines that are wrong can be shown.
func (a *app) sound(files []api.PushFile) error {
	all := make([]estate.File, len(files))
	for i, f := range files {
		all[i] = estate.File{Name: f.Name, Text: f.Text}
	}
	_, found := estate.Parse(all)
	if !estate.Failed(found) {
		return nil
	}
	a.tellFound(files, found)
	return &failure{code: exitFailed, err: errors.New("the documents have errors; nothing was changed")}
}

// withoutMade leaves out the runbooks that bindings make: pushed again, the bindings make them.
func withoutMade(list []api.EstateDocument) []api.EstateDocument {
	bindings := map[string]bool{}
	for _, d := range list {
		bindings[d.Name] = bindings[d.Name] || d.Kind == api.DocumentKindBinding
	}
	return slices.DeleteFunc(slices.Clone(list), func(d api.EstateDocument) bool {
		return d.Kind == api.DocumentKindRunbook && bindings[d.Name]
	})
}

// pull writes the documents that the service has into a folder.
func (a *app) pull() *cobra.Command {
	var force bool
	c := verb(
		"pull FOLDER",
		"Write the documents in use into a folder, each into KIND/NAME.yaml",
		"urgentis pull harbour/",
		cobra.ExactArgs(1),
		a.asking(func(cmd *cobra.Command, cl *client, args []string) error {
			r, err := check(cl.ListDocumentsWithResponse(cmd.Context(), &api.ListDocumentsParams{}))
			if err != nil {
				return err
			}
			var wrote, other []string
			for _, d := range withoutMade(*r.JSON200) {
				path := filepath.Join(args[0], string(d.Kind), d.Name+".yaml")
				full, err := check(cl.GetDocumentWithResponse(cmd.Context(), d.Kind, d.Name, &api.GetDocumentParams{}))
				if err != nil {
					return err
				}
				switch was, err := os.ReadFile(path); {
				case err == nil && string(was) == full.JSON200.Text:
					continue
				case err == nil && !force:
					other = append(other, path)
					continue
				}
				if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
					return err
				}
				if err := os.WriteFile(path, []byte(full.JSON200.Text), 0o644); err != nil {
					return err
				}
				wrote = append(wrote, path)
			}
			off, err := switchedOff(cmd.Context(), cl)
			if err != nil {
				return err
			}
			err = a.print(map[string]any{"wrote": emptyNotNull(wrote), "differ": emptyNotNull(other),
				"switched_off": emptyNotNull(off)}, func() {
				a.say("Documents: %d, written: %d.\n", len(*r.JSON200), len(wrote))
				for _, t := range off {
					a.say("Switched off here, which no document says: %s\n", t)
				}
			})
			if err != nil || len(other) == 0 {
				return err
			}
			return &failure{code: exitChanges, err: fmt.Errorf(
				"these are otherwise here and were left alone (--force writes over them): %s",
				strings.Join(other, ", "),
			)}
		}),
	)
	c.Flags().BoolVar(&force, "force", false, "write over files that are otherwise")
	return c
}

// switchedOff names the triggers that are switched off: that is a matter of the installation and not of their texts.
func switchedOff(ctx context.Context, cl *client) ([]string, error) {
	r, err := check(cl.ListTriggersWithResponse(ctx))
	if err != nil {
		return nil, err
	}
	var out []string
	for _, t := range *r.JSON200 {
		if t.Off.By != "" {
			out = append(out, plain.Line(fmt.Sprintf("%s (by %s: %s)", t.Name, t.Off.By, t.Off.Because)))
		}
	}
	return out, nil
}

func emptyNotNull(list []string) []string {
	if list == nil {
		return []string{}
	}
	return list
}

func (a *app) document() *cobra.Command {
	return noun("document", "What is configured, as documents with all their revisions", a.documentList(),
		a.documentShow(), a.documentSchema(), a.documentRevisions(), a.documentCompare(), a.documentRestore(),
		a.documentRemove())
}

func (a *app) documentList() *cobra.Command {
	var p api.ListDocumentsParams
	c := lister(a, "List the documents in use", "urgentis document list --kind source",
		"No documents. Push some with: urgentis push FOLDER", documentHeads,
		func(cmd *cobra.Command, cl *client) (*[]api.EstateDocument, error) {
			r, err := check(cl.ListDocumentsWithResponse(cmd.Context(), &p))
			return r.JSON200, err
		}, documentRow)
	c.Flags().StringVar((*string)(&p.Kind), "kind", "", "only those of a `KIND`, such as source")
	complete(c, "kind", kindWords()...)
	return c
}

// kindWords are the kinds of documents.
func kindWords() []string {
	out := make([]string, len(estate.Kinds))
	for i, k := range estate.Kinds {
		out[i] = string(k)
	}
	return out
}

var documentHeads = []string{"kind", "name", "rev", "digest", "kept at", "pushed by", "at"}

func documentRow(d api.EstateDocument) []string {
	return []string{string(d.Kind), d.Name, strconv.Itoa(d.Number), d.Digest[:min(12, len(d.Digest))], orDash(d.Origin),
		d.PushedBy, ago(d.PushedAt)}
}

// documentOf reads a revision of a document; 0 is the one in use.
func documentOf(ctx context.Context, cl *client, kind, name string, number int) (*api.EstateDocument, error) {
	r, err := check(cl.GetDocumentWithResponse(ctx, api.Kind(kind), name, &api.GetDocumentParams{Number: number}))
	return r.JSON200, err
}

func (a *app) documentShow() *cobra.Command {
	var number int
	c := verb("show KIND NAME", "Show a document's text, of the revision in use or another",
		"urgentis document show source harbour-watch --revision 2", cobra.ExactArgs(2),
		a.asking(func(cmd *cobra.Command, cl *client, args []string) error {
			d, err := documentOf(cmd.Context(), cl, args[0], args[1], number)
			if err != nil {
				return err
			}
			return a.print(d, func() { a.say("%s", whole(d.Text)) })
		}))
	c.Flags().IntVar(&number, "revision", 0, "the `NUMBER` of a revision")
	return c
}

func (a *app) documentRemove() *cobra.Command {
	return doer(a, "remove KIND NAME", "Take a document out of use; its revisions stay",
		"urgentis document remove watch gate-errors", cobra.ExactArgs(2),
		func(cmd *cobra.Command, cl *client, args []string) (any, string, error) {
			_, err := check(cl.RemoveDocumentWithResponse(cmd.Context(), api.Kind(args[0]), args[1]))
			back := "urgentis document restore " + args[0] + " " + args[1] + " NUMBER"
			return nil, "Removed. Restore it with: " + back, err
		})
}

func (a *app) documentSchema() *cobra.Command {
	return verb("schema", "Write the JSON Schema of all documents, for editors",
		"urgentis document schema >urgentis.schema.json", cobra.NoArgs,
		func(*cobra.Command, []string) error {
			a.say("%s", whole(string(estate.Schema())))
			return nil
		})
}

func (a *app) documentRevisions() *cobra.Command {
	return verb("revisions KIND NAME", "List the revisions of a document, newest first",
		"urgentis document revisions source harbour-watch", cobra.ExactArgs(2),
		a.asking(func(cmd *cobra.Command, cl *client, args []string) error {
			r, err := check(cl.ListDocumentRevisionsWithResponse(cmd.Context(), api.Kind(args[0]), args[1]))
			if err != nil {
				return err
			}
			return a.print(listOf(*r.JSON200), func() {
				var rows [][]string
				for _, d := range *r.JSON200 {
					rows = append(rows, append(documentRow(d), d.Message))
				}
				a.table("", append(slices.Clone(documentHeads), "why"), rows)
			})
		}))
}

func (a *app) documentCompare() *cobra.Command {
	return verb("compare KIND NAME OLDER [NEWER]", "Show what changed between two revisions of a document",
		"urgentis document compare source harbour-watch 1\nurgentis document compare source harbour-watch 1 3",
		cobra.RangeArgs(3, 4),
		a.asking(func(cmd *cobra.Command, cl *client, args []string) error {
			var side [2]compareSide
			for i, word := range append(args[2:], "0")[:2] {
				n, err := strconv.Atoi(word)
				if err != nil || n < 0 {
					return usage("%q is no revision's number", word)
				}
				d, err := documentOf(cmd.Context(), cl, args[0], args[1], n)
				if err != nil {
					return err
				}
				side[i] = compareSide{d.Name, d.Number, d.Text}
			}
			return a.compared(side[0], side[1])
		}))
}

func (a *app) documentRestore() *cobra.Command {
	return doer(a, "restore KIND NAME NUMBER", "Restore an older revision: its text becomes the one in use",
		"urgentis document restore source harbour-watch 2", cobra.ExactArgs(3),
		func(cmd *cobra.Command, cl *client, args []string) (any, string, error) {
			n, err := strconv.Atoi(args[2])
			if err != nil || n < 1 {
				return nil, "", usage("%q is no revision's number", args[2])
			}
			old, err := documentOf(cmd.Context(), cl, args[0], args[1], n)
			if err != nil {
				return nil, "", err
			}
			ask := api.NewPush{
				Files:   []api.PushFile{{Name: args[0] + "/" + args[1], Text: old.Text}},
				Message: fmt.Sprintf("revision %d restored", n),
			}
			// One that was removed is kept nowhere.
			if now, err := documentOf(cmd.Context(), cl, args[0], args[1], 0); err == nil {
				ask.Origin = now.Origin
			}
			r, err := check(cl.PushWithResponse(cmd.Context(), ask))
			if err != nil {
				return nil, "", err
			}
			if s := r.JSON200.Steps[0]; s.What == api.PushStepWhatSame {
				return r.JSON200, "It is in use already.", nil
			}
			return r.JSON200, fmt.Sprintf("The text of revision %d is in use again.", n), nil
		})
}
