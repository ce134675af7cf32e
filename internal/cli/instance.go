package cli

import (
	"fmt"
	"time"

	"github.com/spf13/cobra"
)

func (a *app) instance() *cobra.Command {
	list := verb(
		"list",
		"List the instances that were seen lately",
		"urgentis instance list",
		cobra.NoArgs,
		a.asking(func(cmd *cobra.Command, cl *client, _ []string) error {
			r, err := check(cl.ListInstancesWithResponse(cmd.Context()))
			if err != nil {
				return err
			}
			return a.print(listOf(*r.JSON200), func() {
				var rows [][]string
				for _, i := range *r.JSON200 {
					rows = append(
						rows,
						[]string{
							i.Id,
							i.Host,
							fmt.Sprint(i.Pid),
							i.Version,
							string(i.State),
							ago(i.BegunAt),
							ago(i.BeatAt),
							skewOf(i.ClockSkewMs),
						},
					)
				}
				head := []string{"id", "host", "pid", "version", "state", "started", "last beat", "clock"}
				a.table("No instances.", head, rows)
			})
		}),
	)
	gone := verb(
		"gone ID",
		"Say that an instance is gone, once you have made sure that it is stopped",
		"urgentis instance gone n4f…",
		cobra.ExactArgs(1),
		a.asking(func(cmd *cobra.Command, cl *client, args []string) error {
			if _, err := check(cl.BuryInstanceWithResponse(cmd.Context(), args[0])); err != nil {
				return err
			}
			return a.done("Noted.")
		}),
	)
	return noun("instance", "Instances of the service on this database", list, a.offers(gone, instanceIDs))
}

// skewOf says how far a machine's clock is off the database's.
func skewOf(ms int64) string {
	off := (time.Duration(ms) * time.Millisecond).Round(100 * time.Millisecond)
	switch {
	case off.Abs() < time.Second:
		return "right"
	case off < 0:
		return off.Abs().String() + " behind"
	}
	return off.String() + " ahead"
}
