package cli

import (
	"context"
	"fmt"
	"slices"

	"github.com/spf13/cobra"

	"urgentis/api"
	"urgentis/core/access"
)

func roles(list []string) ([]api.Role, error) {
	out := make([]api.Role, len(list))
	for i, r := range list {
		if !slices.Contains(access.Roles, access.Role(r)) {
			return nil, usage("there is no role %q; the roles are %s", r, joined(access.Roles))
		}
		out[i] = api.Role(r)
	}
	return out, nil
}

func (a *app) person() *cobra.Command {
	var has []string
	var password string
	add := doer(
		a,
		"add NAME",
		"Add a person, or set the password and roles of one",
		"urgentis person add mara --role approver --role operator",
		cobra.ExactArgs(1),
		func(cmd *cobra.Command, cl *client, args []string) (any, string, error) {
			rs, err := roles(has)
			if err != nil {
				return nil, "", err
			}
			if password, err = a.newPassword(password, args[0]); err != nil {
				return nil, "", err
			}
			r, err := check(
				cl.AddPersonWithResponse(cmd.Context(), api.NewPerson{Name: args[0], Password: password, Roles: rs}),
			)
			if err != nil {
				return nil, "", err
			}
			return r.JSON201, fmt.Sprintf("%s can sign in (%s).", args[0], joined(rs)), nil
		},
	)
	add.Flags().
		StringSliceVar(&has, "role", []string{"viewer"}, "viewer, responder, operator, approver, author or admin; "+
			"repeatable")
	add.Flags().StringVar(&password, "password", "", "a `PASSWORD` of at least 10 characters (asked for without it; "+
		"URGENTIS_PASSWORD)")
	list := lister(a, "List people", "urgentis person list", "Nobody.", []string{"name", "roles", "added"},
		func(cmd *cobra.Command, cl *client) (*[]api.Person, error) {
			r, err := check(cl.ListPeopleWithResponse(cmd.Context()))
			return r.JSON200, err
		}, func(x api.Person) []string { return []string{x.Name, joined(x.Roles), ago(x.AddedAt)} })
	remove := remover(a, "Remove a person with their tokens; what they did stays in the records",
		"urgentis person remove jonas", "Removed.", (*client).RemovePersonWithResponse)
	complete(add, "role", "viewer", "responder", "operator", "approver", "author", "admin")
	return noun("person", "People who sign in", add, list, a.offers(remove, personNames))
}

func (a *app) token() *cobra.Command {
	var has []string
	var days int
	add := doer(
		a,
		"add NAME",
		"Make a token for a program; it is shown once",
		"urgentis token add night-report --role viewer --days 90",
		cobra.ExactArgs(1),
		func(cmd *cobra.Command, cl *client, args []string) (any, string, error) {
			rs, err := roles(has)
			if err != nil {
				return nil, "", err
			}
			r, err := check(cl.AddTokenWithResponse(cmd.Context(), api.NewToken{Name: args[0], Roles: rs, Days: days}))
			if err != nil {
				return nil, "", err
			}
			return r.JSON201, fmt.Sprintf(
				"%s\nIt ends %s.",
				r.JSON201.Token,
				r.JSON201.ExpiresAt.UTC().Format("2006-01-02"),
			), nil
		},
	)
	add.Flags().StringSliceVar(&has, "role", []string{"viewer"}, "a `ROLE`, as for people")
	add.Flags().IntVar(&days, "days", 365, "for `N` days")
	list := lister(
		a,
		"List tokens, without their values",
		"urgentis token list",
		"No tokens. Make one with: urgentis token add NAME",
		[]string{"name", "roles", "made by", "ends", "last used"},
		func(cmd *cobra.Command, cl *client) (*[]api.Token, error) {
			r, err := check(cl.ListTokensWithResponse(cmd.Context()))
			return r.JSON200, err
		},
		func(x api.Token) []string {
			return []string{
				x.Name,
				joined(x.Roles),
				x.MadeBy,
				x.ExpiresAt.UTC().Format("2006-01-02"),
				ago(x.LastUsedAt),
			}
		},
	)
	remove := remover(a, "Revoke a token",
		"urgentis token remove night-report", "Revoked.", (*client).RemoveTokenWithResponse)
	complete(add, "role", "viewer", "responder", "operator", "approver", "author", "admin")
	return noun("token", "Tokens for programs", add, list, a.offers(remove, tokenNames))
}

func (a *app) audit() *cobra.Command {
	var p api.ListAuditParams
	var limit int
	list := doerList(a, "List who did what, the newest first", "urgentis audit list --actor mara", &limit,
		func(ctx context.Context, cl *client, cursor string, n int) ([]api.Act, string, error) {
			p.Cursor, p.Limit = cursor, n
			r, err := check(cl.ListAuditWithResponse(ctx, &p))
			if err != nil {
				return nil, "", err
			}
			return r.JSON200.Items, r.JSON200.Next, nil
		}, func(items []api.Act) {
			var rows [][]string
			for _, x := range items {
				rows = append(rows, []string{
					x.At.UTC().Format("2006-01-02 15:04:05"), x.Actor, x.Act, clip(x.Subject, 40), clip(x.Detail, 60),
				})
			}
			a.table("Nothing was done yet.", []string{"at (UTC)", "who", "what", "subject", "detail"}, rows)
		})
	list.Flags().StringVar(&p.Actor, "actor", "", "only what this `NAME` did")
	return noun("audit", "Every act by person or program", list)
}

func (a *app) status() *cobra.Command {
	return verb(
		"status",
		"Show system health",
		"urgentis status",
		cobra.NoArgs,
		a.asking(func(cmd *cobra.Command, cl *client, _ []string) error {
			r, err := check(cl.GetStatusWithResponse(cmd.Context()))
			if err != nil {
				return err
			}
			return a.print(r.JSON200, func() { a.showStatus(cl, r.JSON200) })
		}),
	)
}

func (a *app) showStatus(cl *client, s *api.Status) {
	a.say("%s, version %s, %d instance(s)\n", cl.kept.Server, s.Version, s.Instances)
	if s.Halted {
		a.say("%s\n", a.paint(red, "All changes are halted by "+s.HaltedBy+"."))
	}
	a.table(
		"",
		[]string{"open incidents", "active runs", "waiting approvals", "waiting questions", "undelivered"},
		[][]string{
			{
				fmt.Sprint(s.OpenIncidents),
				fmt.Sprint(s.ActiveRuns),
				fmt.Sprint(s.OpenGates),
				fmt.Sprint(s.OpenQuestions),
				fmt.Sprint(s.Undelivered),
			},
		},
	)
}

func (a *app) halt() *cobra.Command {
	var because string
	c := a.setHalt(
		"halt",
		"Stop all changes of the whole installation at once; looks go on",
		`urgentis halt --because "Storm on the north quay"`,
		true,
		&because,
	)
	c.Flags().StringVar(&because, "because", "", "why, for the audit log")
	return c
}

func (a *app) resume() *cobra.Command {
	because := ""
	return a.setHalt("resume", "Let changes go on after halt", "urgentis resume", false, &because)
}

func (a *app) setHalt(word, short, example string, halted bool, because *string) *cobra.Command {
	return doer(
		a,
		word,
		short,
		example,
		cobra.NoArgs,
		func(cmd *cobra.Command, cl *client, _ []string) (any, string, error) {
			r, err := check(cl.SetHaltWithResponse(cmd.Context(), api.Halt{Halted: halted, Because: *because}))
			if err != nil {
				return nil, "", err
			}
			return r.JSON200, map[bool]string{true: "All changes are halted. Go on with: urgentis " +
				"resume", false: "Changes go on."}[halted], nil
		},
	)
}
