package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"urgentis/api"
)

func (a *app) gate() *cobra.Command {
	return noun("gate", "Gates: changes that wait for a decision", a.gateList(), a.gateShow(), a.gateDecide("approve", true), a.gateDecide("refuse", false))
}

func (a *app) gateList() *cobra.Command {
	return verb("list", "List gates that wait, the oldest first", "urgentis gate list", cobra.NoArgs, func(cmd *cobra.Command, _ []string) error {
		cl, err := a.client()
		if err != nil {
			return err
		}
		r, err := check(cl.ListGatesWithResponse(cmd.Context()))
		if err != nil {
			return err
		}
		return a.print(r.JSON200, func() {
			var rows [][]string
			for _, g := range *r.JSON200 {
				rows = append(rows, []string{g.Id, fmt.Sprint(g.Incident), g.Ask, until(g.Until), clip(g.Title, 60)})
			}
			a.table("Nothing waits for approval.", []string{"id", "incident", "asks", "ends", "change"}, rows)
		})
	})
}

func (a *app) showGate(g *api.Gate) {
	fmt.Fprintf(a.out, "%s\nrunbook %s, incident %d, asked by %s\n\n", a.paint(bold, g.Title), g.Runbook, g.Incident, g.Requester)
	fmt.Fprintln(a.out, "What would run, word for word:")
	for _, r := range g.Requests {
		fmt.Fprintf(a.out, "  %s\n    on %s (%s, account %s), at most %d s\n", a.paint(bold, printable(r.Shown)), r.Target, r.Address, orDash(r.Account), r.TimeoutSeconds)
		if r.Undo != "" {
			fmt.Fprintf(a.out, "    undo: %s\n", printable(r.Undo))
		}
	}
	fmt.Fprintln(a.out, "\nThe evidence:")
	for _, e := range g.Evidence {
		fmt.Fprintf(a.out, "  %-24s %-12s %s %s   %s\n", e.Target, e.Reading, printable(clip(e.Value, 80)), e.Unit, a.paint(dim, ago(e.At)))
	}
	fmt.Fprintf(a.out, "\nWhy it is asked: %s\n", printable(strings.Join(g.Reasons, "; ")))
	switch g.State {
	case "open":
		fmt.Fprintf(a.out, "%s\n  urgentis gate approve %s\n  urgentis gate refuse %s --comment \"…\"\n", a.paint(amber, fmt.Sprintf("Waits for %s, ends %s:", g.Ask, until(g.Until))), g.Id, g.Id)
	default:
		fmt.Fprintf(a.out, "%s by %s. %s\n", g.State, orDash(g.DecidedBy), g.Comment)
	}
}

func (a *app) gateShow() *cobra.Command {
	return verb("show ID", "Show exactly what would run, where, and on which evidence", "urgentis gate show r3k…:5:1", cobra.ExactArgs(1), func(cmd *cobra.Command, args []string) error {
		cl, err := a.client()
		if err != nil {
			return err
		}
		r, err := check(cl.GetGateWithResponse(cmd.Context(), args[0]))
		if err != nil {
			return err
		}
		return a.print(r.JSON200, func() { a.showGate(r.JSON200) })
	})
}

func (a *app) gateDecide(word string, approve bool) *cobra.Command {
	var comment, digest string
	short := map[bool]string{true: "Approve a change, as it is shown", false: "Refuse a change"}[approve]
	c := verb(word+" ID", short, "urgentis gate "+word+` r3k…:5:1 --comment "Seen on both consumers."`, cobra.ExactArgs(1), func(cmd *cobra.Command, args []string) error {
		cl, err := a.client()
		if err != nil {
			return err
		}
		g, err := decide(cmd.Context(), cl, args[0], digest, comment, approve)
		if err != nil {
			return err
		}
		return a.print(g, func() { fmt.Fprintf(a.out, "%s: %s\n", g.State, g.Title) })
	})
	c.Flags().StringVar(&comment, "comment", "", "for the record")
	c.Flags().StringVar(&digest, "digest", "", "decide only if the digest of what would run is this one")
	return c
}

// decide reads the gate, so that the decision is bound to what it says now, and decides it.
func decide(ctx context.Context, cl *client, id, digest, comment string, approve bool) (*api.Gate, error) {
	if digest == "" {
		r, err := check(cl.GetGateWithResponse(ctx, id))
		if err != nil {
			return nil, err
		}
		digest = r.JSON200.Digest
	}
	r, err := check(cl.DecideGateWithResponse(ctx, id, api.Decision{Approve: approve, Digest: digest, Comment: comment}))
	if err != nil {
		return nil, err
	}
	return r.JSON200, nil
}

func (a *app) question() *cobra.Command {
	var comment string
	answer := verb("answer ID CHOICE", "Answer a question", "urgentis question answer q:r3k… happened", cobra.ExactArgs(2), func(cmd *cobra.Command, args []string) error {
		cl, err := a.client()
		if err != nil {
			return err
		}
		if _, err := check(cl.AnswerQuestionWithResponse(cmd.Context(), args[0], api.Answer{Choice: args[1], Comment: comment})); err != nil {
			return err
		}
		fmt.Fprintln(a.out, "Answered.")
		return nil
	})
	answer.Flags().StringVar(&comment, "comment", "", "for the record")
	list := verb("list", "List questions that wait, the oldest first", "urgentis question list", cobra.NoArgs, func(cmd *cobra.Command, _ []string) error {
		cl, err := a.client()
		if err != nil {
			return err
		}
		r, err := check(cl.ListQuestionsWithResponse(cmd.Context()))
		if err != nil {
			return err
		}
		return a.print(r.JSON200, func() {
			if len(*r.JSON200) == 0 {
				fmt.Fprintln(a.out, "Nothing waits for an answer.")
			}
			for _, q := range *r.JSON200 {
				fmt.Fprintf(a.out, "%s  (asks %s, ends %s)\n  %s\n  urgentis question answer %s %s\n", a.paint(amber, q.Id), q.Ask, until(q.Until), printable(q.Text), q.Id, strings.Join(q.Choices, "|"))
			}
		})
	})
	return noun("question", "Questions that wait for an answer", list, answer)
}
