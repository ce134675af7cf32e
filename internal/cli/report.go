package cli

import (
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"urgentis/api"
	"urgentis/core/plain"
	"urgentis/core/worth"
)

func (a *app) report() *cobra.Command {
	return noun("report", "Reports: what incidents cost in time, and what runbooks saved",
		a.reportShow(), a.reportIncidents(), a.reportExport())
}

// reported are the flags of what a report tells of.
type reported struct{ service, since, until string }

func (r *reported) flags(a *app, c *cobra.Command) *cobra.Command {
	c.Flags().StringVar(&r.service, "service", "", "only of this `SERVICE`")
	c.Flags().StringVar(&r.since, "since", "30d",
		"of what was closed since a `TIME`: so long ago, or 2031-03-01T00:00:00Z")
	c.Flags().StringVar(&r.until, "until", "", "of what was closed before a `TIME`; now unless said")
	a.offersFlag(c, "service", serviceNames)
	return c
}

func (a *app) reportShow() *cobra.Command {
	var which reported
	c := verb("show", "Show what incidents cost in time, what runbooks saved, and which of them do badly",
		"urgentis report show\nurgentis report show --service berth-queue --since 90d", cobra.NoArgs,
		a.asking(func(cmd *cobra.Command, cl *client, _ []string) error {
			from, until, err := between(which.since, which.until)
			if err != nil {
				return err
			}
			r, err := check(cl.ShowReportWithResponse(cmd.Context(), &api.ShowReportParams{
				Service: which.service, From: from, Until: until,
			}))
			if err != nil {
				return err
			}
			return a.print(r.JSON200, func() { a.showReport(r.JSON200) })
		}))
	return which.flags(a, c)
}

func (a *app) showReport(r *api.Worth) {
	a.say("%s closed from %s to %s.\n", capital(many(r.Incidents, "incident")), r.From.Format(day), r.Until.Format(day))
	if r.Incidents == 0 {
		a.say("Nothing to tell of that time. Another one: --since 90d\n")
	} else {
		a.showFigures(r)
	}
	var rows [][]string
	for _, o := range r.Outcomes {
		rows = append(rows, []string{o.Title, fmt.Sprint(o.Incidents)})
	}
	a.part("How they ended", []string{"outcome", "incidents"}, rows)
	a.part("By month", groupHeads("month"), groupRows(r.Months))
	a.part("By service", groupHeads("service"), groupRows(r.Services))
	a.part("By source", groupHeads("source"), groupRows(r.Sources))
	rows = nil
	for _, b := range r.Runbooks {
		rows = append(rows, []string{b.Name, fmt.Sprint(b.Incidents), fmt.Sprint(b.HandedOver), fmt.Sprint(b.Failed),
			orDash(b.Saved), strings.TrimPrefix(strings.Join([]string{b.Verdict, b.Says}, ": "), ": ")})
	}
	a.part("Runbooks", []string{"runbook", "incidents", "handed over", "failed", "saved", "how it does"}, rows)
	rows = nil
	for _, n := range r.NoRunbook {
		rows = append(rows, []string{n.Title, fmt.Sprint(n.Incidents)})
	}
	a.part("Alerts that no runbook started for", []string{"source: signal", "incidents"}, rows)
	rows = nil
	for _, x := range r.ToDo {
		rows = append(rows, []string{x.Title, x.Says})
	}
	a.part("To do", []string{"what", "because"}, rows)
	if r.Incidents > 0 {
		a.say("\nWhat a figure counts: urgentis report incidents FIGURE [OF], such as outcome repaired\n")
	}
}

const day = "2 Jan 2006"

func capital(s string) string { return strings.ToUpper(s[:1]) + s[1:] }

// showFigures says the report in a sentence, and its figures.
func (a *app) showFigures(r *api.Worth) {
	a.say("%s.\n\n", r.Says)
	for _, s := range r.Spreads {
		a.say("%-34s %s\n", capital(s.Title), s.Says)
	}
	for _, c := range []api.Counted{r.WithoutPeople, r.CameBack, r.FalseAlarms} {
		a.say("%-34s %d of %d\n", capital(c.Title), c.Incidents, c.All)
	}
	a.say("%-34s %s on %s, as their authors estimate\n", "Saved by runbooks", orDash(r.Saved.Saved),
		many(r.Saved.Incidents, "incident"))
}

// part is a table under a title; nothing where it would be empty.
func (a *app) part(title string, heads []string, rows [][]string) {
	if len(rows) == 0 {
		return
	}
	a.say("\n%s\n", title)
	a.table("", heads, rows)
}

func groupHeads(of string) []string {
	return []string{of, "incidents", "evidence", "decision", "recovery", "without people", "false alarms", "saved"}
}

func groupRows(list []api.CountedGroup) [][]string {
	var rows [][]string
	for _, g := range list {
		rows = append(rows, []string{g.Title, fmt.Sprint(g.Incidents), orDash(g.Evidence.Median),
			orDash(g.Decision.Median), orDash(g.Recovery.Median), fmt.Sprint(g.WithoutPeople),
			fmt.Sprint(g.FalseAlarms), orDash(g.Saved)})
	}
	return rows
}

func (a *app) reportIncidents() *cobra.Command {
	var which reported
	c := verb("incidents FIGURE [OF]", "List the incidents that a figure of the report counts, the newest first",
		"urgentis report incidents recovery\nurgentis report incidents outcome false-alarm --since 90d\n"+
			"urgentis report incidents runbook berth-queue-backlog",
		cobra.RangeArgs(1, 2),
		a.asking(func(cmd *cobra.Command, cl *client, args []string) error {
			from, until, err := between(which.since, which.until)
			if err != nil {
				return err
			}
			p := &api.ListCountedParams{
				Figure: api.FigureName(args[0]), Service: which.service, From: from, Until: until,
			}
			if len(args) > 1 {
				p.Of = args[1]
			}
			r, err := check(cl.ListCountedWithResponse(cmd.Context(), p))
			if err != nil {
				return err
			}
			return a.print(listOf(*r.JSON200), func() {
				var rows [][]string
				for _, f := range *r.JSON200 {
					rows = append(rows, []string{fmt.Sprint(f.Number), f.Service, f.Outcome, f.Closed.UTC().Format(day),
						since(f.Opened, f.Evidence), since(f.Asked, f.Decided), since(f.Opened, f.Recovered),
						orDash(strings.Join(f.People, ", ")), clip(f.Title, 50)})
				}
				a.table("It counts no incident.", []string{"no", "service", "outcome", "closed", "evidence", "decision",
					"recovery", "people", "title"}, rows)
			})
		}))
	c.ValidArgs = worth.Figures
	return which.flags(a, c)
}

// since is how long it was from one time to another; a dash where one of them is not known.
func since(from, until time.Time) string {
	if from.IsZero() || until.IsZero() {
		return "-"
	}
	return plain.Lasted(until.Sub(from))
}

func (a *app) reportExport() *cobra.Command {
	var which reported
	c := verb("export", "Write what the report counts as comma-separated values, a line for each incident",
		"urgentis report export --since 365d > incidents.csv", cobra.NoArgs,
		a.asking(func(cmd *cobra.Command, cl *client, _ []string) error {
			from, until, err := between(which.since, which.until)
			if err != nil {
				return err
			}
			r, err := check(cl.ExportFactsWithResponse(cmd.Context(), &api.ExportFactsParams{
				Service: which.service, From: from, Until: until,
			}))
			if err != nil {
				return err
			}
			_, err = a.out.Write(r.Body)
			return err
		}))
	return which.flags(a, c)
}
