package cli

import (
	"cmp"
	"context"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"urgentis/api"
)

// searching narrows a list by a search that was kept, and keeps what it is narrowed by then.
func searching(ctx context.Context, cl *client, p *api.ListIncidentsParams, saved, save string) error {
	if saved != "" {
		r, err := check(cl.ListSearchesWithResponse(ctx))
		if err != nil {
			return err
		}
		i := slices.IndexFunc(*r.JSON200, func(s api.Search) bool { return s.Name == saved })
		if i < 0 {
			return usage("you kept no search %s; urgentis search list lists them", saved)
		}
		s := (*r.JSON200)[i]
		p.Service, p.Text = cmp.Or(p.Service, s.Service), cmp.Or(p.Text, s.Text)
		p.Severity, p.Outcome = cmp.Or(p.Severity, s.Severity), cmp.Or(p.Outcome, s.Outcome)
		p.Holder, p.Label, p.Source = cmp.Or(p.Holder, s.Holder), cmp.Or(p.Label, s.Label), cmp.Or(p.Source, s.Source)
	}
	if save == "" {
		return nil
	}
	_, err := check(cl.KeepSearchWithResponse(ctx, save, api.Search{
		Name: save, Service: p.Service, Text: p.Text, Severity: p.Severity, Outcome: p.Outcome, Holder: p.Holder,
		Label: p.Label, Source: p.Source,
	}))
	return err
}

func (a *app) search() *cobra.Command {
	list := lister(
		a, "List the searches that you kept", "urgentis search list",
		"You kept no search. Keep one with: urgentis incident list --text WORDS --save NAME",
		[]string{"name", "looks for"},
		func(cmd *cobra.Command, cl *client) (*[]api.Search, error) {
			r, err := check(cl.ListSearchesWithResponse(cmd.Context()))
			return r.JSON200, err
		},
		func(s api.Search) []string {
			var wanted []string
			for _, x := range []struct{ what, is string }{
				{"text", s.Text}, {"state", string(s.State)}, {"service", s.Service}, {"severity", s.Severity},
				{"outcome", s.Outcome}, {"holder", s.Holder}, {"label", s.Label}, {"source", s.Source},
			} {
				if x.is != "" {
					wanted = append(wanted, x.what+" "+x.is)
				}
			}
			return []string{s.Name, strings.Join(wanted, ", ")}
		},
	)
	remove := remover(a, "Forget a search", "urgentis search remove north", "Forgotten.",
		(*client).ForgetSearchWithResponse)
	return noun("search", "Searches for incidents that you kept", list, a.offers(remove, searchNames))
}
