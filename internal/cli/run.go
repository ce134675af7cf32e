package cli

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"urgentis/api"
	"urgentis/core/plain"
)

func (a *app) run() *cobra.Command {
	return noun(
		"run",
		"Runs of runbooks",
		a.offers(a.runStart(), runbookNames),
		a.runList(),
		a.offers(a.runShow(), runIDs(false)),
		a.offers(a.runFollow(), runIDs(true)),
		a.offers(a.runAgain(), runIDs(false)),
		a.offers(a.runCancel(), runIDs(true)),
		a.offers(a.runResume(), runIDs(true)),
		a.offers(a.runSettle(), runIDs(false)),
		a.offers(a.runGraph(), runIDs(false)),
		a.offers(a.runSaveAsCase(), runIDs(false)),
	)
}

func (a *app) runStart() *cobra.Command {
	var given map[string]string
	var incident int64
	var follow bool
	var treats []string
	var only string
	c := verb(
		"start RUNBOOK",
		"Start a runbook by hand",
		"urgentis run start berth-queue-backlog --input queue=quay-north --incident 12 --follow\n"+
			"urgentis run start berth-queue-backlog --input queue=quay-north --only park --follow",
		cobra.ExactArgs(1),
		a.asking(func(cmd *cobra.Command, cl *client, args []string) error {
			in := map[string]any{}
			for k, v := range given {
				in[k] = v
			}
			r, err := check(
				cl.StartRunWithResponse(once(cmd.Context()), api.NewRun{
					Runbook: args[0], Inputs: in, Incident: incident, For: treats, Only: only,
				}),
			)
			if err != nil {
				return err
			}
			return a.started(cmd, cl, r.JSON202, follow)
		}),
	)
	c.Flags().StringToStringVar(&given, "input", nil, "`NAME=VALUE`, repeatable")
	c.Flags().Int64Var(&incident, "incident", 0, "the `NUMBER` of the incident that it works on")
	c.Flags().StringSliceVar(&treats, "for", nil, "the `ALERT` of the incident that it is for, repeatable; "+
		"unless said those that its starts fit, else the only open one")
	c.Flags().StringVar(&only, "only", "", "one `CHANGE` alone, by its id or path: with the looks that it rests on, "+
		"through its gate, with its undo and its proof, and nothing else")
	c.Flags().BoolVar(&follow, "follow", false, "tell what it does until it ends")
	return c
}

// started says that a run was started, and follows it where that is wanted.
func (a *app) started(cmd *cobra.Command, cl *client, run *api.Run, follow bool) error {
	what := ""
	if run.Incident != 0 {
		r, err := check(cl.GetRunWithResponse(cmd.Context(), run.Id))
		if err != nil {
			return err
		}
		what = worksFor(r.JSON200)
	}
	err := a.print(run, func() {
		if a.say("Started as run %s.\n", run.Id); what != "" {
			a.say("%s\n", what)
		}
	})
	if err != nil || !follow {
		return err
	}
	return a.followRun(cmd, cl, run.Id, false)
}

// worksFor tells which alerts of its incident a run was begun for.
func worksFor(r *api.RunDetail) string {
	if len(r.Treats) == 0 {
		return fmt.Sprintf("It is for no single alert of incident %d: what it says of the end ends none of them. "+
			"Name them with --for.", r.Run.Incident)
	}
	list := make([]string, len(r.Treats))
	for i, t := range r.Treats {
		list[i] = clip(t.Summary, 60)
	}
	return fmt.Sprintf("It is for: %s", strings.Join(list, "; "))
}

// runStates are the states that a run may be in.
var runStates = []string{"running", "waiting", "done", "failed", "handed-over", "cancelled"}

func (a *app) runList() *cobra.Command {
	var p api.ListRunsParams
	var limit int
	var since, before string
	c := doerList(
		a,
		"List runs, the newest first",
		"urgentis run list --active\nurgentis run list --left\nurgentis run list --runbook berth-queue-backlog\n"+
			"urgentis run list --text quay-north --since 7d\nurgentis run list --by mara --state failed",
		&limit,
		func(ctx context.Context, cl *client, cursor string, n int) ([]api.Run, string, error) {
			p.Cursor, p.Limit = cursor, n
			var err error
			if p.From, p.To, err = period(since, before); err != nil {
				return nil, "", err
			}
			if p.Input != "" && !strings.Contains(p.Input, "=") {
				return nil, "", usage("--input must be NAME=VALUE, such as queue=quay-north")
			}
			r, err := check(cl.ListRunsWithResponse(ctx, &p))
			if err != nil {
				return nil, "", err
			}
			return r.JSON200.Items, r.JSON200.Next, nil
		},
		func(items []api.Run) {
			var rows [][]string
			for _, x := range items {
				rows = append(rows, []string{
					x.Id, x.Runbook, string(x.State), orDash(strings.TrimSpace(x.WaitsOn + " " + x.Awaits)),
					orDash(numberOrNone(x.Incident)), x.StartedBy, ago(x.BegunAt),
				})
			}
			none := "No runs. Start one with: urgentis run start RUNBOOK"
			if narrowed := p; narrowed != (api.ListRunsParams{Cursor: p.Cursor, Limit: p.Limit}) {
				none = "No run is like that."
			}
			a.table(none,
				[]string{"id", "runbook", "state", "waits on", "incident", "started by", "started"}, rows)
		},
	)
	c.Flags().BoolVar(&p.Active, "active", false, "only those that are not over")
	c.Flags().BoolVar(&p.Left, "left", false, "only those that handed something over which is not done with")
	c.Flags().StringVar(&p.Runbook, "runbook", "", "only those of this `RUNBOOK`")
	c.Flags().StringVar(&p.Service, "service", "", "only those of this `SERVICE`")
	c.Flags().Int64Var(&p.Incident, "incident", 0, "only those of this incident's `NUMBER`")
	c.Flags().StringVar((*string)(&p.State), "state", "", "only those in this `STATE`: "+strings.Join(runStates, ", "))
	c.Flags().StringVar(&p.By, "by", "", "only those that this `STARTER` started: a person, or trigger:NAME")
	c.Flags().StringVar(&p.Input, "input", "", "only those begun with this input, as `NAME=VALUE`")
	c.Flags().StringVar(&p.Text, "text", "", "only those begun with these `WORDS`, in the runbook, the inputs or the "+
		"alert: words, \"phrases\", or, -without")
	c.Flags().StringVar(&since, "since", "", "only those started since a `TIME`: 24h ago, or 2031-03-01T02:00:00Z")
	c.Flags().StringVar(&before, "before", "", "only those started before a `TIME`")
	complete(c, "state", runStates...)
	a.offersFlag(c, "by", personNames)
	a.offersFlag(c, "runbook", runbookNames)
	a.offersFlag(c, "service", serviceNames)
	a.offersFlag(c, "incident", incidentNumbers)
	return c
}

func (a *app) runShow() *cobra.Command {
	var log, detail, record bool
	c := verb("show ID", "Show a run: what it did, and why", "urgentis run show r3k…\nurgentis run show r3k… --log",
		cobra.ExactArgs(1), a.asking(func(cmd *cobra.Command, cl *client, args []string) error {
			r, err := check(cl.GetRunWithResponse(cmd.Context(), args[0]))
			if err != nil {
				return err
			}
			return a.print(r.JSON200, func() {
				a.runHead(r.JSON200.Run)
				if log || record {
					a.told(r.JSON200, 0, log)
				} else {
					a.rows(r.JSON200.Rows, detail)
				}
				a.going(r.JSON200.Going, "")
			})
		}))
	c.Flags().BoolVar(&log, "log", false, "its events, as they are kept")
	c.Flags().BoolVar(&detail, "detail", false, "with every row of the story, and all lines below them")
	c.Flags().BoolVar(&record, "record", false, "its entries, one by one, in the place of the story")
	return c
}

// told prints what a run did after the first so many entries, or events, and gives how many there are.
func (a *app) told(r *api.RunDetail, seen int, log bool) int {
	if log {
		for _, e := range r.Events[min(seen, len(r.Events)):] {
			a.event(e)
		}
		return len(r.Events)
	}
	for _, e := range r.Story[min(seen, len(r.Story)):] {
		a.entry(e)
	}
	return len(r.Story)
}

// going tells on standard error how far the looks are that are being taken, if that is not what was told before.
func (a *app) going(list []api.Going, before string) string {
	var lines []string
	for _, g := range list {
		if g.Asked > 1 {
			lines = append(lines, fmt.Sprintf("%s: %s", plain.Line(g.Title), g.Says))
		}
	}
	now := strings.Join(lines, "\n")
	if now != "" && now != before {
		fmt.Fprintln(a.err, now)
	}
	return now
}

func (a *app) runHead(x api.Run) {
	a.say(
		"%s  %s\nrun %s · %s%s · started by %s at %s",
		a.paint(bold, x.Runbook),
		x.Title,
		x.Id,
		x.State,
		map[bool]string{true: " on " + strings.TrimSpace(x.WaitsOn+" "+x.Awaits)}[x.WaitsOn != ""],
		x.StartedBy,
		x.BegunAt.UTC().Format("2006-01-02 15:04:05 MST"),
	)
	if x.Incident != 0 {
		a.say(" · incident %d", x.Incident)
	}
	a.say("\n")
	if x.Because != "" {
		a.say("%s\n", indented("  ", x.Because))
	}
	a.say("\n")
}

func (a *app) event(e api.Event) {
	detail := ""
	for _, k := range []string{"target", "result", "state", "choice", "by", "because", "text", "error"} {
		if v, ok := e.Body[k]; ok && v != "" {
			detail += fmt.Sprintf("  %s=%s", k, clip(fmt.Sprint(v), 80))
		}
	}
	a.say("%4d  %s  %-18s %-12s%s\n", e.Seq, e.At.UTC().Format("15:04:05.000"), e.Kind, e.Path, detail)
}

func (a *app) runFollow() *cobra.Command {
	var log bool
	c := verb("follow ID", "Tell what a run does, until it ends", "urgentis run follow r3k…", cobra.ExactArgs(1),
		a.asking(func(cmd *cobra.Command, cl *client, args []string) error {
			return a.followRun(cmd, cl, args[0], log)
		}))
	c.Flags().BoolVar(&log, "log", false, "its events, as they are kept")
	return c
}

func (a *app) followRun(cmd *cobra.Command, cl *client, id string, log bool) error {
	ctx := cmd.Context()
	seen, begun, going := 0, false, ""
	return a.watch(ctx, cl, func() (bool, error) {
		r, err := check(cl.GetRunWithResponse(ctx, id))
		if err != nil {
			return false, err
		}
		if !begun {
			a.runHead(r.JSON200.Run)
			begun = true
		}
		seen = a.told(r.JSON200, seen, log)
		going = a.going(r.JSON200.Going, going)
		if r.JSON200.Run.EndedAt.IsZero() {
			return false, nil
		}
		if s := r.JSON200.Run.State; s != "done" {
			return true, fmt.Errorf("the run ended %s: %s", s, r.JSON200.Run.Because)
		}
		return true, nil
	})
}

func (a *app) runAgain() *cobra.Command {
	var follow bool
	c := verb(
		"again ID",
		"Start the same runbook again with the same inputs, in its newest revision",
		"urgentis run again r3k… --follow",
		cobra.ExactArgs(1),
		a.asking(func(cmd *cobra.Command, cl *client, args []string) error {
			r, err := check(cl.RunAgainWithResponse(once(cmd.Context()), args[0]))
			if err != nil {
				return err
			}
			return a.started(cmd, cl, r.JSON202, follow)
		}),
	)
	c.Flags().BoolVar(&follow, "follow", false, "tell what it does until it ends")
	return c
}

func (a *app) runCancel() *cobra.Command {
	var c api.Cancel
	cmd := verb(
		"cancel ID",
		"Stop a run: what is under way on targets is ended",
		`urgentis run cancel r3k… --undo --because "Wrong quay."`,
		cobra.ExactArgs(1),
		a.asking(func(cmd *cobra.Command, cl *client, args []string) error {
			if _, err := check(cl.CancelRunWithResponse(cmd.Context(), args[0], c)); err != nil {
				return err
			}
			return a.done(
				"It ends as soon as nothing of it is under way. Follow it with: urgentis run follow " + args[0],
			)
		}),
	)
	cmd.Flags().StringVar(&c.Because, "because", "", "`WHY`, for the record")
	cmd.Flags().BoolVar(&c.Undo, "undo", false, "undo its changes first, the newest first")
	return cmd
}

func (a *app) runSettle() *cobra.Command {
	var c api.Reason
	cmd := verb(
		"settle ID",
		"Say that what a run handed over is done with",
		`urgentis run settle r3k… --because "The certificate is renewed."`,
		cobra.ExactArgs(1),
		a.asking(func(cmd *cobra.Command, cl *client, args []string) error {
			if _, err := check(cl.SettleRunWithResponse(cmd.Context(), args[0], c)); err != nil {
				return err
			}
			return a.done("It is done with.")
		}),
	)
	cmd.Flags().StringVar(&c.Because, "because", "", "`WHY`, for the record")
	return cmd
}

func (a *app) runResume() *cobra.Command {
	var c api.Reason
	cmd := verb(
		"resume ID",
		"Resume a run that was quarantined because the program died of it",
		`urgentis run resume r3k… --because "The look that took all memory is mended."`,
		cobra.ExactArgs(1),
		a.asking(func(cmd *cobra.Command, cl *client, args []string) error {
			if _, err := check(cl.ResumeRunWithResponse(cmd.Context(), args[0], c)); err != nil {
				return err
			}
			return a.done("Resumed. Follow it with: urgentis run follow " + args[0])
		}),
	)
	cmd.Flags().StringVar(&c.Because, "because", "", "`WHY`, for the record")
	return cmd
}

func (a *app) runGraph() *cobra.Command {
	var svg bool
	c := verb(
		"graph ID",
		"Show the flow of a run with the path that it took",
		"urgentis run graph r3k… --svg >run.svg",
		cobra.ExactArgs(1),
		a.asking(func(cmd *cobra.Command, cl *client, args []string) error {
			r, err := check(cl.GetRunGraphWithResponse(cmd.Context(), args[0]))
			if err != nil {
				return err
			}
			return a.print(r.JSON200, func() { a.showGraph(r.JSON200, svg) })
		}),
	)
	c.Flags().BoolVar(&svg, "svg", false, "as a picture (SVG)")
	return c
}

func (a *app) showGraph(g *api.Graph, picture bool) {
	if picture {
		a.say("%s", ours(g.Svg))
		return
	}
	a.say("%s", whole(g.Text))
}

// numberOrNone writes a number; nothing for none.
func numberOrNone(n int64) string {
	if n == 0 {
		return ""
	}
	return strconv.FormatInt(n, 10)
}
