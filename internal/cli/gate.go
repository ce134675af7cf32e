package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"urgentis/api"
)

func (a *app) gate() *cobra.Command {
	return noun(
		"gate",
		"Gates: changes that wait for a decision",
		a.gateList(),
		a.offers(a.gateShow(), gateIDs),
		a.offers(a.gateDecide("approve", true), gateIDs),
		a.offers(a.gateDecide("refuse", false), gateIDs),
	)
}

func (a *app) gateList() *cobra.Command {
	return verb(
		"list",
		"List gates that wait, the oldest first",
		"urgentis gate list",
		cobra.NoArgs,
		a.asking(func(cmd *cobra.Command, cl *client, _ []string) error {
			r, err := check(cl.ListGatesWithResponse(cmd.Context()))
			if err != nil {
				return err
			}
			return a.print(listOf(*r.JSON200), func() {
				var rows [][]string
				for _, g := range *r.JSON200 {
					rows = append(
						rows,
						[]string{g.Id, orDash(numberOrNone(g.Incident)), g.Ask, until(g.Until), clip(g.Title, 60)},
					)
				}
				a.table("Nothing waits for approval.", []string{"id", "incident", "asks", "expires", "change"}, rows)
			})
		}),
	)
}

func (a *app) showGate(g *api.Gate, s *api.Standing) {
	b := g.Brief
	if b == nil {
		b = &api.Brief{Headline: api.Headline{Says: g.Title}}
	}
	in := "without an incident"
	if g.Incident != 0 {
		in = fmt.Sprintf("incident %d", g.Incident)
	}
	a.say("%s\nrunbook %s, %s, asked by %s\n", a.paint(bold, b.Headline.Says), g.Runbook, in, g.Requester)
	a.say("\n")
	a.harm(b.Harm, s)
	if g.State == "open" {
		a.now(s, false)
	}
	for _, t := range b.Trends {
		if s == nil || s.Reading == nil || s.Reading.Name != t.Reading {
			a.say("Trend:   %s\n", t.Says)
		}
		if t.Gone != "" {
			a.say("         %s\n", a.paint(amber, t.Gone))
		}
	}
	a.say("\nExactly this would run:\n")
	for _, p := range b.Parts {
		a.showPart(p, len(b.Parts) > 1)
	}
	a.showFollows(g, b)
	a.say("\nThe evidence:\n")
	for _, f := range b.Facts {
		old := ""
		if f.Stale {
			old = "old: "
		}
		a.say("  %-12s %s %s   %s   %s\n", f.Reading, clip(f.Value, 80), f.Unit, strings.Join(f.Targets, ", "),
			a.paint(dim, old+ago(f.At)))
	}
	a.say("\nWhy it is asked: %s\n", strings.Join(g.Reasons, "; "))
	switch g.State {
	case "open":
		for _, m := range b.Missing {
			a.say("Also needed: %s.\n", m)
		}
		a.say(
			"%s\n  urgentis gate approve %s\n  urgentis gate refuse %s --comment \"…\"\n",
			a.paint(amber, fmt.Sprintf("Waits for %s, expires %s:", g.Ask, until(g.Until))),
			g.Id,
			g.Id,
		)
	default:
		a.say("%s by %s. %s\n", g.State, orDash(g.DecidedBy), g.Comment)
	}
}

// showPart shows words once, and what differs by target below them.
func (a *app) showPart(p api.ChangePart, several bool) {
	if several {
		a.say("  %s\n", p.Title)
	}
	a.say("  %s\n", a.bolded("  ", p.Shown))
	if p.Undo != "" {
		a.say("    undo: %s\n", indented("      ", p.Undo))
	} else {
		a.say("    %s\n", a.paint(red, map[bool]string{true: "cannot be undone",
			false: "no undo in this runbook"}[p.CannotUndo]))
	}
	switch {
	case p.Loses != "":
		a.say("    %s\n", a.paint(red, "lost: "+p.Loses))
	case p.NoUndo:
		a.say("    %s\n", a.paint(amber, "what is lost: not stated by the author"))
	}
	if len(p.Columns) == 0 {
		a.say("    on %s\n", orDash(strings.Join(p.Targets, ", ")))
	} else {
		rows := make([][]string, len(p.Targets))
		for i, t := range p.Targets {
			rows[i] = append([]string{orDash(t)}, p.Rows[i]...)
		}
		a.table("", append([]string{"target"}, p.Columns...), rows)
	}
	var bound []string
	for _, b := range p.Bound {
		bound = append(bound, b.Name+" "+clip(b.Value, 60))
	}
	for i, row := range p.Where {
		for j, c := range p.WhereColumns {
			bound = append(bound, fmt.Sprintf("%s of %s %s", c, p.Targets[i], clip(row[j], 60)))
		}
	}
	a.say("    %s\n", a.paint(dim, "void if any of these change: "+strings.Join(bound, ", ")))
}

// showFollows tells what follows each word, and how it went before.
func (a *app) showFollows(g *api.Gate, b *api.Brief) {
	if g.State == "open" {
		a.say("\nIf the answer is\n")
		a.answers(b.Answers, nil)
	}
	a.say("\nBefore:     %s", b.History.Says)
	if l := b.History.Last; l != nil {
		a.say(" Last %s", ago(l.At))
		if l.Incident != 0 {
			a.say(", in incident %d", l.Incident)
		}
		a.say(".")
	}
	a.say("\n")
}

func (a *app) gateShow() *cobra.Command {
	return verb(
		"show [ID]",
		"Show exactly what would run, where, and on which evidence; without ID of the only gate that waits",
		"urgentis gate show\nurgentis gate show r3k…:5:1",
		cobra.MaximumNArgs(1),
		a.asking(func(cmd *cobra.Command, cl *client, args []string) error {
			id, err := onlyGate(cmd.Context(), cl, args)
			if err != nil {
				return err
			}
			r, err := check(cl.GetGateWithResponse(cmd.Context(), id))
			if err != nil {
				return err
			}
			return a.print(r.JSON200, func() {
				a.showGate(r.JSON200, a.standing(cmd.Context(), cl, r.JSON200.Incident))
			})
		}),
	)
}

func (a *app) gateDecide(word string, approve bool) *cobra.Command {
	var comment, digest, start string
	short := map[bool]string{true: "Approve a change, as it is shown", false: "Refuse a change"}[approve]
	c := verb(
		word+" [ID]",
		short+"; without ID the only one that waits, once it is shown and you said yes",
		"urgentis gate "+word+` r3k…:5:1 --comment "Seen on both consumers."`,
		cobra.MaximumNArgs(1),
		a.asking(func(cmd *cobra.Command, cl *client, args []string) error {
			d := api.Decision{Approve: approve, Digest: digest, Comment: comment}
			if start != "" {
				var err error
				if d.StartAt, err = time.Parse(time.RFC3339, start); err != nil {
					return usage("--start-at must be a time such as 2031-03-01T04:00:00Z")
				}
			}
			id, err := onlyGate(cmd.Context(), cl, args)
			if err != nil {
				return err
			}
			if len(args) == 0 {
				if d.Digest, err = a.shown(cmd.Context(), cl, id, word); err != nil {
					return err
				}
			}
			g, err := decide(cmd.Context(), cl, id, d)
			if err != nil {
				return err
			}
			return a.print(g, func() { a.say("%s: %s\n", g.State, g.Title) })
		}),
	)
	c.Flags().StringVar(&comment, "comment", "", "`WHY`, for the record")
	c.Flags().StringVar(&digest, "digest", "", "decide only if the `DIGEST` of what would run is this one")
	if approve {
		c.Flags().
			StringVar(&start, "start-at", "", "the `TIME` when it may begin at the earliest, as 2031-03-01T04:00:00Z")
	}
	return c
}

// onlyGate is the gate that is named, or else the only one that waits.
func onlyGate(ctx context.Context, cl *client, args []string) (string, error) {
	if len(args) > 0 {
		return args[0], nil
	}
	r, err := check(cl.ListGatesWithResponse(ctx))
	if err != nil {
		return "", err
	}
	switch list := *r.JSON200; len(list) {
	case 0:
		return "", notThere(errors.New("nothing waits for approval"))
	case 1:
		return list[0].Id, nil
	default:
		var which []string
		for _, g := range list {
			which = append(which, fmt.Sprintf("  %s  %s", g.Id, clip(g.Title, 60)))
		}
		return "", usage("%d gates wait; say which:\n%s", len(list), strings.Join(which, "\n"))
	}
}

// shown shows a gate whole and asks whether it is to be decided so; it gives the digest of what was shown.
func (a *app) shown(ctx context.Context, cl *client, id, word string) (string, error) {
	if !a.isTTY {
		return "", usage("say which gate: urgentis gate %s %s", word, id)
	}
	r, err := check(cl.GetGateWithResponse(ctx, id))
	if err != nil {
		return "", err
	}
	a.showGate(r.JSON200, a.standing(ctx, cl, r.JSON200.Incident))
	if !a.agreed(strings.ToUpper(word[:1]) + word[1:] + " this?") {
		return "", errors.New("not decided: you did not say yes")
	}
	return r.JSON200.Digest, nil
}

// decide reads the gate, so that the decision is bound to what it says now, and decides it.
func decide(ctx context.Context, cl *client, id string, d api.Decision) (*api.Gate, error) {
	if d.Digest == "" {
		r, err := check(cl.GetGateWithResponse(ctx, id))
		if err != nil {
			return nil, err
		}
		d.Digest = r.JSON200.Digest
	}
	r, err := check(cl.DecideGateWithResponse(ctx, id, d))
	if err != nil {
		return nil, err
	}
	return r.JSON200, nil
}

func (a *app) question() *cobra.Command {
	var comment string
	var given map[string]string
	answer := verb(
		"answer ID [CHOICE]",
		"Answer a question",
		"urgentis question answer r3k…:4:1 red_light --field waiting=120",
		cobra.RangeArgs(1, 2),
		a.asking(func(cmd *cobra.Command, cl *client, args []string) error {
			reply := api.Answer{Comment: comment, Fields: anyMap(given)}
			if len(args) > 1 {
				reply.Choice = args[1]
			}
			if _, err := check(cl.AnswerQuestionWithResponse(cmd.Context(), args[0], reply)); err != nil {
				return err
			}
			return a.done("Answered.")
		}),
	)
	answer.Flags().StringVar(&comment, "comment", "", "`WHY`, for the record")
	answer.Flags().StringToStringVar(&given, "field", nil, "`NAME=VALUE`, repeatable")
	list := verb(
		"list",
		"List questions that wait, the oldest first",
		"urgentis question list",
		cobra.NoArgs,
		a.asking(func(cmd *cobra.Command, cl *client, _ []string) error {
			r, err := check(cl.ListQuestionsWithResponse(cmd.Context()))
			if err != nil {
				return err
			}
			return a.print(listOf(*r.JSON200), func() {
				if len(*r.JSON200) == 0 {
					a.say("Nothing waits for an answer.\n")
				}
				for _, q := range *r.JSON200 {
					a.showQuestion(q)
				}
			})
		}),
	)
	return noun("question", "Questions that wait for an answer", list, a.offers(answer, questionIDs))
}

func (a *app) showQuestion(q api.Question) {
	a.say("%s  (asks %s, expires %s)\n", a.paint(amber, q.Id), q.Ask, until(q.Until))
	for _, w := range q.Way {
		if !w.Open {
			a.say("  asked before: %s  %s%s\n", w.Title, cmp.Or(w.Answer, "not answered"), by(w))
		}
	}
	if q.Title != "" && q.Attempt == "" {
		a.say("  %s\n", q.Title)
	}
	if q.Text != "" {
		a.say("  %s\n", indented("  ", q.Text))
	}
	for _, o := range q.Options {
		note := ""
		if o.Barred != "" {
			note = "  (not now: " + o.Barred + ")"
		}
		a.say("    %-22s %s%s\n", o.Choice, o.Label, note)
		if o.Says != "" {
			a.say("      %s\n", o.Says)
		}
		for _, r := range o.Requests {
			a.say("      approves, on %s: %s\n", r.Target, indented("        ", r.Shown))
		}
	}
	for _, f := range q.Fields {
		a.say("    --field %s=%s   %s, %s\n", f.Name, orDash(f.Suggest), f.Type, f.Label)
	}
	if q.Knowledge != "" {
		a.say("  Good to know:\n    %s\n", indented("    ", q.Knowledge))
	}
	for _, l := range q.Links {
		a.say("  %s  %s\n", l.Title, l.Address)
	}
	a.say("  urgentis question answer %s CHOICE\n", q.Id)
}

// by tells who answered a question before.
func by(w api.WayPoint) string {
	if w.By == "" {
		return ""
	}
	return ", " + w.By
}
