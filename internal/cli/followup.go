package cli

import (
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"urgentis/api"
)

func (a *app) followUp() *cobra.Command {
	return noun("follow-up", "Follow-ups: what is left to do after incidents",
		a.followUpList(), a.followUpAdd(),
		a.followUpSettle("done", "Say that a follow-up is done", api.FollowUpEditStateDone),
		a.followUpSettle("drop", "Say that a follow-up will not be done, and why", api.FollowUpEditStateDropped))
}

func (a *app) followUpList() *cobra.Command {
	var owner string
	var all bool
	c := verb("list", "List what is left to do, what is due first first",
		"urgentis follow-up list\nurgentis follow-up list --owner mara", cobra.NoArgs,
		a.asking(func(cmd *cobra.Command, cl *client, _ []string) error {
			p := &api.ListFollowUpsParams{Owner: owner, State: api.ListFollowUpsParamsStateOpen}
			if all {
				p.State = ""
			}
			r, err := check(cl.ListFollowUpsWithResponse(cmd.Context(), p))
			if err != nil {
				return err
			}
			return a.print(listOf(*r.JSON200), func() {
				var rows [][]string
				for _, f := range *r.JSON200 {
					due := "-"
					if !f.Due.IsZero() {
						due = f.Due.UTC().Format("2 Jan 2006")
					}
					rows = append(rows, []string{f.Id, fmt.Sprint(f.Incident), string(f.State), orDash(f.Owner), due,
						clip(f.Text, 70)})
				}
				a.table("Nothing is left to do.", []string{"id", "incident", "state", "owner", "due", "what"}, rows)
			})
		}))
	c.Flags().StringVar(&owner, "owner", "", "only those of a `PERSON` or a team")
	c.Flags().BoolVar(&all, "all", false, "also what is done or dropped")
	return c
}

func (a *app) followUpAdd() *cobra.Command {
	var owner, due string
	c := a.onIncident("add NUMBER TEXT…", "Write down what is left to do after an incident",
		`urgentis follow-up add 12 "Replace the stuck consumer" --owner iva --due 2031-03-05`, cobra.MinimumNArgs(2),
		func(cmd *cobra.Command, cl *client, n int64, args []string) error {
			x := api.NewFollowUp{Text: strings.Join(args[1:], " "), Owner: owner}
			if due != "" {
				at, err := time.Parse(time.DateOnly, due)
				if err != nil {
					return usage("--due must be a day such as 2031-03-05")
				}
				x.Due = at.Add(noon)
			}
			r, err := check(cl.AddFollowUpWithResponse(cmd.Context(), n, x))
			if err != nil {
				return err
			}
			return a.print(r.JSON201, func() { a.say("Written down as %s.\n", r.JSON201.Id) })
		})
	c.Flags().StringVar(&owner, "owner", "", "whose it is: a `PERSON` or a team")
	c.Flags().StringVar(&due, "due", "", "until when, a `DAY` such as 2031-03-05")
	return c
}

// noon is when on its day something is due.
const noon = 12 * time.Hour

func (a *app) followUpSettle(word, short string, state api.FollowUpEditState) *cobra.Command {
	var because string
	c := verb(word+" ID", short,
		"urgentis follow-up "+word+` f7q… --because "Replaced on Thursday."`, cobra.ExactArgs(1),
		a.asking(func(cmd *cobra.Command, cl *client, args []string) error {
			list, err := check(cl.ListFollowUpsWithResponse(cmd.Context(), &api.ListFollowUpsParams{}))
			if err != nil {
				return err
			}
			for _, f := range *list.JSON200 {
				if f.Id != args[0] {
					continue
				}
				r, err := check(cl.EditFollowUpWithResponse(cmd.Context(), f.Incident, f.Id,
					api.FollowUpEdit{State: &state, Because: because}))
				if err != nil {
					return err
				}
				return a.print(r.JSON200, func() { a.say("%s: %s\n", r.JSON200.State, r.JSON200.Text) })
			}
			return notThere(fmt.Errorf("there is no follow-up %s", args[0]))
		}))
	c.Flags().StringVar(&because, "because", "", "`WHY`, for the record")
	return c
}
