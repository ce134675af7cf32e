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
	return noun("runbook", "Runbooks", a.runbookCheck(), a.runbookPush(), a.runbookList(), a.runbookShow())
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

func (a *app) run() *cobra.Command {
	return noun("run", "Runs of runbooks", a.runStart(), a.runList(), a.runShow(), a.runFollow())
}

func (a *app) runStart() *cobra.Command {
	var given map[string]string
	var incident int64
	var follow bool
	c := verb("start RUNBOOK", "Start a runbook by hand", "urgentis run start berth-queue-backlog --input queue=quay-north --incident 12 --follow", cobra.ExactArgs(1), func(cmd *cobra.Command, args []string) error {
		cl, err := a.client()
		if err != nil {
			return err
		}
		in := map[string]any{}
		for k, v := range given {
			in[k] = v
		}
		r, err := check(cl.StartRunWithResponse(cmd.Context(), api.NewRun{Runbook: args[0], Inputs: in, Incident: incident}))
		if err != nil {
			return err
		}
		if err := a.print(r.JSON202, func() { fmt.Fprintf(a.out, "Started as run %s.\n", r.JSON202.Id) }); err != nil || !follow {
			return err
		}
		return a.followRun(cmd, cl, r.JSON202.Id)
	})
	c.Flags().StringToStringVar(&given, "input", nil, "NAME=VALUE, as often as wanted")
	c.Flags().Int64Var(&incident, "incident", 0, "the incident that it works on")
	c.Flags().BoolVar(&follow, "follow", false, "print its log until it ends")
	return c
}

func (a *app) runList() *cobra.Command {
	var active bool
	c := verb("list", "List runs, the newest first", "urgentis run list --active", cobra.NoArgs, func(cmd *cobra.Command, _ []string) error {
		cl, err := a.client()
		if err != nil {
			return err
		}
		r, err := check(cl.ListRunsWithResponse(cmd.Context(), &api.ListRunsParams{Active: active, Limit: 50}))
		if err != nil {
			return err
		}
		return a.print(r.JSON200, func() {
			var rows [][]string
			for _, x := range r.JSON200.Items {
				rows = append(rows, []string{x.Id, x.Runbook, string(x.State), orDash(x.WaitsOn), orDash(strings.Trim(fmt.Sprint(x.Incident), "0 ")), x.StartedBy, ago(x.BegunAt)})
			}
			a.table("No runs. Start one with: urgentis run start RUNBOOK", []string{"id", "runbook", "state", "waits on", "incident", "started by", "begun"}, rows)
		})
	})
	c.Flags().BoolVar(&active, "active", false, "only those that are not over")
	return c
}

func (a *app) runShow() *cobra.Command {
	return verb("show ID", "Show a run with its log", "urgentis run show r3k…", cobra.ExactArgs(1), func(cmd *cobra.Command, args []string) error {
		cl, err := a.client()
		if err != nil {
			return err
		}
		r, err := check(cl.GetRunWithResponse(cmd.Context(), args[0]))
		if err != nil {
			return err
		}
		return a.print(r.JSON200, func() {
			a.runHead(r.JSON200.Run)
			for _, e := range r.JSON200.Events {
				a.event(e)
			}
		})
	})
}

func (a *app) runHead(x api.Run) {
	fmt.Fprintf(a.out, "%s  %s\nrun %s · %s%s · started by %s at %s", a.paint(bold, x.Runbook), x.Title, x.Id, x.State, map[bool]string{true: " on " + x.WaitsOn}[x.WaitsOn != ""], x.StartedBy, x.BegunAt.UTC().Format("2006-01-02 15:04:05 MST"))
	if x.Incident != 0 {
		fmt.Fprintf(a.out, " · incident %d", x.Incident)
	}
	fmt.Fprintln(a.out)
	if x.Because != "" {
		fmt.Fprintln(a.out, printable(x.Because))
	}
	fmt.Fprintln(a.out)
}

func (a *app) event(e api.Event) {
	detail := ""
	for _, k := range []string{"target", "result", "state", "choice", "by", "because", "text", "error"} {
		if v, ok := e.Body[k]; ok && v != "" {
			detail += fmt.Sprintf("  %s=%s", k, clip(fmt.Sprint(v), 80))
		}
	}
	fmt.Fprintf(a.out, "%4d  %s  %-18s %-12s%s\n", e.Seq, e.At.UTC().Format("15:04:05.000"), e.Kind, e.Path, printable(detail))
}

func (a *app) runFollow() *cobra.Command {
	return verb("follow ID", "Print a run's log as it is written, until it ends", "urgentis run follow r3k…", cobra.ExactArgs(1), func(cmd *cobra.Command, args []string) error {
		cl, err := a.client()
		if err != nil {
			return err
		}
		return a.followRun(cmd, cl, args[0])
	})
}

func (a *app) followRun(cmd *cobra.Command, cl *client, id string) error {
	ctx := cmd.Context()
	seen := int64(0)
	return a.watch(ctx, cl, func() (bool, error) {
		r, err := check(cl.GetRunWithResponse(ctx, id))
		if err != nil {
			return false, err
		}
		if seen == 0 {
			a.runHead(r.JSON200.Run)
		}
		for _, e := range r.JSON200.Events {
			if e.Seq > seen {
				a.event(e)
				seen = e.Seq
			}
		}
		if r.JSON200.Run.EndedAt.IsZero() {
			return false, nil
		}
		if s := r.JSON200.Run.State; s != "done" {
			return true, fmt.Errorf("the run ended %s: %s", s, r.JSON200.Run.Because)
		}
		return true, nil
	})
}
