package cli

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"mvdan.cc/sh/v3/syntax"

	"urgentis/api"
)

func (a *app) incidentSuggest() *cobra.Command {
	return a.onIncident(
		"suggest NUMBER",
		"Which runbooks may fit, with why and their inputs filled in, and what ended incidents like it",
		"urgentis incident suggest 12",
		cobra.ExactArgs(1),
		func(cmd *cobra.Command, cl *client, n int64, _ []string) error {
			r, err := check(cl.SuggestRunbooksWithResponse(cmd.Context(), n))
			if err != nil {
				return err
			}
			return a.print(r.JSON200, func() { a.suggested(n, r.JSON200) })
		},
	)
}

func (a *app) serviceSuggest() *cobra.Command {
	about := &api.SuggestForServiceParams{}
	c := verb(
		"suggest NAME",
		"Which runbooks may fit a service as it is now, with why and their inputs filled in",
		"urgentis service suggest berth-queue --reading depth",
		cobra.ExactArgs(1),
		a.asking(func(cmd *cobra.Command, cl *client, args []string) error {
			return a.suggestAbout(cmd.Context(), cl, args[0], about)
		}),
	)
	c.Flags().StringVar(&about.Reading, "reading", "", "a `READING` of it that is looked at, such as that of a chart")
	c.Flags().StringVar(&about.Target, "target", "", "a `TARGET` of it that is looked at")
	a.offersFlag(c, "target", targetNames)
	return c
}

func (a *app) alertSuggest() *cobra.Command {
	return verb("suggest ID", "Which runbooks may fit an alert, with why and their inputs filled in",
		"urgentis alert suggest aq7c…", cobra.ExactArgs(1),
		a.asking(func(cmd *cobra.Command, cl *client, args []string) error {
			r, err := check(cl.SuggestForAlertWithResponse(cmd.Context(), args[0]))
			if err != nil {
				return err
			}
			return a.print(r.JSON200, func() { a.suggested(0, r.JSON200) })
		}))
}

func (a *app) targetSuggest() *cobra.Command {
	return verb("suggest NAME", "Which runbooks may fit a target, with why and their inputs filled in",
		"urgentis target suggest berth-consumer-1", cobra.ExactArgs(1),
		a.asking(func(cmd *cobra.Command, cl *client, args []string) error {
			r, err := check(cl.ListTargetsWithResponse(cmd.Context()))
			if err != nil {
				return err
			}
			for _, t := range *r.JSON200 {
				if t.Name == args[0] {
					return a.suggestAbout(cmd.Context(), cl, t.Service, &api.SuggestForServiceParams{Target: t.Name})
				}
			}
			return usage("there is no target %s; see urgentis target list", args[0])
		}))
}

func (a *app) suggestAbout(ctx context.Context, cl *client, service string, about *api.SuggestForServiceParams) error {
	r, err := check(cl.SuggestForServiceWithResponse(ctx, service, about))
	if err != nil {
		return err
	}
	return a.print(r.JSON200, func() { a.suggested(0, r.JSON200) })
}

// suggested suggests runbooks for an incident; 0 where there is none.
func (a *app) suggested(n int64, s *api.Suggestions) {
	if len(s.Runbooks) == 0 {
		a.say("No other runbook has a reason to be suggested: none is for this service or starts on such alerts. " +
			"The library may have one: urgentis library list WORD\n")
	}
	for _, r := range s.Runbooks {
		does := "only looks"
		if r.Changes > 0 {
			does = many(r.Changes, "change")
		}
		a.say("%s  %s\n", a.paint(bold, r.Title), a.paint(dim, r.Runbook+", "+does))
		a.say("  %s\n", strings.Join(r.Reasons, "; "))
		start := "urgentis run start " + r.Runbook
		if n > 0 {
			start += fmt.Sprintf(" --incident %d", n)
		}
		for _, k := range slices.Sorted(maps.Keys(r.Inputs)) {
			word, err := syntax.Quote(k+"="+r.Inputs[k], syntax.LangPOSIX)
			if err != nil {
				word = k + "=…" // what a shell cannot be given is to be written by hand
			}
			start += " --input " + word
		}
		for _, k := range r.Missing {
			start += " --input " + k + "=…"
		}
		a.say("  %s\n", start)
	}
	if len(s.Alike) == 0 {
		return
	}
	a.say("\n%s\n", a.paint(bold, "Like it before"))
	var rows [][]string
	for _, x := range s.Alike {
		rows = append(rows, []string{fmt.Sprint(x.Number), clip(x.Title, 44), x.Outcome, orDash(x.Runbook), ago(x.At)})
	}
	a.table("", []string{"number", "incident", "ended", "runbook", "closed"}, rows)
}
