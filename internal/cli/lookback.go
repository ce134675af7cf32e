package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"urgentis/api"
	"urgentis/core/expr"
)

func (a *app) incidentHistory() *cobra.Command {
	var kept bool
	c := a.onIncident("history NUMBER [NAME]",
		"Ask outside stores what they have of the time around it: numbers, and log lines by their shape",
		"urgentis incident history 12", cobra.RangeArgs(1, 2),
		func(cmd *cobra.Command, cl *client, n int64, args []string) error {
			var list []api.Back
			if kept {
				r, err := check(cl.ListBacksWithResponse(cmd.Context(), n))
				if err != nil {
					return err
				}
				list = r.JSON200.Taken
			} else {
				b := api.NewBack{}
				if len(args) > 1 {
					b.Lookback = args[1]
				}
				r, err := check(cl.LookBackWithResponse(cmd.Context(), n, b))
				if err != nil {
					return err
				}
				list = *r.JSON200
			}
			return a.print(list, func() {
				if len(list) == 0 {
					a.say("Not queried yet. Query with: urgentis incident history %d\n", n)
				}
				for i, b := range list {
					if i > 0 {
						a.say("\n")
					}
					a.back(b)
				}
			})
		})
	c.Flags().BoolVar(&kept, "kept", false, "show what stands in the record, and ask nobody")
	return c
}

// back prints a look into the past.
func (a *app) back(b api.Back) {
	a.say(
		"%s, from %s until %s; it began at %s\n",
		a.paint(bold, b.Title),
		clock(b.From),
		clock(b.Until),
		clock(b.Onset),
	)
	for _, m := range b.Missing {
		a.say("Missing: %s\n", m)
	}
	rows := make([][]string, 0, len(b.Series))
	for _, s := range b.Series {
		before, since := "-", "-"
		low, high := s.Points[0].Value, s.Points[0].Value
		points := make([]api.ReadingPoint, len(s.Points))
		for i, p := range s.Points {
			points[i] = api.ReadingPoint{At: p.At, Value: &p.Value}
			low, high = min(low, p.Value), max(high, p.Value)
			if p.At.Before(b.Onset) {
				before = expr.Say(p.Value)
			} else {
				since = expr.Say(p.Value)
			}
		}
		rows = append(rows, []string{s.Name, orDash(s.Target), before, since,
			fmt.Sprintf("%s to %s", expr.Say(low), expr.Say(high)), s.Unit, drawn(points, b.From, b.Until, low, high)})
	}
	if len(rows) > 0 {
		a.table("", []string{"series", "target", "just before", "last", "from to", "unit", "course"}, rows)
	}
	rows = nil
	for _, s := range b.Shapes {
		rows = append(rows, []string{fmt.Sprint(s.Count), fmt.Sprint(s.Before), fmt.Sprint(s.Since), clip(s.Text, 100)})
	}
	if len(rows) > 0 {
		a.table("", []string{"lines", "before", "since", "shape"}, rows)
	}
	if b.More > 0 {
		a.say("and %d more that are not kept\n", b.More)
	}
}
