package cli

import (
	"strings"

	"github.com/spf13/cobra"

	"urgentis/api"
)

func (a *app) incidentLook() *cobra.Command {
	var run string
	c := a.onIncident(
		"look NUMBER [STEP]",
		"Take a look of an incident again: then and now, better or worse; without STEP list its looks",
		"urgentis incident look 12\nurgentis incident look 12 depth",
		cobra.RangeArgs(1, 2),
		func(cmd *cobra.Command, cl *client, n int64, args []string) error {
			if len(args) == 1 {
				return a.listLooks(cmd, cl, n)
			}
			r, err := check(cl.LookAgainWithResponse(once(cmd.Context()), n, api.NewLook{Step: args[1], Run: run}))
			if err != nil {
				return err
			}
			return a.print(r.JSON200, func() { a.looked(r.JSON200) })
		},
	)
	c.Long = "The look is taken with the words that the run used, on the same targets. Nothing is changed, the run " +
		"does not\nsee it, and the record says who looked and what was seen."
	c.Flags().StringVar(&run, "run", "", "of which `RUN` (default: the newest that took it)")
	return c
}

func (a *app) listLooks(cmd *cobra.Command, cl *client, n int64) error {
	r, err := check(cl.ListLooksWithResponse(cmd.Context(), n))
	if err != nil {
		return err
	}
	return a.print(listOf(*r.JSON200), func() {
		var rows [][]string
		for _, l := range *r.JSON200 {
			rows = append(rows, []string{orDash(l.Id), l.Path, l.Title, l.Runbook, ago(l.At),
				clip(strings.Join(l.Targets, ", "), 40)})
		}
		a.table("No run of this incident has looked at anything yet.",
			[]string{"step", "place", "look", "runbook", "taken", "on"}, rows)
	})
}

// looked shows a look then and now.
func (a *app) looked(l *api.Looked) {
	a.say("%s  %s\n", a.paint(bold, l.Look.Title), a.paint(dim, "first taken "+ago(l.Look.At)))
	var rows [][]string
	for _, c := range l.Compared {
		says := string(c.Says)
		if c.Missing != "" {
			says += ": " + c.Missing
		}
		rows = append(rows, []string{orDash(c.Target), c.Reading, clip(orDash(c.Then), 40),
			clip(strings.TrimSpace(orDash(c.Now)+" "+c.Unit), 40), clip(says, 60)})
	}
	a.table("It reads nothing.", []string{"target", "reading", "then", "now", "is"}, rows)
}
