package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/pmezard/go-difflib/difflib"
	"github.com/spf13/cobra"

	"urgentis/api"
	"urgentis/core/expr"
	"urgentis/core/library"
	"urgentis/core/runbook"
)

func (a *app) library() *cobra.Command {
	return noun("library", "Runbooks that ship with the program", a.libraryList(), a.libraryShow(), a.libraryTest(),
		a.libraryLook(), a.libraryBind(), a.libraryCopy(), a.libraryCompare())
}

// shelved is a runbook of the library as it is listed.
type shelved struct {
	Name     string   `json:"name"`
	Title    string   `json:"title"`
	Tags     []string `json:"tags"`
	Roles    []string `json:"roles"`
	Inputs   []string `json:"inputs"`
	Changes  int      `json:"changes"`
	Revision string   `json:"revision"`
	About    string   `json:"about"`
	Text     string   `json:"text,omitempty"`
}

func shelve(r *library.Runbook) shelved {
	s := shelved{
		Name: r.Book.Name, Title: r.Book.Title, Tags: emptyNotNull(r.Book.Tags), Roles: emptyNotNull(r.Roles),
		Inputs: []string{}, Revision: r.Book.Revision, About: r.Book.About, Changes: r.Book.ChangesMade(),
	}
	for _, in := range r.Book.Inputs {
		s.Inputs = append(s.Inputs, in.Name)
	}
	return s
}

func (a *app) libraryList() *cobra.Command {
	var tags []string
	c := verb("list [WORD]", "List them; with a word only those that speak of it",
		"urgentis library list disk\nurgentis library list --tag postgresql", cobra.MaximumNArgs(1),
		func(_ *cobra.Command, args []string) error {
			all, err := library.All()
			if err != nil {
				return err
			}
			word := strings.ToLower(strings.Join(args, ""))
			out := listOf[shelved](nil)
			var rows [][]string
			for _, r := range all {
				s := shelve(r)
				missing := slices.ContainsFunc(tags, func(t string) bool { return !slices.Contains(s.Tags, t) })
				if missing || !strings.Contains(strings.ToLower(r.Text), word) {
					continue
				}
				does := "only looks"
				if s.Changes > 0 {
					does = many(s.Changes, "change")
				}
				out.Items = append(out.Items, s)
				rows = append(rows, []string{s.Name, s.Title, does, strings.Join(s.Roles, ", ")})
			}
			return a.print(out, func() {
				a.table("The library has none of that kind.", []string{"runbook", "for", "does", "roles"}, rows)
			})
		})
	c.Flags().StringSliceVar(&tags, "tag", nil, "only those with this `TAG`, repeatable")
	return c
}

func (a *app) libraryShow() *cobra.Command {
	var text bool
	c := verb("show NAME", "Show what one does, with which roles and inputs", "urgentis library show host-disk-full",
		cobra.ExactArgs(1),
		func(_ *cobra.Command, args []string) error {
			r, err := library.Find(args[0])
			if err != nil {
				return notThere(err)
			}
			s := shelve(r)
			s.Text = r.Text
			return a.print(s, func() {
				if text {
					a.say("%s", whole(r.Text))
					return
				}
				a.showShelved(r, s)
			})
		})
	c.Flags().BoolVar(&text, "text", false, "only its text")
	c.ValidArgsFunction = libraryNames
	return c
}

func notThere(err error) error { return &failure{code: exitNotFound, err: err} }

// libraryNames completes names of the library.
func libraryNames(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	all, err := library.All()
	if err != nil || len(args) > 0 {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	var out []string
	for _, r := range all {
		out = append(out, r.Book.Name+"\t"+r.Book.Title)
	}
	return out, cobra.ShellCompDirectiveNoFileComp
}

func (a *app) showShelved(r *library.Runbook, s shelved) {
	a.say("%s  %s\n%s\n\n%s\n", a.paint(bold, s.Title), a.paint(dim, s.Name),
		a.paint(dim, strings.Join(s.Tags, ", ")), whole(strings.TrimSpace(s.About)))
	if r.Book.Harm != "" {
		a.say("\nHarm:   %s\n", r.Book.Harm)
	}
	a.say("\nRoles:  %s\n\n", strings.Join(s.Roles, ", "))
	var rows [][]string
	for _, in := range r.Book.Inputs {
		usual := "must be given"
		if in.Default != nil {
			usual = expr.Say(in.Default)
		}
		rows = append(rows, []string{in.Name, in.Label, string(in.Type), usual})
	}
	if len(rows) > 0 {
		a.table("", []string{"input", "is", "type", "unless said"}, rows)
		a.say("\n")
	}
	a.say("%s", whole(api.GraphOf(r.Book, nil).Text))
	a.say("\nLook with it at your own targets, which changes nothing:\n  urgentis library look %s --service SERVICE\n",
		s.Name)
	a.say("Make it yours:\n  urgentis library bind %s --name NAME --service SERVICE --owner TEAM\n", s.Name)
}

func (a *app) libraryTest() *cobra.Command {
	var missed bool
	c := verb(
		"test [NAME…]",
		"Play the cases of the library's runbooks",
		"urgentis library test host-disk-full --missed",
		cobra.ArbitraryArgs,
		func(_ *cobra.Command, args []string) error {
			all, err := library.All()
			if err != nil {
				return err
			}
			for _, n := range args {
				if _, err := library.Find(n); err != nil {
					return notThere(err)
				}
			}
			out := listOf[*tried](nil)
			for _, r := range all {
				if len(args) > 0 && !slices.Contains(args, r.Book.Name) {
					continue
				}
				b := &bookFile{path: r.Book.Name + ".yaml", src: []byte(r.Text), book: r.Book, linked: r.Book}
				t := &tried{File: b.path, Runbook: r.Book.Name, Cases: []triedCase{}, Missed: []string{}}
				playCases(t, b, []byte(r.Cases))
				out.Items = append(out.Items, t)
			}
			if err := a.print(out, func() { a.showTried(out.Items, missed) }); err != nil {
				return err
			}
			return judgeTried(out.Items, 0)
		},
	)
	c.Flags().BoolVar(&missed, "missed", false, "list the steps and ways that no case has reached")
	c.ValidArgsFunction = libraryNames
	return c
}

// bindFlags are what a binding says, as flags.
type bindFlags struct {
	b             library.Binding
	roles, inputs map[string]string
}

func (f *bindFlags) add(c *cobra.Command) {
	c.Flags().StringVar(&f.b.Service, "service", "", "the `SERVICE` that it is for")
	c.Flags().
		StringToStringVar(&f.roles, "role", nil, "`ROLE=LABEL`: which role your targets have that play a role of it")
	c.Flags().StringToStringVar(&f.inputs, "input", nil, "`NAME=VALUE`: what an input is unless a start says otherwise")
	c.ValidArgsFunction = libraryNames
}

// text is the document of the binding.
func (f *bindFlags) text(of string) (string, error) {
	r, err := library.Find(of)
	if err != nil {
		return "", notThere(err)
	}
	f.b.Library, f.b.Roles, f.b.Inputs = of, f.roles, map[string]any{}
	doc := yaml.MapSlice{
		{Key: "urgentis", Value: "binding/1"}, {Key: "name", Value: f.b.Name}, {Key: "library", Value: of},
		{Key: "service", Value: f.b.Service}, {Key: "owner", Value: f.b.Owner},
	}
	for _, in := range r.Book.Inputs {
		if given, ok := f.inputs[in.Name]; ok {
			if f.b.Inputs[in.Name], err = in.Accept(given); err != nil {
				return "", usage("%s", err)
			}
		}
	}
	for name, v := range f.inputs {
		if _, ok := f.b.Inputs[name]; !ok {
			f.b.Inputs[name] = v // Bind says that there is none of this name
		}
	}
	if len(f.roles) > 0 {
		doc = append(doc, yaml.MapItem{Key: "roles", Value: f.roles})
	}
	if len(f.b.Inputs) > 0 {
		doc = append(doc, yaml.MapItem{Key: "inputs", Value: f.b.Inputs})
	}
	if _, err := library.Bind(f.b); err != nil {
		return "", usage("%s", err)
	}
	out, err := yaml.Marshal(doc)
	return string(out), err
}

func (a *app) libraryLook() *cobra.Command {
	var f bindFlags
	var answers map[string]string
	c := verb("look NAME", "Try one on your own targets: looks are taken, and nothing is changed",
		"urgentis library look host-disk-full --service berth-queue --role host=consumer --input mount=/srv",
		cobra.ExactArgs(1),
		a.asking(func(cmd *cobra.Command, cl *client, args []string) error {
			if f.b.Service == "" {
				return usage("say of which service: --service NAME")
			}
			f.b.Name, f.b.Owner = args[0], library.Unbound
			if _, err := f.text(args[0]); err != nil {
				return err
			}
			text, err := library.Bind(f.b)
			if err != nil {
				return err
			}
			r, err := check(cl.RehearseWithResponse(cmd.Context(), api.NewRehearsal{
				Text: text, How: api.LooksOnly, Inputs: map[string]any{}, Past: 1,
				Assume: map[string]map[string]any{}, Answers: answers,
			}))
			if err != nil {
				return err
			}
			return a.print(r.JSON200, func() { a.rehearsed(r.JSON200) })
		}))
	f.add(c)
	a.offersFlag(c, "service", serviceNames)
	c.Flags().StringToStringVar(&answers, "answer", nil, "`QUESTION=CHOICE`: what a question is answered with")
	return c
}

func (a *app) libraryBind() *cobra.Command {
	var f bindFlags
	var to string
	var yes, only bool
	c := verb("bind NAME", "Make one yours: for a service, with its targets and inputs",
		"urgentis library bind host-disk-full --name quay-disks --service berth-queue --owner quayside "+
			"--role host=consumer\nurgentis library bind host-disk-full --name quay-disks --service berth-queue "+
			"--owner quayside --to harbour/quay-disks.yaml",
		cobra.ExactArgs(1),
		func(cmd *cobra.Command, args []string) error {
			if f.b.Name == "" || f.b.Service == "" || f.b.Owner == "" {
				return usage("say --name NAME, --service SERVICE and --owner TEAM")
			}
			text, err := f.text(args[0])
			if err != nil {
				return err
			}
			if to != "" {
				if err := writeNew(to, text); err != nil {
					return err
				}
				return a.done("It is in " + to + ". Add starts to it as to a runbook, and push it: urgentis push " + to)
			}
			cl, err := a.client()
			if err != nil {
				return err
			}
			return a.pushDocuments(cmd.Context(), cl, api.NewPush{
				Files: []api.PushFile{{Name: f.b.Name + ".yaml", Text: text}}, Check: only,
			}, yes)
		})
	f.add(c)
	a.offersFlag(c, "service", serviceNames)
	c.Flags().StringVar(&f.b.Name, "name", "", "the `NAME` of the runbook that is made")
	c.Flags().StringVar(&f.b.Owner, "owner", "", "the `TEAM` that owns it")
	c.Flags().StringVar(&to, "to", "", "write the document into a `FILE` instead of pushing it")
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	c.Flags().BoolVar(&only, "check", false, "show the changes and make none; ends with 6 where there are some")
	return c
}

// writeNew writes a file that is not there yet.
func writeNew(path, text string) error {
	out, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644) //nolint:gosec // it is no secret
	if errors.Is(err, fs.ErrExist) {
		return fmt.Errorf("%s is there already; it was left as it is", path)
	}
	if err != nil {
		return err
	}
	_, err = out.WriteString(text)
	return errors.Join(err, out.Close())
}

// original is where a copy's text of the library is kept, as it was when it was copied.
func original(copied string) string {
	return filepath.Join(filepath.Dir(copied), "."+filepath.Base(copied)+".original")
}

func (a *app) libraryCopy() *cobra.Command {
	var to string
	c := verb("copy NAME", "Copy one into a file, with its cases, to change it there",
		"urgentis library copy host-disk-full --to runbooks/quay-disks.yaml", cobra.ExactArgs(1),
		func(_ *cobra.Command, args []string) error {
			r, err := library.Find(args[0])
			if err != nil {
				return notThere(err)
			}
			if to == "" {
				to = args[0] + ".yaml"
			}
			if err := writeNew(to, r.Text); err != nil {
				return err
			}
			if err := writeNew(caseFile(to), r.Cases); err != nil {
				return err
			}
			if err := os.WriteFile(original(to), []byte(r.Text), 0o644); err != nil { //nolint:gosec // no secret
				return err
			}
			return a.done(
				fmt.Sprintf("It is in %s, its cases in %s. Give it a name, a service and an owner of its own. "+
					"What the library changes later is told by: urgentis library compare %s", to, caseFile(to), to),
			)
		})
	c.Flags().StringVar(&to, "to", "", "the `FILE` (default: NAME.yaml)")
	c.ValidArgsFunction = libraryNames
	return c
}

// compared is what the library changed since a copy was made.
type compared struct {
	Library string `json:"library"`
	Changed bool   `json:"changed"`
	Diff    string `json:"diff"`
}

func (a *app) libraryCompare() *cobra.Command {
	return verb("compare FILE", "Show what the library has changed since a copy was made",
		"urgentis library compare runbooks/quay-disks.yaml", cobra.ExactArgs(1),
		func(_ *cobra.Command, args []string) error {
			was, err := os.ReadFile(original(args[0]))
			if errors.Is(err, fs.ErrNotExist) {
				return notThere(
					fmt.Errorf("%s is not there: library copy writes it beside a copy, and it says what the "+
						"copy was made of", original(args[0])),
				)
			}
			if err != nil {
				return err
			}
			book, found := runbook.Parse(was)
			if book == nil {
				return fmt.Errorf("%s has errors: %w", original(args[0]), found)
			}
			r, err := library.Find(book.Name)
			if err != nil {
				return notThere(err)
			}
			diff, err := difflib.GetUnifiedDiffString(difflib.UnifiedDiff{
				A: difflib.SplitLines(
					string(was),
				), B: difflib.SplitLines(r.Text), FromFile: "copied", ToFile: "library",
				Context: 3,
			})
			if err != nil {
				return err
			}
			out := compared{Library: book.Name, Changed: diff != "", Diff: diff}
			return a.print(out, func() {
				if diff == "" {
					a.say("The library's %s is as it was when it was copied.\n", book.Name)
					return
				}
				a.say("%s", whole(diff))
			})
		})
}
