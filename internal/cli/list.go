package cli

import (
	"context"
	"time"

	"github.com/spf13/cobra"

	"urgentis/api"
)

// shown is a list as every command prints it for programs.
type shown[T any] struct {
	Items []T    `json:"items"`
	Next  string `json:"next,omitempty"` // there is more
}

func listOf[T any](items []T) shown[T] {
	if items == nil {
		items = []T{}
	}
	return shown[T]{Items: items}
}

// mostOnPage is how many items the service gives at once.
const mostOnPage = 200

// paged reads a list page by page until it has as many as wanted.
func paged[T any](limit int, page func(cursor string, n int) (items []T, next string, err error)) (shown[T], error) {
	out := listOf[T](nil)
	for len(out.Items) < limit {
		items, next, err := page(out.Next, min(limit-len(out.Items), mostOnPage))
		if err != nil {
			return out, err
		}
		out.Items, out.Next = append(out.Items, items...), next
		if next == "" {
			break
		}
	}
	return out, nil
}

// doerList makes the list command of a list that has pages.
func doerList[T any](
	a *app, short, example string, limit *int,
	page func(ctx context.Context, cl *client, cursor string, n int) ([]T, string, error), table func([]T),
) *cobra.Command {
	c := verb("list", short, example, cobra.NoArgs, a.asking(func(cmd *cobra.Command, cl *client, _ []string) error {
		out, err := paged(*limit, func(cursor string, n int) ([]T, string, error) {
			return page(cmd.Context(), cl, cursor, n)
		})
		if err != nil {
			return err
		}
		return a.print(out, func() {
			table(out.Items)
			a.more(out.Next)
		})
	}))
	limitFlag(c, limit)
	return c
}

// limitFlag is how many items a list has at most.
func limitFlag(c *cobra.Command, limit *int) {
	c.Flags().IntVar(limit, "limit", 50, "at most `N` of them, the newest")
}

// more says that a list was cut.
func (a *app) more(next string) {
	if next != "" {
		a.say("There are more; give --limit.\n")
	}
}

// complete offers values of a flag.
func complete(c *cobra.Command, flag string, values ...string) {
	err := c.RegisterFlagCompletionFunc(flag, cobra.FixedCompletions(values, cobra.ShellCompDirectiveNoFileComp))
	if err != nil {
		panic(err) // the flag is ours
	}
}

// offers makes a command complete its first argument, or a flag, with names that the service has.
func (a *app) offers(c *cobra.Command, names func(context.Context, *client) []string) *cobra.Command {
	c.ValidArgsFunction = func(cmd *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
		if len(args) > 0 {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		return a.offered(cmd, names)
	}
	return c
}

func (a *app) offersFlag(c *cobra.Command, flag string, names func(context.Context, *client) []string) {
	err := c.RegisterFlagCompletionFunc(flag, func(cmd *cobra.Command, _ []string, _ string) (
		[]string, cobra.ShellCompDirective,
	) {
		return a.offered(cmd, names)
	})
	if err != nil {
		panic(err) // the flag is ours
	}
}

// completionTime is how long a completion may ask the service.
const completionTime = 2 * time.Second

func (a *app) offered(cmd *cobra.Command, names func(context.Context, *client) []string) (
	[]string, cobra.ShellCompDirective,
) {
	if a.settings(cmd) != nil {
		return nil, cobra.ShellCompDirectiveError
	}
	cl, err := a.client()
	if err != nil {
		return nil, cobra.ShellCompDirectiveError
	}
	ctx, cancel := context.WithTimeout(context.Background(), completionTime)
	defer cancel()
	return names(ctx, cl), cobra.ShellCompDirectiveNoFileComp
}

// each takes the names out of a list; nothing where it could not be had.
func each[T any](items *[]T, err error, name func(T) string) []string {
	if err != nil || items == nil {
		return nil
	}
	out := make([]string, len(*items))
	for i, x := range *items {
		out[i] = name(x)
	}
	return out
}

// What completions offer: a name, a tab, and what it is.

func runbookNames(ctx context.Context, cl *client) []string {
	r, err := check(cl.ListRunbooksWithResponse(ctx, &api.ListRunbooksParams{}))
	return each(r.JSON200, err, func(x api.Runbook) string { return x.Name + "\t" + x.Title })
}

func serviceNames(ctx context.Context, cl *client) []string {
	r, err := check(cl.ListServicesWithResponse(ctx))
	return each(r.JSON200, err, func(x api.Service) string { return x.Name + "\t" + x.Title })
}

func objectiveNames(ctx context.Context, cl *client) []string {
	r, err := check(cl.ListObjectivesWithResponse(ctx, &api.ListObjectivesParams{}))
	return each(r.JSON200, err, func(x api.Objective) string { return x.Name + "\t" + x.Title })
}

func teamNames(ctx context.Context, cl *client) []string {
	r, err := check(cl.ListOnCallWithResponse(ctx, &api.ListOnCallParams{}))
	return each(r.JSON200, err, func(x api.OnCall) string { return x.Team + "\t" + x.Title })
}

func searchNames(ctx context.Context, cl *client) []string {
	r, err := check(cl.ListSearchesWithResponse(ctx))
	return each(r.JSON200, err, func(x api.Search) string { return x.Name })
}

func targetNames(ctx context.Context, cl *client) []string {
	r, err := check(cl.ListTargetsWithResponse(ctx))
	return each(r.JSON200, err, func(x api.Target) string { return x.Name + "\t" + x.Service })
}

func sourceNames(ctx context.Context, cl *client) []string {
	r, err := check(cl.ListSourcesWithResponse(ctx))
	return each(r.JSON200, err, func(x api.Source) string { return x.Name })
}

func triggerNames(ctx context.Context, cl *client) []string {
	r, err := check(cl.ListTriggersWithResponse(ctx))
	return each(r.JSON200, err, func(x api.Trigger) string { return x.Name })
}

func secretNames(ctx context.Context, cl *client) []string {
	r, err := check(cl.ListSecretsWithResponse(ctx))
	return each(r.JSON200, err, func(x api.Secret) string { return x.Name + "\t" + string(x.Kind) })
}

func connectionNames(ctx context.Context, cl *client) []string {
	r, err := check(cl.ListConnectionsWithResponse(ctx))
	return each(r.JSON200, err, func(x api.Connection) string { return x.Name })
}

func personNames(ctx context.Context, cl *client) []string {
	r, err := check(cl.ListPeopleWithResponse(ctx))
	return each(r.JSON200, err, func(x api.Person) string { return x.Name })
}

func tokenNames(ctx context.Context, cl *client) []string {
	r, err := check(cl.ListTokensWithResponse(ctx))
	return each(r.JSON200, err, func(x api.Token) string { return x.Name })
}

func gateIDs(ctx context.Context, cl *client) []string {
	r, err := check(cl.ListGatesWithResponse(ctx))
	return each(r.JSON200, err, func(x api.Gate) string { return x.Id + "\t" + x.Title })
}

func questionIDs(ctx context.Context, cl *client) []string {
	r, err := check(cl.ListQuestionsWithResponse(ctx))
	return each(r.JSON200, err, func(x api.Question) string { return x.Id + "\t" + x.Title })
}

func instanceIDs(ctx context.Context, cl *client) []string {
	r, err := check(cl.ListInstancesWithResponse(ctx))
	return each(r.JSON200, err, func(x api.Instance) string { return x.Id + "\t" + string(x.State) })
}

func runIDs(active bool) func(context.Context, *client) []string {
	return func(ctx context.Context, cl *client) []string {
		r, err := check(cl.ListRunsWithResponse(ctx, &api.ListRunsParams{Active: active, Limit: 50}))
		if err != nil {
			return nil
		}
		return each(&r.JSON200.Items, nil, func(x api.Run) string { return x.Id + "\t" + x.Title })
	}
}

func alertIDs(ctx context.Context, cl *client) []string {
	r, err := check(cl.ListAlertsWithResponse(ctx, &api.ListAlertsParams{Limit: 50}))
	if err != nil {
		return nil
	}
	return each(&r.JSON200.Items, nil, func(x api.Alert) string { return x.Id + "\t" + x.Summary })
}

func incidentNumbers(ctx context.Context, cl *client) []string {
	r, err := check(cl.ListIncidentsWithResponse(ctx, &api.ListIncidentsParams{Limit: 50}))
	if err != nil {
		return nil
	}
	return each(&r.JSON200.Items, nil, func(x api.Incident) string { return numberOrNone(x.Number) + "\t" + x.Title })
}
