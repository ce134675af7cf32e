package cli

import (
	"fmt"
	"os"
	"path/filepath"
	"sort"
	"strings"

	"github.com/spf13/cobra"

	"urgentis/api"
	"urgentis/core/runbook"
)

func (a *app) runbook() *cobra.Command {
	return noun("runbook", "Runbooks", a.runbookCheck(), a.runbookFormat(), a.runbookPush(), a.runbookList(), a.runbookShow(),
		a.runbookGraph(), a.runbookTry(), a.runbookRehearse(), a.runbookSchema())
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

func (a *app) runbookCheck() *cobra.Command {
	return verb("check FILE…", "Check runbooks without a service: 0 sound, 1 mistakes", "urgentis runbook check examples/ferry/runbooks", cobra.MinimumNArgs(1), func(_ *cobra.Command, args []string) error {
		list, err := files(args)
		if err != nil {
			return err
		}
		bad := 0
		all := map[string]runbook.Findings{}
		for _, f := range list {
			src, err := os.ReadFile(f)
			if err != nil {
				return err
			}
			_, found := runbook.Parse(src)
			all[f] = found
			if found.Failed() {
				bad++
			}
			if a.output == "table" {
				fmt.Fprint(a.out, printable(found.Format(f, src)))
				if len(found) == 0 {
					fmt.Fprintf(a.out, "%s: sound\n", f)
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
	})
}

func (a *app) runbookPush() *cobra.Command {
	return verb("push FILE…", "Store runbooks; a changed text is a new revision", "urgentis runbook push berth-queue-backlog.yaml", cobra.MinimumNArgs(1), func(cmd *cobra.Command, args []string) error {
		list, err := files(args)
		if err != nil {
			return err
		}
		cl, err := a.client()
		if err != nil {
			return err
		}
		for _, f := range list {
			src, err := os.ReadFile(f)
			if err != nil {
				return err
			}
			// The mistakes are shown with their lines, which the service does not know.
			if _, found := runbook.Parse(src); found.Failed() {
				fmt.Fprint(a.err, printable(found.Format(f, src)))
				return fmt.Errorf("%s has mistakes; nothing more was pushed", f)
			}
			r, err := check(cl.PushRunbookWithResponse(cmd.Context(), api.RunbookText{Text: string(src)}))
			if err != nil {
				return fmt.Errorf("%s: %w", f, err)
			}
			for _, x := range r.JSON201.Findings {
				if x.Warning {
					fmt.Fprintf(a.err, "%s:%d: warning: %s\n", f, x.Line, printable(x.Message))
				}
			}
			if err := a.print(r.JSON201, func() {
				fmt.Fprintf(a.out, "%s is revision %d (%.12s).\n", r.JSON201.Name, r.JSON201.Number, r.JSON201.Revision)
			}); err != nil {
				return err
			}
		}
		return nil
	})
}

func (a *app) runbookList() *cobra.Command {
	return verb("list", "List runbooks", "urgentis runbook list", cobra.NoArgs, func(cmd *cobra.Command, _ []string) error {
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
				rows = append(rows, []string{x.Name, x.Service, x.Owner, fmt.Sprint(x.Number), ago(x.PushedAt), strings.Join(x.Tags, ","), clip(x.Title, 50)})
			}
			a.table("No runbooks. Push one with: urgentis runbook push FILE", []string{"name", "service", "owner", "rev", "pushed", "tags", "title"}, rows)
		})
	})
}

func (a *app) runbookShow() *cobra.Command {
	return verb("show NAME", "Show a runbook's text", "urgentis runbook show berth-queue-backlog", cobra.ExactArgs(1), func(cmd *cobra.Command, args []string) error {
		cl, err := a.client()
		if err != nil {
			return err
		}
		r, err := check(cl.GetRunbookWithResponse(cmd.Context(), args[0]))
		if err != nil {
			return err
		}
		return a.print(r.JSON200, func() { fmt.Fprint(a.out, printable(r.JSON200.Text)) })
	})
}
