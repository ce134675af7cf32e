package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"urgentis/api"
)

func (a *app) connection() *cobra.Command {
	var url, to, kind string
	var incident int64
	add := doer(a, "add NAME", "Add or change a room that takes messages at an address; others are pushed as documents",
		"urgentis connection add quayside-room --url https://rooms.example/hook", cobra.ExactArgs(1),
		func(cmd *cobra.Command, cl *client, args []string) (any, string, error) {
			r, err := check(cl.AddConnectionWithResponse(cmd.Context(), api.NewConnection{Name: args[0], Url: url}))
			if err != nil {
				return nil, "", err
			}
			return r.JSON200, "Added. Try it with: urgentis connection try " + args[0], nil
		})
	add.Flags().StringVar(&url, "url", "", "the `URL` that messages are posted to")
	list := lister(a, "List connections", "urgentis connection list",
		"No connections. Add a room with: urgentis connection add NAME --url URL", []string{"name", "kind", "where"},
		func(cmd *cobra.Command, cl *client) (*[]api.Connection, error) {
			r, err := check(cl.ListConnectionsWithResponse(cmd.Context()))
			return r.JSON200, err
		},
		func(x api.Connection) []string { return []string{x.Name, x.Kind, x.Where} })
	remove := remover(a, "Take a connection out of use; what is on its way there is not delivered",
		"urgentis connection remove quayside-room", "Removed.", (*client).RemoveConnectionWithResponse)
	try := a.trier("Send a message that says that it is a try; at a desk, open a ticket that does, and resolve it",
		"urgentis connection try harbour-mail --to mara@merrow.example", "nothing arrives at %s",
		func(ctx context.Context, cl *client, name string) (*api.Tried, error) {
			r, err := check(cl.TryConnectionWithResponse(ctx, name, &api.TryConnectionParams{To: to}))
			if err != nil {
				return nil, err
			}
			return r.JSON200, nil
		})
	try.Flags().StringVar(&to, "to", "", "the `ADDRESS` there, for those that reach single people")
	words := verb("words NAME", "How a notice about an incident is worded on a connection; nothing is sent",
		"urgentis connection words harbour-texts --incident 7 --of approval.needed", cobra.ExactArgs(1),
		a.asking(func(cmd *cobra.Command, cl *client, args []string) error {
			r, err := check(cl.ShowMessageWithResponse(cmd.Context(), args[0],
				&api.ShowMessageParams{Incident: incident, Kind: kind}))
			if err != nil {
				return err
			}
			return a.print(r.JSON200, func() {
				a.say("%s\n\n", a.paint(dim, "As "+r.JSON200.Kind+" it says:"))
				a.lines(r.JSON200.Text)
				a.say("\n%s\n", a.paint(dim, "In short:"))
				a.lines(r.JSON200.Short)
			})
		}))
	words.Flags().Int64Var(&incident, "incident", 0, "the `NUMBER` of a real incident")
	words.Flags().StringVar(&kind, "of", "", "the `KIND` of notice; the newest that there was unless said")
	return noun("connection", "Integrations: chat rooms, mail, text messages, ticket desks, other programs", add, list,
		a.offers(try, connectionNames), a.offers(words, connectionNames), a.offers(remove, connectionNames))
}

func (a *app) message() *cobra.Command {
	var p api.ListMessagesParams
	var state string
	var limit int
	list := doerList(a, "List messages to people, rooms, desks and sources, the newest first",
		"urgentis message list --state failed", &limit,
		func(ctx context.Context, cl *client, cursor string, n int) ([]api.Message, string, error) {
			p.Cursor, p.Limit, p.State = cursor, n, api.ListMessagesParamsState(state)
			r, err := check(cl.ListMessagesWithResponse(ctx, &p))
			if err != nil {
				return nil, "", err
			}
			return r.JSON200.Items, r.JSON200.Next, nil
		},
		func(items []api.Message) {
			a.showMessages("No messages. Add a room with: urgentis connection add NAME --url URL", items)
		})
	list.Flags().StringVar(&state, "state", "", "only `queued`, sent, failed or dropped ones")
	list.Flags().Int64Var(&p.Incident, "incident", 0, "only those about the incident of this `NUMBER`")
	complete(list, "state", "queued", "sent", "failed", "dropped")
	return noun("message", "What people and other systems were told", list, a.messageShow(), a.messageAgain())
}

func (a *app) showMessages(empty string, items []api.Message) {
	var rows [][]string
	for _, x := range items {
		first, _, _ := strings.Cut(x.Text, "\n")
		rows = append(rows, []string{
			fmt.Sprint(x.Id), x.To, string(x.State), fmt.Sprint(x.Tries), ago(x.QueuedAt),
			orDash(numberOrNone(x.Incident)), clip(first, 60), clip(x.Error, 50),
		})
	}
	a.table(empty, []string{"no", "to", "state", "tries", "queued", "incident", "text", "error"}, rows)
}

func (a *app) messageShow() *cobra.Command {
	return verb("show NUMBER", "Show a message: what it says, and what became of it", "urgentis message show 12",
		cobra.ExactArgs(1), a.asking(func(cmd *cobra.Command, cl *client, args []string) error {
			id, err := numbered("message", args[0])
			if err != nil {
				return err
			}
			r, err := check(cl.GetMessageWithResponse(cmd.Context(), id))
			if err != nil {
				return err
			}
			return a.print(r.JSON200, func() {
				m := r.JSON200
				a.say("%s   %s, tries: %d   %s\n%s\n\n", a.paint(bold, m.To), m.State, m.Tries, ago(m.QueuedAt),
					orDash(strings.TrimSpace(m.Error+" "+m.Answer)))
				a.lines(m.Text)
			})
		}))
}

func (a *app) messageAgain() *cobra.Command {
	return doer(
		a,
		"send-again NUMBER",
		"Send a message again that failed or was dropped",
		"urgentis message send-again 12",
		cobra.ExactArgs(1),
		func(cmd *cobra.Command, cl *client, args []string) (any, string, error) {
			id, err := numbered("message", args[0])
			if err != nil {
				return nil, "", err
			}
			r, err := check(cl.SendAgainWithResponse(cmd.Context(), id))
			if err != nil {
				return nil, "", err
			}
			return r.JSON200, "It is queued again.", nil
		},
	)
}

// lines prints a text of several lines.
func (a *app) lines(text string) {
	for l := range strings.SplitSeq(text, "\n") {
		a.say("%s\n", l)
	}
}
