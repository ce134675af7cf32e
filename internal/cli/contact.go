package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"urgentis/api"
)

// way is how people are reached.
func (a *app) contact() *cobra.Command {
	var of string
	c := noun("contact", "Contact methods: how you, or somebody else, are reached", a.contactList(&of),
		a.contactAdd(&of), a.contactVerify(&of),
		a.contactCode(&of), a.contactOrder(&of), a.contactQuiet(&of), a.contactRemove(&of))
	c.PersistentFlags().StringVar(&of, "of", "", "of this `PERSON`; of yourself unless said")
	return c
}

// person is whom an act is about: oneself, unless said.
func person(ctx context.Context, cl *client, of string) (string, error) {
	if of != "" {
		return of, nil
	}
	r, err := check(cl.GetSessionWithResponse(ctx))
	if err != nil {
		return "", err
	}
	return r.JSON200.Person, nil
}

func (a *app) contactList(of *string) *cobra.Command {
	return verb(
		"list",
		"In which order somebody is reached, and when not for what can wait",
		"urgentis contact list --of mara",
		cobra.NoArgs,
		a.asking(func(cmd *cobra.Command, cl *client, _ []string) error {
			name, err := person(cmd.Context(), cl, *of)
			if err != nil {
				return err
			}
			r, err := check(cl.GetReachWithResponse(cmd.Context(), name))
			if err != nil {
				return err
			}
			return a.print(r.JSON200, func() {
				var rows [][]string
				for _, w := range r.JSON200.Contacts {
					state := ours("verified")
					if !w.Verified {
						state = a.paint(amber, "not verified: not used")
					}
					rows = append(rows, []string{fmt.Sprint(w.Id), w.Connection, w.Address, string(state)})
				}
				a.table(name+" cannot be reached. Add a contact method with: urgentis contact add CONNECTION ADDRESS",
					[]string{"no", "channel", "address", ""}, rows)
				if r.JSON200.Quiet != "" {
					a.say("Not told of what can wait: %s, %s.\n", r.JSON200.Quiet, r.JSON200.QuietZone)
				}
			})
		}),
	)
}

func (a *app) contactAdd(of *string) *cobra.Command {
	c := doer(
		a,
		"add CONNECTION ADDRESS",
		"Add a contact method, as the last one; a code is sent there",
		"urgentis contact add harbour-mail "+
			"mara@merrow.example",
		cobra.ExactArgs(2),
		func(cmd *cobra.Command, cl *client, args []string) (any, string, error) {
			name, err := person(cmd.Context(), cl, *of)
			if err != nil {
				return nil, "", err
			}
			r, err := check(
				cl.AddContactWithResponse(cmd.Context(), name, api.NewContact{Connection: args[0], Address: args[1]}),
			)
			if err != nil {
				return nil, "", err
			}
			return r.JSON201, fmt.Sprintf("A code was sent there. Verify with: urgentis contact verify %d CODE",
				r.JSON201.Id), nil
		},
	)
	return a.offers(c, connectionNames)
}

func (a *app) contactVerify(of *string) *cobra.Command {
	return doer(a, "verify NUMBER CODE", "Verify a contact method with the code that was sent to it",
		"urgentis contact verify 3 482913", cobra.ExactArgs(2),
		a.ofContact(of, func(ctx context.Context, cl *client, name string, id int64, args []string) (string, error) {
			_, err := check(cl.VerifyContactWithResponse(ctx, name, id, api.Code{Code: args[1]}))
			return "Verified. " + name + " is reached there from now on.", err
		}))
}

func (a *app) contactCode(of *string) *cobra.Command {
	return doer(a, "code NUMBER", "Send another code to a contact method", "urgentis contact code 3",
		cobra.ExactArgs(1),
		a.ofContact(of, func(ctx context.Context, cl *client, name string, id int64, _ []string) (string, error) {
			_, err := check(cl.SendCodeWithResponse(ctx, name, id))
			return fmt.Sprintf("Sent. Verify with: urgentis contact verify %d CODE", id), err
		}))
}

func (a *app) contactRemove(of *string) *cobra.Command {
	return doer(a, "remove NUMBER", "Remove a contact method", "urgentis contact remove 3", cobra.ExactArgs(1),
		a.ofContact(of, func(ctx context.Context, cl *client, name string, id int64, _ []string) (string, error) {
			_, err := check(cl.RemoveContactWithResponse(ctx, name, id))
			return "Removed.", err
		}))
}

// ofContact is an act on one way of a person.
func (a *app) ofContact(of *string, act func(ctx context.Context, cl *client, name string, id int64,
	args []string) (string,
	error)) func(*cobra.Command, *client, []string) (any, string, error) {
	return func(cmd *cobra.Command, cl *client, args []string) (any, string, error) {
		id, err := numbered("contact method", args[0])
		if err != nil {
			return nil, "", err
		}
		name, err := person(cmd.Context(), cl, *of)
		if err != nil {
			return nil, "", err
		}
		said, err := act(cmd.Context(), cl, name, id, args)
		return map[string]any{"person": name, "contact": id}, said, err
	}
}

func (a *app) contactOrder(of *string) *cobra.Command {
	return doer(a, "order NUMBER...", "Set the order in which contact methods are tried; name all of them",
		"urgentis contact order 3 1 2", cobra.MinimumNArgs(1),
		func(cmd *cobra.Command, cl *client, args []string) (any, string, error) {
			order := make([]int64, len(args))
			for i, text := range args {
				var err error
				if order[i], err = numbered("contact method", text); err != nil {
					return nil, "", err
				}
			}
			name, err := person(cmd.Context(), cl, *of)
			if err != nil {
				return nil, "", err
			}
			_, err = check(cl.OrderContactsWithResponse(cmd.Context(), name, order))
			return map[string]any{
					"person": name,
					"order":  order,
				}, "In this order now: " + strings.Join(
					args,
					", ",
				) + ".", err
		})
}

func (a *app) contactQuiet(of *string) *cobra.Command {
	var zone string
	c := doer(a, "quiet HOURS", "Set hours without what can wait, such as 22:00-07:00; none ends them",
		"urgentis contact quiet 22:00-07:00 --zone Europe/Lisbon", cobra.ExactArgs(1),
		func(cmd *cobra.Command, cl *client, args []string) (any, string, error) {
			q := api.Quiet{Hours: args[0], Zone: zone}
			if q.Hours == "none" {
				q.Hours = ""
			}
			name, err := person(cmd.Context(), cl, *of)
			if err != nil {
				return nil, "", err
			}
			_, err = check(cl.SetQuietWithResponse(cmd.Context(), name, q))
			return q, "Set. What is urgent comes at any hour.", err
		})
	c.Flags().StringVar(&zone, "zone", "", "by the clock of this `ZONE`, such as Europe/Lisbon")
	return c
}
